"""What devices report that is not configured: serial numbers, counters, sensors, stations on their links.

Everything follows from names and from how long a device runs, so that it is the same on every machine.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from oastsim.facts import Interface

if TYPE_CHECKING:
    from oastsim.device import SimulatedDevice
    from oastsim.state import NetworkState

RELEASES = {"bine": "4.2", "cowl": "7.1.3", "roundel": "2.8"}
PORT_BIT_S = 1_000_000_000
MANAGE_BIT_S = 100_000_000
NOISE = 1000


def _number(*words: str) -> int:
    return int.from_bytes(hashlib.sha256("/".join(words).encode()).digest()[:6], "big")


def serial_number(name: str) -> str:
    """Of the device called `name`."""
    return f"LW{_number('serial', name) % 10**8:08}"


@dataclass(frozen=True)
class System:
    """The device itself; `uptime_s` in whole seconds."""

    name: str
    os_name: str
    os_release: str
    serial_num: str
    uptime_s: int


def system(device: SimulatedDevice) -> System:
    """What a device says of itself."""
    kind = device.plan.system
    return System(
        device.hostname,
        kind,
        RELEASES[kind],
        device.plan.serial or serial_number(device.name),
        int(device.uptime_s),
    )


@dataclass(frozen=True)
class Port:
    """The figures of an interface: octets and packets since the device has started; `speed` in bit/s, None
    where it has none."""

    mtu: int
    speed: int | None
    in_octets: int
    out_octets: int
    in_errors: int
    out_errors: int


def port(device: SimulatedDevice, interface: Interface) -> Port:
    """What has gone through an interface. Packets are lost where a fault says so."""
    name = interface.name
    up = device.state.oper_up(device.name, name)
    rate = _number("rate", device.name, name) % 40_000 if up else 0
    return Port(
        mtu=interface.mtu,
        speed=_speed(device, interface),
        in_octets=int(rate * device.uptime_s),
        out_octets=int((rate // 2) * device.uptime_s),
        in_errors=device.fault.errors(name, device.state.now()),
        out_errors=0,
    )


def _speed(device: SimulatedDevice, interface: Interface) -> int | None:
    name = interface.name
    if name.startswith("manage"):
        return MANAGE_BIT_S
    if name.startswith("bundle"):
        bridging = device.state.bridging
        active = [one for one in bridging.members(device.name, name) if bridging.bundled(device.name, one)]
        return PORT_BIT_S * len(active) or None
    return PORT_BIT_S if name.startswith("port") else None


@dataclass(frozen=True)
class Station:
    """Who has an address on a link (RFC 826, RFC 4861)."""

    address: str
    interface: str
    link_layer_address: str
    origin: str


def stations(state: NetworkState, device: str) -> Iterator[Station]:
    """The stations that a device knows, by its interfaces."""
    for interface in state.facts(device).interfaces.values():
        networks = [address.network for address in interface.addresses]
        for other, peer in (
            state.heard(device, interface) if networks and state.oper_up(device, interface.name) else ()
        ):
            mac = _number("mac", other, peer.port) & 0xFFFFFF
            spelt = f"02:00:5e:{mac >> 16 & 255:02x}:{mac >> 8 & 255:02x}:{mac & 255:02x}"
            for address in peer.addresses:
                if any(address.version == network.version and address.ip in network for network in networks):
                    yield Station(str(address.ip), interface.name, spelt, "dynamic")


@dataclass(frozen=True)
class Sensor:
    """What a sensor says (RFC 8348): `status` is ok, unavailable or nonoperational."""

    name: str
    value: float
    units: str
    status: str


def sensors(device: SimulatedDevice) -> list[Sensor]:
    """The sensors of a device."""
    name = device.name
    return [
        Sensor("inlet", 20 + _number("inlet", name) % 8 + 0.5, "celsius", "ok"),
        Sensor("processor", float(35 + _number("processor", name) % 15), "celsius", "ok"),
        Sensor("fan1", float(3000 + _number("fan", name) % NOISE), "rpm", "ok"),
        Sensor("supply1", 12.0, "volts", "ok"),
    ]


def area(state: NetworkState, device: str, interface: str) -> str | None:
    """The OSPF area that an interface is in; None when it no longer is in any."""
    found = state.facts(device).interfaces.get(interface)
    return found.ospf.area if found is not None and found.ospf is not None else None
