"""oast sim inventory: a stand-in for an inventory service, as a background process."""

from __future__ import annotations

import json
import os
import secrets
import subprocess
import sys
import time
import urllib.error
import urllib.request
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oast.cli.command import CommandGroup, Subcommand, argument, count, option, seconds
from oast.cli.estate_option import folder_of
from oast.cli.exit_codes import DONE, NO
from oast.cli.output import print_json, relative_path
from oast.cli.shared_options import EstateOptions, FormatOptions
from oast.errors import StateError, UsageError
from oast.files import make_private

FAULTS = ("none", "error", "busy", "slow", "cut", "repeat", "expire", "broken", "empty")
TOKEN = "OASTSIM_TOKEN"  # noqa: S105  # the name of a variable
START_AT_MOST_S = 30.0
FILE = "inventory-service.json"


@dataclass(frozen=True, kw_only=True)
class InventoryStartOptions(EstateOptions):
    """The options of `oast sim inventory start`."""

    file: str | None = argument(
        "FILE", nargs="?", help=f"JSON file with its devices (default: {FILE} of the estate)"
    )


@dataclass(frozen=True, kw_only=True)
class InventoryStatusOptions(FormatOptions, EstateOptions):
    """The options of `oast sim inventory status`."""


@dataclass(frozen=True, kw_only=True)
class InventoryFaultOptions(EstateOptions):
    """The options of `oast sim inventory fault`."""

    kind: str = argument("FAULT", choices=FAULTS, help=f"{', '.join(FAULTS)}; none ends the current fault")
    after: int = option(
        "--after",
        type=count,
        default=0,
        metavar="N",
        help="number of good answers before the fault (default: 0)",
    )
    times: int = option(
        "--times",
        type=count,
        default=0,
        metavar="N",
        help="number of faulty answers; 0: until it is ended (default: 0)",
    )
    seconds: float = option(
        "--seconds",
        type=seconds,
        default=1.0,
        metavar="S",
        help="slow, busy: duration in seconds (default: 1)",
    )


def _folder(options: EstateOptions) -> Path:
    return folder_of(options) / ".oast" / "sim"


def _listening(folder: Path) -> dict[str, Any] | None:
    try:
        told: dict[str, Any] = json.loads((folder / "inventory.json").read_text(encoding="utf-8"))
        os.kill(int(told["process"]), 0)
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return told


def _start(options: InventoryStartOptions) -> int:
    folder = _folder(options)
    if _listening(folder) is not None:
        raise StateError(
            "the inventory service is running already", hint="stop it with: oast sim inventory stop"
        )
    file = Path(options.file) if options.file else folder_of(options) / FILE
    if not file.is_file():
        raise UsageError(f"no file {relative_path(file)}", hint='{"devices": [{"key": 1, "hostname": …}, …]}')
    make_private(folder)
    token = os.environ.get(TOKEN) or secrets.token_urlsafe(16)
    log = folder / "inventory.log"
    with log.open("wb") as out:
        process = subprocess.Popen(
            [sys.executable, "-m", "oastsim.inventory", str(file.resolve()), str(folder.resolve())],
            stdin=subprocess.DEVNULL,
            stdout=out,
            stderr=out,
            start_new_session=True,
            env={**os.environ, TOKEN: token},
        )
    deadline = time.monotonic() + START_AT_MOST_S
    while (told := _listening(folder)) is None:
        if process.poll() is not None or time.monotonic() > deadline:
            process.kill()
            said = log.read_text(encoding="utf-8", errors="replace").strip().splitlines()
            raise StateError(
                f"the inventory service did not start: {said[-1] if said else 'no reason was given'}",
                hint=f"see its log: {relative_path(log)}",
            )
        time.sleep(0.02)
    process.returncode = 0  # It is meant to outlive this process.
    sys.stdout.write(f"{told['url']}\n")
    if TOKEN not in os.environ:
        path = folder / "inventory-token"
        path.touch(mode=0o600)
        path.write_text(f"{token}\n", encoding="utf-8")
        sys.stderr.write(f"its token is in {relative_path(path)}\n")
    return DONE


def _stop(options: EstateOptions) -> int:
    told = _listening(_folder(options))
    if told is None:
        sys.stdout.write("not running\n")
        return DONE
    os.kill(int(told["process"]), 15)
    deadline = time.monotonic() + START_AT_MOST_S
    while (_folder(options) / "inventory.json").exists():
        if time.monotonic() > deadline:
            raise StateError(f"the inventory service (process {told['process']}) does not stop")
        time.sleep(0.02)
    sys.stdout.write("stopped\n")
    return DONE


def _status(options: InventoryStatusOptions) -> int:
    told = _listening(_folder(options))
    if options.format == "json":
        print_json("inventory-status", 1, {"running": told is not None, "url": told["url"] if told else None})
    else:
        sys.stdout.write(f"{told['url'] if told else 'not running'}\n")
    return DONE if told else NO


def _fault(options: InventoryFaultOptions) -> int:
    told = _listening(_folder(options))
    if told is None:
        raise StateError(
            "the inventory service is not running", hint="start it with: oast sim inventory start"
        )
    asked = {"kind": options.kind, "after": options.after, "times": options.times, "seconds": options.seconds}
    headers = {"Authorization": f"Bearer {told['control']}", "Content-Type": "application/json"}
    request = urllib.request.Request(told["faults"], json.dumps(asked).encode(), headers)  # noqa: S310  # it is on loopback
    try:
        with urllib.request.urlopen(request, timeout=20):  # noqa: S310
            pass
    except (urllib.error.URLError, OSError) as error:
        raise StateError(f"the inventory service does not answer: {error}") from None
    sys.stdout.write(f"fault {options.kind}\n")
    return DONE


COMMAND = CommandGroup(
    {
        "start": Subcommand(
            InventoryStartOptions, _start, "serve the devices of a JSON file over HTTP", exits=(0, 2, 3, 4)
        ),
        "stop": Subcommand(EstateOptions, _stop, "stop the inventory service"),
        "status": Subcommand(
            InventoryStatusOptions, _status, "show its address", exits=(0, 1, 2, 3), no="it does not run"
        ),
        "fault": Subcommand(
            InventoryFaultOptions, _fault, "cause a fault of the service, or end it", exits=(0, 2, 3, 4)
        ),
    },
    summary="simulate an inventory service",
)
