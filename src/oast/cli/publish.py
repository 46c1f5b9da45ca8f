"""oast source publish: what is known of devices, written where their records are from."""

from __future__ import annotations

import os
import sys
from dataclasses import dataclass
from typing import Any

from rich.console import Console
from rich.text import Text

from oast.cli.async_runner import run_async as run_to_end
from oast.cli.command import argument, flag
from oast.cli.error_output import show_device_errors
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import ask_to_confirm, console, join_names, plural
from oast.cli.progress import Progress
from oast.cli.shared_options import ConnectionOptions, EstateOptions, FormatOptions, SelectionOptions
from oast.cli.terminal import print_hanging
from oast.errors import EstateError
from oast.estate import SourceSettings
from oast.operations import PublishPlan, PublishResult, plan_publishing, publish_facts

SHOWN = 12
LONGEST = 60


@dataclass(frozen=True, kw_only=True)
class PublishOptions(SelectionOptions, ConnectionOptions, FormatOptions, EstateOptions):
    """The options of `oast source publish`."""

    source: tuple[str, ...] = argument(
        "SOURCE", nargs="*", default=(), help="names of sources (default: all with [sources.publish])"
    )
    yes: bool = flag("--yes", help="write without asking")
    dry_run: bool = flag(
        "--dry-run", help="show what differs and write nothing; exit code 1 if anything does"
    )


def publish_one(options: PublishOptions, source: SourceSettings) -> tuple[int, dict[str, Any]]:
    """Publish to one source: the exit code, and its part of the document."""
    if source.publish is None:
        raise EstateError(
            f"the source '{source.name}' has no [sources.publish]",
            hint=f"add [sources.publish] with fields = {...}",
        )
    estate = estate_of(options)
    quiet = options.quiet or options.format == "json"
    with Progress(console(error=True), [], quiet=quiet) as progress:
        found = run_to_end(
            plan_publishing(
                estate, source, source.publish, options.on, os.environ,
                parallel=options.parallel, timeout_s=options.timeout, on_event=progress,
            )
        )  # fmt: skip
    out = console(error=options.format == "json")
    _show(found, out)
    worst = FAILED if found.failed or found.unlisted else DONE
    if not found.changes or options.dry_run:
        return worst or (NO if found.changes else DONE), _document(found, None)
    if not options.yes and not ask_to_confirm(
        f"Write {plural(len(found.changes), 'record')} of '{source.name}'?"
    ):
        out.print("nothing was published")
        return NO, _document(found, None)
    result = run_to_end(publish_facts(estate.folder, os.environ, found))
    out.print(f"{source.name}: {plural(len(result.written), 'record')} written and verified")
    for name, why in result.failed.items():
        print_hanging(console(error=True), Text(f"{name}: {why}"))
    return FAILED if result.failed else worst, _document(found, result)


def _show(found: PublishPlan, out: Console) -> None:
    out.print(
        Text.assemble(
            (found.source.name, "bold"),
            f": {plural(found.records, 'record')}; {len(found.changes)} to update",
        )
    )
    for change in found.changes[:SHOWN]:
        out.print(Text(f"  ~ {change.device}", style="yellow"))
        for at, (now, expected) in change.fields.items():
            print_hanging(
                out, Text.assemble((f"      {'.'.join(at)}  ", "dim"), f"{_word(now)} -> {_word(expected)}")
            )
    if len(found.changes) > SHOWN:
        out.print(
            f"  ~ and {len(found.changes) - SHOWN} more:"
            f" {join_names([one.device for one in found.changes[SHOWN:]], SHOWN)}"
        )
    by_field: dict[str, list[str]] = {}
    for device, fields in found.unknown.items():
        for one in fields:
            by_field.setdefault(one, []).append(device)
    for one, devices in by_field.items():
        print_hanging(
            out, Text(f"  {one} is unknown for {join_names(devices, 3)} and not updated", style="dim")
        )
    if found.unlisted:
        sys.stderr.write(
            f"the source '{found.source.name}' no longer lists {join_names(found.unlisted, SHOWN)}\n"
        )
    show_device_errors(found.failed, sys.stderr)


def _word(value: Any) -> str:
    """A value in a few words."""
    if value is None:
        return "-"
    if isinstance(value, list):
        if value and all(isinstance(one, str | int | float) for one in value):
            text = ", ".join(map(str, value))
            return text if len(text) <= LONGEST else f"{plural(len(value), 'value')}"
        return plural(len(value), "value")
    if isinstance(value, dict):
        return ", ".join(f"{key} {_word(one)}" for key, one in value.items())
    return str(value)


def _document(found: PublishPlan, result: PublishResult | None) -> dict[str, Any]:
    return {
        "source": found.source.name,
        "records": found.records,
        "changes": [
            {
                "device": one.device,
                "record": one.record,
                "fields": {".".join(at): list(pair) for at, pair in one.fields.items()},
            }
            for one in found.changes
        ],
        "unknown": {device: list(fields) for device, fields in found.unknown.items()},
        "unlisted": list(found.unlisted),
        "written": result.written if result is not None else [],
        "failed": {
            **{name: error.message for name, error in found.failed},
            **(result.failed if result is not None else {}),
        },
    }
