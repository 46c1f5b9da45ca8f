"""oast platform: write the definition of a kind of device, see how it reads a listing, and try it on a device
without changing anything."""

from __future__ import annotations

import os
import string
import sys
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from rich.text import Text

from oast.change import rollback_method_of
from oast.change.rollout import new_run_id
from oast.cli.async_runner import run_async as run_to_end
from oast.cli.command import CommandGroup, Subcommand, argument, flag, option, repeated
from oast.cli.estate_option import estate_of, folder_of
from oast.cli.exit_codes import DONE, FAILED, NO
from oast.cli.output import ask_to_confirm, console, plural, print_json, relative_path
from oast.cli.shared_options import EstateOptions, FormatOptions, SelectionOptions, TimeoutOptions
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


@dataclass(frozen=True, kw_only=True)
class PlatformNewOptions(TimeoutOptions, EstateOptions):
    """The options of `oast platform new`."""

    name: str = argument("NAME", help="name of the platform")
    syntax: str | None = option(
        "--syntax",
        choices=[one for one in KNOWN if one != "xml"],
        help="syntax of its configurations (default: indented, or what the configuration looks like)",
    )
    text: Path | None = option(
        "--text", metavar="FILE", type=Path, help="draft the grammar from this running configuration"
    )
    on: str | None = option(
        "--on",
        metavar="SELECTOR",
        help="draft prompts, levels, pager and errors in a session with this one device",
    )
    running: str | None = option(
        "--running", metavar="COMMAND", help="with --on: command that lists the running configuration"
    )
    obtain: str | None = option(
        "--obtain", metavar="COMMAND", help="with --on: command that enters privileged mode"
    )
    enter: str | None = option(
        "--enter", metavar="COMMAND", help="with --on and --leave: command that starts editing"
    )
    leave: str | None = option(
        "--leave", metavar="COMMAND", help="with --on and --enter: command that ends editing"
    )


@dataclass(frozen=True, kw_only=True)
class PlatformCheckOptions(FormatOptions, EstateOptions):
    """The options of `oast platform check`."""

    file: Path = argument("FILE", type=Path, help="platform file")
    text: Path | None = option(
        "--text", metavar="FILE", type=Path, help="running configuration of such a device"
    )
    verbose: bool = flag("-v", "--verbose", help="show how each line is understood")


@dataclass(frozen=True, kw_only=True)
class PlatformTryOptions(SelectionOptions, TimeoutOptions, FormatOptions, EstateOptions):
    """The options of `oast platform try`."""

    name: str = argument("NAME", help="name of the platform")
    rehearse: bool = flag(
        "--rehearse", help="also apply one harmless statement, and prove that the device rolls back"
    )
    statement: Path | None = option(
        "--statement",
        metavar="FILE",
        type=Path,
        help="with --rehearse: statement to apply (default: a description of a shut interface, or a comment)",
    )
    revert_timer: float | None = option(
        "--revert-timer",
        type=float,
        metavar="S",
        help="with --rehearse: revert timer in seconds (default: 30)",
    )
    yes: bool = flag("--yes", help="with --rehearse: do not ask")


@dataclass(frozen=True, kw_only=True)
class FromYangOptions(TimeoutOptions, EstateOptions):
    """The options of `oast platform from-yang`."""

    name: str = argument("NAME", help="name of the platform")
    modules: Path | None = option(
        "--modules", metavar="DIR", type=Path, help="folder with the device's YANG modules"
    )
    module: tuple[str, ...] = repeated(
        "--module", metavar="NAME", help="module of the folder to use (default: all); repeat for more"
    )
    on: str | None = option("--on", metavar="SELECTOR", help="device to download the modules from")


