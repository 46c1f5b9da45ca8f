"""How records, listings and the readings there are look."""

from __future__ import annotations

import json
import sys
from collections.abc import Mapping, Sequence
from typing import Any

from rich.console import Console
from rich.text import Text

from oast.cli.csv_output import csv_text
from oast.cli.output import console, join_names, plural, print_json, print_table, table
from oast.cli.pager import paged
from oast.estate import Device
from oast.intent import IntentBuilder
from oast.operations import DEVICE, CommandListing, QueryResult, different_lines, readings_known
from oast.platforms import READINGS, FieldType, ValueKind
from oast.readings import Record, show_value, to_json, to_text

NAMED = 6
RIGHT = (ValueKind.NUMBER, ValueKind.DECIMAL, ValueKind.DURATION)
COLOURS = {"+": "green", "-": "red", "@": "cyan"}


def show_records(form: str, asked: QueryResult, rows: Sequence[Record], columns: Sequence[str]) -> None:
    """The records in one of the forms: json, jsonl, csv, or text to read."""
    if form == "json":
        kept = [{name: to_json(row.get(name)) for name in columns} for row in rows]
        failed = [{"device": name, "reason": error.message} for name, error in asked.failed]
        print_json("records", 1, {"reading": asked.reading, "records": kept, "failed": failed})
    elif form == "jsonl":
        for row in rows:
            sys.stdout.write(
                json.dumps({name: to_json(row.get(name)) for name in columns}, ensure_ascii=True) + "\n"
            )
    elif form == "csv":
        sys.stdout.write(csv_text(columns, ([to_text(row.get(name)) for name in columns] for row in rows)))
    else:
        _show_table(asked, rows, columns)


def _show_table(asked: QueryResult, rows: Sequence[Mapping[str, Any]], columns: Sequence[str]) -> None:
    numbers = tuple(name for name in columns if name in asked.fields and asked.fields[name].kind in RIGHT)
    listing = table(*columns, numbers=numbers, whole=(DEVICE,))
    for row in rows:
        listing.add_row(*(show_value(row.get(name)) or "-" for name in columns))

    def show(out: Console) -> None:
        if rows:
            print_table(out, listing)
        out.print(f"{plural(len(rows), 'record')} of {plural(len(asked.records), 'device')}", style="dim")

    paged(console(), show)


def show_groups(found: CommandListing) -> None:
    """The most common answer whole, and of each other one what is different in it; all of it, when that is
    shorter."""
    groups = found.groups()

    def show(out: Console) -> None:
        for number, (text, names) in enumerate(groups):
            if number:
                out.print()
            how_many = f"  (all {len(names)})" if len(groups) == 1 else f"  ({plural(len(names), 'device')})"
            out.print(
                Text.assemble((join_names(names, NAMED), "bold"), (how_many if len(names) > 1 else "", "dim"))
            )
            lines = different_lines(groups[0][0], text) if number else []
            if not number or len(lines) > len(text.splitlines()):
                out.out(text.rstrip("\n"), highlight=False)
                continue
            for line in lines:
                out.print(Text(line, style=COLOURS.get(line[:1], "")), soft_wrap=True)

    paged(console(), show)


def show_readings(form: str, devices: Sequence[Device], builder: IntentBuilder) -> None:
    """The readings of these devices, with their fields."""
    platforms = {device.platform: builder.platform(device) for device in devices}
    known = readings_known(list(platforms.values()))
    if form == "json":
        documents = [
            {
                "reading": name,
                "source": READINGS[name].source if name in READINGS else None,
                "asks": READINGS[name].asks if name in READINGS else None,
                "platforms": [p.name for p in platforms.values() if name in p.readings],
                "fields": [_field_document(field, kind) for field, kind in fields.items()],
            }
            for name, fields in known.items()
        ]
        print_json("readings-known", 1, {"readings": documents})
        return
    out = console()
    for name, fields in known.items():
        having = [platform.name for platform in platforms.values() if name in platform.readings]
        about = READINGS[name].help if name in READINGS else "of its own"
        if name in READINGS and READINGS[name].asks is not None:
            about += f"; needs a {READINGS[name].asks} (--to)"
        on = "" if len(having) == len(platforms) else f"  ({', '.join(having)})"
        out.print(Text.assemble((name, "bold"), f"  {about}", (on, "dim")))
        listing = table("", "field", "type", "")
        for field, kind in fields.items():
            unit = f", {kind.unit}" if kind.unit else ""
            listing.add_row(" ", field, f"{kind.kind}{unit}", kind.help or ", ".join(kind.choices))
        listing.show_header = False
        print_table(out, listing)


def _field_document(name: str, field: FieldType) -> dict[str, Any]:
    choices = {"choices": list(field.choices)} if field.choices else {}
    return {
        "field": name,
        "type": str(field.kind),
        "unit": field.unit,
        "key": field.key,
        "about": field.help,
        **choices,
    }
