"""What the commands that look at devices have in common: every intent, policies, checks; then read and compare the devices."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from pathlib import Path

from oast.change.compare import Comparison, Mode, compare_many
from oast.change.push import new_run
from oast.cli.progress import Progress
from oast.cli.workplace import console
from oast.connect.connector import Connector
from oast.errors import DeviceError, EstateError, Mistakes
from oast.estate.estate import Estate
from oast.intent.intent import Intent, IntentBuilder
from oast.intent.policy import Policies
from oast.records import Problem, gathered
from oast.verify.checks import Check, derive
from oast.verify.written import checks_of as written_for
from oast.verify.written import read as written_checks


@dataclass(frozen=True)
class Work:
    """An estate made ready for its devices: `intents` are those picked, `network` those of all devices."""

    estate: Estate
    builder: IntentBuilder
    connector: Connector
    intents: list[Intent]
    network: list[Intent]
    at_once: int
    run: str

    @property
    def logs(self) -> Path:
        """Where this run keeps transcripts."""
        return self.estate.working / "log" / self.run


def prepare(estate: Estate, options: argparse.Namespace) -> Work:
    """Build the intents; the whole network's too, because what must be true between two devices follows from both.

    Raises EstateError with the problems of the devices picked; a device that was not picked may have some.
    """
    builder = IntentBuilder(estate, getattr(options, "section", ()))
    whole = IntentBuilder(estate) if getattr(options, "section", ()) else builder
    picked = {device.name for device in builder.concerned(estate.pick(options.on))}
    intents: list[Intent] = []
    network: list[Intent] = []
    problems: list[Problem] = []
    for device in estate.devices.values():
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
    connector = Connector(estate, options.timeout)
    at_once = options.at_once or estate.settings.connection.at_once
    return Work(estate, builder, connector, intents, network, at_once, new_run())


def policies_of(work: Work, today: date) -> list[Problem]:
    """What the devices picked violate, warnings included; each once. Raises EstateError when a policy itself is wrong."""
    picked = {intent.device.name for intent in work.intents}
    found = Policies(work.estate, today).problems(work.network)
    return gathered(problem for problem in found if not problem.devices or picked & set(problem.devices))


def checks_of(work: Work) -> dict[str, list[Check]]:
    """What must be true of the devices picked: what follows from the network's intents, and what the engineer wrote.

    Raises EstateError.
    """
    mistakes = Mistakes()
    written = written_checks(work.estate, mistakes)
    own = written_for(written, work.estate, {intent.device.name: intent.platform for intent in work.intents}, mistakes)
    mistakes.raise_any()
    derived = derive(work.network)
    return {name: [*derived[name], *checks] for name, checks in own.items()}


async def compare_all(work: Work, mode: Mode, *, quiet: bool) -> Mapping[str, Comparison | DeviceError]:
    """Read and compare every device picked, with progress on stderr."""
    with Progress(console(error=True), [i.device.name for i in work.intents], quiet=quiet) as progress:
        return await compare_many(
            work.intents,
            work.connector,
            lambda intent: work.builder.syntax(intent.device),
            work.at_once,
            work.logs,
            mode,
            progress,
        )


def split(found: Mapping[str, Comparison | DeviceError]) -> tuple[list[Comparison], list[tuple[str, DeviceError]]]:
    """The devices that were compared, and those that failed."""
    compared = [c for c in found.values() if isinstance(c, Comparison)]
    failed = [(name, error) for name, error in found.items() if isinstance(error, DeviceError)]
    return compared, failed