def _new(options: PlatformNewOptions) -> int:
    path = _free(options)
    commands = SessionCommands(options.running, options.obtain, options.enter, options.leave)
    if options.on is None and commands != SessionCommands():
        raise UsageError(
            "--running, --obtain, --enter and --leave need --on",
            hint="name the device: --on name=DEVICE",
        )
    if (commands.enter is None) != (commands.leave is None):
        raise UsageError(
            "--enter and --leave need each other",
            hint=("give both: Oast must end editing before it ends the session"),
        )
    if options.text is not None or options.on is not None:
        return _draft(options, path, commands)
    syntax = options.syntax or "indented"
    text = (STARTER / f"{syntax}.toml").read_text(encoding="utf-8")
    common = (STARTER / "common.toml").read_text(encoding="utf-8")
    write_whole(path, string.Template(common + text).safe_substitute(name=options.name, syntax=syntax))
    sys.stdout.write(
        f"{relative_path(path)} is a platform file to start from; next steps:\n  oast platform check "
        f"{relative_path(path)} --text RUNNING.txt      # a device's running configuration\n  oast"
        f" platform try {options.name} --on name=DEVICE\n"
    )
    return DONE


def _draft(options: PlatformNewOptions, path: Path, commands: SessionCommands) -> int:
    listing = None if options.text is None else _saved(options.text)
    session = None if options.on is None else _drafted_session(options, commands, listing)
    if listing is None and session is not None:
        listing = session.listing
    if listing is None or not listing.strip():
        raise UsageError(
            "there is no running configuration to draft a grammar from",
            hint="give --text FILE, or --running COMMAND with --on",
        )
    draft = draft_platform(
        options.name, listing, Fingerprints(os.urandom(KEY_BYTES)), session, commands, options.syntax
    )
    write_whole(path, draft.text)
    out = console()
    writing, found = draft.writing, draft.understanding
    sign = f"comments with {writing.comment}" if writing.comments else "no comments"
    out.print(Text(f"{relative_path(path)} is a draft; check every line marked 'guess'"))
    out.print(Text(f"  syntax: {writing.syntax}, {plural(writing.indent, 'space')} per level, {sign}"))
    for pattern in writing.ignore:
        out.print(Text(f"  ignored around the configuration: {pattern}"))
    for finding in session.findings if session is not None else ():
        out.print(Text(f"  session: {finding}"))
    known = f"{found.known} of {plural(len(found.lines), 'line')} understood"
    out.print(Text(f"  grammar: {plural(len(draft.statements), 'statement')}; {known}"))
    for one in draft.given_up:
        out.print(
            Text(
                f"  left out: {one.path}, because its lines cannot be read back"
                f" ({plural(len(one.lines), 'line')})"
            )
        )
    sys.stdout.write(
        f"next steps:\n  oast platform check {relative_path(path)} --text {options.text or 'RUNNING.txt'}"
        f" -v\n  oast platform try {options.name} --on {options.on or 'name=DEVICE'}\n"
    )
    return DONE


def _drafted_session(
    options: PlatformNewOptions, commands: SessionCommands, listing: str | None
) -> SessionDraft:
    """What a session with the one device that is picked is like."""
    estate = estate_of(options)
    devices = estate.pick(options.on)
    if len(devices) > 1:
        raise UsageError(
            f"--on selects {plural(len(devices), 'device')}; select one",
            hint=f"--on name={devices[0].name}",
        )
    log = estate.working / "log" / new_run_id() / f"{devices[0].name}.log"
    silence_s = options.timeout or estate.settings.connection.command_timeout_s
    names = possible_names(listing or "")
    connector = Connector(estate, devices, options.timeout)
    return run_to_end(draft_of_device(connector, devices[0], commands, names, log, silence_s))


def _from_yang(options: FromYangOptions) -> int:
    if (options.modules is None) == (options.on is None):
        raise UsageError(
            "the source of the modules is missing",
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
        f"{relative_path(path)} has {plural(made.statements, 'statement')} from "
        f"{plural(len(made.modules), 'module')}\n"
    )
    for left in made.left_out:
        sys.stdout.write(f"  left out: {left}\n")
    sys.stdout.write(f"next steps:\n  oast platform try {options.name} --on name=DEVICE\n")
    return DONE


