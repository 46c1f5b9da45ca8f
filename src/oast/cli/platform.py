"""oast platform: write the definition of a kind of device, see how it reads a listing, and try it on a device
without changing anything."""

from __future__ import annotations

import argparse
import os
import string
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rich.text import Text

from oast.change import rollback_method_of
from oast.change.rollout import new_run_id
from oast.cli import arguments
from oast.cli.async_runner import run_async as run_to_end
from oast.cli.estate_option import estate_of, folder_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import ask_to_confirm, console, plural, print_json, relative_path
from oast.cli.terminal import print_hanging
from oast.config import syntax_of
from oast.connect import Connector, SessionCommands, SessionDraft
from oast.errors import UsageError
from oast.estate import fingerprints_of
from oast.files import write_whole
from oast.operations import (
    ParseReport,
    ProbeStep,
    Rehearsal,
    draft_of_device,
    draft_platform,
    not_probed,
    parse_report,
    possible_names,
    probe_platform,
    read_yang_modules,
    rehearse,
)
from oast.platforms import (
    NAME,
    SYNTAXES as KNOWN,
    ModuleText,
    Platform,
    Platforms,
    load_platform,
    platform_of,
    texts_in,
)
from oast.records import Fingerprints
from oast.spelling import spelling_hint

STARTER = Path(__file__).parent / "platform_starter"
KEY_BYTES = 32
SHOWN = 20
LONGEST = 64_000_000


def add_arguments(parser: argparse.ArgumentParser) -> None:
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    for add in (_add_new, _add_check, _add_try, _add_from_yang):
        add(actions)


def _add_new(actions: Any) -> None:
    new = actions.add_parser(
        "new", help="write a platform file to begin with, or draft it from a listing and a session"
    )
    new.add_argument("name")
    new.add_argument(
        "--syntax",
        choices=[one for one in KNOWN if one != "xml"],
        help="how a configuration is written (default: indented, or as the listing looks)",
    )
    new.add_argument(
        "--text", metavar="RUNNING", type=Path, help="draft the grammar from this file: what a device listed"
    )
    new.add_argument(
        "--on",
        metavar="SELECTOR",
        help="draft prompts, levels, pager and errors in a session with this one device",
    )
    new.add_argument("--running", metavar="COMMAND", help="with --on: the command that lists what runs")
    new.add_argument(
        "--obtain",
        metavar="COMMAND",
        help="with --on: the command that obtains the right to change the device",
    )
    new.add_argument(
        "--enter", metavar="COMMAND", help="with --on and --leave: the command that begins editing"
    )
    new.add_argument(
        "--leave", metavar="COMMAND", help="with --on and --enter: the command that ends editing"
    )
    new.add_argument(
        "--timeout",
        metavar="S",
        type=arguments.seconds,
        help="seconds to wait for the device (default: from oast.toml)",
    )
    arguments.add_estate(new)
    new.set_defaults(run=_new)


def _add_check(actions: Any) -> None:
    check = actions.add_parser(
        "check",
        help=(
            "look at a platform's file, and at how it reads a saved listing; exit 1 if not all is understood"
        ),
    )
    check.add_argument("file", metavar="FILE", type=Path)
    check.add_argument("--text", metavar="RUNNING", type=Path, help="what a device listed")
    check.add_argument("-v", "--verbose", action="store_true", help="show how each line was understood")
    arguments.add_format(check)
    arguments.add_estate(check)
    check.set_defaults(run=_check)


def _add_try(actions: Any) -> None:
    attempt = actions.add_parser(
        "try", help="try a platform on devices: prompts, levels, listings, readings; changes nothing"
    )
    attempt.add_argument("name")
    attempt.add_argument(
        "--rehearse",
        action="store_true",
        help="also apply one harmless statement, and prove that the device rolls back",
    )
    attempt.add_argument(
        "--statement",
        metavar="FILE",
        type=Path,
        help="with --rehearse: this, not a description of a shut interface or a comment",
    )
    attempt.add_argument(
        "--revert-timer", type=float, metavar="S", help="with --rehearse: the timer, in seconds (default: 30)"
    )
    attempt.add_argument("--yes", action="store_true", help="with --rehearse: do not ask")
    arguments.add_selection(attempt)
    attempt.add_argument(
        "--timeout",
        metavar="S",
        type=arguments.seconds,
        help="seconds to wait for a device's answer (default: from oast.toml)",
    )
    arguments.add_format(attempt)
    arguments.add_estate(attempt)
    attempt.set_defaults(run=_try)


