"""The demo's estate in a temporary folder with its simulated network, and the real program run on it."""

from __future__ import annotations

import atexit
import fcntl
import io
import json
import os
import pty
import re
import select
import shutil
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from contextlib import contextmanager, redirect_stderr, redirect_stdout, suppress
from dataclasses import dataclass
from datetime import date
from functools import cache
from pathlib import Path
from typing import IO, Any
from unittest import mock

import jinja2
import jinja2.meta
import jinja2.nodes

import fork_server
import forked
import oast.cli.sim
import oastsim.__main__
from oast.cli.main import main
from oast.cli.simulator import Simulator
from oast.estate.encrypted_file import EncryptedFile

SHIPPED = Path(__file__).parent.parent / "src" / "oast" / "cli" / "larkwater"
SECRETS = {
    "login-password": "Tr1stan-login",
    "privilege-password": "Is0lde-privilege",
    "snmp-read": "reads-7f31-quay",
    "snmp-billing": "bills-90aa-quay",
}
ENCRYPTED = ("snmp-read", "snmp-billing")
RUN_AT_MOST_S = 120
SHARED = "OAST_TEST_SHARED"
# For tests in which a timer has to run out.
QUICK = ("--revert-timer", "15", "--verify-timeout", "5")


@dataclass(frozen=True)
class Run:
    """What a run of the program left."""

    code: int
    out: str
    err: str

    def json(self) -> Any:
        return json.loads(self.out)


_compile, _parse, _undeclared = (
    jinja2.Environment.compile,
    jinja2.Environment.parse,
    jinja2.meta.find_undeclared_variables,
)
_codes: dict[Hashable, Any] = {}
_names: dict[int, tuple[jinja2.nodes.Template, set[str]]] = {}


def _once(
    self: jinja2.Environment, make: Callable[..., Any], source: Any, name: Any, filename: Any, **options: Any
) -> Any:
    """A test runs the program several times in one process; the same templates give the same each time."""
    if not isinstance(source, str):
        return make(self, source, name, filename, **options)
    key = (
        make,
        type(self),
        self.trim_blocks,
        self.finalize is None,
        source,
        name,
        filename,
        *sorted(options.items()),
    )
    if key not in _codes:
        if len(_codes) > 2000:
            _codes.clear()
            _names.clear()
        _codes[key] = make(self, source, name, filename, **options)
    return _codes[key]


def _compiled_once(
    self: jinja2.Environment, source: Any, name: Any = None, filename: Any = None, **options: Any
) -> Any:
    return _once(self, _compile, source, name, filename, **options)


def _parsed_once(self: jinja2.Environment, source: Any, name: Any = None, filename: Any = None) -> Any:
    return _once(self, _parse, source, name, filename)


def _undeclared_once(tree: jinja2.nodes.Template) -> set[str]:
    if id(tree) not in _names:
        _names[id(tree)] = tree, _undeclared(tree)
    return _names[id(tree)][1]


jinja2.Environment.compile = _compiled_once  # type: ignore[method-assign,assignment]
jinja2.Environment.parse = _parsed_once  # type: ignore[method-assign]
jinja2.meta.find_undeclared_variables = _undeclared_once


def program(
    *arguments: str,
    cwd: Path,
    environment: Mapping[str, str] | None = None,
    stdin: str = "",
    together: bool = False,
) -> Run:
    """Run the real program: from its entry point to its exit code, in this process, as starting one takes longer than most of
    what it does. A process of its own is for what only that can show: `apart`, `on_terminal`. `together`: stderr goes where
    stdout goes."""
    out = _Output()
    err = out if together else _Output()
    before, here = dict(os.environ), Path.cwd()
    os.environ.clear()
    os.environ.update({**clean_environment(), **(environment or {})})
    os.chdir(cwd)
    try:
        with (
            redirect_stdout(out),
            redirect_stderr(err),
            _typed(stdin) as typed,
            mock.patch("sys.stdin", typed),
        ):
            try:
                code = main(list(arguments))
            except SystemExit as exit_:
                code = exit_.code if isinstance(exit_.code, int) else 1
    finally:
        os.chdir(here)
        os.environ.clear()
        os.environ.update(before)
    return Run(code, out.getvalue(), err.getvalue())


@contextmanager
def _typed(text: str) -> Iterator[IO[str]]:
    with tempfile.TemporaryFile("w+", encoding="utf-8") as file:
        file.write(text)
        file.seek(0)
        yield file


