"""Routers that stand for each other: addresses that several have together (RFC 9568), and pairs that have to
be configured alike."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from oastsim.bridging import Bridging
from oastsim.facts import Address, Facts, Interface, VirtualAddress
from oastsim.known import Known


@dataclass(frozen=True)
class VirtualState:
    """A virtual address on an interface: `state` is active, backup or initialize (RFC 9568, section 6.3);
    `active` is the address of the router that answers."""

    interface: str
    virtual: VirtualAddress
    state: str
    active: str | None


class VirtualAddresses:
    """Who answers for the virtual addresses of the network."""

    def __init__(self, known: Known, bridging: Bridging) -> None:
        self._known = known
        self._bridging = bridging

    def states(self, device: str) -> Iterator[VirtualState]:
        """The virtual addresses of a device, in the order of its interfaces."""
        for interface in self._known.facts[device].interfaces.values():
            for virtual in interface.virtual:
                yield self._state(device, interface, virtual)

    def answers(self, device: str, interface: Interface, address: Address) -> bool:
        """Whether an interface answers for a virtual address."""
        return any(
            v.address == str(address) and self._state(device, interface, v).state == "active"
            for v in interface.virtual
        )

    def _state(self, device: str, interface: Interface, virtual: VirtualAddress) -> VirtualState:
        own = _first(interface, virtual)
        if own is None or not self._bridging.up(device, interface.name):
            return VirtualState(interface.name, virtual, "initialize", None)
        best, state = (virtual.priority, own), "active"
        for other, peer in self._bridging.heard(device, interface):
            for theirs in peer.virtual:
                address = _first(peer, theirs)
                same = theirs.vrid == virtual.vrid and (":" in theirs.address) == (":" in virtual.address)
                if address is None or not same or not self._bridging.up(other, peer.name):
                    continue
                # The higher priority, then the higher address (RFC 9568, section 6.4.3).
                if (theirs.priority, address) > best:
                    best, state = (theirs.priority, address), "backup"
        return VirtualState(interface.name, virtual, state, str(best[1]))


def _first(interface: Interface, virtual: VirtualAddress) -> Address | None:
    """The interface's own address in the family of the virtual one."""
    return next((ip for ip in interface.ips if (ip.version == 6) == (":" in virtual.address)), None)


@dataclass(frozen=True)
class Agreement:
    """A setting that both partners of a pair must share, here and at the partner; None where it is
    missing."""

    what: str
    here: str | None
    partner: str | None

    @property
    def agrees(self) -> bool:
        return self.here == self.partner and self.here is not None


def agreements(known: Known, bridging: Bridging, device: str) -> list[Agreement]:
    """What a device of a pair and its partner have to have alike; none where the device is not
    one of a pair."""
    facts = known.facts[device]
    if facts.pair is None:
        return []
    partner = _partner(known, bridging, device)
    there = known.facts[partner] if partner is not None else None
    named = there.pair.partner if there is not None and there.pair is not None else None
    found = [
        Agreement(
            "partner",
            "seen" if partner is not None else "not seen",
            "seen" if named == facts.hostname else "not seen",
        )
    ]
    if partner is None or there is None:
        return [Agreement("partner", "not seen", None)]
    ours, theirs = _alike(facts), _alike(there)
    found.extend(Agreement(what, ours.get(what), theirs.get(what)) for what in sorted({*ours, *theirs}))
    return found


def _partner(known: Known, bridging: Bridging, device: str) -> str | None:
    """The device at the other end of the pair's link that has the partner's name."""
    pair = known.facts[device].pair
    if pair is None:
        return None
    for port in bridging.members(device, pair.link):
        far = known.links.get((device, port))
        if (
            far is not None
            and bridging.carrier(device, port)
            and known.facts[far[0]].hostname == pair.partner
        ):
            return far[0]
    return None


def _alike(facts: Facts) -> Mapping[str, str]:
    """What must be equal on both partners."""
    found = {"spanning-tree": "enabled" if facts.bridge_priority is not None else "disabled"}
    found.update({f"vlan {number}": name or "without a name" for number, name in facts.vlans.items()})
    for interface in facts.interfaces.values():
        if not interface.name.startswith("vlan"):
            continue
        found[f"{interface.name} networks"] = (
            ", ".join(sorted(str(a.network) for a in interface.addresses)) or "none"
        )
        found[f"{interface.name} mtu"] = str(interface.mtu)
        for virtual in interface.virtual:
            found[
                f"{interface.name} virtual-address {virtual.vrid}"
                f" {'ipv6' if ':' in virtual.address else 'ipv4'}"
            ] = virtual.address
    return found
