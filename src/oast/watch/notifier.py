"""Sends the notifications in the store to their targets, in order, and retries until they are delivered; none
is ever dropped.

A target that cannot be reached, or has a temporary error, gets no further notification until the first is
delivered. A notification that a target rejects does not hold up the others: it is offered again from time to
time, because a mistake in the settings may be mended.
"""

from __future__ import annotations

import asyncio
import json
import os
import random
import socket
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from oast.errors import OastError
from oast.estate import COMMAND, SYSLOG, TargetSettings
from oast.records import Secret
from oast.watch import command_target as command, syslog, webhook
from oast.watch.send_result import SendResult
from oast.watch.store import QueuedNotification, Store

FIRST_S = 2.0
LONGEST_S = 900.0
# The wall clock may jump: no sleep is longer than this.
LOOK_S = 5.0

KeyOf = Callable[[str], Secret]


@dataclass(frozen=True, slots=True)
class Attempt:
    """A delivery attempt to `target`: after a failure, `next` is the time of the next one, after `attempts`
    attempts."""

    target: str
    number: int
    answer: SendResult
    attempts: int
    next: datetime | None


class Notifier:
    """Sends for one estate. `key_of` returns the key of a target's `secret`; `heard` is called with every
    attempt."""

    def __init__(
        self,
        store: Store,
        folder: Path,
        environment: Mapping[str, str],
        key_of: KeyOf,
        heard: Callable[[Attempt], object],
    ) -> None:
        self._store = store
        self._folder = folder
        self._environment = environment
        self._key_of = key_of
        self._heard = heard
        self._new = asyncio.Event()

    def something_new(self) -> None:
        """Something may wait in the store that did not before."""
        self._new.set()

    async def run(self, targets: Sequence[TargetSettings]) -> None:
        """Tell `targets` until cancelled. Cancelled, what was not told stays in the store."""
        async with asyncio.TaskGroup() as group:
            for target in targets:
                group.create_task(self._serve(target))

    async def once(self, targets: Sequence[TargetSettings]) -> None:
        """Try to send each target all that waits for it, up to the first failure. Raises StateError when the
        store cannot be read."""

        async def all_of(target: TargetSettings) -> None:
            for waiting in self._store.waiting(target.name):
                if not await self._goes_on(target, waiting):
                    return

        async with asyncio.TaskGroup() as group:
            for target in targets:
                group.create_task(all_of(target))

    async def _serve(self, target: TargetSettings) -> None:
        while True:
            waiting = None
            with suppress(OastError):  # the writer of the store reports it
                waiting = self._next(target.name)
            pause = LOOK_S if waiting is None else 0.0 if await self._goes_on(target, waiting) else FIRST_S
            if pause:
                self._new.clear()
                try:
                    async with asyncio.timeout(pause):
                        await self._new.wait()
                except TimeoutError:
                    pass

    def _next(self, target: str) -> QueuedNotification | None:
        """Return what to send now: the first that was not rejected, if its time has come; otherwise the first
        rejected one whose time has come."""
        now = datetime.now(UTC)
        waiting = self._store.waiting(target)
        first = next((one for one in waiting if not one.refused), None)
        candidates: list[QueuedNotification] = [
            *([first] if first is not None else []),
            *(one for one in waiting if one.refused),
        ]
        for one in candidates:
            # A time too far away was stored by a clock that has been set back since.
            if one.next is None or one.next <= now or one.next > now + timedelta(seconds=LONGEST_S * 100):
                return one
        return None

    async def _goes_on(self, target: TargetSettings, waiting: QueuedNotification) -> bool:
        """Try to send, and report what prevents it. Returns whether the next may be tried at once."""
        try:
            answer = await self._try(target, waiting)
        except OastError as error:
            # The disk is full, say: it stays as it is, and is tried again.
            self._heard(
                Attempt(target.name, waiting.number, SendResult(False, error.message), waiting.attempts, None)
            )
            return False
        except Exception as error:
            # An internal error with one target must not stop the others.
            fault = f"internal error in Oast: {type(error).__name__}: {error}"
            self._heard(
                Attempt(target.name, waiting.number, SendResult(False, fault), waiting.attempts, None)
            )
            return False
        return answer.told or answer.refused

    async def _try(self, target: TargetSettings, waiting: QueuedNotification) -> SendResult:
        try:
            answer = await self._told(target, waiting.number)
        except OastError as error:
            answer = SendResult(False, error.message)
        if answer.told:
            self._store.sent(waiting.number, target.name)
            self._heard(Attempt(target.name, waiting.number, answer, waiting.attempts + 1, None))
            return answer
        pause = (
            answer.after_s
            if answer.after_s is not None
            else min(FIRST_S * 2 ** min(waiting.attempts, 20), LONGEST_S)
        )
        again = datetime.now(UTC) + timedelta(seconds=pause * random.uniform(0.9, 1.1))  # noqa: S311
        self._store.failed(waiting.number, target.name, again, answer.said, refused=answer.refused)
        self._heard(Attempt(target.name, waiting.number, answer, waiting.attempts + 1, again))
        return answer

    async def _told(self, target: TargetSettings, number: int) -> SendResult:
        document = {**json.loads(self._store.body(number)), "number": number}
        if target.kind == SYSLOG:
            return await syslog.send_to_syslog(target, document, socket.gethostname(), os.getpid())
        body = json.dumps(document).encode()
        if target.kind == COMMAND:
            return await command.send_to_command(target, body, self._folder, self._environment)
        key = None if target.secret is None else await asyncio.to_thread(self._key_of, target.secret)
        return await webhook.send_to_webhook(target, body, key, datetime.now(UTC))