class _Output(io.StringIO):
    """What a pipe would take: it can be closed, and what was written stays."""

    def close(self) -> None:
        return


def apart(
    *arguments: str,
    cwd: Path,
    environment: Mapping[str, str] | None = None,
    stdin: str = "",
    at_most_s: float = RUN_AT_MOST_S,
) -> Run:
    """Run the real program in a process of its own."""
    own = {**clean_environment(), **(environment or {})}
    done = forked.run([*forked.OAST, *arguments], cwd=cwd, env=own, data=stdin, timeout=at_most_s)
    return Run(done.returncode, done.stdout, done.stderr)


def interpreted(
    *arguments: str, cwd: Path, environment: Mapping[str, str] | None = None, stdin: str = ""
) -> Run:
    """The same by an interpreter of its own: for what only that shows, such as the process list and `sitecustomize`."""
    own = {**clean_environment(), **(environment or {})}
    command = [*forked.OAST, *arguments]
    done = subprocess.run(
        command,
        cwd=cwd,
        env=own,
        input=stdin,
        capture_output=True,
        text=True,
        timeout=RUN_AT_MOST_S,
        check=False,
    )
    return Run(done.returncode, done.stdout, done.stderr)


def on_terminal(
    arguments: Sequence[str],
    cwd: Path,
    question: str,
    answer: str,
    *,
    environment: Mapping[str, str] | None = None,
    meanwhile: Callable[[], object] | None = None,
) -> tuple[int, str]:
    """Run the real program on a terminal; at `question` do `meanwhile` and type `answer`. Its exit code and all it showed."""
    leader, follower = pty.openpty()
    process = forked.Process(
        [*forked.OAST, *arguments],
        cwd=cwd,
        env={
            **clean_environment(),
            "TERM": "xterm-256color",
            "COLUMNS": "100",
            "LINES": "30",
            "PAGER": "cat",
            **(environment or {}),
        },
        stdin=follower,
        stdout=follower,
        stderr=follower,
        start_new_session=True,
    )
    os.close(follower)
    shown = b""
    answered = False
    while True:
        if not select.select([leader], [], [], RUN_AT_MOST_S)[0]:
            process.kill()
            raise AssertionError(f"it shows nothing more, and waits: {shown.decode(errors='replace')}")
        try:
            shown += os.read(leader, 65536)
        except OSError:
            break
        if question.encode() in shown and not answered:
            answered = True
            if meanwhile is not None:
                meanwhile()
            os.write(leader, f"{answer}\n".encode())
    os.close(leader)
    return process.wait(), shown.decode()


def clean_environment() -> dict[str, str]:
    """The person's environment without what would change the program."""
    return {k: v for k, v in os.environ.items() if k in ("PATH", "HOME", "LANG", "TMPDIR", "PYTHONPATH")}


