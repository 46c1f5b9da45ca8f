"""Who gets the time from whom (RFC 9249, RFC 5905)."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator
from dataclasses import dataclass

from oastsim.facts import Address, Facts, NtpServer
from oastsim.forwarding import Forwarding, Packet
from oastsim.known import Known


@dataclass(frozen=True)
class Association:
    """A clock that a device asks: `state` is system-peer for the one that it follows, candidate, or
    unreachable."""

    server: NtpServer
    stratum: int | None
    state: str


def associations(known: Known, forwarding: Forwarding, device: str) -> Iterator[Association]:
    """The clocks of a device in the order of its configuration. It follows one that it prefers, then the
    best, then the first."""
    facts = known.facts[device]
    strata = [(server, _stratum(known, forwarding, device, facts, server)) for server in facts.ntp]
    heard = [
        (not server.prefer, stratum, number)
        for number, (server, stratum) in enumerate(strata)
        if stratum is not None
    ]
    followed = min(heard)[2] if heard else None
    for number, (server, stratum) in enumerate(strata):
        state = "unreachable" if stratum is None else "system-peer" if number == followed else "candidate"
        yield Association(server, stratum, state)


def _stratum(
    known: Known, forwarding: Forwarding, device: str, facts: Facts, server: NtpServer
) -> int | None:
    target = ipaddress.ip_address(server.address)
    source = _source(forwarding, device, facts, target)
    if source is None:
        return None
    asked = forwarding.exchange(device, Packet(source, target, "udp", 123, server.port))
    at = asked.there.hops[-1].device if asked.there.hops else device
    return known.facts[at].stratum if asked.arrived and at != device else None


def _source(forwarding: Forwarding, device: str, facts: Facts, target: Address) -> Address | None:
    if facts.ntp_source is None:
        return forwarding.source(device, target)
    interface = facts.interfaces.get(facts.ntp_source)
    own = forwarding.own(device)
    return (
        next((ip for ip in interface.ips if ip.version == target.version and str(ip) in own), None)
        if interface
        else None
    )
