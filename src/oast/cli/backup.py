"""oast backup: what devices run, kept in Git; what was kept, listed, compared and shown."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from datetime import UTC, datetime

from oast.archive import RUNNING, STARTUP, BackupEntry, Backups, backup_file
from oast.cli.async_runner import run_async as run_to_end
from oast.cli.command import CommandGroup, Subcommand, argument, flag, option
from oast.cli.diff_view import show_differences
from oast.cli.error_output import show_device_errors
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import console, plural, print_json, print_table, table
from oast.cli.progress import Progress
from oast.cli.shared_options import ConnectionOptions, EstateOptions, FormatOptions, SelectionOptions
from oast.config import edits_document
from oast.errors import UsageError
from oast.operations import backup, backup_differences


@dataclass(frozen=True, kw_only=True)
class BackupOptions(SelectionOptions, ConnectionOptions, FormatOptions, EstateOptions):
    """The options of `oast backup`."""

    label: str | None = option(
        "--label", metavar="LABEL", help="name for this backup, such as 'before DNS update'"
    )
    reason: str | None = option("-m", "--reason", metavar="REASON", help="reason, shown by oast backup list")
    startup: bool = flag("--startup", help="also back up startup configurations")


@dataclass(frozen=True, kw_only=True)
class BackupListOptions(FormatOptions, EstateOptions):
    """The options of `oast backup list`."""

    device: str | None = option(
        "--device", metavar="NAME", help="list only backups in which this device had changed"
    )


@dataclass(frozen=True, kw_only=True)
class BackupShowOptions(FormatOptions, EstateOptions):
    """The options of `oast backup show`."""

    label: str = argument("LABEL", help="label or commit of the backup")
    device: str = argument("DEVICE", help="name of the device")
    startup: bool = flag("--startup", help="show the startup configuration")


@dataclass(frozen=True, kw_only=True)
class BackupDiffOptions(SelectionOptions, FormatOptions, EstateOptions):
    """The options of `oast backup diff`."""

    label: str = argument("LABEL", help="label or commit of a backup")
    other: str | None = argument(
        "LABEL", nargs="?", help="label or commit to compare with (default: the newest)"
    )


def _take(options: BackupOptions) -> int:
    estate = estate_of(options)
    names = [device.name for device in estate.pick(options.on)]
    with Progress(
        console(error=True), names, quiet=bool(options.quiet or options.format == "json")
    ) as progress:
        result = run_to_end(
            backup(
                estate,
                options.on,
                label=options.label,
                why=options.reason,
                startup=options.startup,
                parallel=options.parallel,
                timeout_s=options.timeout,
                on_event=progress,
            )
        )
    if options.format == "json":
        failed = [{"device": name, "reason": error.message} for name, error in result.failed]
        print_json(
            "backup",
            1,
            {"devices": list(result.read), "commit": result.commit, "label": result.label, "failed": failed},
        )
    else:
        new = "nothing has changed" if result.commit is None else f"saved as {result.commit[:12]}"
        label = f", labelled '{result.label}'" if result.label else ""
        console().print(f"{plural(len(result.read), 'device')} read: {new}{label}")
        show_device_errors(result.failed, sys.stderr)
        if result.failed:
            sys.stderr.write(
                f"{plural(len(result.failed), 'device')} could not be read; their earlier backups are"
                " unchanged\n"
            )
    if result.unpushed is not None:
        sys.stderr.write(f"warning: the backup could not be pushed to the remote: {result.unpushed}\n")
    return FAILED if result.failed or result.unpushed else DONE


def _list(options: BackupListOptions) -> int:
    archive = Backups(estate_of(options)).archive
    labels: dict[str, list[BackupEntry]] = {}
    for kept in archive.labels():
        labels.setdefault(kept.commit, []).append(kept)
    files = [backup_file(kind, options.device) for kind in (RUNNING, STARTUP)] if options.device else []
    points = archive.history(files)
    rows = [(point, [kept.label or "" for kept in labels.get(point.commit, ())]) for point in points]
    if options.format == "json":
        listed = [{"commit": p.commit, "at": _time(p.at), "why": p.why, "labels": found} for p, found in rows]
        print_json("backups", 1, {"backups": listed})
        return DONE
    out = console()
    if not rows:
        out.print("there are no backups yet")
        return DONE
    listing = table("kept", "at", "why", "labels", whole=("kept", "at"))
    for point, found in rows:
        listing.add_row(
            point.commit[:12], _time(point.at).replace("T", " ")[:16], point.why, ", ".join(found)
        )
    print_table(out, listing)
    return DONE


def _time(seconds: int) -> str:
    return datetime.fromtimestamp(seconds, UTC).isoformat()


def _show(options: BackupShowOptions) -> int:
    estate = estate_of(options)
    backups = Backups(estate)
    device = estate.device(options.device)
    kind = STARTUP if options.startup else RUNNING
    text = backups.texts(backups.archive.point(options.label), [device.name], kind).get(device.name)
    if text is None:
        raise UsageError(f"the backup '{options.label}' has no {kind} configuration of '{device.name}'")
    if options.format == "json":
        print_json("kept", 1, {"device": device.name, "kind": kind, "text": text})
    else:
        console().out(text, end="", highlight=False)
    return DONE


def _diff(options: BackupDiffOptions) -> int:
    found = backup_differences(estate_of(options), options.label, options.other, options.on)
    changed = [one for one in found if one.edits]
    if options.format == "json":
        print_json(
            "backup-diff",
            1,
            {"devices": [{"device": one.name, "edits": edits_document(one.edits)} for one in found]},
        )
        return NO if changed else DONE
    out = console()
    show_differences(found, out)
    out.print(
        f"{plural(len(changed), 'device')} changed, {len(found) - len(changed)} unchanged"
        if changed
        else "no difference"
    )
    return NO if changed else DONE


COMMAND = CommandGroup(
    alone=Subcommand(
        BackupOptions,
        _take,
        examples=(
            ("oast backup --label 'before DNS update'", "back up all devices under a label"),
            ("oast backup list", "list the backups"),
            ("oast backup diff 'before DNS update'", "show what has changed since"),
        ),
        exits=(0, 2, 3, 4),
    ),
    actions={
        "list": Subcommand(BackupListOptions, _list, "list backups"),
        "show": Subcommand(BackupShowOptions, _show, "show a configuration from a backup"),
        "diff": Subcommand(
            BackupDiffOptions, _diff, "compare two backups", exits=(0, 1, 2, 3), no="the backups differ"
        ),
    },
)
