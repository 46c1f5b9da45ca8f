"""oast sim manufacturer, oast sim new-device: the manufacturer of new devices, and the devices, as processes
of their own."""

from __future__ import annotations

import argparse
import os
import re
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oast.child_environment import without_secrets
from oast.cli.command import CommandGroup, Subcommand, argument, flag, option, repeated
from oast.cli.estate_option import folder_of
from oast.cli.exit_codes import DONE, NO
from oast.cli.output import relative_path
from oast.cli.shared_options import EstateOptions
from oast.errors import StateError, UsageError
from oast.files import make_private

_PLACE = re.compile(r"[A-Za-z0-9.:_-]+:[0-9]{1,5}")
_PORT = re.compile(r"[A-Za-z0-9._-]+:[A-Za-z0-9/._-]+")


def _matching(pattern: str) -> Callable[[str], str]:
    def parse(text: str) -> str:
        if not re.fullmatch(pattern, text):
            raise argparse.ArgumentTypeError(f"'{text}' has the wrong form")
        return text

    return parse


_place, _port = _matching(r"[A-Za-z0-9.:_-]+:[0-9]{1,5}"), _matching(r"[A-Za-z0-9._-]+:[A-Za-z0-9/._-]+")


@dataclass(frozen=True, kw_only=True)
class ManufacturerOptions(EstateOptions):
    """The options of `oast sim manufacturer`."""

    serial: tuple[str, ...] = argument("SERIAL", nargs="+", help="serial numbers of new devices")
    owner: Path = option(
        "--owner",
        metavar="FILE",
        type=Path,
        required=True,
        help="owner certificate (PEM) that the vouchers pin",
    )
    into: Path = option("--into", metavar="DIR", type=Path, required=True, help="folder for the vouchers")


@dataclass(frozen=True, kw_only=True)
class NewDeviceOptions(EstateOptions):
    """The options of `oast sim new-device add`."""

    serial: str = argument("SERIAL", help="serial number of the new device")
    server: str | None = option(
        "--server", metavar="HOST:PORT", type=_place, help="bootstrap server that the device asks"
    )
    names: str | None = option(
        "--names",
        metavar="HOST:PORT",
        type=_place,
        help="name server (oast sim names) by which the device finds a bootstrap server",
    )
    domain: str | None = option(
        "--domain", metavar="NAME", help="domain in which the device looks for a bootstrap server"
    )
    at: tuple[str, ...] = repeated(
        "--at",
        metavar="DEVICE:PORT",
        type=_port,
        help="other end of the cable at port1; repeat for port2 and so on",
    )
    system: str = option(
        "--system",
        choices=("bine", "cowl", "roundel"),
        default="bine",
        help="operating system (default: bine)",
    )
    call_home: str | None = option(
        "--call-home", metavar="HOST:PORT", type=_place, help="address that the device calls after its start"
    )
    clock_year: int | None = option(
        "--clock-year",
        type=int,
        metavar="YEAR",
        help="year of the device's clock (default: the current year)",
    )
    power_cut: str | None = option(
        "--power-cut",
        metavar="STEP",
        choices=("asked", "redirected", "taking", "taken"),
        help="step after which the device loses power: asked, redirected, taking or taken",
    )
    controller_mode: bool = flag(
        "--controller-mode", help="start under a controller, and restart to stand alone"
    )
    duplicate_serial: bool = flag(
        "--duplicate-serial", help="use a serial number that another device has already"
    )


@dataclass(frozen=True, kw_only=True)
class NamesOptions(EstateOptions):
    """The options of `oast sim names`."""

    file: Path = argument("FILE", type=Path, help="master file of the zone")
    origin: str = option("--origin", metavar="NAME", required=True, help="name of the zone")


def _folder(options: EstateOptions) -> Path:
    folder = folder_of(options) / ".oast" / "sim"
    make_private(folder)
    return folder


def _manufacturer(options: ManufacturerOptions) -> int:
    folder = _folder(options) / "manufacturer"
    command = [str(folder), "--owner", str(options.owner), "--into", str(options.into), *options.serial]
    done = subprocess.run(
        [sys.executable, "-m", "oastsim.manufacturer", *command],
        capture_output=True,
        text=True,
        env=without_secrets(os.environ),
        check=False,
    )
    if done.returncode:
        raise StateError(
            "the simulated manufacturer failed:"
            f" {done.stderr.strip().splitlines()[-1] if done.stderr.strip() else 'no reason was given'}"
        )
    sys.stdout.write(
        f"authority of the devices: {relative_path(folder / 'devices.pem')}\nauthority of the vouchers:"
        f" {relative_path(folder / 'vouchers.pem')}\n"
    )
    sys.stdout.write(
        "".join(f"{relative_path(options.into.resolve() / f'{serial}.vcj')}\n" for serial in options.serial)
    )
    return DONE


def _add(options: NewDeviceOptions) -> int:
    if options.server is None and (options.names is None or options.domain is None):
        raise UsageError(
            "the new device has no bootstrap server to ask",
            hint="give --server HOST:PORT, or --names and --domain",
        )
    folder = _folder(options)
    command = [str(folder), str(folder / "manufacturer"), options.serial, "--system", options.system]
    for place in options.at:
        command += ["--at", place]
    for name in ("server", "names", "domain", "call_home", "clock_year", "power_cut"):
        if getattr(options, name) is not None:
            command += [f"--{name.replace('_', '-')}", str(getattr(options, name))]
    command += [
        f"--{name.replace('_', '-')}"
        for name in ("duplicate_serial", "controller_mode")
        if getattr(options, name)
    ]
    done = subprocess.run(
        [sys.executable, "-m", "oastsim.new_device", *command], env=without_secrets(os.environ), check=False
    )
    return DONE if done.returncode == 0 else NO


def _names(options: NamesOptions) -> int:
    # It replaces this process, so a signal to this one ends it.
    sys.stdout.flush()
    os.execv(sys.executable, [sys.executable, "-m", "oastsim.names", str(options.file), options.origin])  # noqa: S606


COMMANDS: dict[str, Subcommand[Any] | CommandGroup] = {
    "manufacturer": Subcommand(
        ManufacturerOptions,
        _manufacturer,
        "create the manufacturer's authorities and a voucher per serial number",
    ),
    "new-device": CommandGroup(
        {
            "add": Subcommand(
                NewDeviceOptions,
                _add,
                "switch on a new device, which asks the bootstrap server for its first configuration",
                (
                    (
                        "oast sim new-device add SN-0044 --server 127.0.0.1:8443",
                        "start one that asks this server",
                    ),
                ),
                exits=(0, 1, 2, 3),
                no="the device did not get its configuration",
            )
        },
        summary="simulate new devices with factory settings",
    ),
    "names": Subcommand(
        NamesOptions, _names, "answer DNS queries from a zone in a master file (RFC 1035), until stopped"
    ),
}
