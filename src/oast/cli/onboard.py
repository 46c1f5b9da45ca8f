"""oast onboard: provision new devices."""

from __future__ import annotations

import asyncio
import os
import signal
import sys
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from rich.text import Text

from oast.cli.async_runner import run_async as run_to_end
from oast.cli.command import CommandGroup, Subcommand, argument, flag, option
from oast.cli.estate_option import estate_of, folder_of
from oast.cli.exit_codes import DONE, INVALID, NO
from oast.cli.onboard_view import follow, is_expected, print_status, why
from oast.cli.output import ask_to_confirm, console, plural, print_json, relative_path
from oast.cli.shared_options import PROPOSE_HELP, EstateOptions, FormatOptions
from oast.cli.terminal import print_hanging
from oast.errors import UsageError
from oast.estate import read_settings as read_settings
from oast.onboard import NewDevice, NewDeviceState, NewDeviceStore, OnboardingRefusal, make_keys
from oast.operations import (
    StagedRow,
    Staging,
    forget,
    propose_staging,
    serve,
    settings_of,
    stage,
    stage_approved,
)


@dataclass(frozen=True, kw_only=True)
class OnboardOptions(FormatOptions, EstateOptions):
    """The options of an action of `oast onboard` that has none of its own."""


@dataclass(frozen=True, kw_only=True)
class StageOptions(FormatOptions, EstateOptions):
    """The options of `oast onboard stage`."""

    file: Path | None = argument(
        "FILE", type=Path, nargs="?", help="CSV file: serial,name,address,platform and more attributes"
    )
    change: str | None = option("--change", metavar="CHANGE", help="stage exactly this approved change")
    propose: bool = flag("--propose", help=PROPOSE_HELP)
    reason: str | None = option(
        "-m",
        "--reason",
        metavar="REASON",
        help="with --propose: reason (default: names of the staged devices)",
    )
    ticket: str | None = option("--ticket", metavar="TICKET", help="with --propose: ticket of the change")
    sign: Path | None = option(
        "--sign",
        metavar="FILE",
        type=Path,
        help="with --propose: sign the change with this SSH key (ssh-keygen)",
    )
    yes: bool = flag("--yes", help="stage without asking")


@dataclass(frozen=True, kw_only=True)
class ServeOptions(FormatOptions, EstateOptions):
    """The options of `oast onboard serve`."""

    port: int | None = option(
        "--port",
        type=int,
        metavar="PORT",
        help="port to listen on; 0: any free one (default: from oast.toml)",
    )


@dataclass(frozen=True, kw_only=True)
class OnboardStatusOptions(FormatOptions, EstateOptions):
    """The options of `oast onboard status`."""

    follow: bool = flag("--follow", help="keep running, and show changes as they happen")


@dataclass(frozen=True, kw_only=True)
class ForgetOptions(FormatOptions, EstateOptions):
    """The options of `oast onboard forget`."""

    serial: str = argument("SERIAL", help="serial number of the new device")


def _keys(options: OnboardOptions) -> int:
    folder = folder_of(options)
    settings = settings_of(folder)
    make_keys(settings.keys, read_settings(folder).name, settings.names)
    owner = relative_path(settings.keys / "owner.pem")
    print_hanging(
        console(),
        Text(f"the keys are in {relative_path(settings.keys)}; never commit them to a repository"),
    )
    print_hanging(
        console(),
        Text(f"give {owner} to the manufacturer of your devices: its vouchers must pin this certificate"),
    )
    return DONE


def _stage(options: StageOptions) -> int:
    folder = folder_of(options)
    if options.change is not None:
        return _stage_approved(options, folder, options.change)
    if options.file is None:
        raise UsageError(
            "the file of the new devices is missing",
            hint="oast onboard stage FILE, or --change CHANGE for an approved one",
        )
    staging = Staging(folder, os.environ)
    rows = staging.rows(options.file, str(relative_path(options.file.resolve())))
    right = [row for row in rows if row.device is not None]
    wrong = [row for row in rows if row.device is None]
    out = console(error=options.format == "json")
    for row in right:
        words = _in_words(row)
        print_hanging(out, Text.assemble((f"  + {row.serial}  {row.name}", "green"), (f"  {words}", "dim")))
    _show_wrong(wrong)
    if right and (options.propose or read_settings(folder).delivery.approval):
        return _propose(options, staging, right, wrong)
    if right and (options.yes or ask_to_confirm(f"Stage {plural(len(right), 'device')}?")):
        stage(folder, right)
        out.print(f"{plural(len(right), 'device')} staged")
    elif right:
        out.print("nothing was staged")
        right = []
    if options.format == "json":
        print_json(
            "staged",
            1,
            {"staged": [row.serial for row in right], "wrong": [_row_document(row) for row in wrong]},
        )
    return INVALID if wrong else DONE if right else NO


