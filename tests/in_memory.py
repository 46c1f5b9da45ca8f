"""A device without a network and time without waiting: the lab's command line behind the tool's own session."""

from __future__ import annotations

import asyncio
import functools
import io
import selectors
from collections.abc import Callable, Coroutine, Iterator, Mapping, Sequence
from concurrent.futures import Future
from contextlib import contextmanager, redirect_stderr, redirect_stdout
from typing import Any, TypeVar
from unittest import mock

from lab import Lab
from oast.change.record.journal import Journal, Statement
from oast.cli.main import main
from oast.connect.transport import Login, Target
from oast.errors import ConnectionFailed

T = TypeVar("T")


class _Selector(selectors.DefaultSelector):  # type: ignore[misc,valid-type]
    """Nothing arrives from outside, so instead of waiting the time is put forward."""

    def __init__(self, loop: FastLoop) -> None:
        super().__init__()
        self._loop = loop

    def select(self, timeout: float | None = None) -> list[Any]:
        ready: list[Any] = super().select(0 if timeout is not None else None)
        if not ready and timeout:
            if self._loop.threads:
                # Threads that write files take real time, in which no timer runs out.
                return super().select(min(timeout, 0.05))
            self._loop.passed += min(timeout, 0.5)
        return ready


class FastLoop(asyncio.SelectorEventLoop):
    """An event loop in which waiting takes no time."""

    def __init__(self) -> None:
        self.passed = 0.0
        self.threads = 0
        super().__init__(_Selector(self))

    def run_in_executor(self, executor: Any, func: Any, *args: Any) -> asyncio.Future[Any]:
        """Counts what threads are at."""
        work: asyncio.Future[Any] = super().run_in_executor(executor, func, *args)
        self.threads += 1
        work.add_done_callback(self._thread_ended)
        return work

    def put(self, journal: Journal, statements: Sequence[Statement]) -> Future[None]:
        """Counts what the journal's own thread is at."""
        self.threads += 1
        known: Future[None] = Future()

        def ended(written: Future[None]) -> None:
            # The thread is at work until this loop has been given the answer.
            error = written.exception()
            if known.set_running_or_notify_cancel():
                known.set_result(None) if error is None else known.set_exception(error)
            if not self.is_closed():
                self.call_soon_threadsafe(self._thread_ended)

        _put(journal, statements).add_done_callback(ended)
        return known

    def _thread_ended(self, _: object = None) -> None:
        self.threads -= 1

    def time(self) -> float:
        return super().time() + self.passed


_put = Journal.put


def _counted_put(journal: Journal, statements: Sequence[Statement]) -> Future[None]:
    """Also from a thread, in which no loop runs."""
    try:
        loop = asyncio.get_running_loop()
    except RuntimeError:
        return _put(journal, statements)
    return loop.put(journal, statements) if isinstance(loop, FastLoop) else _put(journal, statements)


@contextmanager
def fast_runner() -> Iterator[asyncio.Runner]:
    """A runner with connections to labs instead of addresses, and without backups, for which Git would take longer than all the rest."""
    backups = mock.patch("oast.archive.backups.Backups.keep")
    put = mock.patch.object(Journal, "put", _counted_put)
    with (
        asyncio.Runner(loop_factory=FastLoop) as runner,
        backups,
        put,
        mock.patch("oast.connect.connector.connect", _connect),
    ):
        yield runner


def run(work: Coroutine[Any, Any, T]) -> T:
    """Run `work` in a loop of its own, see `fast_runner`."""
    with fast_runner() as runner:
        return runner.run(work)


LABS: dict[int, Lab] = {}


async def _connect(target: Target, login: Login, timeout_s: float, jumps: object = None) -> Line:
    lab = LABS.get(target.port)
    if lab is None or not lab.comes_in(second=bool(target.port % 2)):
        raise ConnectionFailed(f"cannot connect to {target.host} port {target.port}: connection refused")
    return Line(lab, target.host, target.port)


class Line:
    """Both ends: the transport for the tool, and the process for the lab."""

    def __init__(self, lab: Lab, host: str, port: int) -> None:
        self.addresses = (host, "127.0.0.1")
        self.port = port
        self.stdin = self
        self.stdout = self
        self.channel = self
        self._typed: asyncio.Queue[str | None] = asyncio.Queue()
        self._shown: asyncio.Queue[str] = asyncio.Queue()
        self._rest = ""
        self._task = asyncio.get_running_loop().create_task(lab.shell(self))

    # --- as the tool sees it

    async def read(self) -> str:
        return await self._shown.get()

    async def close(self) -> None:
        self._task.cancel()
        await asyncio.gather(self._task, return_exceptions=True)

    def type(self, text: str) -> None:
        for line in text.splitlines():
            self._typed.put_nowait(line)

    # --- as the lab sees it

    def __aiter__(self) -> Line:
        return self

    async def __anext__(self) -> str:
        line = await self._typed.get()
        if line is None:
            raise StopAsyncIteration
        return line

    def write(self, text: str) -> None:
        # One object is both ends: what comes from the lab's own task is shown, the rest is typed.
        if asyncio.current_task() is self._task:
            self._shown.put_nowait(text)
        else:
            self.type(text)

    def get_connection(self) -> Line:
        return self

    def abort(self) -> None:
        self._shown.put_nowait("")

    def exit(self, status: int) -> None:
        self.abort()


def run_program(
    arguments: Sequence[str], connect: Callable[..., Any], environment: Mapping[str, str]
) -> tuple[int, str, str]:
    """The program with `connect` in place of the network: its exit code and what it wrote."""
    out, err = io.StringIO(), io.StringIO()
    runner = functools.partial(asyncio.Runner, loop_factory=FastLoop)
    with (
        mock.patch("oast.connect.connector.connect", connect),
        mock.patch.object(Journal, "put", _counted_put),
        mock.patch("oast.cli.push.asyncio.Runner", runner),
        mock.patch.dict("os.environ", environment),
        redirect_stdout(out),
        redirect_stderr(err),
    ):
        code = main(list(arguments))
    return code, out.getvalue(), err.getvalue()
