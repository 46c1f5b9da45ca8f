"""oast source: inventories that are kept elsewhere."""

from __future__ import annotations

import os
import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.text import Text

from oast.cli.async_runner import run_async as run_to_end
from oast.cli.command import CommandGroup, Subcommand, argument, flag
from oast.cli.estate_option import folder_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import ask_to_confirm, console, join_names, plural, print_json, print_table, table
from oast.cli.publish import PublishOptions, publish_one
from oast.cli.shared_options import EstateOptions, FormatOptions
from oast.cli.source_loop import each_source
from oast.cli.terminal import print_hanging
from oast.errors import EstateError, OastError, UsageError
from oast.estate import SourceSettings, read_estate, read_settings as read_settings
from oast.operations import RefreshPlan, owned, plan_refresh, require_allowed, write
from oast.spelling import spelling_hint

SHOWN = 12
HINT = """add to oast.toml, for example:
        [[sources]]
        name = "quay-office"
        file = "../devices.csv"
        attributes = { name = "hostname", address = "ip", platform = "system" }"""


@dataclass(frozen=True, kw_only=True)
class SourceListOptions(FormatOptions, EstateOptions):
    """The options of `oast source list`."""


@dataclass(frozen=True, kw_only=True)
class RefreshOptions(FormatOptions, EstateOptions):
    """The options of `oast source refresh`."""

    source: tuple[str, ...] = argument(
        "SOURCE", nargs="*", default=(), help="names of sources (default: all)"
    )
    yes: bool = flag("--yes", help="write without asking")
    dry_run: bool = flag("--dry-run", help="show what is new and write nothing; exit code 1 if anything is")
    allow_removals: bool = flag("--allow-removals", help="allow removing more devices than the limits permit")


def _sources(folder: Path) -> Sequence[SourceSettings]:
    found = read_settings(folder).sources
    if not found:
        raise EstateError("oast.toml has no [[sources]]", hint=HINT)
    return found


def _picked(
    options: RefreshOptions | PublishOptions, sources: Sequence[SourceSettings]
) -> Sequence[SourceSettings]:
    """Return the named sources. Raises UsageError for an unknown name."""
    names = [source.name for source in sources]
    for name in options.source:
        if name not in names:
            raise UsageError(f"unknown source '{name}'", hint=spelling_hint(name, names))
    return [source for source in sources if not options.source or source.name in options.source]


def _list(options: SourceListOptions) -> int:
    folder = folder_of(options)
    rows = [(source, len(owned(folder, source))) for source in _sources(folder)]
    if options.format == "json":
        print_json(
            "sources",
            1,
            {
                "sources": [
                    {"source": s.name, "from": _where(s), "file": s.owned, "devices": n} for s, n in rows
                ]
            },
        )
        return DONE
    listing = table("source", "from", "file", "devices", numbers=("devices",), whole=("source", "file"))
    for source, number in rows:
        listing.add_row(source.name, _where(source), source.owned, str(number))
    print_table(console(), listing)
    return DONE


def _where(source: SourceSettings) -> str:
    return source.url.geturl() if source.url is not None else str(source.file or source.folder)


def _refresh(options: RefreshOptions) -> int:
    folder = folder_of(options)
    return each_source(
        options,
        _picked(options, _sources(folder)),
        lambda options, source: _one(options, folder, source),
        "refresh",
    )


def _one(options: RefreshOptions, folder: Path, source: SourceSettings) -> tuple[int, dict[str, Any]]:
    found = run_to_end(plan_refresh(folder, os.environ, source))
    out = console(error=options.format == "json")
    _show(found, out)
    wrong = FAILED if found.read.wrong else DONE
    if found.is_empty:
        return wrong, _document(found, written=False)
    if not options.allow_removals:
        require_allowed(found)
    if options.dry_run:
        return wrong or NO, _document(found, written=False)
    if not options.yes and not ask_to_confirm(f"Write {source.owned}: {_counts(found)}?"):
        out.print("nothing was changed")
        return NO, _document(found, written=False)
    write(folder, found)
    out.print(f"{source.owned} is written: {plural(len(found.after), 'device')}")
    _tell_mistakes(folder)
    return wrong, _document(found, written=True)


