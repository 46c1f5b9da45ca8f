"""Hosts that are not devices: stations, clocks, routers of other networks. They have no command line and
always run."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass
from typing import Any

from oastsim.facts import Bgp, BgpNeighbor, Facts, Interface, StaticRoute, ipv4_of, ipv6_of

PORT, MANAGEMENT = "port1", "management"
ANY = {4: "0.0.0.0/0", 6: "::/0"}
_KEYS = {"at", "addresses", "gateways", "stratum", "bgp", "mtu"}
_BGP_KEYS = {"as", "neighbors", "networks"}


@dataclass(frozen=True)
class Host:
    """Something outside: `at` is the end of its cable, or None for the management network; `addresses` have
    their lengths; `gateways` are where everything else is sent; `stratum` makes it a clock; with `as_number`
    it speaks BGP, and announces `networks`.
    """

    name: str
    at: tuple[str, str] | None
    addresses: tuple[str, ...]
    gateways: tuple[str, ...] = ()
    stratum: int | None = None
    as_number: int | None = None
    neighbors: tuple[tuple[str, int], ...] = ()
    networks: tuple[str, ...] = ()
    mtu: int = 1500

    @property
    def port(self) -> str:
        return PORT if self.at is not None else "manage0"


def read(name: str, data: Any) -> Host:
    """A host as network.yaml has it. Raises ValueError."""
    if not isinstance(data, dict):
        raise ValueError(f"outside: {name} has to be '{{addresses: [ADDRESS/LENGTH]}}'")
    unknown = sorted(map(str, set(data) - _KEYS))
    if unknown:
        raise ValueError(
            f"outside: {name} has '{unknown[0]}', which is not known; known: {', '.join(sorted(_KEYS))}"
        )
    bgp = data.get("bgp") or {}
    neighbors = bgp.get("neighbors") or {} if isinstance(bgp, dict) else None
    if (
        not isinstance(bgp, dict)
        or set(bgp) - _BGP_KEYS
        or (bgp and "as" not in bgp)
        or not isinstance(neighbors, dict)
    ):
        raise ValueError(
            f"outside: bgp of {name} has to be '{{as: NUMBER, neighbors: {{ADDRESS: AS}}, networks:"
            " [PREFIX]}'"
        )
    addresses = _texts(data.get("addresses"), name, "addresses")
    if not addresses or not all("/" in address for address in addresses):
        raise ValueError(f"outside: {name} needs 'addresses', each with its length")
    where = str(data.get("at", MANAGEMENT))
    device, _, port = where.partition(" ")
    made = Host(
        name,
        None if where == MANAGEMENT else (device, port),
        addresses,
        _texts(data.get("gateways"), name, "gateways"),
        _number(data["stratum"], name, "stratum") if "stratum" in data else None,
        _number(bgp["as"], name, "as") if bgp else None,
        tuple((str(address), _number(number, name, "neighbors")) for address, number in neighbors.items()),
        _texts(bgp.get("networks"), name, "networks"),
        _number(data.get("mtu", 1500), name, "mtu"),
    )
    try:
        facts_of(made)
        for address in (*made.gateways, *(address for address, _ in made.neighbors)):
            ipaddress.ip_address(address)
        for network in made.networks:
            ipaddress.ip_network(network)
    except ValueError as wrong:
        raise ValueError(f"outside: {name}: {wrong}") from None
    return made


def _number(value: object, name: str, key: str) -> int:
    if not isinstance(value, int) or isinstance(value, bool) or not 0 < value < 2**32:
        raise ValueError(f"outside: '{key}' of {name} has to be a number, not {value!r}")
    return value


def _texts(value: object, name: str, key: str) -> tuple[str, ...]:
    if value is None:
        return ()
    if not isinstance(value, list):
        raise ValueError(f"outside: '{key}' of {name} has to be a list")
    return tuple(map(str, value))


def facts_of(host: Host) -> Facts:
    """Read what a host is in the network. Raises ValueError for an invalid address."""
    ipv4 = tuple(ipv4_of(address) for address in host.addresses if ":" not in address)
    ipv6 = tuple(ipv6_of(address) for address in host.addresses if ":" in address)
    interface = Interface(host.port, True, host.mtu, None, ipv4, ipv6, None)
    statics = tuple(StaticRoute(ANY[6 if ":" in gateway else 4], (gateway,), 10) for gateway in host.gateways)
    bgp = None
    if host.as_number is not None:
        neighbors = {address: BgpNeighbor(number) for address, number in host.neighbors}
        bgp = Bgp(host.as_number, str(ipv4[0].ip) if ipv4 else "-", host.networks, neighbors, always=True)
    return Facts(host.name, {host.port: interface}, statics, None, bgp=bgp, stratum=host.stratum)
