"""The program: finds the command, runs it, and turns errors into words and exit codes.

Only the chosen command's module is imported, so that `oast --help` and every mistake answer at once.
"""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Container, Sequence
from dataclasses import replace

from oast import __version__
from oast.cli.exit_codes import DONE, FAILED, INTERRUPTED, USAGE
from oast.cli.pipes import discard_output

COMMANDS = {
    "write the intent": {
        "new": "write a small, commented estate to start from",
        "devices": "list devices, or accept their host keys",
        "explain": "show where the values of a device come from",
        "lint": "find mistakes in the estate, without connecting to a device",
        "secret": "store secrets in an encrypted file: set, read, rotate, remove, list, age",
        "platform": "describe a network operating system: draft, check and test a platform file",
    },
    "preview a change": {
        "render": "show the intended configuration of devices, without connecting to them",
        "diff": "compare the intended configuration with what devices run",
    },
    "deliver it": {
        "push": "deliver the difference, with an automatic rollback, and verify it",
        "change": "list, show, approve and revert changes; recover interrupted runs",
        "report": "write a change as Markdown for a merge request, or as JUnit XML",
    },
    "verify the network": {
        "verify": "check that the network is in the intended state",
        "ask": "read the state of many devices into one table",
        "drift": "show what changed on devices without Oast, and policies that fail",
    },
    "keep configurations": {
        "backup": "back up configurations in Git; list, show and compare backups",
        "restore": "return devices to a backup, whole or one section",
    },
    "connect to other systems": {
        "source": "update the inventory from an inventory service, and publish facts to it",
        "onboard": "provision new devices automatically: keys, stage, serve, status, forget",
        "watch": "run backups, drift checks and verification on a schedule, and send notifications",
    },
    "try it, and read on": {
        "demo": "watch a complete example on simulated devices",
        "sim": "run simulated devices on loopback",
        "help": "show a page of the documentation",
    },
}


def main(argv: Sequence[str] | None = None) -> int:
    """Run the program with `argv` (default: the process's own) and return its exit code."""
    arguments = list(sys.argv[1:] if argv is None else argv)
    if arguments == ["--version"]:
        sys.stdout.write(f"oast {__version__}\n")
        return DONE
    if not arguments:
        from oast.cli.arguments import FIRST_SCREEN

        sys.stdout.write(FIRST_SCREEN)
        return DONE
    from oast.cli.pipes import PipeSafeStream, handle_signals, ignore_signals, is_interrupt

    if argv is None:
        sys.stdout, sys.stderr = PipeSafeStream(sys.stdout), PipeSafeStream(sys.stderr)
    try:
        with handle_signals(for_good=argv is None):
            return _run(arguments)
    except BrokenPipeError:
        # The reader of the output has closed it.
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
    command, options = parse(arguments, COMMANDS)
    from oast.cli.error_output import show_error, write_crash_report
    from oast.cli.pipes import is_interrupt
    from oast.errors import OastError
    from oast.gc_tuning import gc_relaxed

    try:
        if options.debug or options.debug_file is not None:
            from oast.cli.debug_log import start_debug_log

            start_debug_log(options.debug_file)
            # A progress display and log lines on one terminal would overwrite each other.
            options = replace(options, quiet=options.quiet or options.debug_file is None)
        with gc_relaxed():
            code = command.run(options)
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
        from oast.cli.estate_option import usable_folder

        names = {name for group in COMMANDS.values() for name in group}
        write_crash_report(error, sys.stderr, _without_values(arguments, names), usable_folder(options))
        return FAILED
    return code


def _need_text(arguments: Sequence[str]) -> None:
    """Bytes that are no text could be neither put out nor recorded. Exits with 2."""
    for number, argument in enumerate(arguments, 1):
        try:
            argument.encode()
        except UnicodeEncodeError:
            sys.stderr.write(f"error: word {number} of the command line is not UTF-8 text\n")
            raise SystemExit(USAGE) from None


def _without_values(arguments: Sequence[str], commands: Container[str]) -> list[str]:
    """The words of a command line that can be shown: names of commands and options. A value could hold a
    secret."""
    return [
        word.partition("=")[0] if word.startswith("--") else word if word in commands else "…"
        for word in arguments
    ]


if __name__ == "__main__":
    sys.exit(main())
