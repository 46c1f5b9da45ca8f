"""oast devices: the devices picked; oast devices trust: their host keys, trusted on purpose."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from typing import Any

from oast.cli.command import Subcommand, argument, flag, option
from oast.cli.csv_output import csv_text
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE
from oast.cli.output import console, print_json, print_table, table
from oast.cli.shared_options import (
    ConnectionOptions,
    EstateOptions,
    FormatOptions,
    SelectionOptions,
    format_option,
)
from oast.errors import UsageError
from oast.estate import Device
from oast.spelling import spelling_hint


@dataclass(frozen=True, kw_only=True)
class DevicesOptions(SelectionOptions, ConnectionOptions, FormatOptions, EstateOptions):
    """The options of `oast devices`."""

    task: str = argument(
        "ACTION",
        nargs="?",
        choices=("list", "trust"),
        default="list",
        help="list (default), or trust: accept host keys",
    )
    columns: str | None = option(
        "--columns", metavar="A,B", help="attributes to list, in this order (default: all)"
    )
    connection: bool = flag(
        "--connection", help="list how Oast would connect to each device; connects to none"
    )
    verbose: bool = flag(
        "-v", "--verbose", help="with --connection: include settings that have their default"
    )
    replace: bool = flag("--replace", help="with trust: replace host keys that have changed")
    yes: bool = flag("--yes", help="with trust: do not ask")
    format: str = format_option("csv")


def run(options: DevicesOptions) -> int:
    estate = estate_of(options)
    devices = estate.pick(options.on, everything=options.task == "list")
    if options.task == "list" and not options.connection:
        return _list(devices, options)
    # Only here is SSH needed, and it takes longer to import than a list takes to print.
    from oast.cli.connection_view import show_connections
    from oast.cli.trust import trust

    if options.task == "list":
        return show_connections(estate, devices, options)
    if options.connection:
        raise UsageError("--connection and trust exclude each other")

    return trust(estate, devices, options)


def _list(devices: list[Device], options: DevicesOptions) -> int:
    known = list(dict.fromkeys(key for device in devices for key in device.attributes))
    columns = [column.strip() for column in options.columns.split(",")] if options.columns else known
    for column in columns:
        if column not in known:
            raise UsageError(
                f"no selected device has the attribute '{column}'", hint=spelling_hint(column, known)
            )
    if options.format == "json":
        documents = [
            {c: device.attributes.get(c) for c in columns if c in device.attributes} for device in devices
        ]
        print_json("devices", 1, {"devices": documents})
        return DONE
    if options.format == "csv":
        cells = ([_cell(device.attributes.get(column), ";", "") for column in columns] for device in devices)
        sys.stdout.write(csv_text(columns, cells))
        return DONE
    listing = table(*columns)
    for device in devices:
        listing.add_row(*(_cell(device.attributes.get(column)) for column in columns))
    print_table(console(), listing)
    return DONE


def _cell(value: Any, joint: str = ", ", nothing: str = "-") -> str:
    if value is None:
        return nothing
    return joint.join(map(str, value)) if isinstance(value, list) else str(value)


COMMAND = Subcommand(
    DevicesOptions,
    run,
    examples=(
        ("oast devices --on site=gull", "list the devices of one site"),
        ("oast devices trust", "accept the host keys of new devices"),
        ("oast devices --connection --on name=tern-edge-1", "show how Oast connects to a device"),
    ),
    exits=(0, 1, 2, 3, 4),
    no="host keys were not accepted",
)
