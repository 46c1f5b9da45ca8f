"""The program in a process of its own that is killed when it has come to some point of its journal; started by a fork, as that is quick.

Make it before anything else runs in the test's process: a fork takes no other threads along.
"""

from __future__ import annotations

import json
import os
import signal
import sys
import tempfile
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import oast.cli.change
import oast.cli.devices
import oast.cli.push  # noqa: F401  # what every run would import anew
from larkwater import Run, clean_environment
from oast.change.record.journal import Journal
from oast.cli.main import main


@dataclass(frozen=True)
class Kill:
    """The point: `before` the commit `number` (from 1) of the journal, or after it; or what holds the step `step`, when whatever waited to be
    written with it is written by itself: the two may come in one commit or in several."""

    number: int = 0
    before: bool = False
    step: str = ""


class Killing:
    """Runs the program; use as a context."""

    def __init__(self) -> None:
        asked, told = os.pipe(), os.pipe()
        self._process = os.fork()
        if not self._process:
            os.close(asked[1])
            os.close(told[0])
            try:
                _serve(asked[0], told[1])
            finally:
                os._exit(0)
        os.close(asked[0])
        os.close(told[1])
        self._asked, self._told = os.fdopen(asked[1], "w"), os.fdopen(told[0])
        self._turn = threading.Lock()

    def __enter__(self) -> Killing:
        return self

    def __exit__(self, *error: object) -> None:
        self._asked.close()
        self._told.close()
        os.waitpid(self._process, 0)

    def run(
        self, *arguments: str, cwd: Path, environment: Mapping[str, str], kill: Kill | None = None
    ) -> Run:
        """The exit code (below 0: the signal that ended it) and the output of the program."""
        with tempfile.TemporaryDirectory() as folder, self._turn:
            out, err = Path(folder, "out"), Path(folder, "err")
            asked = {
                "arguments": arguments,
                "cwd": str(cwd),
                "environment": {**clean_environment(), **environment},
                "kill": None if kill is None else [kill.number, kill.before, kill.step],
                "out": str(out),
                "err": str(err),
            }
            self._asked.write(json.dumps(asked) + "\n")
            self._asked.flush()
            code = int(self._told.readline())
            return Run(code, out.read_text(), err.read_text())


def _serve(asked: int, told: int) -> None:
    with os.fdopen(asked) as questions, os.fdopen(told, "w") as answers:
        for line in questions:
            process = os.fork()
            if not process:
                code = 70
                try:
                    code = _program(json.loads(line))
                finally:
                    sys.stdout.flush()
                    sys.stderr.flush()
                    os._exit(code)
            _, status = os.waitpid(process, 0)
            answers.write(f"{os.waitstatus_to_exitcode(status)}\n")
            answers.flush()


def _program(asked: Mapping[str, Any]) -> int:
    for name, number in (("out", 1), ("err", 2)):
        file = os.open(asked[name], os.O_WRONLY | os.O_CREAT | os.O_APPEND)
        os.dup2(file, number)
        os.close(file)
    sys.stdout, sys.stderr = os.fdopen(1, "w", closefd=False), os.fdopen(2, "w", closefd=False)
    os.chdir(asked["cwd"])
    os.environ.clear()
    os.environ.update(asked["environment"])
    if asked["kill"] is not None:
        _killed_at(Kill(*asked["kill"]))
    try:
        return main(list(asked["arguments"]))
    except SystemExit as exit_:
        return exit_.code if isinstance(exit_.code, int) else 1


def _killed_at(kill: Kill) -> None:
    commit = Journal._commit
    commits = 0

    def counted(self: Journal, batch: Sequence[Any]) -> None:
        for part in [[one] for one in batch] if kill.step else [batch]:
            one_commit(self, part)

    def one_commit(self: Journal, batch: Sequence[Any]) -> None:
        nonlocal commits
        commits += 1
        steps = [values[-1] for statements, _ in batch for sql, values in statements if "INTO step" in sql]
        struck = commits == kill.number or kill.step in steps
        if struck and kill.before:
            os.kill(os.getpid(), signal.SIGKILL)
        commit(self, batch)
        if struck:
            os.kill(os.getpid(), signal.SIGKILL)

    Journal._commit = counted  # type: ignore[method-assign]
