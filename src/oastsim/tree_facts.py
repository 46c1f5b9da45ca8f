"""Parts of data trees that several systems have alike, as facts."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator

from oastsim.facts import OspfInterface
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
    made = [f"{ip}/{address['prefix-length']}" for (ip,), address in found.items() if "prefix-length" in address]
    return iter(sorted(made, key=lambda address: ipaddress.ip_interface(address)))
