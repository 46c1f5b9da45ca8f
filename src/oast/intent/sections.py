"""Sections: intent.yaml says which devices have which; what the sections of a device own together is computed
once."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from oast.config import Scope, patterns_overlap
from oast.errors import ErrorCollector, EstateError
from oast.estate import Estate, Selector, YamlList, YamlMap, parse_selector, read_yaml_map, yaml_file
from oast.intent.templates import Template
from oast.records import Place, Problem
from oast.spelling import spelling_hint

FILE = "intent.yaml"


@dataclass(frozen=True)
class SectionUse:
    """A line of intent.yaml: a section, and the devices that have it (None: all)."""

    name: str
    on: Selector | None
    place: Place


# It is the name of a file, too.
NAME = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,62}")


@dataclass(frozen=True)
class Composition:
    """The sections of one kind of device: `selected` are the requested ones, among `every` section it has.

    `scopes` says what each of these owns alone, `scope` what the requested ones own together. `problems` are
    the mistakes in the templates of the `broken` ones, `conflicts` the sections that own the same part.
    """

    every: tuple[Template, ...]
    selected: tuple[Template, ...]
    broken: frozenset[str]
    scopes: Mapping[str, Scope]
    scope: Scope
    problems: tuple[Problem, ...]
    conflicts: tuple[Problem, ...]

    @classmethod
    def of(
        cls,
        every: Sequence[Template],
        only: frozenset[str],
        broken: Iterable[str],
        problems: Sequence[Problem],
    ) -> Composition:
        """The composition of `every` template; `only` (empty: all) are asked for."""
        lost = frozenset(name for name in broken if not only or name in only)
        selected = tuple(template for template in every if not only or template.section in only)
        others = {t.section: [p for other in every if other is not t for p in other.owns] for t in every}
        scopes = {t.section: Scope.of(t.owns, others[t.section]) for t in every}
        return cls(
            tuple(every),
            selected,
            lost,
            scopes,
            scope_of(selected, every),
            tuple(problems),
            tuple(_owned_twice(every)),
        )


def scope_of(selected: Iterable[Template], every: Iterable[Template]) -> Scope:
    """Return what the `selected` own together, without what the others of `every` own inside of it."""
    mine = tuple(selected)
    return Scope.of([p for t in mine for p in t.owns], [p for t in every if t not in mine for p in t.owns])


def _owned_twice(every: Sequence[Template]) -> Iterable[Problem]:
    """Parts that two sections own: neither could be authoritative. One strictly inside the other is fine."""
    for number, one in enumerate(every):
        for other in every[number + 1 :]:
            for mine in one.owns:
                for theirs in other.owns:
                    if patterns_overlap(mine, theirs):
                        part = " / ".join(theirs)
                        message = f"'{part}' is already owned by the section '{one.section}' ({one.file})"
                        hint = "remove it from one of the headers, or divide it into parts"
                        yield Problem(message, other.owns_place, hint, kind="ownership")


def read_sections(estate: Estate, mistakes: ErrorCollector) -> tuple[SectionUse, ...]:
    """Read the sections of intent.yaml in order; mistakes go to `mistakes`. Raises EstateError when there are
    none at all."""
    path = yaml_file(estate.folder / FILE)
    data = read_yaml_map(path, path.name)
    for key in data:
        if key != "sections":
            with mistakes.collected():
                raise EstateError(
                    f"unknown key '{key}'", place=data.place(key), hint=spelling_hint(key, ["sections"])
                )
    written = data.get("sections")
    if not isinstance(written, YamlList) or not written:
        raise EstateError(
            "'sections' must list at least one '- section: NAME'",
            place=Place(path.name, data.lines.get("sections")),
        )
    uses: list[SectionUse] = []
    for index, item in enumerate(written):
        with mistakes.collected():
            use = _use(item, written.place(index), estate)
            if any(use.name == other.name for other in uses):
                raise EstateError(
                    f"the section '{use.name}' is listed twice",
                    place=use.place,
                    hint="merge them, with 'or' in 'on'",
                )
            uses.append(use)
    return tuple(uses)


def _use(item: Any, place: Place, estate: Estate) -> SectionUse:
    if not isinstance(item, YamlMap) or not isinstance(item.get("section"), str):
        raise EstateError("this must be '- section: NAME'", place=place)
    if not NAME.fullmatch(item["section"]):
        raise EstateError(
            f"'{item['section']}' is not a valid section name",
            place=item.place("section"),
            hint="use up to 63 letters, digits, - and _",
        )
    for key in item:
        if key not in ("section", "on"):
            raise EstateError(
                f"unknown key '{key}'",
                place=item.place(key),
                hint=spelling_hint(key, ("section", "on")),
            )
    on = None
    if "on" in item:
        on = parse_selector(str(item["on"]), item.place("on"))
        on.pick({device.name: device.known_by for device in estate.devices.values()})
    return SectionUse(item["section"], on, place)