def _free(options: PlatformNewOptions | FromYangOptions) -> Path:
    """Where the platform's file goes. Raises UsageError."""
    if not NAME.fullmatch(options.name):
        raise UsageError(
            f"'{options.name}' is not a valid platform name", hint="use up to 63 letters, digits, - and _"
        )
    path: Path = folder_of(options) / "platforms" / f"{options.name}.toml"
    if path.exists():
        raise UsageError(
            f"{relative_path(path)} exists already", hint="choose another name, or move the file away"
        )
    return path


def _chosen(texts: Sequence[ModuleText], names: Sequence[str], folder: Path) -> list[ModuleText]:
    known = [one.name for one in texts]
    for name in names:
        if name not in known:
            raise UsageError(f"no module '{name}' in {folder}", hint=spelling_hint(name, known))
    return [one for one in texts if not names or one.name in names]


def _asked_for(options: FromYangOptions, folder: Path) -> list[ModuleText]:
    """The modules of the one device that is picked."""
    estate = estate_of(options)
    devices = estate.pick(options.on)
    if len(devices) > 1:
        raise UsageError(
            f"--on selects {plural(len(devices), 'device')}; select one",
            hint=f"--on name={devices[0].name}",
        )
    log = estate.working / "log" / new_run_id() / f"{devices[0].name}.log"
    return run_to_end(read_yang_modules(Connector(estate, devices, options.timeout), devices[0], folder, log))


def _check(options: PlatformCheckOptions) -> int:
    fingerprints = Fingerprints(os.urandom(KEY_BYTES))
    platform = load_platform(options.file, fingerprints, str(relative_path(options.file)))
    found = None if options.text is None else _read(options.text, platform)
    if options.format == "json":
        print_json(
            "platform",
            2,
            {"platform": _document(platform), "listing": None if found is None else _listing(found)},
        )
    else:
        _show_platform(platform)
        if found is not None and options.text is not None:
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
        raise UsageError(f"cannot read {path}: {error.strerror}") from None
    if len(data) > LONGEST:
        raise UsageError(f"{path} is longer than {LONGEST} bytes, too long for a configuration")
    if not text.strip():
        raise UsageError(f"{path} is empty", hint="save the device's running configuration in it")
    return text


def _document(platform: Platform) -> dict[str, object]:
    return {
        "name": platform.name,
        "syntax": platform.syntax,
        "transport": platform.transport,
        "statements": _statements(platform),
        "levels": list(platform.dialect.prompts),
        "privileged": sorted(platform.dialect.privileged),
        "rollback_method": rollback_method_of(platform).name,
        "readings": list(platform.readings),
        "roles": dict(platform.roles),
    }


def _statements(platform: Platform) -> int:
    return sum(1 for rule in platform.grammar.rules() if rule.known and not rule.structural and rule.path)


def _show_platform(platform: Platform) -> None:
    out = console()
    number = _statements(platform)
    knows = plural(number, "statement") if number else "no grammar: lines are compared by their words"
    out.print(Text.assemble((platform.name, "bold"), f": {platform.syntax}, {knows}"))
    if platform.netconf is not None:
        out.print(f"over NETCONF; reads: {', '.join(platform.netconf.read)}")
    elif platform.dialect.one_shot:
        out.print("each command runs separately, without a shell session")
    else:
        out.print(f"levels: {', '.join(platform.dialect.prompts)}; privileged: {_privileged(platform)}")
    is_netconf = platform.netconf is not None
    method = "by the capabilities in its hello" if is_netconf else rollback_method_of(platform).name
    out.print(f"rollback: {method}")
    out.print(
        f"readings: {', '.join(platform.readings) or 'none'}; roles: {', '.join(platform.roles) or 'none'}"
    )


