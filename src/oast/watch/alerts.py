"""Alerts: the findings of one run of a job compared with those before, as news to send."""

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
    """A problem. `told` is its text for a person, without secrets; `place` is the line it comes from.

    It is another finding than before when its `state` or severity differs; its words may vary from run to
    run, as with a number.
    """

    key: AlertKey
    told: str
    severity: str = ERROR
    place: str = ""
    state: str = ""


@dataclass(frozen=True, slots=True)
class KnownFinding:
    """A finding as it was last reported, and `since` when (UTC, ISO 8601) it exists."""

    finding: AlertFinding
    since: str


class Transition(StrEnum):
    """What happened to a finding."""

    WRONG = "wrong"
    OTHERWISE = "wrong otherwise"
    RIGHT = "right"
    NEW = "new"
    """An event, not a state: it has no end to wait for."""


@dataclass(frozen=True, slots=True)
class Alert:
    """One finding that is new, has changed, or is over; `since` when its former state existed."""

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
    """The findings of one run of a job.

    `looked_at` are the devices that it covers: a former problem of one of them that is not in `findings` is
    over. Devices that were not reached or were left out are not among them, and their problems stay. `whole`
    are subjects without a device that it covers. `follows` are problems that follow from a finding: they are
    neither news nor over. `inventory` are all devices. `happened` are events. `measures` are kept as a trend;
    `told` is the result in one line.
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
