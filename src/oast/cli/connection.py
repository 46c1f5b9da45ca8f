"""oast devices --connection: how a session with each device would be opened, and by whose word."""

from __future__ import annotations

import argparse
import csv
import sys
from collections.abc import Mapping
from dataclasses import asdict

from oast.cli.exits import DONE, FAILED
from oast.cli.failures import show_device_errors
from oast.cli.workplace import console, near, put_json, put_table, table
from oast.connect.connector import Connector, Way
from oast.errors import DeviceError, UsageError
from oast.estate.estate import Estate
from oast.estate.inventory import Device

COLUMNS = ("device", "address", "port", "user", "login", "host key", "second way", "ssh_config")


def show_ways(estate: Estate, devices: list[Device], options: argparse.Namespace) -> int:
    """List them; no session is opened. A device of which it cannot be told is named, and the exit code says so."""
    if options.columns:
        raise UsageError("--columns belongs to the list of attributes", hint="leave it out with --connection")
    connector = Connector(estate)
    ways: dict[str, Way] = {}
    failed: list[tuple[str, DeviceError]] = []
    for device in devices:
        try:
            ways[device.name] = connector.way_to(device)
        except DeviceError as error:
            failed.append((device.name, error))
    if options.format == "json":
        put_json("connections", 1, {"devices": [{"device": name, **asdict(way)} for name, way in ways.items()]})
    elif options.format == "csv":
        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerow(COLUMNS)
        writer.writerows(_row(name, way) for name, way in ways.items())
    else:
        listing = table(*COLUMNS, numbers=("port",), whole=("host key",))
        for name, way in ways.items():
            listing.add_row(*_row(name, way))
        put_table(console(), listing)
        _say_whose_word(estate)
    sys.stdout.flush()
    show_device_errors(failed, sys.stderr)
    return FAILED if failed else DONE


def _row(name: str, way: Way) -> list[str]:
    keys = ", ".join(way.host_keys) or "none trusted"
    return [name, way.host, str(way.port), way.username, " or ".join(way.by) or "-", keys, way.second_way or "-", _options(way.ssh_config)]


def _options(decided: Mapping[str, str]) -> str:
    return "; ".join(f"{name} {value}" for name, value in decided.items()) or "-"


def _say_whose_word(estate: Estate) -> None:
    settings = estate.settings.connection
    sys.stdout.write("\n")
    if settings.simulated:
        sys.stdout.write("simulated: sessions go to the devices of 'oast sim start', on loopback\n")
    if settings.ssh_config is not None:
        sys.stdout.write(f"{near(settings.ssh_config)} is read, as oast.toml says; what it decides stands in the last column\n")
    else:
        sys.stdout.write("no file of OpenSSH's client is read\n")