def _add_from_yang(actions: Any) -> None:
    made = actions.add_parser(
        "from-yang",
        help="make a NETCONF platform's file of YANG modules, from a folder or as a device gives them",
    )
    made.add_argument("name")
    made.add_argument(
        "--modules", metavar="DIR", type=Path, help="a folder with the modules that the devices implement"
    )
    made.add_argument(
        "--module",
        metavar="NAME",
        action="append",
        default=[],
        help="of these in the folder only; can be given again",
    )
    made.add_argument("--on", metavar="SELECTOR", help="the device to ask for its modules")
    made.add_argument(
        "--timeout", metavar="S", type=arguments.seconds, help="seconds to wait for the device's answer"
    )
    arguments.add_estate(made)
    made.set_defaults(run=_from_yang)


def _new(options: argparse.Namespace) -> int:
    path = _free(options)
    commands = SessionCommands(options.running, options.obtain, options.enter, options.leave)
    if options.on is None and commands != SessionCommands():
        raise UsageError(
            "--running, --obtain, --enter and --leave are for a session",
            hint="name the device: --on name=DEVICE",
        )
    if (commands.enter is None) != (commands.leave is None):
        raise UsageError(
            "--enter and --leave go together", hint="Oast ends editing again before it ends the session"
        )
    if options.text is not None or options.on is not None:
        return _draft(options, path, commands)
    syntax = options.syntax or "indented"
    text = (STARTER / f"{syntax}.toml").read_text(encoding="utf-8")
    common = (STARTER / "common.toml").read_text(encoding="utf-8")
    write_whole(path, string.Template(common + text).safe_substitute(name=options.name, syntax=syntax))
    sys.stdout.write(
        f"{relative_path(path)} holds a platform to begin with; go on with:\n"
        f"  oast platform check {relative_path(path)} --text RUNNING.txt      # what a device listed\n"
        f"  oast platform try {options.name} --on name=DEVICE\n"
    )
    return DONE


def _draft(options: argparse.Namespace, path: Path, commands: SessionCommands) -> int:
    listing = None if options.text is None else _saved(options.text)
    session = None if options.on is None else _drafted_session(options, commands, listing)
    if listing is None and session is not None:
        listing = session.listing
    if listing is None or not listing.strip():
        raise UsageError(
            "there is no listing to draft a grammar from",
            hint="give --text FILE, or --running COMMAND with --on",
        )
    draft = draft_platform(
        options.name, listing, Fingerprints(os.urandom(KEY_BYTES)), session, commands, options.syntax
    )
    write_whole(path, draft.text)
    out = console()
    writing, found = draft.writing, draft.understanding
    sign = f"comments with {writing.comment}" if writing.comments else "no comments"
    out.print(Text(f"{relative_path(path)}: a draft; check every line that says 'guess'"))
    out.print(Text(f"  writing: {writing.syntax}, {plural(writing.indent, 'space')} a level, {sign}"))
    for pattern in writing.ignore:
        out.print(Text(f"  frames the listing: {pattern}"))
    for finding in session.findings if session is not None else ():
        out.print(Text(f"  session: {finding}"))
    known = f"{found.known} of {plural(len(found.lines), 'line')} understood"
    out.print(Text(f"  grammar: {plural(len(draft.statements), 'statement')}; {known}"))
    for one in draft.given_up:
        out.print(
            Text(
                f"  not in it: {one.path}, as it did not read its own lines back"
                f" ({plural(len(one.lines), 'line')})"
            )
        )
    sys.stdout.write(
        f"go on with:\n  oast platform check {relative_path(path)} --text {options.text or 'RUNNING.txt'}"
        f" -v\n  oast platform try {options.name} --on {options.on or 'name=DEVICE'}\n"
    )
    return DONE


def _drafted_session(
    options: argparse.Namespace, commands: SessionCommands, listing: str | None
) -> SessionDraft:
    """What a session with the one device that is picked is like."""
    estate = estate_of(options)
    devices = estate.pick(options.on)
    if len(devices) > 1:
        raise UsageError(
            f"{plural(len(devices), 'device')} are picked, and one is asked",
            hint=f"--on name={devices[0].name}",
        )
    log = estate.working / "log" / new_run_id() / f"{devices[0].name}.log"
    silence_s = options.timeout or estate.settings.connection.command_timeout_s
    names = possible_names(listing or "")
    connector = Connector(estate, devices, options.timeout)
    return run_to_end(draft_of_device(connector, devices[0], commands, names, log, silence_s))


def _from_yang(options: argparse.Namespace) -> int:
    if (options.modules is None) == (options.on is None):
        raise UsageError(
            "say where the modules are",
            hint="--modules DIR for a folder, or --on name=DEVICE for a device to ask",
        )
    path = _free(options)
    with tempfile.TemporaryDirectory(prefix="oast-yang-") as folder:
        if options.modules is not None:
            texts, folders = (
                _chosen(texts_in(options.modules), options.module, options.modules),
                (options.modules,),
            )
        else:
            texts, folders = _asked_for(options, Path(folder)), (Path(folder),)
        made = platform_of(options.name, texts, folders)
    write_whole(path, made.text)
    sys.stdout.write(
        f"{relative_path(path)} holds {plural(made.statements, 'statement')} of"
        f" {plural(len(made.modules), 'module')}\n"
    )
    for left in made.left_out:
        sys.stdout.write(f"  not in it: {left}\n")
    sys.stdout.write(f"go on with:\n  oast platform try {options.name} --on name=DEVICE\n")
    return DONE


