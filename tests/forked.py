"""The program in a process of its own without starting an interpreter: a fork of this one, which has imported already what takes longest.

`Process` and `run` are `subprocess.Popen` and `subprocess.run` for commands that begin with `OAST`; pipes, signals, sessions and exit codes
are those of a real process. What only a fresh interpreter can show is tested with `subprocess` itself.
"""

from __future__ import annotations

import io
import os
import signal
import subprocess
import sys
import traceback
import warnings
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, NoReturn

import oast.cli.main  # noqa: F401  # what every process would import
from oast.cli.start import program

OAST = (sys.executable, "-m", "oast")


class Process(subprocess.Popen):  # type: ignore[type-arg]
    """The program with the arguments behind `OAST`."""

    def _execute_child(
        self,
        args: Any,
        executable: Any,
        preexec_fn: Any,
        close_fds: Any,
        pass_fds: Any,
        cwd: Any,
        env: Any,
        *more: Any,
    ) -> None:
        # startupinfo, creationflags, shell; the pipes; restore_signals, gid, gids, uid, umask, start_new_session
        pipes, is_new_session = more[3:9], more[14]
        arguments = list(args)
        if tuple(arguments[:3]) != OAST:
            raise ValueError(f"only the program itself can be forked, and not {arguments[0]}")
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
        self.pid = os.fork()
        if not self.pid:
            _child(
                arguments[3:],
                (pipes[0], pipes[3], pipes[5]),
                cwd,
                env,
                preexec_fn,
                is_new_session=is_new_session,
            )
        self._child_created = True
        self._close_pipe_fds(*pipes)  # type: ignore[attr-defined]


def run(
    command: Sequence[str], *, data: Any = None, timeout: float | None = None, **options: Any
) -> subprocess.CompletedProcess[Any]:
    """Run the program to its end; `data` is what it reads. Without other options its output is captured as text."""
    options = {"text": True, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE, **options}
    options["stdin"] = subprocess.PIPE if data is not None else subprocess.DEVNULL
    with Process(list(command), **options) as process:
        try:
            out, err = process.communicate(data, timeout=timeout)
        except BaseException:
            process.kill()
            raise
    return subprocess.CompletedProcess(command, process.returncode, out, err)


def _child(
    arguments: Sequence[str],
    pipes: Sequence[int],
    cwd: Any,
    env: Mapping[str, str] | None,
    preexec: Any,
    *,
    is_new_session: bool,
) -> NoReturn:
    code = 1
    try:
        _become(pipes, cwd, env, is_new_session=is_new_session)
        if preexec is not None:
            preexec()
        sys.argv = ["oast", *arguments]
        try:
            program()
        except SystemExit as end:
            code = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
        _flush()
    except KeyboardInterrupt:
        traceback.print_exc()
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        os.kill(os.getpid(), signal.SIGINT)
    except BaseException:
        traceback.print_exc()
        code = 1
    finally:
        os._exit(code)


def become_program(
    arguments: Sequence[str], pipes: Sequence[int], cwd: str, env: Mapping[str, str]
) -> NoReturn:
    """Be the program from here on, with the three `pipes` for its standard input and outputs."""
    _child(arguments, pipes, cwd, env, None, is_new_session=False)


def _become(pipes: Sequence[int], cwd: Any, env: Mapping[str, str] | None, *, is_new_session: bool) -> None:
    """What a new process has: its own files, environment, folder and signals, and nothing of the one it was."""
    if is_new_session:
        os.setsid()
    signal.set_wakeup_fd(-1)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    nothing = os.open(os.devnull, os.O_RDWR)
    wanted = [os.dup(pipe) if pipe >= 0 else -1 for pipe in pipes]
    for number, own in enumerate(wanted):
        if own >= 0:
            os.dup2(own, number)
    # Closed in place: a number that was used again would be closed by what has had it before.
    for number in (int(one.name) for one in Path("/proc/self/fd").iterdir()):
        if number > 2 and number != nothing:
            try:
                os.dup2(nothing, number)
            except OSError:
                pass  # That of the listing itself.
    if cwd is not None:
        os.chdir(cwd)
    if env is not None:
        os.environ.clear()
        os.environ.update(env)
    sys.unraisablehook = sys.__unraisablehook__
    warnings.resetwarnings()
    warnings.simplefilter("ignore")
    sys.stdin = io.TextIOWrapper(open(0, "rb", closefd=False), encoding="utf-8")  # noqa: SIM115
    sys.stdout = _writer(1)
    sys.stderr = _writer(2, errors="backslashreplace")


def _writer(number: int, errors: str = "strict") -> io.TextIOWrapper:
    is_terminal = os.isatty(number)
    raw = open(number, "wb", closefd=False)  # noqa: SIM115
    return io.TextIOWrapper(raw, encoding="utf-8", errors=errors, line_buffering=is_terminal or number == 2)


def _flush() -> None:
    for stream in (sys.stdout, sys.stderr):
        try:
            stream.flush()
        except (OSError, ValueError):
            pass
