"""The state of a roundel beside its configuration: RFC 8343, RFC 8349, and what its own modules say."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from lxml import etree

from oastsim import hardware
from oastsim.observed import lldp_neighbors
from oastsim.roundel.elements import PREFIXES, Element
from oastsim.roundel.schema import NAMESPACES

if TYPE_CHECKING:
    from oastsim.roundel.device import Device

__all__ = ["PREFIXES", "with_state"]
_SOURCES = {
    "direct": ("ietf-routing", "direct"),
    "static": ("ietf-routing", "static"),
    "ospf": ("roundel-ospf", "ospf"),
    "bgp": ("roundel-bgp", "bgp"),
}


def _tag(module: str, name: str) -> str:
    return f"{{{NAMESPACES[module]}}}{name}"


def _put(outer: Element, module: str, name: str, text: str | None = None) -> Element:
    element = etree.SubElement(outer, _tag(module, name), nsmap={None: NAMESPACES[module]})
    element.text = text
    return element


def _top(elements: list[Element], module: str, name: str) -> Element:
    """Return the top element, and create it where it has no configuration."""
    found = next((one for one in elements if one.tag == _tag(module, name)), None)
    if found is None:
        found = etree.Element(_tag(module, name), nsmap={None: NAMESPACES[module]})
        elements.append(found)
    return found


def with_state(device: Device, elements: list[Element], requested: set[str] | None = None) -> list[Element]:
    """Return the configuration with the state of the device, only for the top names in `requested`."""
    for module, name, put in _PARTS:
        if requested is None or _tag(module, name) in requested:
            put(device, _top(elements, module, name))
    return elements


def _interfaces(device: Device, interfaces: Element) -> None:
    """RFC 8343, section 5."""
    state, name = device.state, device.name
    for element in interfaces:
        own = element.findtext(_tag("ietf-interfaces", "name")) or ""
        _put(
            element,
            "ietf-interfaces",
            "admin-status",
            "up" if state.facts(name).interfaces[own].enabled else "down",
        )
        _put(element, "ietf-interfaces", "oper-status", "up" if state.oper_up(name, own) else "down")
        figures = hardware.port(device, state.facts(name).interfaces[own])
        if figures.speed is not None:
            _put(element, "ietf-interfaces", "speed", str(figures.speed))
        statistics = _put(element, "ietf-interfaces", "statistics")
        for leaf, number in (
            ("in-octets", figures.in_octets),
            ("in-errors", figures.in_errors),
            ("out-octets", figures.out_octets),
            ("out-errors", figures.out_errors),
        ):
            _put(statistics, "ietf-interfaces", leaf, str(number))
        _put(element, "roundel-hardware", "largest-packet", str(figures.mtu))


def _hardware(device: Device, top: Element) -> None:
    found = hardware.system(device)
    for leaf, text in (
        ("name", found.name),
        ("os-name", found.os_name),
        ("os-release", found.os_release),
        ("serial-num", found.serial_num),
        ("uptime", str(found.uptime_s)),
    ):
        _put(top, "roundel-hardware", leaf, text)
    for sensor in hardware.sensors(device):
        entry = _put(top, "roundel-hardware", "sensor")
        for leaf, text in (
            ("name", sensor.name),
            ("value", f"{sensor.value:.1f}"),
            ("units", sensor.units),
            ("oper-status", sensor.status),
        ):
            _put(entry, "roundel-hardware", leaf, text)
    for station in hardware.stations(device.state, device.name):
        entry = _put(top, "roundel-hardware", "station")
        for leaf, text in (
            ("interface", station.interface),
            ("address", station.address),
            ("link-layer-address", station.link_layer_address),
            ("origin", station.origin),
        ):
            _put(entry, "roundel-hardware", leaf, text)


def _routing(device: Device, routing: Element) -> None:
    _protocol_state(device, routing)
    _ribs(device, routing)


def _lldp(device: Device, lldp: Element) -> None:
    for neighbor in lldp_neighbors(device.state, device.name):
        entry = _put(lldp, "roundel-lldp", "neighbor")
        for leaf, text in (
            ("interface", neighbor.interface),
            ("system-name", neighbor.system_name),
            ("port-id", neighbor.port_id),
        ):
            _put(entry, "roundel-lldp", leaf, text)


def _clocks(device: Device, clocks: Element) -> None:
    for clock in device.state.clocks(device.name):
        entry = _put(clocks, "roundel-ntp", "association")
        _put(entry, "roundel-ntp", "address", clock.server.address)
        if clock.stratum is not None:
            _put(entry, "roundel-ntp", "stratum", str(clock.stratum))
        _put(entry, "roundel-ntp", "state", clock.state)


def _protocol_state(device: Device, routing: Element) -> None:
    """The neighbours of the protocols that are configured."""
    for ospf in routing.iter(_tag("roundel-ospf", "ospf")):
        for neighbor in device.state.neighbors(device.name):
            entry = _put(ospf, "roundel-ospf", "neighbor")
            _put(entry, "roundel-ospf", "interface", neighbor.interface)
            _put(entry, "roundel-ospf", "neighbor-router-id", neighbor.router_id)
            _put(entry, "roundel-ospf", "address", neighbor.address)
            area = hardware.area(device.state, device.name, neighbor.interface)
            if area is not None:
                _put(entry, "roundel-ospf", "area-id", area)
            _put(entry, "roundel-ospf", "state", neighbor.state)
    sessions = {session.address: session for session in device.state.sessions(device.name)}
    for entry in routing.iter(_tag("roundel-bgp", "neighbor")):
        session = sessions.get(entry.findtext(_tag("roundel-bgp", "remote-address")) or "")
        if session is not None:
            _put(entry, "roundel-bgp", "session-state", session.state)
            _put(entry, "roundel-bgp", "prefixes-received", str(session.received))
            if session.error is not None:
                _put(entry, "roundel-bgp", "last-error", session.error)


def _ribs(device: Device, routing: Element) -> None:
    """RFC 8349, section 5.2: a table for each family of addresses."""
    ribs = _put(routing, "ietf-routing", "ribs")
    for family in ("ipv4", "ipv6"):
        module = f"ietf-{family}-unicast-routing"
        rib = _put(ribs, "ietf-routing", "rib")
        _put(rib, "ietf-routing", "name", f"{family}-main")
        kind = _put(rib, "ietf-routing", "address-family")
        kind.text = f"{family[:2]}:{family}-unicast"
        kind = _identity(kind, "address-family", module, f"{family}-unicast")
        table = _put(rib, "ietf-routing", "routes")
        for route in device.state.routes(device.name):
            if (":" in route.prefix) != (family == "ipv6"):
                continue
            entry = _put(table, "ietf-routing", "route")
            _put(entry, module, "destination-prefix", route.prefix)
            hop = _put(entry, "ietf-routing", "next-hop")
            if route.discards is not None:
                _put(hop, "ietf-routing", "special-next-hop", route.discards)
            else:
                _put(hop, "ietf-routing", "outgoing-interface", route.interface)
            if route.next_hop != "-":
                _put(hop, module, "next-hop-address", route.next_hop)
            owner, source = _SOURCES[route.source]
            _identity(_put(entry, "ietf-routing", "source-protocol"), "source-protocol", owner, source)
            _put(entry, "ietf-routing", "metric", str(route.metric))
            if route.instance:
                _put(entry, "roundel-instance", "network-instance", route.instance)


def _identity(element: Element, name: str, module: str, identity: str) -> Element:
    """The element again, with an identity and the prefix that it needs."""
    outer = element.getparent()
    outer.remove(element)
    if module == "ietf-routing":
        return _put(outer, module, name, identity)
    made = etree.SubElement(
        outer, _tag("ietf-routing", name), nsmap={None: NAMESPACES["ietf-routing"], "x": NAMESPACES[module]}
    )
    made.text = f"x:{identity}"
    return made


_PARTS: tuple[tuple[str, str, Callable[[Device, Element], None]], ...] = (
    ("ietf-interfaces", "interfaces", _interfaces),
    ("ietf-routing", "routing", _routing),
    ("roundel-hardware", "hardware", _hardware),
    ("roundel-lldp", "lldp", _lldp),
    ("roundel-ntp", "ntp-state", _clocks),
)