def _free(options: argparse.Namespace) -> Path:
    """Where the platform's file goes. Raises UsageError."""
    if not NAME.fullmatch(options.name):
        raise UsageError(
            f"'{options.name}' cannot be a platform's name", hint="use up to 63 letters, digits, - and _"
        )
    path: Path = folder_of(options) / "platforms" / f"{options.name}.toml"
    if path.exists():
        raise UsageError(
            f"{relative_path(path)} is there already", hint="name another platform, or move the file away"
        )
    return path


def _chosen(texts: Sequence[ModuleText], names: Sequence[str], folder: Path) -> list[ModuleText]:
    known = [one.name for one in texts]
    for name in names:
        if name not in known:
            raise UsageError(f"there is no module '{name}' in {folder}", hint=spelling_hint(name, known))
    return [one for one in texts if not names or one.name in names]


def _asked_for(options: argparse.Namespace, folder: Path) -> list[ModuleText]:
    """The modules of the one device that is picked."""
    estate = estate_of(options)
    devices = estate.pick(options.on)
    if len(devices) > 1:
        raise UsageError(
            f"{plural(len(devices), 'device')} are picked, and one is asked",
            hint=f"--on name={devices[0].name}",
        )
    log = estate.working / "log" / new_run_id() / f"{devices[0].name}.log"
    return run_to_end(read_yang_modules(Connector(estate, devices, options.timeout), devices[0], folder, log))


def _check(options: argparse.Namespace) -> int:
    fingerprints = Fingerprints(os.urandom(KEY_BYTES))
    platform = load_platform(options.file, fingerprints, str(relative_path(options.file)))
    found = None if options.text is None else _read(options.text, platform)
    if options.format == "json":
        print_json(
            "platform",
            1,
            {"platform": _document(platform), "listing": None if found is None else _listing(found)},
        )
    else:
        _show_platform(platform)
        if found is not None:
            _show_listing(options, found, options.text)
    return NO if found is not None and (found.problems or found.lost) else DONE


def _read(path: Path, platform: Platform) -> ParseReport:
    return parse_report(syntax_of(platform), _saved(path))


def _saved(path: Path) -> str:
    """What a device listed. Raises UsageError."""
    try:
        with path.open("rb") as file:
            data = file.read(LONGEST + 1)
        text = data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise UsageError(f"{path} is not UTF-8 text (byte {error.start})") from None
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}") from None
    if len(data) > LONGEST:
        raise UsageError(f"{path} is longer than {LONGEST} bytes: that is no device's configuration")
    if not text.strip():
        raise UsageError(f"{path} is empty", hint="save into it what the device lists as its configuration")
    return text


def _document(platform: Platform) -> dict[str, object]:
    return {
        "name": platform.name,
        "syntax": platform.syntax,
        "transport": platform.transport,
        "statements": _statements(platform),
        "levels": list(platform.dialect.prompts),
        "privileged": sorted(platform.dialect.privileged),
        "way_back": rollback_method_of(platform).name,
        "readings": list(platform.readings),
        "roles": dict(platform.roles),
    }


def _statements(platform: Platform) -> int:
    return sum(1 for rule in platform.grammar.rules() if rule.known and not rule.structural and rule.path)


def _show_platform(platform: Platform) -> None:
    out = console()
    number = _statements(platform)
    knows = plural(number, "statement") if number else "no grammar: every line is known by its words alone"
    out.print(Text.assemble((platform.name, "bold"), f": {platform.syntax}, {knows}"))
    if platform.netconf is not None:
        out.print(f"over NETCONF; read are: {', '.join(platform.netconf.read)}")
    elif platform.dialect.one_shot:
        out.print("commands are run by themselves, without a session")
    else:
        out.print(
            f"levels: {', '.join(platform.dialect.prompts)}; the device may be changed at:"
            f" {_privileged(platform)}"
        )
    out.print(
        "way back:"
        f" {'what its hello offers' if platform.netconf is not None else rollback_method_of(platform).name}"
    )
    out.print(
        f"readings: {', '.join(platform.readings) or 'none'}; roles: {', '.join(platform.roles) or 'none'}"
    )


def _privileged(platform: Platform) -> str:
    return ", ".join(sorted(platform.dialect.privileged))


