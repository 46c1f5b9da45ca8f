"""The program: finds the command, runs it, and turns errors into words and exit codes.

Only the chosen command's module is imported, so that `oast --help` and every mistake answer at once.
"""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Iterable, Sequence

from oast import __version__
from oast.cli.exit_codes import DONE, FAILED, INTERRUPTED, USAGE
from oast.cli.pipes import discard_output

COMMANDS = {
    "demo": "watch a full worked example against simulated devices",
    "devices": "list the devices picked, or trust their host keys",
    "new": "make a small, commented estate to begin with",
    "lint": "find every mistake that can be found without a device",
    "explain": "show where a device's values come from",
    "render": "show the intended configuration of devices; touches none",
    "diff": "compare the intended configuration with what devices run",
    "push": "deliver the difference, with a way back that works by itself",
    "backup": "keep what devices run, in Git; list, compare and show what was kept",
    "restore": "bring devices back to what was kept, whole or one section",
    "change": "look at changes, and leave what a run that died has begun in order",
    "report": "a change as Markdown for a merge request, or as JUnit XML",
    "ask": "read what devices say of their state: one table of many devices",
    "verify": "check that the network is in the intended state",
    "drift": "show what changed on devices that nobody delivered, and policies that fail",
    "source": (
        "take devices from an inventory that is kept elsewhere, and tell it what is known: list, refresh,"
        " publish"
    ),
    "onboard": "new devices find their way: keys, stage, serve, status",
    "watch": "back up, look for drift and check on a schedule, and tell others what is new",
    "platform": "describe a kind of device: begin a file, check it against a listing, try it on a device",
    "secret": "keep secrets in an encrypted file: set, rotate, remove, list, age",
    "sim": "run simulated devices on loopback",
}


def main(argv: Sequence[str] | None = None) -> int:
    """Run the program with `argv` (default: the process's own) and return its exit code."""
    arguments = list(sys.argv[1:] if argv is None else argv)
    if arguments == ["--version"]:
        sys.stdout.write(f"oast {__version__}\n")
        return DONE
    from oast.cli.pipes import PipeSafeStream, handle_signals, ignore_signals, is_interrupt

    if argv is None:
        sys.stdout, sys.stderr = PipeSafeStream(sys.stdout), PipeSafeStream(sys.stderr)
    try:
        with handle_signals(for_good=argv is None):
            return _run(arguments)
    except BrokenPipeError:
        # Whoever read our output has seen enough.
        discard_output()
        return DONE
    except (KeyboardInterrupt, Exception) as error:
        if not is_interrupt(error):
            raise
        if argv is None:
            # Told once more while it ends, it ends all the same with its own exit code.
            ignore_signals()
        with contextlib.suppress(OSError):
            sys.stderr.write("interrupted\n")
        return INTERRUPTED


def _run(arguments: list[str]) -> int:
    from oast.cli.arguments import parse

    _need_text(arguments)
    options = parse(arguments, COMMANDS)
    from oast.cli.error_output import show_error, write_crash_report
    from oast.cli.pipes import is_interrupt
    from oast.errors import OastError
    from oast.gc_tuning import gc_relaxed

    try:
        if getattr(options, "debug", False) or getattr(options, "debug_file", None) is not None:
            from oast.cli.debug_log import start_debug_log

            start_debug_log(options.debug_file)
            # A progress display and log lines on one terminal would overwrite each other.
            options.quiet = options.quiet or options.debug_file is None
        with gc_relaxed():
            code: int = options.run(options)
        sys.stdout.flush()
    except OastError as error:
        return show_error(error, sys.stderr)
    except (KeyboardInterrupt, BrokenPipeError):
        raise
    except OSError as error:
        with contextlib.suppress(OSError):
            sys.stderr.write(f"{error.filename or 'a file'}: {error.strerror or error}\n")
        return FAILED
    except Exception as error:
        if is_interrupt(error):
            raise
        write_crash_report(
            error, sys.stderr, _without_values(arguments, COMMANDS), getattr(options, "folder", None)
        )
        return FAILED
    return code


def _need_text(arguments: Sequence[str]) -> None:
    """Bytes that are no text could be neither put out nor recorded. Exits with 2."""
    for number, argument in enumerate(arguments, 1):
        try:
            argument.encode()
        except UnicodeEncodeError:
            sys.stderr.write(f"oast: the {number}. word of the command line is not UTF-8 text\n")
            raise SystemExit(USAGE) from None


def _without_values(arguments: Sequence[str], commands: Iterable[str]) -> list[str]:
    """The words of a command line that can be shown: names of commands and options. A value could hold a
    secret."""
    return [
        word.partition("=")[0] if word.startswith("--") else word if word in commands else "…"
        for word in arguments
    ]


if __name__ == "__main__":
    sys.exit(main())
