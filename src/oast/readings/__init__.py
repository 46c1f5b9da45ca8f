"""Operational state of devices as records."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.readings.filter_expression import Condition as Condition, condition as condition
    from oast.readings.read import read_readings as read_readings
    from oast.readings.records import (
        OtherValues as OtherValues,
        find_other_values as find_other_values,
        join_counts as join_counts,
    )
    from oast.readings.tables import Readings as Readings, Record as Record
    from oast.readings.values import (
        OtherValue as OtherValue,
        Value as Value,
        convert as convert,
        natural_sort_key as natural_sort_key,
        show_value as show_value,
        to_json as to_json,
        to_text as to_text,
    )

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "filter_expression": (
            "Condition",
            "condition",
        ),
        "read": ("read_readings",),
        "records": (
            "find_other_values",
            "join_counts",
            "OtherValues",
        ),
        "tables": (
            "Readings",
            "Record",
        ),
        "values": (
            "OtherValue",
            "Value",
            "convert",
            "natural_sort_key",
            "show_value",
            "to_json",
            "to_text",
        ),
    },
)
