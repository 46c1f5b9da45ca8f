"""From a new device to one that is managed: its host key is trusted, its intent delivered, its checks are
true, the inventory has it."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from oast.change import Cause, Outcome, State
from oast.change.record import DeviceInUnknownState
from oast.connect import Connector, HostKey, host_key_of
from oast.errors import DeviceError, OastError, StateError
from oast.estate import (
    ATTRIBUTE,
    ONBOARDED_FILE,
    Device,
    Estate,
    YamlMap,
    device_of,
    load_estate,
    put_onboarded,
)
from oast.fleet import OnEvent, ignore_event
from oast.onboard import NewDevice
from oast.operations.deliver import DeliveryOptions, compare
from oast.operations.intent_context import IntentContext, prepare_intents
from oast.operations.recovery import RunRecovery
from oast.operations.staging_approval import first_delivery
from oast.operations.verify import checks_for, verify_network
from oast.records import Place

WAIT_S = 30.0
Became = dict[str, OastError | None]
"""By serial number, why a device could not be made one that is managed; None where it could."""


class Postponed(OastError):
    """Why a device is not managed yet, for a reason that is not its own: what the estate says, another run,
    another device."""

    @classmethod
    def because_of(cls, error: OastError) -> OastError:
        """An error that is about everything that is delivered; one that is about the device stays
        what it is."""
        first = error.problems()[0]
        place = f" ({first.place})" if first.place else ""
        return error if isinstance(error, DeviceError) else cls(f"{first.message}{place}", hint=first.hint)


async def recover_first_deliveries(
    folder: Path, environment: Mapping[str, str], boxes: Sequence[NewDevice]
) -> dict[str, Outcome]:
    """Recover the interrupted runs that were delivering to `boxes`; by name, what they run now. Raises
    OastError."""
    devices = [_device(box) for box in boxes]
    estate = await asyncio.to_thread(load_estate, folder, environment, besides=devices)
    names = {device.name for device in devices}
    runs = await RunRecovery(estate, names=names).run()
    return {outcome.device: outcome for run in runs for outcome in run.outcomes if outcome.device in names}


async def deliver_first(
    folder: Path, environment: Mapping[str, str], boxes: Sequence[NewDevice], on_event: OnEvent = ignore_event
) -> Became:
    """Make managed devices of them, together. Who fails is not in the inventory."""
    became: Became = {}
    try:
        devices = {box.name: _device(box) for box in boxes}
        estate = await asyncio.to_thread(load_estate, folder, environment, besides=list(devices.values()))
    except OastError as error:
        return dict.fromkeys((box.serial for box in boxes), Postponed.because_of(error))
    ready: list[NewDevice] = []
    for box in boxes:
        try:
            _trust(estate, devices[box.name], box)
            ready.append(box)
        except OastError as error:
            became[box.serial] = error
    # What was approved together is delivered together, as that change.
    for change in dict.fromkeys(box.change for box in ready):
        became |= await _delivered(estate, [box for box in ready if box.change == change], change, on_event)
    right = [box for box in ready if became[box.serial] is None]
    try:
        if right:
            put_onboarded(
                folder, {box.name: _attributes(box) for box in right}, {box.name: box.serial for box in right}
            )
    except OastError as error:
        became |= dict.fromkeys((box.serial for box in right), error)
    return became


def _attributes(box: NewDevice) -> dict[str, Any]:
    return {key: value for key, value in box.attributes.items() if key not in ("name", ATTRIBUTE)}


def _device(box: NewDevice) -> Device:
    """The device that it is going to be: in service."""
    place = Place(ONBOARDED_FILE)
    attributes = YamlMap(place.file)
    attributes.update(_attributes(box))
    return device_of(box.name, attributes, place)


def _trust(estate: Estate, device: Device, box: NewDevice) -> None:
    """The key that it has reported is its own, as only it has its certificate. Raises StateError,
    EstateError."""
    if not box.host_keys:
        raise StateError("the device reported no host key, so it cannot be identified")
    known = Connector(estate, [device]).known_hosts
    key = _host_key(box.host_keys[0])
    present = known.usable(device.name)
    if present and key not in present:
        raise StateError(
            f"a different host key is already trusted for {device.name}",
            hint=f"oast devices trust --replace --on name={device.name}",
        )
    known.trust({device.name: key})


def _host_key(line: str) -> HostKey:
    algorithm, _, data = line.partition(" ")
    try:
        return host_key_of(algorithm, data)
    except ValueError as wrong:
        raise StateError(f"the host key that the device reported is invalid: {wrong}") from None


async def _prepared(estate: Estate, names: Sequence[str], change: str | None) -> IntentContext:
    """What is delivered to new devices: what was approved with the change that staged them, or what the
    estate says. Raises OastError."""
    if change is not None:
        return await asyncio.to_thread(first_delivery, estate, change, names)
    if estate.settings.delivery.approval:
        raise Postponed(
            "it was staged without approval, and this estate delivers only approved changes",
            hint="oast onboard stage FILE",
        )
    return await asyncio.to_thread(prepare_intents, estate, f"name in ({', '.join(names)})")


async def _delivered(
    estate: Estate, boxes: Sequence[NewDevice], change: str | None, on_event: OnEvent
) -> Became:
    """Deliver to all devices that are ready, as one change, and run their checks."""
    became: Became = dict.fromkeys(box.serial for box in boxes)
    serials = {box.name: box.serial for box in boxes}
    try:
        preparation = await _prepared(estate, [box.name for box in boxes], change)
        async with await compare(preparation, for_delivery=True, on_event=on_event) as plan:
            for name, error in plan.failed:
                became[serials[name]] = (
                    Postponed(error.message) if isinstance(error, DeviceInUnknownState) else error
                )
            if plan.to_do:
                plan.change = change
                reason = f"Onboarded {', '.join(f'{box.name} ({box.serial})' for box in boxes)}"
                result = await plan.deliver(reason, options=DeliveryOptions(), on_event=on_event)
                for outcome in result.outcomes:
                    if outcome.state is not State.DELIVERED:
                        is_its_own = outcome.cause not in (Cause.HELD, Cause.INTERRUPTED)
                        kind = DeviceError if is_its_own else Postponed
                        became[serials[outcome.device]] = kind(
                            f"{outcome.state.shown}: {outcome.reason or ''}"
                        )
        found = await verify_network(preparation, checks_for(preparation, ()), wait_s=WAIT_S)
        for name, error in found.failed:
            became[serials[name]] = became[serials[name]] or error
        for name, results in found.results.items():
            wrong = [
                result.finding for result in results if not result.passed and not result.check.is_warning
            ]
            if wrong:
                became[serials[name]] = became[serials[name]] or DeviceError("; ".join(wrong[:3]))
    except OastError as error:
        became = {serial: why or Postponed.because_of(error) for serial, why in became.items()}
    return became
