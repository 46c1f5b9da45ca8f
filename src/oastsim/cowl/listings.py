"""cowl's listings: text tables, or the same after RFC 7951."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from oastsim import hardware, probes
from oastsim.model import Wrong
from oastsim.observed import lldp_neighbors

if TYPE_CHECKING:
    from oastsim.cowl.device import Device

Row = Mapping[str, Any]


@dataclass(frozen=True)
class Listing:
    """Rows of one kind, by field; `within` and `each` are what the list and an entry are called in JSON."""

    within: str
    each: str
    fields: Sequence[str]
    rows: Sequence[Row]

    def json(self, module: str) -> dict[str, Any]:
        return {
            f"{module}:{self.within}": {
                self.each: [{k: v for k, v in row.items() if v not in (None, [])} for row in self.rows]
            }
        }

    def text(self) -> str:
        cells = [list(self.fields), *([_cell(row[field]) for field in self.fields] for row in self.rows)]
        widths = [max(len(line[n]) for line in cells) for n in range(len(self.fields))]
        lines = [
            "  ".join(cell.ljust(width) for cell, width in zip(line, widths, strict=True)).rstrip()
            for line in cells
        ]
        return "\n".join([lines[0], "  ".join("-" * width for width in widths), *lines[1:]]) + "\n"


def _cell(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(map(str, value)) or "-"
    return "-" if value is None or value == "" else str(value)


def _interfaces(device: Device) -> Listing:
    state = device.state
    rows = [
        {
            "name": i.name,
            "admin-status": "up" if i.enabled else "down",
            "oper-status": "up" if state.oper_up(device.name, i.name) else "down",
            "mtu": i.mtu,
            "ipv4": [str(a) for a in i.ipv4],
            "ipv6": [str(a) for a in i.ipv6],
            **_figures(hardware.port(device, i)),
        }
        for i in state.facts(device.name).interfaces.values()
    ]
    fields = (
        "name",
        "admin-status",
        "oper-status",
        "mtu",
        "ipv4",
        "ipv6",
        "speed",
        "in-octets",
        "out-octets",
        "in-errors",
        "out-errors",
    )
    return Listing("interfaces", "interface", fields, rows)


def _figures(port: hardware.Port) -> Row:
    return {
        "speed": port.speed,
        "in-octets": port.in_octets,
        "out-octets": port.out_octets,
        "in-errors": port.in_errors,
        "out-errors": port.out_errors,
    }


def _system(device: Device) -> Listing:
    found = hardware.system(device)
    row = {
        "name": found.name,
        "os-name": found.os_name,
        "os-release": found.os_release,
        "serial-num": found.serial_num,
        "uptime": found.uptime_s,
    }
    return Listing("system", "device", tuple(row), [row])


def _stations(device: Device) -> Listing:
    rows = [
        {
            "address": s.address,
            "interface": s.interface,
            "link-layer-address": s.link_layer_address,
            "origin": s.origin,
        }
        for s in hardware.stations(device.state, device.name)
    ]
    return Listing("stations", "station", ("address", "interface", "link-layer-address", "origin"), rows)


def _users(device: Device) -> Listing:
    rows = [{"name": name, "role": role} for name, role in device.accounts()]
    return Listing("users", "user", ("name", "role"), rows)


def _environment(device: Device) -> Listing:
    rows = [
        {"name": s.name, "value": s.value, "units": s.units, "oper-status": s.status}
        for s in hardware.sensors(device)
    ]
    return Listing("environment", "sensor", ("name", "value", "units", "oper-status"), rows)


def _routes(device: Device) -> Listing:
    rows = [
        {
            "destination-prefix": r.prefix,
            "source-protocol": r.source,
            "next-hop": None if r.next_hop == "-" else r.next_hop,
            "outgoing-interface": r.interface,
            "metric": r.metric,
            "network-instance": r.instance or None,
        }
        for r in device.state.routes(device.name)
    ]
    fields = (
        "destination-prefix",
        "source-protocol",
        "next-hop",
        "outgoing-interface",
        "metric",
        "network-instance",
    )
    return Listing("routes", "route", fields, rows)


def _bgp_neighbors(device: Device) -> Listing:
    rows = [
        {
            "remote-address": s.address,
            "peer-as": s.neighbor.peer_as,
            "session-state": s.state,
            "prefixes-received": s.received,
            "last-error": s.error,
        }
        for s in device.state.sessions(device.name)
    ]
    fields = ("remote-address", "peer-as", "session-state", "prefixes-received", "last-error")
    return Listing("bgp-neighbors", "neighbor", fields, rows)


def _ntp_servers(device: Device) -> Listing:
    rows = [
        {"address": a.server.address, "stratum": a.stratum, "state": a.state}
        for a in device.state.clocks(device.name)
    ]
    return Listing("ntp-servers", "server", ("address", "stratum", "state"), rows)


def _virtual_addresses(device: Device) -> Listing:
    rows = [
        {
            "interface": one.interface,
            "vrid": one.virtual.vrid,
            "virtual-address": one.virtual.address,
            "state": one.state,
            "active-router": one.active,
            "priority": one.virtual.priority,
        }
        for one in device.state.virtual_addresses(device.name)
    ]
    fields = ("interface", "vrid", "virtual-address", "state", "active-router", "priority")
    return Listing("virtual-addresses", "virtual-address", fields, rows)


def _pair(device: Device) -> Listing:
    rows = [
        {"parameter": one.what, "here": one.here, "partner": one.partner, "agrees": one.agrees}
        for one in device.state.agreements(device.name)
    ]
    return Listing("pair", "parameter", ("parameter", "here", "partner", "agrees"), rows)


def _ospf_neighbors(device: Device) -> Listing:
    rows = [
        {
            "interface": n.interface,
            "neighbor-router-id": n.router_id,
            "address": n.address,
            "area": hardware.area(device.state, device.name, n.interface),
            "state": n.state,
        }
        for n in device.state.neighbors(device.name)
    ]
    return Listing(
        "ospf-neighbors", "neighbor", ("interface", "neighbor-router-id", "address", "area", "state"), rows
    )


def _lldp_neighbors(device: Device) -> Listing:
    rows = [
        {
            "interface": n.interface,
            "system-name": n.system_name,
            "port-id": n.port_id,
            "system-description": n.system,
        }
        for n in lldp_neighbors(device.state, device.name)
    ]
    return Listing(
        "lldp-neighbors", "neighbor", ("interface", "system-name", "port-id", "system-description"), rows
    )


def _vlans(device: Device) -> Listing:
    facts = device.state.facts(device.name)
    rows = [
        {
            "vlan-id": number,
            "name": name,
            "untagged": [
                i.name for i in facts.interfaces.values() if i.switching and i.switching.vlan == number
            ],
            "tagged": [
                i.name for i in facts.interfaces.values() if i.switching and number in i.switching.allowed
            ],
        }
        for number, name in sorted(facts.vlans.items())
    ]
    return Listing("vlans", "vlan", ("vlan-id", "name", "untagged", "tagged"), rows)


def _spanning_tree(device: Device) -> Listing:
    bridge = device.state.bridging.bridge(device.name)
    rows: list[Row] = []
    if bridge is not None:
        root = device.state.facts(bridge.root).hostname
        rows = [
            {
                "interface": p.port,
                "role": p.role,
                "state": "forwarding" if p.forwards else "discarding",
                "cost": p.cost,
                "root-bridge": root,
            }
            for p in bridge.ports.values()
        ]
    return Listing("spanning-tree", "port", ("interface", "role", "state", "cost", "root-bridge"), rows)


def _bundles(device: Device) -> Listing:
    bridging, facts = device.state.bridging, device.state.facts(device.name)
    rows = [
        {
            "name": i.name,
            "members": bridging.members(device.name, i.name),
            "active": [p for p in bridging.members(device.name, i.name) if bridging.bundled(device.name, p)],
        }
        for i in facts.interfaces.values()
        if i.name.startswith("bundle")
    ]
    return Listing("bundles", "bundle", ("name", "members", "active"), rows)


LISTINGS: Mapping[str, Callable[[Device], Listing]] = {
    "interfaces": _interfaces,
    "routes": _routes,
    "ospf-neighbors": _ospf_neighbors,
    "lldp-neighbors": _lldp_neighbors,
    "vlans": _vlans,
    "spanning-tree": _spanning_tree,
    "bundles": _bundles,
    "bgp-neighbors": _bgp_neighbors,
    "ntp-servers": _ntp_servers,
    "virtual-addresses": _virtual_addresses,
    "pair": _pair,
    "system": _system,
    "stations": _stations,
    "users": _users,
    "environment": _environment,
}


def ping(device: Device, words: str) -> str:
    return _said(lambda: probes.ping_lines(device.state, device.name, words))


def trace(device: Device, words: str) -> str:
    return _said(lambda: probes.trace_lines(device.state, device.name, words))


def _said(lines: Callable[[], Iterator[str]]) -> str:
    try:
        return "".join(f"{line}\n" for line in lines())
    except ValueError as wrong:
        raise Wrong(str(wrong)) from None
