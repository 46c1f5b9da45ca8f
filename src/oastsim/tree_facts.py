"""Parts of data trees that several systems have alike, as facts."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Mapping

from oastsim.facts import Bgp, BgpNeighbor, Interface, OspfInterface, chosen_router_id
from oastsim.model import Data


def ospf_interfaces(ospf: Data) -> Iterator[tuple[str, OspfInterface]]:
    """The interfaces of an instance by name, in `area[area-id]/interface[name]`."""
    for (area,), data in ospf.get("area", {}).items():
        for (name,), one in data.get("interface", {}).items():
            yield (
                name,
                OspfInterface(
                    area,
                    int(one.get("cost", 10)),
                    int(one.get("hello-interval", 10)),
                    int(one.get("dead-interval", 40)),
                    one.get("interface-type", "broadcast"),
                    one.get("passive", "false") == "true",
                ),
            )


def addresses(family: Data) -> Iterator[str]:
    """The addresses in `address[ip]/prefix-length`, sorted, each with its length."""
    found = family.get("address", {})
    made = [
        f"{ip}/{address['prefix-length']}" for (ip,), address in found.items() if "prefix-length" in address
    ]
    return iter(sorted(made, key=lambda address: ipaddress.ip_interface(address)))


def bgp_of(data: Data, interfaces: Mapping[str, Interface]) -> Bgp | None:
    """The speaker of an instance, in `as`, `identifier`, `network`, `neighbor[remote-address]`; None without
    a number."""
    if "as" not in data:
        return None
    neighbors = {
        address: BgpNeighbor(
            int(one["peer-as"]),
            one.get("local-address"),
            one.get("enabled", "true") == "true",
            int(one.get("hold-time", 90)),
        )
        for (address,), one in data.get("neighbor", {}).items()
        if "peer-as" in one
    }
    identifier = chosen_router_id(data.get("identifier"), interfaces) or "-"
    return Bgp(int(data["as"]), identifier, tuple(data.get("network", ())), neighbors)
