"""Lint: every mistake of an estate that can be found without a device."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

from oast.connect import KnownHosts
from oast.errors import EstateError
from oast.estate import (
    SETTINGS_FILE,
    Ask,
    Estate,
    find_unread_files,
    find_unused_values,
    read_estate,
    words_used,
)
from oast.intent import Lint, find_unused_templates
from oast.operations.deliver import require_known_limits, short_timer
from oast.operations.intent_context import mistakes_in_checks, platforms_of
from oast.platforms import Platform
from oast.records import OF_DEVICES, OF_SECTIONS, Place, Problem, deduplicated

INTENT_FILES = ("intent.yaml", "intent.yml")


@dataclass(frozen=True)
class LintResult:
    """What is wrong, by file and line, and how many devices were looked at; of those whose platform has no
    grammar (`unchecked`), only what can be found without one."""

    problems: tuple[Problem, ...]
    devices: int
    unchecked: tuple[str, ...] = ()
    followers: int = 0
    """The number of problems that follow from these and are left out."""

    @property
    def mistakes(self) -> list[Problem]:
        """The problems without warnings."""
        return [problem for problem in self.problems if not problem.is_warning]


def lint_estate(
    folder: Path,
    environment: Mapping[str, str],
    *,
    given: Sequence[tuple[str, Any]] = (),
    on: str | None = None,
    sections: Sequence[str] = (),
    trace: bool = False,
    ask: Ask | None = None,
    untrusted: bool = False,
) -> LintResult:
    """Every mistake in the estate in `folder`; with `trace`, each with the values behind its line. Of an
    `untrusted` estate nothing outside of the folder is read; no secret is looked up, and no program is run.
    """
    devices = followers = 0
    unchecked: list[str] = []
    try:
        estate, mistakes = read_estate(
            folder, {} if untrusted else environment, given, ask, untrusted=untrusted
        )
        found = Lint(estate, mistakes, date.today(), sections, trace=trace)
        picked = found.concerned(estate.pick(on, everything=True)) if estate.devices else []
        devices = len(picked)
        known_hosts = estate.settings.connection.known_hosts
        is_read = not untrusted or known_hosts.resolve().is_relative_to(folder.resolve())
        keys = KnownHosts(known_hosts).problems() if is_read else []
        platforms = platforms_of(picked, found.builder)
        unchecked = [device.name for device in picked if found.by_structure(device)]
        problems = deduplicated(
            [
                *found.problems(picked),
                *mistakes_in_checks(estate, platforms, found.builder),
                *keys,
                *mistakes.warnings,
                *find_unused_values(estate.layers, words_used(folder, estate.layers)),
                *find_unused_templates(found.builder, folder, picked),
                *find_unread_files(folder, found.builder.platforms.names()),
                *_mistakes_in_settings(estate, platforms.values(), untrusted=untrusted),
            ]
        )
        problems, more = _causes(problems, estate)
        followers = found.followers + more
    except EstateError as error:
        problems = deduplicated(error.problems())
    problems.sort(
        key=lambda p: (p.is_warning, p.place.file if p.place else "", (p.place.line or 0) if p.place else 0)
    )
    return LintResult(tuple(problems), devices, tuple(unchecked), followers)


def _mistakes_in_settings(
    estate: Estate, platforms: Iterable[Platform], *, untrusted: bool
) -> Iterator[Problem]:
    """The settings that a delivery would refuse. Of an `untrusted` estate no file outside is looked for."""
    delivery = estate.settings.delivery
    timer = short_timer(delivery.revert_timer_s, delivery.verify_timeout_s)
    if timer is not None:
        yield Problem(timer[0], _setting(estate, "revert_timer_s", "verify_timeout_s"), timer[1])
    signers = delivery.allowed_signers
    if signers is not None and not untrusted and not signers.is_file():
        message = f"the file of allowed signers {signers.name} does not exist"
        yield Problem(message, _setting(estate, "allowed_signers"), "write it, or correct 'allowed_signers'")
    try:
        require_known_limits(delivery.limits, platforms)
    except EstateError as error:
        yield from error.problems()


def _setting(estate: Estate, *keys: str) -> Place:
    """The line of the first of `keys` that is written in the settings."""
    lines = (estate.folder / SETTINGS_FILE).read_text(encoding="utf-8").split("\n")
    found = (number for key in keys for number, line in enumerate(lines, 1) if line.lstrip().startswith(key))
    return Place(SETTINGS_FILE, next(found, None))


def _causes(problems: Sequence[Problem], estate: Estate) -> tuple[list[Problem], int]:
    """The problems that do not follow from others, and the number of the problems that do."""
    places = {p.place for p in problems if not p.is_warning and p.place is not None}
    is_intent_whole = not any(place.file in INTENT_FILES for place in places)

    def follows(problem: Problem) -> bool:
        if problem.subject == OF_DEVICES and not estate.is_inventory_whole:
            return True
        # A section that was not read renders nothing, and uses no template.
        file = problem.place.file if problem.place is not None else ""
        return not is_intent_whole and (
            problem.subject == OF_SECTIONS
            or (problem.kind in ("policy", "policy-warning") and file.startswith("policies/"))
            or (problem.kind == "unused" and file.startswith("templates/"))
        )

    # What is wrong in a line is worth more than a warning about it.
    found = [problem for problem in problems if not (problem.is_warning and problem.place in places)]
    kept = [problem for problem in found if not follows(problem)]
    return kept, len(found) - len(kept)
