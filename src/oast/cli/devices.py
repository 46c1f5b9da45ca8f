"""oast devices: the devices picked; oast devices trust: their host keys, trusted on purpose."""

from __future__ import annotations

import argparse
import sys
from typing import Any

from oast.cli import arguments
from oast.cli.csv_output import csv_text
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE
from oast.cli.output import console, print_json, print_table, table
from oast.errors import UsageError
from oast.estate import Device
from oast.spelling import spelling_hint


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "action",
        nargs="?",
        choices=("list", "trust"),
        default="list",
        help="list (default), or trust host keys",
    )
    parser.add_argument(
        "--columns", metavar="A,B", help="list: these attributes, in this order (default: all)"
    )
    parser.add_argument(
        "--connection", action="store_true", help="list: how a session with each would be opened; opens none"
    )
    parser.add_argument(
        "-v",
        "--verbose",
        action="store_true",
        help="with --connection: also the settings that nobody wrote down",
    )
    parser.add_argument("--replace", action="store_true", help="trust: also replace keys that have changed")
    parser.add_argument("--yes", action="store_true", help="trust: do not ask")
    arguments.add_selection(parser)
    arguments.add_connection(parser)
    arguments.add_format(parser, "csv")
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    estate = estate_of(options)
    devices = estate.pick(options.on, everything=options.action == "list")
    if options.action == "list" and not options.connection:
        return _list(devices, options)
    # Only here is SSH needed, and it takes longer to import than a list takes to print.
    from oast.cli.connection_view import show_connections
    from oast.cli.trust import trust

    if options.action == "list":
        return show_connections(estate, devices, options)
    if options.connection:
        raise UsageError("--connection belongs to the list of devices")

    return trust(estate, devices, options)


def _list(devices: list[Device], options: argparse.Namespace) -> int:
    known = list(dict.fromkeys(key for device in devices for key in device.attributes))
    columns = [column.strip() for column in options.columns.split(",")] if options.columns else known
    for column in columns:
        if column not in known:
            raise UsageError(
                f"none of the devices picked has an attribute '{column}'", hint=spelling_hint(column, known)
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