def _privileged(platform: Platform) -> str:
    return ", ".join(sorted(platform.dialect.privileged))


def _show_listing(options: PlatformCheckOptions, found: ParseReport, path: Path) -> None:
    out = console()
    wrong = {problem.line for problem in found.problems}
    total, not_known = len(found.lines), sum(not line.known for line in found.lines)
    out.print()
    out.print(
        f"{relative_path(path)}: {plural(total, 'line')} with statements: {total - not_known} understood,"
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
            out.print(Text(f"    hint: {problem.hint}", style="green"))
    if len(found.problems) > SHOWN:
        out.print(f"and {len(found.problems) - SHOWN} more (--format json lists all)")
    for lost in found.lost[:SHOWN]:
        out.print(Text(f"not the same after printing and reading it again: {lost}", style="red"))
    if not found.lost and not found.different:
        out.print("printing it gives the same text, byte for byte")
    elif not found.lost:
        out.print(
            f"printing it gives the same configuration; {plural(found.different, 'line')} would be"
            " written differently"
        )


def _listing(found: ParseReport) -> dict[str, object]:
    lines = [
        {"line": one.number, "statements": list(one.statements), "known": one.known} for one in found.lines
    ]
    problems = [{"line": p.line, "message": p.message, "hint": p.hint} for p in found.problems]
    return {"lines": lines, "problems": problems, "lost": list(found.lost)}


def _try(options: PlatformTryOptions) -> int:
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
        out.print(f"\n{plural(len(every), 'step')}, {len(failed)} failed; transcripts: {relative_path(logs)}")
        if left:
            out.print(
                f"not tried, because it would change the device: {', '.join(left)}; --rehearse tries it"
            )
    return FAILED if failed else DONE


def _rehearsal(options: PlatformTryOptions, names: Sequence[str]) -> Rehearsal | None:
    """What is to be rehearsed, once that was agreed to. Raises UsageError."""
    if not options.rehearse:
        for name in ("statement", "revert_timer", "yes"):
            if getattr(options, name):
                raise UsageError(f"--{name.replace('_', '-')} needs --rehearse")
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
    what = "this statement" if text is not None else "a description of a shut interface, or a comment"
    if not options.yes and not ask_to_confirm(
        f"Apply {what} to {', '.join(names)} twice, and let the device roll it back?"
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


COMMAND = CommandGroup(
    {
        "new": Subcommand(
            PlatformNewOptions,
            _new,
            "write a platform file to start from, or draft one from a configuration and a session",
            (
                ("oast platform new vega --text running.txt", "draft the grammar from a configuration"),
                ("oast platform new vega --on name=pier-1 --running 'show all'", "draft it in a session"),
            ),
            exits=(0, 2, 3, 4),
        ),
        "check": Subcommand(
            PlatformCheckOptions,
            _check,
            "check a platform file, and how it reads a saved configuration",
            (
                (
                    "oast platform check platforms/vega.toml --text running.txt",
                    "show lines that are not understood",
                ),
            ),
            exits=(0, 1, 2, 3),
            no="a line is not understood",
        ),
        "try": Subcommand(
            PlatformTryOptions,
            _try,
            "test a platform on devices: prompts, levels, listings, readings; changes nothing",
            (
                ("oast platform try vega --on name=pier-1", "test it on one device"),
                (
                    "oast platform try vega --on name=pier-1 --rehearse",
                    "also prove that the device rolls back",
                ),
            ),
            exits=(0, 1, 2, 3, 4),
            no="a step failed, or the rehearsal was declined",
        ),
        "from-yang": Subcommand(
            FromYangOptions,
            _from_yang,
            "generate a NETCONF platform from YANG modules, from a folder or a device",
            (("oast platform from-yang vega --modules yang", "generate it from a folder"),),
            exits=(0, 2, 3, 4),
        ),
    }
)
