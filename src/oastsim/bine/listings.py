"""bine's listings: text tables with a heading, columns two spaces apart, a dash for what there is not."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from oastsim import hardware
from oastsim.observed import lldp_neighbors
from oastsim.state import NetworkState

if TYPE_CHECKING:
    from oastsim.bine.device import Device


def table(heading: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    """The rows below their heading, every column as wide as it needs."""
    widths = [max(len(row[n]) for row in (heading, *rows)) for n in range(len(heading))]
    lines = [
        "  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip()
        for row in (heading, *rows)
    ]
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


def ports(device: Device) -> str:
    state, name = device.state, device.name
    rows = []
    for interface in state.facts(name).interfaces.values():
        found = hardware.port(device, interface)
        rows.append(
            (
                interface.name,
                "up" if interface.enabled else "down",
                "up" if state.oper_up(name, interface.name) else "down",
                ",".join(str(a) for a in interface.ipv4) or "-",
                ",".join(str(a) for a in interface.ipv6) or "-",
                str(found.mtu),
                "-" if found.speed is None else f"{found.speed // 1_000_000}M",
                *map(str, (found.in_octets, found.out_octets, found.in_errors, found.out_errors)),
            )
        )
    heading = (
        "interface",
        "admin",
        "oper",
        "ipv4",
        "ipv6",
        "mtu",
        "speed",
        "in-octets",
        "out-octets",
        "in-errors",
        "out-errors",
    )
    return table(heading, rows)


def system(device: Device) -> str:
    found = hardware.system(device)
    hours, rest = divmod(found.uptime_s, 3600)
    uptime = f"{hours // 24}d {hours % 24:02}:{rest // 60:02}:{rest % 60:02}"
    lines = (
        ("name", found.name),
        ("system", f"{found.os_name} {found.os_release}"),
        ("serial", found.serial_num),
        ("up", uptime),
    )
    return "".join(f"{key:8}{value}\n" for key, value in lines)


def stations(device: Device) -> str:
    rows = [
        (s.address, s.interface, s.link_layer_address, s.origin)
        for s in hardware.stations(device.state, device.name)
    ]
    return table(("address", "interface", "link-layer", "origin"), rows)


def users(device: Device) -> str:
    return table(("user", "role"), [(name, role or "-") for name, role in device.accounts()])


def environment(device: Device) -> str:
    rows = [(s.name, f"{s.value:g}", s.units, s.status) for s in hardware.sensors(device)]
    return table(("sensor", "value", "units", "status"), rows)


def ospf_neighbors(state: NetworkState, device: str) -> str:
    rows = [
        (n.interface, n.router_id, n.address, hardware.area(state, device, n.interface) or "-", n.state)
        for n in state.neighbors(device)
    ]
    return table(("interface", "neighbor", "address", "area", "state"), rows)


def lldp_table(state: NetworkState, device: str) -> str:
    rows = [(n.interface, n.system_name, n.port_id, n.system) for n in lldp_neighbors(state, device)]
    return table(("interface", "system-name", "port-id", "system"), rows)


def route_table(state: NetworkState, device: str) -> str:
    rows = [
        (r.prefix, r.source, r.next_hop, r.interface, str(r.metric), r.instance or "-")
        for r in state.routes(device)
    ]
    return table(("prefix", "source", "next-hop", "interface", "metric", "instance"), rows)


def bgp_neighbors(state: NetworkState, device: str) -> str:
    rows = [
        (s.address, str(s.neighbor.peer_as), s.state, str(s.received), s.error or "-")
        for s in state.sessions(device)
    ]
    return table(("neighbor", "peer-as", "state", "prefixes", "last-error"), rows)


def ntp_servers(state: NetworkState, device: str) -> str:
    rows = [
        (a.server.address, "-" if a.stratum is None else str(a.stratum), a.state)
        for a in state.clocks(device)
    ]
    return table(("server", "stratum", "state"), rows)