def _show_listing(options: argparse.Namespace, found: ParseReport, path: Path) -> None:
    out = console()
    wrong = {problem.line for problem in found.problems}
    total, not_known = len(found.lines), sum(not line.known for line in found.lines)
    out.print()
    out.print(
        f"{relative_path(path)}: {plural(total, 'line')} with a statement, {total - not_known} understood,"
        f" {not_known} not"
    )
    if options.verbose:
        for line in found.lines:
            style = "" if line.known and line.number not in wrong else "red"
            print_hanging(out, Text(f"{line.number:>5}  {' / '.join(line.statements)}", style=style))
    for problem in found.problems[:SHOWN]:
        print_hanging(
            out, Text.assemble((f"{relative_path(path)}:{problem.line}: ", "cyan"), (problem.message, "bold"))
        )
        if problem.hint:
            out.print(Text(f"    {problem.hint}", style="green"))
    if len(found.problems) > SHOWN:
        out.print(f"and {len(found.problems) - SHOWN} more; --format json has all")
    for lost in found.lost[:SHOWN]:
        out.print(Text(f"printed and read again, this is not the same: {lost}", style="red"))
    if not found.lost and not found.different:
        out.print("printed, it is the same text, byte for byte")
    elif not found.lost:
        out.print(
            f"printed and read again, it means the same; {plural(found.different, 'line')} would be printed"
            " in other words"
        )


def _listing(found: ParseReport) -> dict[str, object]:
    lines = [
        {"line": one.number, "statements": list(one.statements), "known": one.known} for one in found.lines
    ]
    problems = [{"line": p.line, "message": p.message, "hint": p.hint} for p in found.problems]
    return {"lines": lines, "problems": problems, "lost": list(found.lost)}


def _try(options: argparse.Namespace) -> int:
    estate = estate_of(options)
    devices = estate.pick(options.on)
    platform = Platforms(estate.folder, fingerprints_of(estate.working, estate.environment)).get(options.name)
    connector = Connector(estate, devices, options.timeout)
    syntax, logs, out = syntax_of(platform), estate.working / "log" / new_run_id(), console()
    every: list[tuple[str, ProbeStep]] = []
    rehearsal = _rehearsal(options, [device.name for device in devices])
    left = [] if rehearsal is not None else not_probed(platform)

    async def go() -> None:
        for device in devices:
            if options.format == "text":
                out.print(Text(device.name, style="bold"))
            async for step in probe_platform(
                connector, device, platform, syntax, logs / f"{device.name}.log"
            ):
                every.append((device.name, step))
                if options.format == "text":
                    _show_step(step)
            if rehearsal is not None and all(step.passed for name, step in every if name == device.name):
                async for step in rehearse(
                    connector,
                    device,
                    platform,
                    syntax,
                    rehearsal,
                    estate.working,
                    logs / f"{device.name}.rehearsal.log",
                ):
                    every.append((device.name, step))
                    if options.format == "text":
                        _show_step(step)

    run_to_end(go())
    failed = [step for _, step in every if not step.passed]
    if options.format == "json":
        steps = [
            {"device": name, "what": s.what, "passed": s.passed, "saw": s.saw, "hint": s.hint}
            for name, s in every
        ]
        print_json(
            "trial", 1, {"platform": platform.name, "steps": steps, "untried": left, "logs": str(logs)}
        )
    else:
        out.print(
            f"\n{plural(len(every), 'step')}, {len(failed)} not as the platform says; the sessions:"
            f" {relative_path(logs)}"
        )
        if left:
            out.print(f"not tried, as it would change something: {', '.join(left)}; --rehearse tries it")
    return FAILED if failed else DONE


def _rehearsal(options: argparse.Namespace, names: Sequence[str]) -> Rehearsal | None:
    """What is to be rehearsed, once that was agreed to. Raises UsageError."""
    if not options.rehearse:
        for name in ("statement", "revert_timer", "yes"):
            if getattr(options, name):
                raise UsageError(f"--{name.replace('_', '-')} goes with --rehearse")
        return None
    text = None
    if options.statement is not None:
        try:
            text = options.statement.read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise UsageError(
                f"{options.statement} cannot be read:"
                f" {getattr(error, 'strerror', None) or 'it is not UTF-8 text'}"
            ) from None
    what = (
        "this statement" if text is not None else "a description of an interface that is shut, or a comment"
    )
    if not options.yes and not ask_to_confirm(
        f"Apply {what} to {', '.join(names)}, twice, and have it rolled back?"
    ):
        raise UsageError("nothing was rehearsed")
    return Rehearsal(text, options.revert_timer or 30.0)


def _show_step(step: ProbeStep) -> None:
    out = console()
    print_hanging(
        out,
        Text.assemble(
            ("  yes  " if step.passed else "  no   ", "green" if step.passed else "red"),
            f"{step.what}: {step.saw}",
        ),
    )
    if step.hint and not step.passed:
        out.print(Text(f"       {step.hint}", style="green"))
