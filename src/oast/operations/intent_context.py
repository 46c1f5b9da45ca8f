"""What every operation that looks at devices begins with: the intents of those picked and of the whole
network, policies, checks."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import date

from oast.config import IndentedSyntax
from oast.errors import ErrorCollector, EstateError
from oast.estate import Device, Estate
from oast.gc_tuning import gc_disabled
from oast.intent import Intent, IntentBuilder, Policies
from oast.platforms import Platform
from oast.records import OF_SECTIONS, Problem, deduplicated
from oast.spelling import spelling_hint
from oast.verify import (
    Check,
    IntentFacts,
    custom_checks_of as written_for,
    derive_checks,
    read_custom_checks as written_checks,
)


@dataclass(frozen=True)
class IntentContext:
    """An estate made ready: `intents` are those of the devices picked, `network` those of all devices."""

    estate: Estate
    builder: IntentBuilder
    intents: tuple[Intent, ...]
    network: tuple[Intent, ...]

    def syntax_of(self, intent: Intent) -> IndentedSyntax:
        """The syntax of the device's platform."""
        return self.builder.syntax(intent.device)


def prepare_intents(estate: Estate, on: str | None = None, sections: Sequence[str] = ()) -> IntentContext:
    """Build the intents; the whole network's too, because what must be true between two devices follows from
    both.

    Raises EstateError with the problems of the devices picked; a device that was not picked may have some.
    """
    builder = IntentBuilder(estate, sections)
    whole = IntentBuilder(estate, platforms=builder.platforms) if sections else builder
    picked = {device.name for device in builder.concerned(estate.pick(on))}
    intents: list[Intent] = []
    network: list[Intent] = []
    problems: list[Problem] = []
    for device in estate.devices.values():
        if not estate.serves(device):
            continue  # nothing is expected of it, and nothing of others because of it
        try:
            built = builder.build(device) if device.name in picked else None
            everything = built if built is not None and whole is builder else whole.build(device)
        except EstateError as error:
            problems.extend(error.problems() if device.name in picked else ())
            continue
        network.append(everything)
        if built is not None:
            intents.append(built)
    if problems:
        raise EstateError.of(problems)
    return IntentContext(estate, builder, tuple(intents), tuple(network))


def render(estate: Estate, on: str | None = None, sections: Sequence[str] = ()) -> IntentContext:
    """The intents of the devices picked alone. Raises EstateError with everything that is wrong in them."""
    builder = IntentBuilder(estate, sections)
    intents: list[Intent] = []
    mistakes = ErrorCollector()
    for device in builder.concerned(estate.pick(on, everything=True)):
        with mistakes.collected():
            intents.append(builder.build(device))
    mistakes.raise_any()
    return IntentContext(estate, builder, tuple(intents), tuple(intents))


def policy_violations(preparation: IntentContext, today: date) -> list[Problem]:
    """What the devices picked violate, warnings included; each once. Raises EstateError when a policy itself
    is wrong."""
    picked = {intent.device.name for intent in preparation.intents}
    found = Policies(preparation.estate, today).problems(preparation.network)
    return deduplicated(problem for problem in found if not problem.devices or picked & set(problem.devices))


def all_checks_of(preparation: IntentContext, *, wide: bool = False) -> dict[str, list[Check]]:
    """Return the checks of the selected devices: those derived from the network's intents, and the user-
    defined ones. With `wide`, also checks that depend on so many devices that a single change does not run
    them.

    Raises EstateError.
    """
    mistakes = ErrorCollector()
    written = written_checks(preparation.estate, mistakes)
    platforms = {intent.device.name: intent.platform for intent in preparation.intents}
    meant = {intent.device.name: intent for intent in preparation.network}

    def holds(name: str) -> Iterator[str]:
        yield preparation.estate.devices[name].address
        if name in meant:
            yield from (str(one.ip) for of_it in IntentFacts(meant[name]).addresses.values() for one in of_it)

    own = written_for(written, preparation.estate, platforms, mistakes, holds)
    mistakes.raise_any()
    ends = [(link.one, link.other) for link in preparation.estate.links]
    with gc_disabled():
        derived = derive_checks(
            preparation.network,
            {near: far for one, other in ends for near, far in ((one, other), (other, one))},
        )
    found = {name: [*derived[name], *checks] for name, checks in own.items()}
    return {
        name: [check for check in checks if wide or not (check.wide or check.is_warning)]
        for name, checks in found.items()
    }


def platforms_of(devices: Sequence[Device], builder: IntentBuilder) -> dict[str, Platform]:
    """The platforms of `devices` by the device's name, without devices whose platform is unknown."""
    platforms = {}
    for device in devices:
        with suppress(EstateError):  # an unknown platform was reported already
            platforms[device.name] = builder.platform(device)
    return platforms


def mistakes_in_checks(
    estate: Estate, platforms: Mapping[str, Platform], builder: IntentBuilder
) -> list[Problem]:
    """What is wrong in checks/*.yaml, for the devices that `platforms` names."""
    mistakes = ErrorCollector()
    written = written_checks(estate, mistakes)
    written_for(written, estate, platforms, mistakes)
    sections = [use.name for use in builder.uses]
    for check in written:
        if check.section is not None and check.section not in sections:
            hint = spelling_hint(check.section, sections)
            mistakes.found.append(
                Problem(
                    f"unknown section '{check.section}'", check.place, hint, kind="check", subject=OF_SECTIONS
                )
            )
    return mistakes.found
