"""oast sim manufacturer, oast sim new-device: whoever makes new boxes, and the boxes; processes
of their own."""

from __future__ import annotations

import argparse
import os
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

from oast.child_environment import without_secrets
from oast.cli import arguments
from oast.cli.estate_option import folder_of
from oast.cli.exit_codes import DONE, NO
from oast.cli.output import relative_path
from oast.errors import StateError, UsageError
from oast.files import make_private

_PLACE = re.compile(r"[A-Za-z0-9.:_-]+:[0-9]{1,5}")
_PORT = re.compile(r"[A-Za-z0-9._-]+:[A-Za-z0-9/._-]+")


def add_arguments(actions: Any) -> None:
    """The three actions: manufacturer, new-device, names."""
    manufacturer = actions.add_parser(
        "manufacturer", help="create the manufacturer's authorities, and a voucher for each serial number"
    )
    manufacturer.add_argument("serial", metavar="SERIAL", nargs="+", help="serial number of a new device")
    manufacturer.add_argument(
        "--owner",
        metavar="FILE",
        type=Path,
        required=True,
        help="owner certificate (PEM) that the vouchers pin",
    )
    manufacturer.add_argument(
        "--into", metavar="DIR", type=Path, required=True, help="folder for the vouchers"
    )
    add = _add_new_device(actions)
    names = actions.add_parser(
        "names", help="answer DNS queries from a zone in a master file (RFC 1035), until it is stopped"
    )
    names.add_argument("file", metavar="FILE", type=Path, help="master file of the zone")
    names.add_argument("--origin", metavar="NAME", required=True, help="name of the zone")
    for action, run in ((manufacturer, _manufacturer), (add, _add), (names, _names)):
        arguments.add_estate(action)
        action.set_defaults(run=run)


def _add_new_device(actions: Any) -> argparse.ArgumentParser:
    device = actions.add_parser("new-device", help="simulate new devices with factory settings")
    actions_of_device = device.add_subparsers(dest="what", metavar="ACTION", required=True)
    add: argparse.ArgumentParser = actions_of_device.add_parser(
        "add", help="switch on a new device, which asks the bootstrap server for its first configuration"
    )
    add.add_argument("serial", metavar="SERIAL", help="serial number of the new device")
    add.add_argument(
        "--server", metavar="HOST:PORT", type=_of(_PLACE), help="bootstrap server that the device asks"
    )
    add.add_argument(
        "--names",
        metavar="HOST:PORT",
        type=_of(_PLACE),
        help="name server (oast sim names) by which the device finds a bootstrap server",
    )
    add.add_argument(
        "--domain", metavar="NAME", help="domain in which the device looks for a bootstrap server"
    )
    add.add_argument(
        "--at",
        metavar="DEVICE:PORT",
        type=_of(_PORT),
        action="append",
        default=[],
        help="other end of the cable at port1; repeat for port2 and so on",
    )
    add.add_argument(
        "--system",
        choices=("bine", "cowl", "roundel"),
        default="bine",
        help="operating system (default: bine)",
    )
    add.add_argument(
        "--call-home",
        metavar="HOST:PORT",
        type=_of(_PLACE),
        help="address that the device calls after its start",
    )
    add.add_argument(
        "--clock-year",
        type=int,
        metavar="YEAR",
        help="year that the device's clock shows (default: the current year)",
    )
    add.add_argument(
        "--power-cut", metavar="STEP", choices=("asked", "redirected", "taking", "taken"),
        help="step after which the device loses power: asked, redirected, taking or taken",
    )  # fmt: skip
    add.add_argument(
        "--controller-mode", action="store_true", help="start under a controller, and restart to stand alone"
    )
    add.add_argument(
        "--duplicate-serial", action="store_true", help="use a serial number that another device has already"
    )
    return add


def _of(pattern: re.Pattern[str]) -> Any:
    def parse(text: str) -> str:
        if not pattern.fullmatch(text):
            raise argparse.ArgumentTypeError(f"'{text}' has the wrong form")
        return text

    return parse


def _folder(options: argparse.Namespace) -> Path:
    folder = folder_of(options) / ".oast" / "sim"
    make_private(folder)
    return folder


def _manufacturer(options: argparse.Namespace) -> int:
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


def _add(options: argparse.Namespace) -> int:
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


def _names(options: argparse.Namespace) -> int:
    # It takes the place of this process: whoever stops this one stops it.
    sys.stdout.flush()
    os.execv(sys.executable, [sys.executable, "-m", "oastsim.names", str(options.file), options.origin])  # noqa: S606
