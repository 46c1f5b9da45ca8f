"""The same thing done over a session with each of many devices, each failing by itself."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Sequence
from pathlib import Path
from typing import TypeVar

from oast.change.rollout import new_run_id
from oast.connect import Connector, Session
from oast.errors import DeviceError
from oast.estate import Device, Estate
from oast.fleet import DeviceEvent, OnEvent, Stage, for_each
from oast.intent import IntentBuilder

R = TypeVar("R")


async def run_on_devices(
    estate: Estate,
    devices: Sequence[Device],
    builder: IntentBuilder,
    work: Callable[[Device, Session], Awaitable[R]],
    parallel: int | None,
    timeout_s: float | None,
    on_event: OnEvent,
) -> tuple[dict[str, R], tuple[tuple[str, DeviceError], ...], Path]:
    """Do `work` over a session with each device. Returns the results of those that answered and the errors of
    the others, both in the order of `devices`, and the folder of the transcripts. Raises EstateError when a
    device has no username."""
    connector = Connector(estate, devices, timeout_s)
    logs = estate.working / "log" / new_run_id()
    found: dict[str, R | DeviceError] = {}

    async def one(device: Device) -> R:
        on_event(DeviceEvent(device.name, Stage.CONNECTING))
        async with connector.session(
            device, builder.platform(device), logs / f"{device.name}.log"
        ) as session:
            on_event(DeviceEvent(device.name, Stage.READING))
            return await work(device, session)

    def done(device: Device, result: R | DeviceError) -> None:
        found[device.name] = result
        on_event(
            DeviceEvent(device.name, Stage.FAILED if isinstance(result, DeviceError) else Stage.COMPARED)
        )

    await for_each(devices, one, parallel or estate.settings.connection.parallel, done)
    ordered = {device.name: found[device.name] for device in devices}
    return (
        {name: result for name, result in ordered.items() if not isinstance(result, DeviceError)},
        tuple((name, result) for name, result in ordered.items() if isinstance(result, DeviceError)),
        logs,
    )
