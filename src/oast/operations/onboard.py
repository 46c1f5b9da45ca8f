"""Serving new devices from their first question until they are managed."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Coroutine, Iterator, Mapping, Sequence
from contextlib import AsyncExitStack, contextmanager, suppress
from pathlib import Path
from typing import Any

from oast.change import State as Known
from oast.change.record import RunLock
from oast.connect import CallHome, handshake_done
from oast.errors import ConnectionFailed, InternalDeviceError, OastError, StateError
from oast.estate import OnboardingSettings
from oast.onboard import BootstrapServer, NewDevice, NewDeviceState, NewDeviceStore, OnBox, read_keys
from oast.operations.first_delivery import Postponed, deliver_first, recover_first_deliveries

# Devices that report within this many seconds are delivered to together.
TOGETHER_S = 1.0
# A device without a call restarts before it can be reached.
TRIES = 10
PAUSE_S = 3.0
# A device that waits for a reason that is not its own is tried again so often.
POSTPONED_S = 10.0
LOCK = "onboarding"
# A reported error is cut to this length.
SAID = 3


async def serve(
    folder: Path,
    environment: Mapping[str, str],
    settings: OnboardingSettings,
    heard: OnBox,
    listening: Callable[[str], None],
    stop: asyncio.Event,
) -> None:
    """Serve until `stop` is set. `heard` is called with the events of each device, `listening` with the
    address. Raises StateError, also when another server runs on this estate, and EstateError."""
    heard = _unfailing(heard)
    ready: asyncio.Queue[str] = asyncio.Queue()
    async with AsyncExitStack() as stack:
        stack.enter_context(_alone(folder))
        boxes = stack.enter_context(NewDeviceStore(folder / ".oast"))

        def configured(serial: str) -> None:
            if settings.call_home is None:
                ready.put_nowait(serial)

        def whose(key: str) -> str | None:
            found = (
                box
                for box in boxes.all()
                if box.state in (NewDeviceState.CONFIGURED, NewDeviceState.CALLED) and key in box.host_keys
            )
            return next((box.serial for box in found), None)

        def called(serial: str) -> None:
            box = boxes.one(serial)
            if box is not None and box.state is NewDeviceState.CONFIGURED:
                boxes.come_to(serial, NewDeviceState.CALLED)
                heard(box.name, "called home with the host key that it reported")
                ready.put_nowait(serial)

        server = BootstrapServer(settings, read_keys(settings.keys), boxes, heard, configured)
        port = await server.start()
        stack.push_async_callback(server.close)
        listening(f"https://{settings.host}:{port}/restconf")
        if settings.call_home is not None:
            host, at = settings.call_home
            unknown = "calls home with an unknown host key"
            home = CallHome(host, at, whose, called, lambda where: heard(where, unknown))
            at = await home.start()
            stack.push_async_callback(home.close)
            listening(f"{host}:{at} for calls home")
        # Those that a server before this one was at work on when it ended.
        waiting = [
            box
            for box in boxes.all()
            if box.state is NewDeviceState.CALLED
            or (box.state is NewDeviceState.CONFIGURED and settings.call_home is None)
        ]
        await _recover(folder, environment, waiting, heard)
        for box in waiting:
            ready.put_nowait(box.serial)
        patient = settings.call_home is None
        await _until(stop, _manage(folder, environment, boxes, ready, heard, stop, patient=patient))


async def _until(stop: asyncio.Event, work: Coroutine[Any, Any, None]) -> None:
    """Do `work` until it ends or `stop` is set. Raises what `work` raises."""
    managing = asyncio.create_task(work)
    ended = asyncio.create_task(stop.wait())
    try:
        await asyncio.wait((managing, ended), return_when=asyncio.FIRST_COMPLETED)
        if managing.done():
            managing.result()
    finally:
        for task in (managing, ended):
            task.cancel()
        # Open deliveries are rolled back, or left to their timers, before this ends.
        await asyncio.gather(managing, ended, return_exceptions=True)


async def _recover(
    folder: Path, environment: Mapping[str, str], waiting: Sequence[NewDevice], heard: OnBox
) -> None:
    """Settle what a server that was killed was delivering, before anything else is delivered to those
    devices."""
    if not waiting:
        return
    try:
        outcomes = await recover_first_deliveries(folder, environment, waiting)
    except OastError as error:
        heard("interrupted deliveries", f"could not be recovered: {_told(error)}")
        return
    for name, outcome in outcomes.items():
        reason = f" ({outcome.reason})" if outcome.reason and outcome.state is Known.UNKNOWN else ""
        heard(name, f"the interrupted delivery was recovered: {outcome.state.shown}{reason}")


@contextmanager
def _alone(folder: Path) -> Iterator[None]:
    """Two servers would both continue with a device that calls. Raises StateError."""
    lock = RunLock(folder / ".oast", LOCK)
    try:
        if not lock.try_acquire():
            raise StateError(
                "another process of Oast already serves new devices of this estate",
                hint="stop it first",
            )
    except OSError as error:
        raise StateError(f"{error.filename or folder}: {error.strerror or error}") from None
    try:
        yield
    finally:
        lock.release(done=True)


def _told(why: OastError) -> str:
    """Each thing that is wrong, with its place."""
    return "; ".join(
        f"{one.message} ({one.place})" if one.place else one.message for one in why.problems()[:SAID]
    )


def _unfailing(heard: OnBox) -> OnBox:
    """A callback may fail: no device is affected by it."""

    def told(who: str, what: str) -> None:
        with suppress(OSError):
            heard(who, what)

    return told


async def _manage(
    folder: Path,
    environment: Mapping[str, str],
    boxes: NewDeviceStore,
    ready: asyncio.Queue[str],
    heard: OnBox,
    stop: asyncio.Event,
    *,
    patient: bool,
) -> None:
    """Make managed devices of those that are ready, those that report at the same time together; a device
    that does not answer yet is tried again. A cancelled delivery ends like any other, so that `stop` says
    when this ends."""
    tries: dict[str, int] = {}
    postponed: dict[str, str] = {}
    while not stop.is_set():
        serials = await handshake_done(ready, TOGETHER_S)
        found = [box for serial in serials if (box := boxes.one(serial)) is not None]
        try:
            became = await deliver_first(folder, environment, found) if found else {}
        except Exception as error:  # an internal error with some devices must not hold up the others
            became = dict.fromkeys(serials, InternalDeviceError(error))
        for box in found:
            why = became.get(box.serial)
            tries[box.serial] = tries.get(box.serial, 0) + 1
            if why is None:
                boxes.come_to(box.serial, NewDeviceState.MANAGED)
                heard(box.name, "is managed: delivered, verified, and added to the inventory")
            elif stop.is_set():
                heard(box.name, f"is tried again later: {_told(why)}")
            elif patient and tries[box.serial] < TRIES and isinstance(why, ConnectionFailed):
                asyncio.get_running_loop().call_later(PAUSE_S, ready.put_nowait, box.serial)
            elif isinstance(why, Postponed):
                # The state stays: the device does not need to be staged again.
                if postponed.get(box.serial) != why.message:
                    postponed[box.serial] = why.message
                    boxes.note(box.serial, f"waits: {_told(why)}")
                    heard(box.name, f"waits: {_told(why)}")
                asyncio.get_running_loop().call_later(POSTPONED_S, ready.put_nowait, box.serial)
            else:
                boxes.come_to(box.serial, NewDeviceState.FAILED, _told(why))
                heard(box.name, f"is not managed: {_told(why)}")