class EstateTest(unittest.TestCase):
    """A fresh copy of the demo's estate for every test; no device runs."""

    whole = False  # whether its switches are there as well

    def setUp(self) -> None:
        super().setUp()
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-test-")))
        self.estate = lay_out(self.folder, whole=self.whole)

    def oast(
        self,
        *arguments: str,
        expect: int | None = 0,
        environment: Mapping[str, str] | None = None,
        stdin: str = "",
    ) -> Run:
        """Run the program in the estate; fails unless its exit code is `expect` (None: any)."""
        run = program(*arguments, cwd=self.estate, environment=environment, stdin=stdin)
        self.assertNotIn("Traceback", run.err)
        self.assertNotIn("fault of Oast", run.err)
        if expect is not None:
            self.assertEqual(run.code, expect, f"oast {' '.join(arguments)}\n{run.out}\n{run.err}")
        return run

    def started(self, *command: str) -> subprocess.Popen[str]:
        """The program in the estate, in a process of its own."""
        process = forked.Process(
            [*forked.OAST, *command],
            cwd=self.estate,
            env=clean_environment(),
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        self.addCleanup(process.kill)
        return process

    def programs(self) -> Path:
        """A folder for PATH with the program in it, for shells and scripts."""
        folder = self.folder / "programs"
        if not folder.exists():
            self.addCleanup(fork_server.stop, fork_server.install(folder))
        return folder

    def edit(self, file: str, old: str, new: str) -> None:
        """Replace `old`, which has to be there, in a file of the estate."""
        path = self.estate / file
        text = path.read_text(encoding="utf-8")
        self.assertIn(old, text)
        path.write_text(text.replace(old, new), encoding="utf-8")

    def line_of(self, file: str, text: str) -> int:
        """The line (from 1) of a file of the estate in which `text` stands first."""
        lines = (self.estate / file).read_text(encoding="utf-8").splitlines()
        return next(number for number, line in enumerate(lines, 1) if text in line)


class ForkedSimulator(Simulator):
    """The simulator in a fork of this process, which has imported already what takes longer than everything else at a start."""

    def __init__(self, network: Path, folder: Path, environment: Mapping[str, str]) -> None:
        super().__init__(network, folder, environment)
        self._forked = (network, folder, dict(environment))
        self._number = 0

    def _launch(self, log: IO[bytes]) -> subprocess.Popen[bytes]:
        network, folder, environment = self._forked
        self._number = os.fork()
        if self._number:
            return _Forked(self._number)
        code = 1
        try:
            os.setsid()
            with Path(os.devnull).open("rb") as nothing:
                os.dup2(nothing.fileno(), 0)
            os.dup2(log.fileno(), 1)
            os.dup2(log.fileno(), 2)
            os.environ.clear()
            os.environ.update(environment)
            sys.argv = ["oastsim", str(network), str(folder)]
            sys.stdout, sys.stderr = sys.__stdout__, sys.__stderr__
            code = oastsim.__main__.main()
        finally:
            os._exit(code)

    def stop(self) -> bool:
        stopped = super().stop()
        if stopped:
            with suppress(ChildProcessError):
                os.waitpid(self._number, os.WNOHANG)
        return stopped


# Also where the program itself starts it, in this process or in a fork of it.
oast.cli.sim.Simulator = ForkedSimulator  # type: ignore[misc]


class _Forked(subprocess.Popen[bytes]):
    """What of a process is asked while it starts."""

    def __init__(self, number: int) -> None:
        self.pid, self.returncode = number, None

    def poll(self) -> int | None:
        number, status = os.waitpid(self.pid, os.WNOHANG)
        return os.waitstatus_to_exitcode(status) if number else None

    def __del__(self) -> None:
        return


def simulator_of(estate: Path, environment: Mapping[str, str] | None = None) -> Simulator:
    """The simulated network of the estate, started and stopped without a program in between."""
    return ForkedSimulator(
        estate / "network.yaml", estate / ".oast" / "sim", {**clean_environment(), **(environment or {})}
    )


@cache
def _shared() -> Path:
    """The folder that all modules of a run share; a module that is run alone has its own."""
    if SHARED in os.environ:
        return Path(os.environ[SHARED])
    folder = Path(tempfile.mkdtemp(prefix="oast-test-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder


def _made_ready(delivered: bool, *, whole: bool = False) -> Path:
    """A folder with an estate that the program has trusted and, if wanted, delivered: made once, copied for every test."""
    ready = _shared() / ("whole" if whole else "delivered" if delivered else "trusted")
    with (_shared() / f"{ready.name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not ready.exists():
            _make_ready(ready.with_suffix(".new"), delivered, whole=whole)
            ready.with_suffix(".new").rename(ready)
    return ready


def make_ready() -> None:
    """Make what `LarkwaterTest` copies, for all modules of a run."""
    for delivered, whole in ((False, False), (True, False), (False, True)):
        _made_ready(delivered, whole=whole)


def _make_ready(folder: Path, delivered: bool, *, whole: bool = False) -> None:
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    estate = lay_out(folder, whole=whole)
    simulator = simulator_of(estate)
    simulator.start()
    try:
        for arguments in (("devices", "trust", "--yes"), ("push", "-m", "set up", "--yes"))[: 1 + delivered]:
            run = program(*arguments, cwd=estate)
            if run.code:
                raise AssertionError(run.out + run.err)
    finally:
        simulator.stop()


def lay_out(folder: Path, *, whole: bool = False) -> Path:
    """The estate and its secrets below `folder`: its six routers, or the `whole` of it."""
    estate = folder / "larkwater"
    shutil.copytree(SHIPPED, estate)
    if not whole:
        _leave_routers(estate)
    network = estate / "network.yaml"
    network.write_text(
        network.read_text(encoding="utf-8").replace("convergence: 0.5", "convergence: 0.05"), encoding="utf-8"
    )
    settings = estate / "oast.toml"
    kept = [line for line in settings.read_text().splitlines(keepends=True) if not line.startswith("waves")]
    # What stands around is looked at by the tests that are about that.
    settings.write_text("".join(kept).replace("\n[secrets]\n", "neighbor_hops = 0\n\n[secrets]\n", 1))
    lines = "".join(f'{name} = "{value}"\n' for name, value in SECRETS.items() if name not in ENCRYPTED)
    (folder / "larkwater-secrets.toml").write_text(lines, encoding="utf-8")
    encrypted = EncryptedFile(estate / "secrets.jwe", folder / "larkwater.key", {})
    for name in ENCRYPTED:
        encrypted.put(name, SECRETS[name], date.today())
    return estate


def _leave_routers(estate: Path) -> None:
    """Take the switches and the routers without a command line out: what most tests are about takes six devices, not two dozen."""
    for kind in ("switches", "borders", "hubs"):
        for path in estate.glob(f"*/{kind}.yaml"):
            path.unlink()
    for system in ("cowl", "roundel"):
        shutil.rmtree(estate / "templates" / system)
    for name in ("startup/switch.txt", "startup/roundel.txt", "templates/bine/bgp.j2"):
        (estate / name).unlink()
    for path in (estate / "values" / "devices").glob("*-*-*.yaml"):
        if re.search("-dist-|-border-|-edge-2", path.name):
            path.unlink()
        else:
            path.write_text(re.sub(r", ipv6: '2001:db8:1:[^']*'", "", path.read_text()))
    for path in (estate / "network.yaml", *(estate / "values" / "devices").glob("*-core-1.yaml")):
        lines = [
            line
            for line in path.read_text().splitlines()
            if not re.search("-dist-|-access-|-border-|-edge-2", line)
        ]
        path.write_text("\n".join(lines) + "\n")
    for path in (estate / "intent.yaml", estate / "policies" / "standard.yaml"):
        path.write_text(path.read_text().replace("role=edge and platform=bine", "role=edge"))
    network = estate / "network.yaml"
    clocks = "outside:\n  clock-1: {addresses: [192.0.2.123/24], stratum: 1}\n  clock-2: {addresses: [192.0.2.124/24], stratum: 2}\n\n"
    network.write_text(re.sub(r"(?s)# What is there besides.*?(?=links:)", clocks, network.read_text()))
    intent = estate / "intent.yaml"
    kept = intent.read_text().partition("  - section: vlans\n")[0]
    intent.write_text(kept.replace("not role in (core, border)", "not role=core"))


class LarkwaterTest(EstateTest):
    """The estate with its six devices running and trusted; anew for every test, so that none depends on another."""

    delivered = False  # whether the intent has been pushed before the test begins
    command_timeout_s = 30  # a machine that stands still for some seconds is no fault of a device

    def setUp(self) -> None:
        super().setUp()
        shutil.copytree(_made_ready(self.delivered, whole=self.whole), self.folder, dirs_exist_ok=True)
        self.edit("oast.toml", "command_timeout_s = 10", f"command_timeout_s = {self.command_timeout_s}")
        self.simulator = simulator_of(self.estate)
        self.addCleanup(self.simulator.stop)
        self.simulator.start()

    def fault(self, device: str, kind: str, *options: str) -> None:
        """Make something go wrong with a device; the simulator is told directly, as that is no part of what is tested."""
        given = dict(zip((option.removeprefix("--") for option in options[::2]), options[1::2], strict=True))
        numbers = {"after": int, "seconds": float, "seed": int}
        told = {name: numbers.get(name, str)(value) for name, value in given.items()}
        answer = self.simulator.ask({"do": "fault", "device": device, "kind": kind, **told})
        self.assertNotIn("error", answer)

    def timer(self, device: str) -> int | None:
        """The seconds that a device waits to be confirmed, if it does."""
        found: int | None = self.simulator.ask({"do": "status"})["devices"][device]["timer"]
        return found

    def console(self, device: str, *lines: str) -> str:
        """What a device says to an engineer who types `lines`."""
        typed = "session page-length 0\n" + "".join(f"{line}\n" for line in lines)
        return self.oast("sim", "console", device, stdin=typed + "leave\n").out

    def running(self, device: str) -> str:
        """The configuration a device runs, as it lists it."""
        listing = self.console(device, "read running")
        return listing.partition("read running\n")[2].rpartition(" view| leave")[0].rpartition("\n")[0] + "\n"

    def outcome(self, run: Run, device: str) -> dict[str, Any]:
        """A device's part of the document that `push --format json` gives."""
        found: dict[str, Any] = next(d for d in run.json()["devices"] if d["device"] == device)
        return found
