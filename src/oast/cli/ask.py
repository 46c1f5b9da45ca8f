"""oast ask: one reading of many devices in one table, or what a command lists on each."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Coroutine, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, TypeVar

from oast.cli.ask_view import show_groups, show_readings, show_records
from oast.cli.async_runner import run_async as run_to_end
from oast.cli.command import Subcommand, argument, flag, option
from oast.cli.error_output import show_device_errors
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED
from oast.cli.output import (
    console,
    join_names,
    plural,
    print_json,
    print_table,
    relative_path,
    show_other_values,
    table,
)
from oast.cli.progress import Progress
from oast.cli.shared_options import (
    ConnectionOptions,
    EstateOptions,
    FormatOptions,
    SelectionOptions,
    format_option,
)
from oast.errors import UsageError
from oast.estate import VALUES_FILE, Estate, ReadValue, load_estate, save_values
from oast.files import make_folder, write_whole
from oast.fleet import OnEvent
from oast.intent import IntentBuilder
from oast.operations import (
    DEVICE,
    CommandListing,
    QueryResult,
    ask_devices,
    compiled,
    fields_of,
    list_raw,
    records_document,
)
from oast.platforms import TEXT, FieldType
from oast.readings import condition, find_other_values
from oast.spelling import spelling_hint

R = TypeVar("R")
NAMED = 6
DEFAULT = "-"


@dataclass(frozen=True, kw_only=True)
class AskOptions(SelectionOptions, ConnectionOptions, FormatOptions, EstateOptions):
    """The options of `oast ask`."""

    reading: str | None = argument(
        "READING", nargs="?", help="state to read, such as interfaces (see --list)"
    )
    listing: bool = flag("--list", help="list the readings and their fields")
    to: str | None = option("--to", metavar="ADDRESS", help="destination of the readings ping and trace")
    raw: str | None = option(
        "--raw", metavar="COMMAND", help="run a read-only command instead, and show its output unchanged"
    )
    allow_any: bool = flag(
        "--allow-any", help="with --raw: allow commands that are not known to be read-only"
    )
    where: str | None = option(
        "--where",
        metavar="EXPRESSION",
        help="keep records that match, such as 'oper-status=down and not name=loop*'",
    )
    columns: str | None = option(
        "--columns", metavar="FIELDS", help="fields to show, in this order, such as name,mtu"
    )
    sort: str | None = option("--sort", metavar="FIELD", help="field to sort by")
    descending: bool = flag("--descending", help="with --sort: largest first")
    pick: str | None = option(
        "--pick", metavar="JMESPATH", help="JMESPath query applied to each device's records"
    )
    save: str | None = option(
        "--save",
        metavar="KEY",
        help=f"with --pick: save the result in {VALUES_FILE} as the value KEY of every device",
    )
    out: str | None = option(
        "--out",
        metavar="DIR",
        nargs="?",
        const=DEFAULT,
        help="write one file per device into DIR (without DIR: .oast/asked/READING)",
    )
    format: str = format_option("csv", "jsonl")


def run(options: AskOptions) -> int:
    _need_one(options)
    estate = estate_of(options)
    if options.listing:
        show_readings(options.format, estate.pick(options.on), IntentBuilder(estate))
        return DONE
    if options.raw is not None:
        return _raw(options, estate, options.raw)
    reading = options.reading or ""
    # Mistakes in the command line are reported before any device is asked.
    fields = fields_of(estate, reading, options.on)
    _need_fields(options, fields)
    if options.pick is not None:
        compiled(options.pick)
    if options.where is not None:
        condition(options.where, {DEVICE: TEXT, **fields})
    asked = _asked(
        options,
        estate,
        lambda heard: ask_devices(
            estate, reading, options.on, **_how(options), on_event=heard, to=options.to
        ),
    )
    if options.where is not None:
        asked = asked.where(options.where)
    columns = _columns(options, asked)
    if options.pick is not None:
        _show_picked(options, estate, asked, options.pick)
    elif options.out is not None:
        texts = {
            name: json.dumps(records_document(records), indent=2) + "\n"
            for name, records in asked.records.items()
        }
        _write(options.out, estate, reading, texts, ".json")
    else:
        show_records(options.format, asked, asked.rows(options.sort, descending=options.descending), columns)
    show_other_values(find_other_values(asked.records))
    return _failures(asked)


def _need_one(options: AskOptions) -> None:
    """Whether what is asked for is one thing, and said in options that go together. Raises UsageError."""
    asked = [options.reading is not None, options.raw is not None, options.listing]
    if sum(asked) != 1:
        raise UsageError(
            "what to read is missing: give a READING, --raw COMMAND, or --list",
            hint="oast ask --list shows the readings",
        )
    if options.reading is None:
        for name in ("where", "columns", "sort", "pick", "save", "to"):
            if getattr(options, name) is not None:
                raise UsageError(f"--{name} needs a READING")
        if options.format in ("csv", "jsonl"):
            raise UsageError(f"--format {options.format} needs a READING")
    if options.descending and options.sort is None:
        raise UsageError("--descending needs --sort")
    if options.allow_any and options.raw is None:
        raise UsageError("--allow-any needs --raw")
    if options.save is not None and options.pick is None:
        raise UsageError("--save needs --pick, which selects what is saved")
    if options.pick is not None and options.format in ("csv", "jsonl"):
        raise UsageError(f"--format {options.format} is for records; use text or json with --pick")
    for one, other in (("pick", "columns"), ("pick", "sort"), ("out", "pick"), ("out", "columns")):
        if getattr(options, one) is not None and getattr(options, other) is not None:
            raise UsageError(f"--{one} and --{other} exclude each other")


def _how(options: AskOptions) -> dict[str, Any]:
    return {"parallel": options.parallel, "timeout_s": options.timeout}


def _asked(options: AskOptions, estate: Estate, work: Callable[[OnEvent], Coroutine[Any, Any, R]]) -> R:
    names = [device.name for device in estate.pick(options.on)]
    with Progress(
        console(error=True), names, quiet=bool(options.quiet or options.format != "text")
    ) as progress:
        return run_to_end(work(progress))


def _failures(found: QueryResult | CommandListing) -> int:
    show_device_errors(found.failed, sys.stderr, found.logs)
    return FAILED if found.failed else DONE


def _names(text: str) -> list[str]:
    return [name.strip() for name in text.split(",") if name.strip()]


def _need_fields(options: AskOptions, fields: Mapping[str, FieldType]) -> None:
    """Whether the reading has the fields that are named. Raises UsageError."""
    for name in (*_names(options.columns or ""), *([options.sort] if options.sort is not None else ())):
        if name != DEVICE and name not in fields:
            raise UsageError(
                f"the reading '{options.reading}' has no field '{name}'", hint=spelling_hint(name, fields)
            )


def _columns(options: AskOptions, asked: QueryResult) -> list[str]:
    """The fields to show: those that were asked for, or all of which there is something."""
    if options.columns is not None:
        return _names(options.columns)
    given = {
        name
        for records in asked.records.values()
        for one in records
        for name, value in one.items()
        if value is not None
    }
    return [DEVICE, *(name for name in asked.fields if name in given or options.format != "text")]


def _show_picked(options: AskOptions, estate: Estate, asked: QueryResult, query: str) -> None:
    picked = asked.picked(query)
    if options.format == "json":
        print_json("picked", 1, {"reading": asked.reading, "pick": options.pick, "devices": picked})
    else:
        listing = table("device", "picked", whole=("device",))
        for name, value in picked.items():
            listing.add_row(name, value if isinstance(value, str) else json.dumps(value, ensure_ascii=False))
        print_table(console(), listing)
    if options.save is not None:
        _save(options, estate, picked, options.save)


def _save(options: AskOptions, estate: Estate, picked: Mapping[str, Any], key: str) -> None:
    """Raises UsageError when it is not one value."""
    distinct: dict[str, list[str]] = {}
    for name, value in picked.items():
        distinct.setdefault(json.dumps(value, sort_keys=True), []).append(name)
    if len(distinct) != 1:
        told = "; ".join(
            f"{join_names(names, 2)}: {value[:40]}" for value, names in list(distinct.items())[:3]
        )
        what = (
            f"the query gave {len(distinct)} different values ({told})"
            if distinct
            else ("the query gave no value")
        )
        raise UsageError(f"{what}; nothing was saved", hint="select one device with --on")
    (names,) = distinct.values()
    value = picked[names[0]]
    if value is None:
        raise UsageError(f"'{options.pick}' gives no value on {join_names(names, NAMED)}; nothing was saved")
    if estate.fingerprints.hide(json.dumps(value, ensure_ascii=False)) != json.dumps(
        value, ensure_ascii=False
    ):
        raise UsageError(
            "the result contains a secret of the estate, and was not saved",
            hint="oast secret set",
        )
    at = datetime.now(UTC).isoformat(timespec="seconds")
    save_values(
        estate.folder,
        ReadValue(
            key,
            value,
            f"read on {join_names(names, NAMED)} at {at}: {options.reading}, {options.pick}",
        ),
    )
    told = f"{key} is saved in {VALUES_FILE}"
    now = load_estate(estate.folder, estate.environment)
    others = [device.name for device in now.devices.values() if _at(now.values_of(device), key) != value]
    if others:
        told += (
            f"; another value overrides it on {join_names(others, NAMED)} (oast explain {others[0]} {key})"
        )
    sys.stdout.flush()
    sys.stderr.write(f"{told}\n")


def _at(values: Any, key: str) -> Any:
    for name in key.split("."):
        values = values.get(name) if isinstance(values, Mapping) else None
    return values


def _raw(options: AskOptions, estate: Estate, command: str) -> int:
    any_ = options.allow_any
    found = _asked(
        options,
        estate,
        lambda heard: list_raw(estate, command, options.on, allow_any=any_, **_how(options), on_event=heard),
    )
    if options.out is not None:
        _write(options.out, estate, "raw", found.texts, ".txt")
    elif options.format == "json":
        failed = [{"device": name, "reason": error.message} for name, error in found.failed]
        print_json("raw", 1, {"command": command, "devices": dict(found.texts), "failed": failed})
    else:
        show_groups(found)
    return _failures(found)


def _write(out: str, estate: Estate, what: str, texts: Mapping[str, str], ending: str) -> None:
    folder = estate.working / "asked" / what if out == DEFAULT else Path(out)
    make_folder(folder)
    for name, text in texts.items():
        write_whole(folder / f"{name}{ending}", text, mode=0o600)
    console().print(f"{plural(len(texts), 'file')} in {relative_path(folder)}")


COMMAND = Subcommand(
    AskOptions,
    run,
    examples=(
        ("oast ask interfaces --where oper-status=down", "list interfaces that are down, on all devices"),
        ("oast ask ping --to 192.0.2.123 --on role=edge", "ping an address from every edge router"),
        ("oast ask interfaces --pick \"[?name=='port1'].mtu | [0]\"", "show one value of each device"),
    ),
    exits=(0, 2, 3, 4),
)
