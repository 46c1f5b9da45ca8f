"""How long the simulated network takes to work out every table of a hundred routers again after a link has
changed its cost."""

from __future__ import annotations

import time

from oastsim.bine.configuration import Configuration
from oastsim.bine.facts import facts_of
from oastsim.network import DevicePlan, NetworkPlan
from oastsim.state import NetworkState

ROUTERS, CHORDS = 100, 3
PORTS = frozenset(f"port{n}" for n in range(1, 12))


def _cabling() -> tuple[list[tuple[tuple[str, str], tuple[str, str]]], dict[str, dict[str, str]]]:
    """A ring in which every third router has a chord to another; the addresses of its ports."""
    pairs = [(n, (n + 1) % ROUTERS) for n in range(ROUTERS)] + [
        (n, (n + 37) % ROUTERS) for n in range(0, ROUTERS, CHORDS)
    ]
    ports: dict[str, dict[str, str]] = {f"r{n}": {} for n in range(ROUTERS)}
    links = []
    for number, pair in enumerate(pairs):
        ends = []
        for low, n in enumerate(pair):
            port = f"port{len(ports[f'r{n}']) + 1}"
            ports[f"r{n}"][port] = f"198.51.{100 + number // 128}.{number % 128 * 2 + low}/31"
            ends.append((f"r{n}", port))
        links.append((ends[0], ends[1]))
    return links, ports


def _text(number: int, ports: dict[str, str], cost: int) -> str:
    """A router in OSPF on all its ports; four of them speak BGP to each other."""
    lines = ["interface loop0", "  ipv4", f"    address 203.0.113.{number + 1}/32"]
    for port, address in ports.items():
        lines += [f"interface {port}", "  ipv4", f"    address {address}"]
    lines += ["ospf", "  area 0", "    interface loop0", "      passive true"]
    for port in ports:
        lines += [f"    interface {port}", f"      cost {cost}"]
    if number % 25 == 0:
        lines += ["bgp", "  as 64500", f"  network 203.0.113.{number + 1}/32"]
        for other in range(0, ROUTERS, 25):
            if other != number:
                lines += [
                    f"  neighbor 203.0.113.{other + 1}",
                    "    peer-as 64500",
                    f"    local-address 203.0.113.{number + 1}",
                ]
    return "\n".join(lines) + "\n"


def seconds_to_converge() -> float:
    """From the change to the last of all tables, the adjacencies' own time left out."""
    links, ports = _cabling()
    now = 0.0
    devices = tuple(DevicePlan(name, "bine", PORTS, frozenset(), "192.0.2.1", "") for name in ports)
    state = NetworkState(NetworkPlan(devices, tuple(links), (), "x", 0.5), lambda: now)

    def load(number: int, cost: int) -> None:
        configuration = Configuration(PORTS)
        configuration.load(_text(number, ports[f"r{number}"], cost))
        state.update(f"r{number}", facts_of(configuration))

    for number in range(ROUTERS):
        load(number, 10)
    now = 60.0
    tables = [len(state.routes(name)) for name in ports]
    now = 120.0
    assert min(tables) > ROUTERS, "not every router knows every other"
    started = time.perf_counter()
    load(7, 3)
    for name in ports:
        state.routes(name)
        state.sessions(name)
    return time.perf_counter() - started
