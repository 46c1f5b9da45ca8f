"""The readings that are the same on every platform: their fields, with types and units, named after the YANG
modules.

A platform's file says where each field stands in what a device lists. A reading that is not here is the
platform's own, and its fields are texts.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum


class ValueKind(StrEnum):
    """The type of a field's values. Lists are written with commas or spaces between. A secret is never a
    value: its fingerprint is."""

    TEXT = "text"
    NUMBER = "number"
    DECIMAL = "decimal"
    BOOLEAN = "boolean"
    CHOICE = "choice"
    ADDRESS = "address"
    PREFIX = "prefix"
    MAC = "mac-address"
    DURATION = "duration"
    NAMES = "list of names"
    INTERFACE_ADDRESSES = "list of addresses"
    FINGERPRINT = "fingerprint"


@dataclass(frozen=True, slots=True)
class FieldType:
    """The contents of a field. `choices` are all values of a choice; `key` fields distinguish the records;
    `counts` marks a counter, whose value does not depend on the configuration."""

    kind: ValueKind = ValueKind.TEXT
    help: str = ""
    unit: str | None = None
    choices: tuple[str, ...] = ()
    key: bool = False
    counts: bool = False


@dataclass(frozen=True, slots=True)
class ReadingType:
    """A reading: what one record of it is, and the document that defines it. `single`: a device has one
    record of it. `asks` are its parameters, such as the destination of a ping."""

    help: str
    source: str
    fields: Mapping[str, FieldType]
    single: bool = False
    asks: str | None = None

    @property
    def keys(self) -> tuple[str, ...]:
        """The fields that tell a record from the others."""
        return tuple(name for name, field in self.fields.items() if field.key)


TEXT = FieldType()
UP_OR_DOWN = ("up", "down", "testing", "unknown", "dormant", "not-present", "lower-layer-down")


def _text(about: str = "", *, key: bool = False) -> FieldType:
    return FieldType(ValueKind.TEXT, about, key=key)


def _number(about: str, unit: str | None = None, *, key: bool = False, counts: bool = False) -> FieldType:
    return FieldType(ValueKind.NUMBER, about, unit, key=key, counts=counts)


def _choice(about: str, *choices: str, key: bool = False) -> FieldType:
    return FieldType(ValueKind.CHOICE, about, choices=choices, key=key)


READINGS: Mapping[str, ReadingType] = {
    "system": ReadingType(
        "the device itself",
        "ietf-system (RFC 7317), ietf-hardware (RFC 8348)",
        {
            "name": _text("its host name"),
            "os-name": _text("the operating system"),
            "os-release": _text("the version of the operating system"),
            "serial-num": _text("its serial number"),
            "uptime": FieldType(ValueKind.DURATION, "time since the last start", "s", counts=True),
        },
        single=True,
    ),
    "interfaces": ReadingType(
        "an interface",
        "ietf-interfaces (RFC 8343), ietf-ip (RFC 8344)",
        {
            "name": _text("as the device names it", key=True),
            "admin-status": _choice("as configured", "up", "down", "testing"),
            "oper-status": _choice("as it is", *UP_OR_DOWN),
            "ipv4-address": FieldType(ValueKind.INTERFACE_ADDRESSES, "with prefix length"),
            "ipv6-address": FieldType(
                ValueKind.INTERFACE_ADDRESSES, "with prefix length, without link-local ones"
            ),
            "mtu": _number("the largest packet, in bytes", "octets"),
            "speed": _number("of a port", "bit/s"),
            "in-octets": _number("received", "octets", counts=True),
            "out-octets": _number("sent", "octets", counts=True),
            "in-errors": _number("received packets with errors", "packets", counts=True),
            "out-errors": _number("packets that could not be sent", "packets", counts=True),
        },
    ),
    "lldp-neighbors": ReadingType(
        "a neighbor that announces itself at the other end of a cable",
        "IEEE 802.1AB",
        {
            "interface": _text("the device's own", key=True),
            "system-name": _text("the neighbor's host name", key=True),
            "port-id": _text("its interface"),
        },
    ),
    "vlans": ReadingType(
        "a VLAN of a switch",
        "IEEE 802.1Q",
        {
            "vlan-id": _number("its number", key=True),
            "name": _text(),
            "untagged": FieldType(ValueKind.NAMES, "interfaces in it without a tag"),
            "tagged": FieldType(ValueKind.NAMES, "interfaces in it with a tag"),
        },
    ),
    "spanning-tree": ReadingType(
        "an interface in the spanning tree",
        "IEEE 802.1Q, section 13",
        {
            "interface": _text("", key=True),
            "role": _choice("", "root", "designated", "alternate", "backup", "disabled"),
            "state": _choice("", "forwarding", "learning", "discarding"),
            "root-bridge": _text("the host name of the root"),
            "cost": _number("cost of the path to the root through it"),
        },
    ),
    "aggregates": ReadingType(
        "interfaces bundled into one",
        "IEEE 802.1AX",
        {
            "name": _text("", key=True),
            "members": FieldType(ValueKind.NAMES, "configured members"),
            "active": FieldType(ValueKind.NAMES, "that are"),
        },
    ),
    "routes": ReadingType(
        "an active route",
        "ietf-routing (RFC 8349)",
        {
            "destination-prefix": FieldType(ValueKind.PREFIX, "destination", key=True),
            "network-instance": _text("None for the device's own table", key=True),
            "source-protocol": _choice(
                "the protocol that provides it", "direct", "static", "ospf", "bgp", "isis", "rip"
            ),
            "next-hop": FieldType(ValueKind.ADDRESS, "None for a connected network", key=True),
            "outgoing-interface": _text("", key=True),
            "metric": _number("in the metric of its protocol"),
        },
    ),
    "ip-neighbors": ReadingType(
        "an address on a link and its link-layer address (ARP and neighbor discovery)",
        "ietf-ip (RFC 8344)",
        {
            "address": FieldType(ValueKind.ADDRESS, "", key=True),
            "interface": _text("", key=True),
            "link-layer-address": FieldType(ValueKind.MAC, "None while it is unresolved"),
            "origin": _choice("", "static", "dynamic", "other"),
        },
    ),
    "ospf-neighbors": ReadingType(
        "another OSPF router on a link",
        "ietf-ospf (RFC 9129)",
        {
            "interface": _text("", key=True),
            "neighbor-router-id": FieldType(ValueKind.ADDRESS, "", key=True),
            "address": FieldType(ValueKind.ADDRESS, "the neighbor's address on the link"),
            "area": FieldType(ValueKind.ADDRESS, "as dotted quad"),
            "state": _choice(
                "", "down", "attempt", "init", "2-way", "exstart", "exchange", "loading", "full"
            ),
        },
    ),
    "bgp-neighbors": ReadingType(
        "a configured BGP session",
        "RFC 4271, section 8",
        {
            "remote-address": FieldType(ValueKind.ADDRESS, "", key=True),
            "peer-as": _number("the configured AS"),
            "session-state": _choice(
                "", "idle", "connect", "active", "opensent", "openconfirm", "established"
            ),
            "prefixes-received": _number("number of prefixes received"),
            "last-error": _text("reason of its last end"),
        },
    ),
    "virtual-addresses": ReadingType(
        "an address that routers on a link share",
        "ietf-vrrp (RFC 8347)",
        {
            "interface": _text("", key=True),
            "vrid": _number("the number of the virtual router", key=True),
            "virtual-address": FieldType(ValueKind.ADDRESS, "", key=True),
            "state": _choice("", "initialize", "backup", "active"),
            "active-router": _text("the active router"),
            "priority": _number("the device's own"),
        },
    ),
    "redundancy": ReadingType(
        "settings that must be equal on a device and its partner",
        "of the pair",
        {
            "parameter": _text("", key=True),
            "here": _text("value on this device"),
            "partner": _text("value on the partner"),
            "agrees": FieldType(ValueKind.BOOLEAN, "whether they match"),
        },
    ),
    "ntp": ReadingType(
        "a time server",
        "ietf-ntp (RFC 9249)",
        {
            "address": FieldType(ValueKind.ADDRESS, "", key=True),
            "stratum": _number("distance from a reference clock"),
            "state": _choice("", "system-peer", "candidate", "unreachable", "rejected"),
        },
    ),
    "users": ReadingType(
        "a user account",
        "ietf-system (RFC 7317)",
        {"name": _text("", key=True), "role": _text("role of the user")},
    ),
    "communities": ReadingType(
        "an SNMP community",
        "ietf-snmp (RFC 7407)",
        {
            "community": FieldType(ValueKind.FINGERPRINT, "shown as a fingerprint", key=True),
            "access": _text("what it allows"),
        },
    ),
    "environment": ReadingType(
        "a sensor's value",
        "ietf-hardware (RFC 8348)",
        {
            "name": _text("", key=True),
            "value": FieldType(ValueKind.DECIMAL, "in the given unit"),
            "units": _text("such as celsius, rpm or volts"),
            "oper-status": _choice("", "ok", "unavailable", "nonoperational"),
        },
    ),
    "ping": ReadingType(
        "whether an address answers pings from the device",
        "RFC 792, RFC 4443",
        {
            "answered": FieldType(ValueKind.BOOLEAN, "whether it answered", key=True),
            "said": _text("as the device says it"),
        },
        single=True,
        asks="destination",
    ),
    "trace": ReadingType(
        "a router on the path to an address, and how the path ends",
        "RFC 1393",
        {
            "hop": _number("number of the hop"),
            "address": FieldType(ValueKind.ADDRESS, "the address at which it receives the packets"),
            "name": _text("its host name"),
            "arrived": FieldType(ValueKind.BOOLEAN, "at the end: whether the destination answers"),
            "said": _text("at the end, as the device says it"),
        },
        asks="destination",
    ),
}
