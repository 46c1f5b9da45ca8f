"""oast sim inventory: a stand-in for an inventory service, as a background process."""

from __future__ import annotations

import argparse
import json
import os
import secrets
import subprocess
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path
from typing import Any

from oast.cli import arguments
from oast.cli.estate_option import folder_of
from oast.cli.exit_codes import DONE, NO
from oast.cli.output import print_json, relative_path
from oast.errors import StateError, UsageError
from oast.files import make_private

FAULTS = ("none", "error", "busy", "slow", "cut", "repeat", "expire", "broken", "empty")
TOKEN = "OASTSIM_TOKEN"  # noqa: S105  # the name of a variable
START_AT_MOST_S = 30.0
FILE = "inventory-service.json"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="what", metavar="WHAT", required=True)
    start = actions.add_parser("start", help="serve the devices of a JSON file over HTTP, page after page")
    start.add_argument(
        "file", metavar="FILE", nargs="?", help=f"what it serves and keeps (default: {FILE} of the estate)"
    )
    stop = actions.add_parser("stop", help="stop it")
    status = actions.add_parser("status", help="where it is")
    arguments.add_format(status)
    fault = actions.add_parser("fault", help="make something go wrong with it, or right again")
    fault.add_argument("kind", choices=FAULTS, help="none ends the fault there is")
    fault.add_argument(
        "--after", type=arguments.count, default=0, metavar="N", help="after so many good answers"
    )
    fault.add_argument(
        "--times", type=arguments.count, default=0, metavar="N", help="so many times (0: until it is ended)"
    )
    fault.add_argument(
        "--seconds", type=arguments.seconds, default=1.0, metavar="S", help="slow, busy: how long"
    )
    for action, run_action in ((start, _start), (stop, _stop), (status, _status), (fault, _fault)):
        arguments.add_estate(action)
        action.set_defaults(run=run_action)


def _folder(options: argparse.Namespace) -> Path:
    return folder_of(options) / ".oast" / "sim"


def _listening(folder: Path) -> dict[str, Any] | None:
    try:
        told: dict[str, Any] = json.loads((folder / "inventory.json").read_text(encoding="utf-8"))
        os.kill(int(told["process"]), 0)
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return told


def _start(options: argparse.Namespace) -> int:
    folder = _folder(options)
    if _listening(folder) is not None:
        raise StateError(
            "the inventory service is running already", hint="stop it with: oast sim inventory stop"
        )
    file = Path(options.file) if options.file else folder_of(options) / FILE
    if not file.is_file():
        raise UsageError(
            f"there is no file {relative_path(file)}", hint='{"devices": [{"key": 1, "hostname": …}, …]}'
        )
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
                f"the inventory service did not come up: {said[-1] if said else 'it says nothing'}",
                hint=f"its log: {relative_path(log)}",
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


def _stop(options: argparse.Namespace) -> int:
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


def _status(options: argparse.Namespace) -> int:
    told = _listening(_folder(options))
    if options.format == "json":
        print_json("inventory-status", 1, {"running": told is not None, "url": told["url"] if told else None})
    else:
        sys.stdout.write(f"{told['url'] if told else 'not running'}\n")
    return DONE if told else NO


def _fault(options: argparse.Namespace) -> int:
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
