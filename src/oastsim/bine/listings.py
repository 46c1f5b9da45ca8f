"""bine's listings: text tables with a heading, columns two spaces apart, a dash for what there is not."""

from __future__ import annotations

from collections.abc import Sequence

from oastsim.observed import lldp_neighbors
from oastsim.state import NetworkState


def table(heading: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    """The rows below their heading, every column as wide as it needs."""
    widths = [max(len(row[n]) for row in (heading, *rows)) for n in range(len(heading))]
    lines = ["  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip() for row in (heading, *rows)]
    return "".join(line + "\n" for line in lines)


def interfaces(state: NetworkState, device: str) -> str:
    rows = []
    for interface in state.facts(device).interfaces.values():
        rows.append(
            (
                interface.name,
                "up" if interface.enabled else "down",
                "up" if state.oper_up(device, interface.name) else "down",
                ",".join(str(a) for a in interface.ipv4) or "-",
                ",".join(str(a) for a in interface.ipv6) or "-",
            )
        )
    return table(("interface", "admin", "oper", "ipv4", "ipv6"), rows)


def ospf_neighbors(state: NetworkState, device: str) -> str:
    rows = [(n.interface, n.router_id, n.address, n.state) for n in state.neighbors(device)]
    return table(("interface", "neighbor", "address", "state"), rows)


def lldp_table(state: NetworkState, device: str) -> str:
    rows = [(n.interface, n.system_name, n.port_id, n.system) for n in lldp_neighbors(state, device)]
    return table(("interface", "system-name", "port-id", "system"), rows)


def route_table(state: NetworkState, device: str) -> str:
    rows = [(r.prefix, r.source, r.next_hop, r.interface, str(r.metric), r.instance or "-") for r in state.routes(device)]
    return table(("prefix", "source", "next-hop", "interface", "metric", "instance"), rows)


def bgp_neighbors(state: NetworkState, device: str) -> str:
    rows = [(s.address, str(s.neighbor.peer_as), s.state, str(s.received), s.error or "-") for s in state.sessions(device)]
    return table(("neighbor", "peer-as", "state", "prefixes", "last-error"), rows)


def ntp_servers(state: NetworkState, device: str) -> str:
    rows = [(a.server.address, "-" if a.stratum is None else str(a.stratum), a.state) for a in state.clocks(device)]
    return table(("server", "stratum", "state"), rows)
