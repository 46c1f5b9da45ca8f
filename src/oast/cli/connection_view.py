"""oast devices --connection: how a session with each device would be opened, and by whose word."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import asdict, fields
from pathlib import Path
from typing import Any

from oast.cli.csv_output import csv_text
from oast.cli.devices import DevicesOptions
from oast.cli.error_output import show_device_errors
from oast.cli.exit_codes import DONE, FAILED
from oast.cli.output import console, plural, print_json, print_table, relative_path, table
from oast.connect import ConnectionInfo, Connector
from oast.errors import DeviceError, UsageError
from oast.estate import Device, Estate, SettingOrigin

COLUMNS = ("device", "address", "port", "through", "user", "login", "host key", "second way", "ssh_config")
NAMED = 6
SELDOM = ("through", "second way", "ssh_config")


def show_connections(estate: Estate, devices: list[Device], options: DevicesOptions) -> int:
    """List the connections; no session is opened. A device whose connection cannot be determined is named,
    and the exit code shows it."""
    if options.columns:
        raise UsageError("--columns and --connection exclude each other", hint="leave out --columns")
    connector = Connector(estate, devices)
    ways: dict[str, ConnectionInfo] = {}
    failed: list[tuple[str, DeviceError]] = []
    for device in devices:
        try:
            ways[device.name] = connector.way_to(device)
        except DeviceError as error:
            failed.append((device.name, error))
    settings = {name: _settings(estate, estate.devices[name]) for name in ways}
    if options.format == "json":
        print_json(
            "connections",
            2,
            {
                "devices": [
                    {**asdict(way), "device": name, "settings": settings[name]} for name, way in ways.items()
                ]
            },
        )
    elif options.format == "csv":
        cells = ([cell if cell != "-" else "" for cell in _row(name, way)] for name, way in ways.items())
        sys.stdout.write(csv_text(COLUMNS, cells))
    else:
        rows = [_row(name, way) for name, way in ways.items()]
        # A column that is empty for all devices is left out.
        shown = [
            number
            for number, name in enumerate(COLUMNS)
            if name not in SELDOM or any(row[number] != "-" for row in rows)
        ]
        listing = table(*(COLUMNS[number] for number in shown), numbers=("port",), whole=("host key",))
        for row in rows:
            listing.add_row(*(row[number] for number in shown))
        print_table(console(), listing)
        _put_settings(estate, settings, verbose=options.verbose)
        _say_whose_word(estate, [estate.devices[name] for name in ways])
    sys.stdout.flush()
    for problem in connector.known_hosts.problems():
        sys.stderr.write(f"warning: {problem.place}: {problem.message}\n")
    show_device_errors(failed, sys.stderr)
    return FAILED if failed else DONE


def _row(name: str, way: ConnectionInfo) -> list[str]:
    keys = ", ".join(way.host_keys) or "none trusted"
    through = ", ".join(way.through) or "-"
    return [
        name,
        way.host,
        str(way.port),
        through,
        way.username,
        " or ".join(way.by) or "-",
        keys,
        way.alternate_address or "-",
        _options(way.ssh_config),
    ]


def _settings(estate: Estate, device: Device) -> dict[str, dict[str, Any]]:
    """Every setting that holds for a device: its value, and where that stands."""
    connections = estate.settings.connections
    chosen, origins = connections.of(device), connections.origins(device)
    found: dict[str, dict[str, Any]] = {}
    for field in fields(chosen):
        value, origin = getattr(chosen, field.name), origins.get(field.name, SettingOrigin())
        if isinstance(value, Path):
            value = str(relative_path(value))
        place = None if origin.place is None else str(origin.place)
        if field.name.endswith("_secret") and value is not None:
            value = {"secret": value}
        found[field.name.removesuffix("_secret")] = {"value": value, "place": place, "on": origin.on}
    return found


def _put_settings(
    estate: Estate, settings: Mapping[str, Mapping[str, Mapping[str, Any]]], *, verbose: bool
) -> None:
    """What holds for each device and why; devices for which the same holds, together. Only what is written
    down, unless `verbose`."""
    together: dict[str, list[str]] = {}
    for name, found in settings.items():
        together.setdefault(repr(found), []).append(name)
    for names in together.values():
        sys.stdout.write(f"\n{', '.join(names) if len(names) <= NAMED else plural(len(names), 'device')}:\n")
        listing = table("setting", "value", "decided by")
        for key, one in settings[names[0]].items():
            if one["place"] is None and not verbose:
                continue
            rule = f" on {one['on']}" if one["on"] else ""
            listing.add_row(
                key,
                _shown(one["value"]),
                f"{one['place']}{rule}" if one["place"] else "default of Oast",
            )
        print_table(console(), listing)


def _shown(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if value == "":
        return "SSH_AUTH_SOCK"
    if isinstance(value, dict):
        return f"secret {value['secret']}"
    return "-" if value is None else f"{value:g}" if isinstance(value, float) else str(value)


def _options(decided: Mapping[str, str]) -> str:
    return "; ".join(f"{name} {value}" for name, value in decided.items()) or "-"


def _say_whose_word(estate: Estate, devices: list[Device]) -> None:
    connections = estate.settings.connections
    files = dict.fromkeys(
        file for device in devices if (file := connections.of(device).ssh_config) is not None
    )
    sys.stdout.write("\n")
    if connections.everywhere.simulated:
        sys.stdout.write(
            "simulated: sessions go to the devices of 'oast sim start' on loopback, without jump hosts\n"
        )
    for file in files:
        sys.stdout.write(
            f"{relative_path(file)} is used, as oast.toml says; the last column shows which settings come"
            " from it\n"
        )
    if not files:
        sys.stdout.write("no OpenSSH client configuration is used\n")