def _propose(options: StageOptions, staging: Staging, right: list[StagedRow], wrong: list[StagedRow]) -> int:
    reason = options.reason or f"Stage {', '.join(f'{row.name} ({row.serial})' for row in right)}"
    name = propose_staging(staging.estate, right, reason, options.ticket, options.sign)
    if options.format == "json":
        print_json("proposal", 1, {"change": name, "devices": len(right)})
    else:
        out = console()
        out.print(f"proposed as {name}: {plural(len(right), 'device')}; nothing is staged yet")
        out.print(f"    another person approves it: oast change approve {name}", style="green")
        out.print(f"    then stage it:              oast onboard stage --change {name}", style="green")
    return INVALID if wrong else DONE


def _stage_approved(options: StageOptions, folder: Path, name: str) -> int:
    if options.file is not None or options.propose:
        raise UsageError("--change stages an approved change; leave out FILE and --propose")
    change, serials = stage_approved(folder, os.environ, estate_of(options), name)
    if options.format == "json":
        print_json("staged", 1, {"staged": serials, "wrong": []})
    else:
        console().print(f"{plural(len(serials), 'device')} staged, as approved in {change.name}")
    return DONE


def _in_words(row: StagedRow) -> str:
    attributes = row.device.attributes if row.device is not None else {}
    plain = {
        key: ", ".join(map(str, value)) if isinstance(value, list) else str(value)
        for key, value in attributes.items()
    }
    return ", ".join(f"{key} {value}" for key, value in plain.items() if key not in ("name", "serial"))


def _show_wrong(rows: list[StagedRow]) -> None:
    out = console(error=True)
    for row in rows:
        who = f" ({row.name or row.serial})" if row.name or row.serial else ""
        for what in row.wrong:
            print_hanging(out, Text(f"{row.place}: {what}{who}"))
        if row.hint:
            print_hanging(out, Text(f"    hint: {row.hint}"))
    if rows:
        sys.stderr.write(f"{plural(len(rows), 'row')} {'is' if len(rows) == 1 else 'are'} not staged\n")


def _row_document(row: StagedRow) -> dict[str, Any]:
    return {
        "line": row.place.line,
        "serial": row.serial,
        "name": row.name,
        "wrong": list(row.wrong),
        "hint": row.hint,
    }


def _serve(options: ServeOptions) -> int:
    folder = folder_of(options)
    settings = settings_of(folder)
    chosen = settings if options.port is None else replace(settings, port=options.port)

    def heard(who: str, what: str) -> None:
        sys.stdout.write(f"{datetime.now(UTC):%H:%M:%S} {who}: {what}\n")
        sys.stdout.flush()

    def listening(where: str) -> None:
        sys.stdout.write(f"listening at {where}\n")
        sys.stdout.flush()

    async def until_stopped() -> None:
        stop = asyncio.Event()
        for number in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(number, stop.set)
        await serve(folder, os.environ, chosen, heard, listening, stop)

    run_to_end(until_stopped())
    return DONE


def _status(options: OnboardStatusOptions) -> int:
    out = console()
    with NewDeviceStore(folder_of(options) / ".oast") as boxes:
        found, refused = boxes.all(), boxes.refusals()
        if options.follow and options.format == "text" and out.is_terminal:
            run_to_end(follow(boxes, out))
            return DONE
    if options.format == "json":
        document = {
            "devices": [_document(box) for box in found],
            "expected": sum(is_expected(box) for box in found),
        }
        print_json("onboarding", 1, {**document, "refused": [_refusal_document(one) for one in refused]})
    else:
        print_status(out, found, refused)
    return NO if any(box.state is NewDeviceState.FAILED for box in found) else DONE


def _refusal_document(one: OnboardingRefusal) -> dict[str, Any]:
    return {"serial": one.serial, "at": one.at.isoformat(), "times": one.times, "why": one.why}


def _document(box: NewDevice) -> dict[str, Any]:
    return {
        "device": box.name,
        "serial": box.serial,
        "state": str(box.state),
        "since": box.since.isoformat(),
        "staged": box.staged.isoformat(),
        "why": why(box),
        "noted": box.noted,
        "host_keys": list(box.host_keys),
    }


def _forget(options: ForgetOptions) -> int:
    forget(folder_of(options), options.serial)
    console().print(f"{options.serial} is no longer expected")
    return DONE


COMMAND = CommandGroup(
    {
        "keys": Subcommand(OnboardOptions, _keys, "create the owner's keys and certificates, once"),
        "stage": Subcommand(
            StageOptions,
            _stage,
            "prepare the first configuration of new devices",
            (("oast onboard stage new.csv", "stage the devices of a CSV file"),),
            exits=(0, 1, 2, 3),
            no="declined, or a row cannot be staged",
        ),
        "serve": Subcommand(
            ServeOptions,
            _serve,
            "run the bootstrap server, which gives each new device its first configuration",
            (("oast onboard serve", "serve until interrupted"),),
            exits=(0, 2, 3, 4, 130),
        ),
        "status": Subcommand(
            OnboardStatusOptions,
            _status,
            "show the progress of each new device",
            (("oast onboard status --follow", "show changes as they happen"),),
        ),
        "forget": Subcommand(ForgetOptions, _forget, "stop expecting a new device"),
    }
)
