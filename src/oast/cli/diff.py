"""oast diff: intent against running."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import dataclass

from rich.console import Console

from oast.change.plan import ApplyMode, Comparison
from oast.cli.async_runner import run_async as run_to_end
from oast.cli.command import Subcommand
from oast.cli.diff_view import show_differences, show_files, show_left_alone, show_unsaved
from oast.cli.error_output import show_device_errors
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import console, plural, print_document
from oast.cli.pager import paged
from oast.cli.progress import Progress
from oast.cli.shared_options import (
    ConnectionOptions,
    EstateOptions,
    FormatOptions,
    IntentOptions,
    ModeOptions,
    SelectionOptions,
    SummaryOptions,
)
from oast.cli.summary import show_head, show_summary
from oast.operations import Plan, compare, prepare_intents


@dataclass(frozen=True, kw_only=True)
class DiffOptions(
    SelectionOptions,
    IntentOptions,
    ModeOptions,
    SummaryOptions,
    ConnectionOptions,
    FormatOptions,
    EstateOptions,
):
    """The options of `oast diff`."""


def run(options: DiffOptions) -> int:
    plan = run_to_end(compared(options))
    if options.format == "json":
        print_document(plan.document())
    else:
        out = console()
        show_what_changes(options, plan.comparisons, out)
        show_left_alone(plan.comparisons, out, verbose=options.verbose)
        show_unsaved(plan.comparisons, out, pushing=False)
        if plan.different:
            total = (
                f"+{sum(c.counts.added for c in plan.different)}"
                f" -{sum(c.counts.removed for c in plan.different)}"
            )
            as_intended = len(plan.comparisons) - len(plan.different)
            out.print(f"{plural(len(plan.different), 'device')} to change ({total}), {as_intended} in sync")
        elif plan.comparisons:
            unsaved = f", {len(plan.unsaved)} with unsaved changes" if plan.unsaved else ""
            out.print(f"{plural(len(plan.comparisons), 'device')} in sync{unsaved}")
        show_device_errors(plan.failed, sys.stderr, plan.logs)
    return FAILED if plan.failed else NO if plan.different else DONE


def show_what_changes(options: SummaryOptions, comparisons: Sequence[Comparison], out: Console) -> None:
    """Print the difference, as detailed as the options say."""
    if options.summary:
        show_summary(comparisons, out)
        return

    def show(to: Console) -> None:
        show_head(comparisons, to)
        show_differences(comparisons, to, full=options.full)
        show_files(comparisons, to)

    paged(out, show)


async def compared(options: DiffOptions) -> Plan:
    """The devices that the options mean, read and compared, with progress on stderr."""
    prepared = prepare_intents(estate_of(options), options.on, options.section)
    quiet = options.quiet or options.format == "json"
    with Progress(console(error=True), [i.device.name for i in prepared.intents], quiet=quiet) as progress:
        manner = ApplyMode(
            getattr(options, "mode", None) or "replace", getattr(options, "remove_unknown", False)
        )
        return await compare(
            prepared, manner, parallel=options.parallel, timeout_s=options.timeout, on_event=progress
        )


COMMAND = Subcommand(
    DiffOptions,
    run,
    examples=(
        ("oast diff", "compare all devices with their intent"),
        ("oast diff --on site=gull --summary", "count the changes in each section"),
        ("oast diff --section ntp --with ntp.prefer=true", "preview one section with another value"),
    ),
    exits=(0, 1, 2, 3, 4),
    no="differences were found",
)
