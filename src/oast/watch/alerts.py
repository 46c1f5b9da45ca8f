"""What became of the state: the findings of one run of a job against those before, as news that somebody is
told."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

ERROR, WARNING = "error", "warning"

# What a finding is about: JOB is the run of a job as a whole, REACH that a device can be read at all.
JOB, REACH = "job", "reach"


@dataclass(frozen=True, slots=True, order=True)
class AlertKey:
    """What a finding is known by: the same thing of the same device, run after run. `device` is "" for what
    is not of one device."""

    about: str
    device: str
    what: str = ""


@dataclass(frozen=True, slots=True)
class AlertFinding:
    """Something that is not as it should be. `told` says it to a person, without secrets; `place` is the line
    that stands behind it.

    It is another finding than before when its `state` or severity is; its words may vary from run to run, as
    those with a number do.
    """

    key: AlertKey
    told: str
    severity: str = ERROR
    place: str = ""
    state: str = ""


@dataclass(frozen=True, slots=True)
class KnownFinding:
    """A finding as it was when it was told last, and `since` when (UTC, ISO 8601) it has been so."""

    finding: AlertFinding
    since: str


class Transition(StrEnum):
    """What happened to a finding."""

    WRONG = "wrong"
    OTHERWISE = "wrong otherwise"
    RIGHT = "right"
    NEW = "new"
    """It has happened, and is nothing that is or is not: nobody waits for its end."""


@dataclass(frozen=True, slots=True)
class Alert:
    """One finding that was not there before, is another now, or is no more; `since` when it had been so
    before."""

    became: Transition
    finding: AlertFinding
    since: str | None = None

    def document(self) -> dict[str, Any]:
        """Plain data, a part of `oast.notification/1`."""
        finding = self.finding
        return {
            "became": str(self.became),
            "about": finding.key.about,
            "device": finding.key.device or None,
            "what": finding.key.what or None,
            "severity": finding.severity,
            "told": finding.told,
            "place": finding.place or None,
            "since": self.since,
        }


@dataclass(frozen=True)
class JobFindings:
    """What one run of a job has found out.

    `looked_at` are the devices that it can speak of: what was wrong with one of them and is not in `findings`
    is over. Devices that were not reached or were left out are not among them, and what was wrong with them
    stays as it was. `whole` are subjects without a device that it can speak of. `follows` is what is wrong
    and follows from a finding: it is no news, and not over either. `inventory` are all devices that there
    are. `happened` is told, and is no state. `measures` are kept as a trend; `told` is its result in one
    line.
    """

    findings: tuple[AlertFinding, ...]
    looked_at: Collection[str]
    measures: Mapping[str, int]
    told: str
    whole: Collection[str] = ()
    follows: Collection[AlertKey] = ()
    inventory: Collection[str] | None = None
    happened: tuple[AlertFinding, ...] = ()


def alerts_from(before: Iterable[KnownFinding], found: JobFindings) -> list[Alert]:
    """What is new, other, or over since `before`, in a stable order."""
    known = {one.finding.key: one for one in before}
    now = {finding.key: finding for finding in found.findings}
    news = [Alert(Transition.NEW, finding) for finding in found.happened]
    for key in sorted(known.keys() | now.keys()):
        old, new = known.get(key), now.get(key)
        if old is None and new is not None:
            news.append(Alert(Transition.WRONG, new))
        elif (
            old is not None
            and new is not None
            and (old.finding.state, old.finding.severity) != (new.state, new.severity)
        ):
            news.append(Alert(Transition.OTHERWISE, new, old.since))
        elif old is not None and new is None and key not in found.follows and (why := _is_over(key, found)):
            finding = old.finding
            told = finding.told if why == "right" else f"{finding.told} ({why})"
            news.append(
                Alert(Transition.RIGHT, AlertFinding(key, told, finding.severity, finding.place), old.since)
            )
    return news


def _is_over(key: AlertKey, found: JobFindings) -> str:
    """Whether, and why, what was wrong is not so any more; "" when this run cannot tell."""
    if key.about == JOB:
        return "right"
    if key.device and found.inventory is not None and key.device not in found.inventory:
        return "the device is no longer in the inventory"
    if key.device:
        return "right" if key.device in found.looked_at else ""
    return "right" if key.about in found.whole else ""
