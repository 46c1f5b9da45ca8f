"""oast sim maker, oast sim box: whoever makes new boxes, and the boxes; processes of their own."""

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
from oast.cli.exits import DONE, NO
from oast.cli.workplace import folder_of, near
from oast.errors import StateError, UsageError
from oast.files import make_private

_PLACE = re.compile(r"[A-Za-z0-9.:_-]+:[0-9]{1,5}")
_PORT = re.compile(r"[A-Za-z0-9._-]+:[A-Za-z0-9/._-]+")


def add_arguments(actions: Any) -> None:
    """The two actions."""
    maker = actions.add_parser("maker", help="what the maker of boxes hands out: authorities, and a voucher for each serial number")
    maker.add_argument("serial", metavar="SERIAL", nargs="+")
    maker.add_argument("--owner", metavar="FILE", type=Path, required=True, help="whose they are: the certificate that vouchers pin")
    maker.add_argument("--into", metavar="DIR", type=Path, required=True, help="where the vouchers go")
    box = actions.add_parser("box", help="new boxes: add")
    boxes = box.add_subparsers(dest="what", metavar="WHAT", required=True)
    add = boxes.add_parser("add", help="plug in a box, which asks the bootstrap server for its first configuration")
    add.add_argument("serial", metavar="SERIAL")
    add.add_argument("--server", metavar="HOST:PORT", type=_of(_PLACE), help="the bootstrap server that it asks")
    add.add_argument("--names", metavar="HOST:PORT", type=_of(_PLACE), help="who tells it names (oast sim names), by which it finds one")
    add.add_argument("--domain", metavar="NAME", help="where it looks for the name")
    add.add_argument(
        "--at", metavar="DEVICE:PORT", type=_of(_PORT), action="append", default=[], help="where its port1 is plugged in, its port2 …"
    )
    add.add_argument("--system", choices=("bine", "cowl", "roundel"), default="bine")
    add.add_argument("--call-home", metavar="HOST:PORT", type=_of(_PLACE), help="whom it calls when it is up")
    add.add_argument("--year", type=int, metavar="YEAR", help="what its clock says")
    add.add_argument(
        "--power-cut", metavar="STEP", choices=("asked", "redirected", "taking", "taken"), help="it loses power after this step"
    )
    add.add_argument("--controlled", action="store_true", help="it starts under a controller, and restarts to stand alone")
    add.add_argument("--again", action="store_true", help="another box with the same serial number")
    names = actions.add_parser("names", help="answer names from a zone in a master file (RFC 1035), until it is stopped")
    names.add_argument("file", metavar="FILE", type=Path)
    names.add_argument("--origin", metavar="NAME", required=True, help="what the zone is called")
    for action, run in ((maker, _maker), (add, _add), (names, _names)):
        arguments.add_estate(action)
        action.set_defaults(run=run)


def _of(pattern: re.Pattern[str]) -> Any:
    def parse(text: str) -> str:
        if not pattern.fullmatch(text):
            raise argparse.ArgumentTypeError(f"'{text}' is none")
        return text

    return parse


def _folder(options: argparse.Namespace) -> Path:
    folder = folder_of(options) / ".oast" / "sim"
    make_private(folder)
    return folder


def _maker(options: argparse.Namespace) -> int:
    maker = _folder(options) / "maker"
    command = [str(maker), "--owner", str(options.owner), "--into", str(options.into), *options.serial]
    done = subprocess.run(
        [sys.executable, "-m", "oastsim.maker", *command], capture_output=True, text=True, env=without_secrets(os.environ), check=False
    )
    if done.returncode:
        raise StateError(f"the maker hands out nothing: {done.stderr.strip().splitlines()[-1] if done.stderr.strip() else 'it has failed'}")
    sys.stdout.write(f"the boxes' authority: {near(maker / 'devices.pem')}\nthe vouchers' authority: {near(maker / 'vouchers.pem')}\n")
    sys.stdout.write("".join(f"{near(options.into.resolve() / f'{serial}.vcj')}\n" for serial in options.serial))
    return DONE


def _add(options: argparse.Namespace) -> int:
    if options.server is None and (options.names is None or options.domain is None):
        raise UsageError("a box needs a server, or names and a domain by which it finds one", hint="--server HOST:PORT")
    folder = _folder(options)
    command = [str(folder), str(folder / "maker"), options.serial, "--system", options.system]
    for place in options.at:
        command += ["--at", place]
    for name in ("server", "names", "domain", "call_home", "year", "power_cut"):
        if getattr(options, name) is not None:
            command += [f"--{name.replace('_', '-')}", str(getattr(options, name))]
    command += [f"--{name}" for name in ("again", "controlled") if getattr(options, name)]
    done = subprocess.run([sys.executable, "-m", "oastsim.box", *command], env=without_secrets(os.environ), check=False)
    return DONE if done.returncode == 0 else NO


def _names(options: argparse.Namespace) -> int:
    # It takes the place of this process: whoever stops this one stops it.
    sys.stdout.flush()
    os.execv(sys.executable, [sys.executable, "-m", "oastsim.names", str(options.file), options.origin])  # noqa: S606
