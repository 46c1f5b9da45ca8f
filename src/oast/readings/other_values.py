"""Values outside the closed lists of their fields: they count as `other`, and are reported once for all
devices."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping

from oast.readings.tables import Record
from oast.readings.values import OtherValue

OtherValues = Mapping[tuple[str, str], Counter[str]]
"""By field and the device's own word, the devices, and in how many records of each."""


def find_other_values(records: Mapping[str, Iterable[Record]]) -> OtherValues:
    """Those in the `records` of each device."""
    found: dict[tuple[str, str], Counter[str]] = {}
    for name, of_device in records.items():
        for record in of_device:
            for field, value in record.items():
                if isinstance(value, OtherValue):
                    found.setdefault((field, value.listed), Counter())[name] += 1
    return found


def join_counts(many: Iterable[OtherValues]) -> OtherValues:
    """Those of several devices together."""
    found: dict[tuple[str, str], Counter[str]] = {}
    for one in many:
        for key, devices in one.items():
            found.setdefault(key, Counter()).update(devices)
    return found
