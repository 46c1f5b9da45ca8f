"""What devices learn of each other: LLDP (IEEE 802.1AB)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from oastsim.state import NetworkState


@dataclass(frozen=True)
class LldpNeighbor:
    """Who is at the other end of the cable in a port: its name, its port, its system."""

    interface: str
    system_name: str
    port_id: str
    system: str


def lldp_neighbors(state: NetworkState, device: str) -> Iterator[LldpNeighbor]:
    """Return the neighbors of a device, by its ports; a device with a carrier is heard, whatever else is
    wrong. Hosts that are not devices send nothing."""
    for name in state.facts(device).interfaces:
        other = state.link(device, name)
        system = state.system(other[0]) if other is not None else None
        if (
            other is not None
            and system is not None
            and state.bridging.carrier(device, name)
            and state.bridging.carrier(*other)
        ):
            yield LldpNeighbor(name, state.facts(other[0]).hostname, other[1], system)
