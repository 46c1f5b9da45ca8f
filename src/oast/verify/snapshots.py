"""The state of the network at two points in time, and the differences: what was lost, what is new, what
changed."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from oast.platforms import READINGS, TEXT, FieldType, Platform
from oast.readings import Condition, Readings, Record, condition, to_text

DEVICE = "device"
GONE = "gone"
# What is looked at, and what of a record is good: a field and its value; None: that it is there.
GOOD: Mapping[str, tuple[str, str] | None] = {
    "interfaces": ("oper-status", "up"),
    "lldp-neighbors": None,
    "vlans": None,
    "aggregates": None,
    "routes": None,
    "ospf-neighbors": ("state", "full"),
    "bgp-neighbors": ("session-state", "established"),
    "redundancy": ("agrees", "true"),
    "ntp": ("state", "system-peer"),
}
# Readings in which nothing can be lost, as one value is as good as another.
EQUAL = ("virtual-addresses", "spanning-tree", "users")
# By what a record is known, where a list may hold several of what is one thing.
KEYS: Mapping[str, tuple[str, ...]] = {"routes": ("destination-prefix", "network-instance")}
# What changes by itself and says nothing, and what may only not become more.
VOLATILE = ("in-octets", "out-octets", "uptime", "prefixes-received", "stratum")
ERRORS = ("in-errors", "out-errors")


@dataclass(frozen=True)
class Snapshot:
    """The readings of each device at `at` (ISO 8601, UTC); of those in `missing` nothing could be read, and
    why."""

    at: str
    devices: Mapping[str, Readings]
    missing: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class StateChange:
    """The change of one record: `was` and `now` as text, "gone" or "" for nothing. `lost` records were good
    before and are not now."""

    device: str
    reading: str
    what: str
    was: str
    now: str
    lost: bool
    record: Record = field(compare=False, repr=False, default_factory=dict)


def snapshot_readings(platform: Platform) -> list[str]:
    """The readings of a platform that two points are compared by."""
    return [name for name in (*GOOD, *EQUAL) if name in platform.readings]


def state_changes(before: Snapshot, after: Snapshot) -> list[StateChange]:
    """What is different, device by device in the order of `before`; new devices last."""
    found: list[StateChange] = []
    for device, readings in before.devices.items():
        if device in after.missing:
            found.append(
                StateChange(
                    device,
                    "system",
                    "the device",
                    "there",
                    "cannot be read",
                    lost=True,
                    record={DEVICE: device},
                )
            )
        elif device in after.devices:
            for reading, records in readings.items():
                if reading in after.devices[device]:
                    found += _of_reading(device, reading, records, after.devices[device][reading])
    found += [
        StateChange(name, "system", "the device", "", "there", lost=False)
        for name in after.devices
        if name in before.missing
    ]
    return found


def _of_reading(
    device: str, reading: str, before: Sequence[Record], after: Sequence[Record]
) -> Iterator[StateChange]:
    if reading == "ntp":
        # Which clock is followed is all one, as long as one is.
        before, after = (_first_good(reading, records) for records in (before, after))
    old, new = _by_key(reading, before), _by_key(reading, after)
    for key, rows in old.items():
        what, now = _called(reading, key), new.get(key, [])
        was_text, now_text = _told(reading, rows, now)
        lost = _is_lost(reading, rows, now)
        if lost or was_text != now_text:
            yield StateChange(device, reading, what, was_text, now_text, lost, {DEVICE: device, **rows[0]})
        for name in ERRORS:
            if now and _number(now[0], name) > _number(rows[0], name):
                grown = str(_number(rows[0], name)), str(_number(now[0], name))
                yield StateChange(
                    device, reading, f"{what}, {name}", *grown, lost=True, record={DEVICE: device, **rows[0]}
                )
    for key, rows in new.items():
        if key not in old:
            yield StateChange(
                device,
                reading,
                _called(reading, key),
                "",
                _state(reading, rows),
                lost=False,
                record={DEVICE: device, **rows[0]},
            )


def _first_good(reading: str, records: Sequence[Record]) -> list[Record]:
    good = [one for one in records if _is_good(reading, one)]
    return [{**good[0], "address": None}] if good else []


def _by_key(reading: str, records: Sequence[Record]) -> dict[tuple[str, ...], list[Record]]:
    found: dict[tuple[str, ...], list[Record]] = {}
    for record in records:
        found.setdefault(tuple(to_text(record.get(name)) for name in _keys(reading)), []).append(record)
    return found


def _keys(reading: str) -> tuple[str, ...]:
    known = READINGS.get(reading)
    return KEYS.get(reading) or (known.keys if known is not None else ())


def _called(reading: str, key: Sequence[str]) -> str:
    return (
        " ".join(filter(None, key)) or "the selected time server"
        if reading == "ntp"
        else " ".join(filter(None, key))
    )


def _told(reading: str, before: Sequence[Record], after: Sequence[Record]) -> tuple[str, str]:
    """What it was and is; of one record that is still there, the fields that are different."""
    if not after:
        return _state(reading, before), GONE
    if len(before) == len(after) == 1:
        names = [
            name
            for name in before[0]
            if name not in (*VOLATILE, *ERRORS) and to_text(before[0][name]) != to_text(after[0].get(name))
        ]
        return tuple(
            ", ".join(f"{name} {to_text(row[0].get(name)) or '-'}" for name in names)
            for row in (before, after)
        )  # type: ignore[return-value]
    return _state(reading, before), _state(reading, after)


def _state(reading: str, rows: Sequence[Record]) -> str:
    """Return all fields, except those that change by themselves."""
    keys = _keys(reading)
    told = []
    for row in rows:
        fields = [name for name in row if name not in (*keys, *VOLATILE, *ERRORS) and row[name] is not None]
        told.append(" ".join(to_text(row[name]) for name in fields))
    return "; ".join(sorted(told)) or "there"


def _is_good(reading: str, row: Record) -> bool:
    good = GOOD.get(reading)
    return good is None or to_text(row.get(good[0])) == good[1]


def _is_lost(reading: str, before: Sequence[Record], after: Sequence[Record]) -> bool:
    if reading in EQUAL or not any(_is_good(reading, row) for row in before):
        return False
    if not any(_is_good(reading, row) for row in after):
        return True
    # Members of a list, such as the ports of a bundle.
    return any(
        set(_listed(before, name)) - set(_listed(after, name)) for name in ("active", "tagged", "untagged")
    )


def _listed(rows: Sequence[Record], name: str) -> list[str]:
    return [to_text(one) for row in rows if isinstance(value := row.get(name), tuple) for one in value]


def _number(row: Record, name: str) -> int:
    value = row.get(name)
    return value if isinstance(value, int) else 0


@dataclass(frozen=True)
class ExpectedLoss:
    """The losses that are expected, as in `text`: the records of a reading that an expression matches; all of
    it without one."""

    text: str
    reading: str
    meant: Callable[[Record], bool]

    def __call__(self, one: StateChange) -> bool:
        return one.reading == self.reading and self.meant(one.record)


def parse_expected_loss(text: str) -> ExpectedLoss:
    """`READING`, or `READING: EXPRESSION` over its fields and `device`. Raises EstateError, ValueError for a
    reading there is not."""
    reading, colon, expression = text.partition(":")
    reading = reading.strip()
    if reading not in GOOD and reading != "system":
        raise ValueError(reading)
    fields: dict[str, FieldType] = {DEVICE: TEXT, **READINGS[reading].fields}
    meant: Condition = condition(expression.strip(), fields) if colon else lambda record: True
    return ExpectedLoss(text, reading, meant)
