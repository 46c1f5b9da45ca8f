"""oast devices: the devices picked; oast devices trust: their host keys, trusted on purpose."""

from __future__ import annotations

import argparse
from typing import Any

from oast.cli import arguments
from oast.cli.exits import DONE
from oast.cli.workplace import console, estate_of, put_json, put_table, table
from oast.estate.inventory import Device


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("action", nargs="?", choices=("list", "trust"), default="list", help="list (default), or trust host keys")
    parser.add_argument("--replace", action="store_true", help="trust: also replace keys that have changed")
    parser.add_argument("--yes", action="store_true", help="trust: do not ask")
    arguments.add_selection(parser)
    arguments.add_connection(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)


def run(options: argparse.Namespace) -> int:
    estate = estate_of(options)
    devices = estate.pick(options.on)
    if options.action == "list":
        return _list(devices, options)
    # Only here is SSH needed, and it takes longer to import than a list takes to print.
    from oast.cli.trust import trust

    return trust(estate, devices, options)


def _list(devices: list[Device], options: argparse.Namespace) -> int:
    if options.format == "json":
        put_json("devices", 1, {"devices": [dict(device.attributes) for device in devices]})
        return DONE
    columns = list(dict.fromkeys(key for device in devices for key in device.attributes))
    listing = table(*columns)
    for device in devices:
        listing.add_row(*(_cell(device.attributes.get(column)) for column in columns))
    put_table(console(), listing)
    return DONE


def _cell(value: Any) -> str:
    if value is None:
        return "-"
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)
