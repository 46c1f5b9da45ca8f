"""oast backup: what devices run, kept in Git; what was kept, listed, compared and shown."""

from __future__ import annotations

import argparse
import sys
from datetime import UTC, datetime

from oast.archive import RUNNING, STARTUP, BackupEntry, Backups, backup_file
from oast.cli import arguments
from oast.cli.async_runner import run_async as run_to_end
from oast.cli.diff_view import show_differences
from oast.cli.error_output import show_device_errors
from oast.cli.estate_option import estate_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import console, plural, print_json, print_table, table
from oast.cli.progress import Progress
from oast.config import edits_document
from oast.errors import UsageError
from oast.operations import backup, backup_differences


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.set_defaults(run=_take)
    parser.add_argument(
        "--label", metavar="WORDS", help="a name for this point in time, such as 'before DNS update'"
    )
    parser.add_argument("-m", "--reason", metavar="REASON", help="why it is made")
    parser.add_argument("--startup", action="store_true", help="also what the devices start with")
    arguments.add_selection(parser)
    arguments.add_connection(parser)
    arguments.add_format(parser)
    arguments.add_estate(parser)
    actions = parser.add_subparsers(dest="action", metavar="ACTION")
    listing = arguments.add_action(actions, "list", "the points in time that were kept", _list)
    listing.add_argument("--device", metavar="NAME", help="only those in which this device was not as before")
    show = arguments.add_action(actions, "show", "what was kept of a device", _show)
    show.add_argument("label", metavar="LABEL", help="a label, or a commit")
    show.add_argument("device", metavar="DEVICE")
    show.add_argument("--startup", action="store_true", help="what it would have started with")
    compare = arguments.add_action(actions, "diff", "what is different between two points in time", _diff)
    compare.add_argument("label", metavar="LABEL", help="a label, or a commit")
    compare.add_argument("other", metavar="LABEL", nargs="?", help="default: what was kept last")
    arguments.add_selection(compare)


def _take(options: argparse.Namespace) -> int:
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
        new = "nothing is new" if result.commit is None else f"kept as {result.commit[:12]}"
        label = f", labelled '{result.label}'" if result.label else ""
        console().print(f"{plural(len(result.read), 'device')} read: {new}{label}")
        show_device_errors(result.failed, sys.stderr)
        if result.failed:
            sys.stderr.write(
                f"{plural(len(result.failed), 'device')} could not be read: what was kept of them before"
                " stays\n"
            )
    if result.unpushed is not None:
        sys.stderr.write(f"it could not be sent to the remote: {result.unpushed}\n")
    return FAILED if result.failed or result.unpushed else DONE


def _list(options: argparse.Namespace) -> int:
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
        out.print("nothing was kept yet")
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


def _show(options: argparse.Namespace) -> int:
    estate = estate_of(options)
    backups = Backups(estate)
    device = estate.device(options.device)
    kind = STARTUP if options.startup else RUNNING
    text = backups.texts(backups.archive.point(options.label), [device.name], kind).get(device.name)
    if text is None:
        raise UsageError(
            f"nothing was kept of the {kind} configuration of '{device.name}' under '{options.label}'"
        )
    if options.format == "json":
        print_json("kept", 1, {"device": device.name, "kind": kind, "text": text})
    else:
        console().out(text, end="", highlight=False)
    return DONE


def _diff(options: argparse.Namespace) -> int:
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
        f"{plural(len(changed), 'device')} different, {len(found) - len(changed)} equal"
        if changed
        else "no difference"
    )
    return NO if changed else DONE
