"""Derived checks of what is above the interfaces: names, users, time, static routes, BGP, addresses that are
shared."""

from __future__ import annotations

import fnmatch
from collections import defaultdict
from collections.abc import Iterator, Mapping

from oast.config import Path
from oast.verify.checks import Check, Operator
from oast.verify.intent_facts import IntentFacts


def device_checks(meant: IntentFacts) -> Iterator[Check]:
    """What follows from a device's own intent."""
    yield from _name(meant)
    yield from _users(meant)
    yield from _communities(meant)
    yield from _time(meant)
    yield from _static_routes(meant)


def _name(meant: IntentFacts) -> Iterator[Check]:
    found = meant.role("hostname")
    if found and meant.reads("system", "name"):
        path, node = found[0]
        yield Check(
            meant.name, "the host name is as intended", "system", {}, "name", node.statement.value, (path,)
        )


def _users(meant: IntentFacts) -> Iterator[Check]:
    """Those whom a section owns are exactly those intended."""
    if not meant.reads("users", "name"):
        return
    entries = meant.role("user")
    for glob in dict.fromkeys(meant.owned("user")):
        match = {"name": glob}
        paths: tuple[Path, ...] = tuple(path for path, _ in entries)
        names = frozenset(
            name for _, node in entries if fnmatch.fnmatchcase(name := node.statement.value, glob)
        )
        title = "the users are as intended" if glob == "*" else f"the users {glob} are as intended"
        expected = ", ".join(sorted(names)) or "none"
        yield Check(
            meant.name, title, "users", match, "name", expected, paths, test=Operator.EXACTLY, values=names
        )


def _communities(meant: IntentFacts) -> Iterator[Check]:
    """The SNMP communities that a section owns are exactly the intended ones, shown as fingerprints."""
    if not meant.reads("communities", "community") or "*" not in meant.owned("community"):
        return
    entries = meant.role("community")
    values = frozenset(
        meant.platform.grammar.fingerprints.shown(node.statement.arguments[0] or "") for _, node in entries
    )
    expected = ", ".join(sorted(values)) or "none"
    paths: tuple[Path, ...] = tuple(path for path, _ in entries)
    title = "the SNMP communities are as intended"
    # What a push has sent it reads again in any case; the whole configuration once more at every look would
    # be for nothing.
    yield Check(
        meant.name,
        title,
        "communities",
        {},
        "community",
        expected,
        paths,
        test=Operator.EXACTLY,
        values=values,
        wide=True,
    )


def _time(meant: IntentFacts) -> Iterator[Check]:
    servers = meant.role("ntp_server")
    if servers and meant.reads("ntp", "state"):
        paths = tuple(path for path, _ in servers)
        # A clock is believed only after minutes (RFC 5905): no change waits for that.
        match = {"state": "system-peer"}
        yield Check(
            meant.name,
            "the clock is synchronized",
            "ntp",
            match,
            None,
            "at least 1",
            paths,
            least=1,
            test=Operator.COUNT,
            wide=True,
        )


def _static_routes(meant: IntentFacts) -> Iterator[Check]:
    if not meant.reads("routes", "destination-prefix"):
        return
    for role in ("static_route", "static_route_ipv6"):
        for path, node in meant.role(role):
            prefix = str(node.statement.arguments[0])
            match = {"destination-prefix": prefix}
            title = f"the static route to {prefix} is in the routing table"
            yield Check(
                meant.name, title, "routes", match, None, "at least 1", (path,), least=1, test=Operator.COUNT
            )


def pair_checks(every: Mapping[str, IntentFacts]) -> Iterator[Check]:
    """What follows from the intents of several devices."""
    holders: dict[str, str] = {}
    for meant in every.values():
        for held in meant.addresses.values():
            holders.update({str(address.ip): meant.name for address in held})
    for meant in every.values():
        yield from _bgp(meant, holders)
    yield from _shared(every)


def _bgp(meant: IntentFacts, holders: Mapping[str, str]) -> Iterator[Check]:
    """Every configured neighbour is established, with the right AS."""
    if not meant.reads("bgp-neighbors", "session-state"):
        return
    for path, node in meant.role("bgp_neighbor"):
        address = node.statement.value
        enabled, peer_as = meant.below("bgp_enabled", path), meant.below("bgp_peer_as", path)
        if enabled is not None and enabled.statement.value == "false":
            continue
        far = holders.get(address)
        who = f"{far} ({address})" if far is not None else address
        match = {"remote-address": address}
        title = f"BGP neighbor {who} is established"
        yield Check(
            meant.name, title, "bgp-neighbors", match, "session-state", "established", (path,), peer=far
        )
        if peer_as is not None and meant.reads("bgp-neighbors", "peer-as"):
            title = f"BGP neighbor {who} is in its AS"
            yield Check(
                meant.name,
                title,
                "bgp-neighbors",
                match,
                "peer-as",
                peer_as.statement.value,
                (path,),
                peer=far,
            )


def _shared(every: Mapping[str, IntentFacts]) -> Iterator[Check]:
    """Of the routers that have an address together, the one with the highest priority answers, and the others
    stand by."""
    groups: dict[str, list[tuple[int, IntentFacts, str, Path]]] = defaultdict(list)
    for meant in every.values():
        if not meant.reads("virtual-addresses", "state"):
            continue
        for role in ("virtual_router", "virtual_router_ipv6"):
            for path, _ in meant.role(role):
                address = meant.below(f"{role}_address", path)
                priority = meant.below(f"{role}_priority", path)
                holder = next((one for one in meant.interfaces if path[: len(one.path)] == one.path), None)
                if address is not None and holder is not None and not holder.is_off:
                    first = int(priority.statement.value) if priority is not None else 100
                    groups[address.statement.value].append((first, meant, holder.name, path))
    for shared, members in groups.items():
        highest = max(first for first, *_ in members)
        if sum(first == highest for first, *_ in members) > 1:
            continue  # the addresses decide who answers then, and traffic is not affected
        for first, meant, interface, path in members:
            state = "active" if first == highest else "backup"
            match = {"interface": interface, "virtual-address": shared}
            title = f"{shared} on {interface} is {state} here"
            peer = next((other.name for _, other, *_ in members if other is not meant), None)
            yield Check(meant.name, title, "virtual-addresses", match, "state", state, (path,), peer=peer)