def _publish(options: PublishOptions) -> int:
    folder = folder_of(options)
    sources = _picked(
        options,
        [
            source
            for source in _sources(folder)
            if source.publish is not None or source.name in options.source
        ],
    )
    if not sources:
        hint = f"add [sources.publish] with fields = {...} below the source; see docs/sources.md"
        raise EstateError("no source has [sources.publish]", hint=hint)
    return each_source(options, sources, publish_one, "published")


def _counts(found: RefreshPlan) -> str:
    return f"+{len(found.added)} ~{len(found.changed)} -{len(found.removed)}"


def _show(found: RefreshPlan, out: Console) -> None:
    source = found.source
    listed = len(found.read.devices) + len(found.read.wrong)
    besides = f", {found.read.passed_over} filtered out" if found.read.passed_over else ""
    again = f", {plural(found.unchanged, 'page')} unchanged" if found.unchanged else ""
    out.print(
        Text.assemble(
            (source.name, "bold"), f": {plural(listed, 'record')}{besides}{again}; {_counts(found)}"
        )
    )
    for sign, style, names in (("+", "green", found.added), ("-", "red", found.removed)):
        for name in names[:SHOWN]:
            what = found.after[name] if sign == "+" else found.before[name]
            print_hanging(out, Text.assemble((f"  {sign} {name}", style), (f"  {_in_words(what)}", "dim")))
        if len(names) > SHOWN:
            out.print(f"  {sign} and {len(names) - SHOWN} more: {join_names(names[SHOWN:], SHOWN)}")
    for number, (name, change) in enumerate(found.changed.items()):
        if number == SHOWN:
            out.print(f"  ~ and {len(found.changed) - SHOWN} more")
            break
        told = "; ".join(f"{key} {_word(old)} -> {_word(new)}" for key, (old, new) in change.items())
        print_hanging(out, Text.assemble((f"  ~ {name}", "yellow"), f"  {told}"))
    for one in found.read.wrong[:SHOWN]:
        stays = " (unchanged in the inventory)" if one.name in found.kept else ""
        print_hanging(
            out,
            Text(f"  {one.record}{f' ({one.name})' if one.name else ''}: {one.why}{stays}", style="yellow"),
        )
    if len(found.read.wrong) > SHOWN:
        out.print(f"  and {len(found.read.wrong) - SHOWN} more records that cannot be used")
    unlisted = [name for name in found.kept if all(one.name != name for one in found.read.wrong)]
    if unlisted:
        out.print(f"  some records cannot be matched to a device; unchanged: {join_names(unlisted, SHOWN)}")


def _in_words(attributes: Mapping[str, Any]) -> str:
    return ", ".join(f"{key} {_word(value)}" for key, value in attributes.items())


def _word(value: Any) -> str:
    return "-" if value is None else ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def _tell_mistakes(folder: Path) -> None:
    """Warn of mistakes that the new entries cause: a rule for a removed site, an unknown platform."""
    try:
        _, mistakes = read_estate(folder, os.environ)
        number = len(mistakes.found)
    except OastError as error:
        number = len(error.problems())
    if number:
        sys.stderr.write(f"warning: the estate has {plural(number, 'mistake')} now; see oast lint\n")


def _document(found: RefreshPlan, *, written: bool) -> dict[str, Any]:
    return {
        "source": found.source.name,
        "written": written,
        "devices": len(found.after),
        "added": list(found.added),
        "changed": [
            {"device": name, "attributes": {key: list(pair) for key, pair in one.items()}}
            for name, one in found.changed.items()
        ],
        "removed": list(found.removed),
        "kept": list(found.kept),
        "wrong": [{"record": one.record, "device": one.name, "why": one.why} for one in found.read.wrong],
        "passed_over": found.read.passed_over,
    }


COMMAND = CommandGroup(
    {
        "list": Subcommand(SourceListOptions, _list, "list sources and the number of devices from each"),
        "refresh": Subcommand(
            RefreshOptions,
            _refresh,
            "update the inventory from sources",
            (
                ("oast source refresh --dry-run", "show what is new"),
                ("oast source refresh", "show it, and write it"),
            ),
            exits=(0, 1, 2, 3, 4),
            no="declined, or differences found by --dry-run",
        ),
        "publish": Subcommand(
            PublishOptions,
            _publish,
            "write facts about devices, such as versions, back to sources",
            (("oast source publish --dry-run", "show what differs from the source"),),
            exits=(0, 1, 2, 3, 4),
            no="declined, or differences found by --dry-run",
        ),
    }
)
