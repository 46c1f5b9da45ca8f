"""What a configuration says of interfaces, addresses and neighbours, found by the roles that its platform
declares."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from oast.config import Node, Path
from oast.platforms import Platform, Rule

InterfaceAddress = ipaddress.IPv4Interface | ipaddress.IPv6Interface


@dataclass(frozen=True)
class Interface:
    """One interface entry: its path in the tree, and whether it is shut on purpose."""

    name: str
    path: Path
    node: Node
    is_off: bool


def with_role(platform: Platform, tree: Node, role: str) -> Iterator[tuple[Path, Node]]:
    """Every statement that has the role; none where the platform declares no such role."""
    if role in platform.roles:
        yield from tree.find(platform.roles[role])


def interfaces(platform: Platform, tree: Node) -> Iterator[Interface]:
    """The interface entries of a configuration."""
    for path, node in with_role(platform, tree, "interface"):
        yield Interface(node.statement.value, path, node, is_off(platform, node))


def is_off(platform: Platform, entry: Node) -> bool:
    """Whether an interface entry is shut on purpose (RFC 8343, `enabled`)."""
    enabled, outer = platform.roles.get("enabled", ""), entry.statement.rule
    if not enabled.startswith(f"{outer.path}/"):
        return False
    inner = enabled[len(outer.path) + 1 :].split("/")
    leaf = entry.at(inner)
    if leaf is not None:
        return leaf.statement.value == "false"
    rule: Rule | None = outer
    for name in inner:
        rule = rule.children.get(name) if rule is not None else None
    return rule is not None and rule.default is not None and rule.default[0] == "false"


def addresses(platform: Platform, entry: Node) -> list[tuple[Path, InterfaceAddress]]:
    """The addresses below an interface entry, each with its path below the entry."""
    found: list[tuple[Path, InterfaceAddress]] = []
    for family in ("ipv4", "ipv6"):
        for path, node in with_role(platform, entry, f"{family}_address"):
            # The length may stand in a leaf of its own (RFC 8344).
            length = next(
                (
                    f"/{leaf.statement.value}"
                    for _, leaf in with_role(platform, node, f"{family}_prefix_length")
                ),
                "",
            )
            try:
                found.append((path, ipaddress.ip_interface(f"{node.statement.value}{length}")))
            except ValueError:
                continue  # a platform may allow names in the place of an address
    return found


def bound_interfaces(platform: Platform, tree: Node) -> Mapping[Path, str]:
    """The interfaces that are bound to a network instance (RFC 8529), by their paths."""
    found: dict[Path, str] = {}
    for interface in interfaces(platform, tree) if "network_instance" in platform.roles else ():
        for _, leaf in with_role(platform, interface.node, "network_instance"):
            found[interface.path] = leaf.statement.value
    return found


def ospf_interfaces(platform: Platform, tree: Node) -> Iterator[tuple[Path, Interface]]:
    """The interfaces on which OSPF looks for neighbours (RFC 2328, section 9), each with the path of what
    says so.

    A platform names them (`ospf_interface`), or the networks whose interfaces take part (`ospf_network`);
    passive ones by a flag in the first case, by their names in the second.
    """
    known = {interface.name: interface for interface in interfaces(platform, tree)}
    for path, node in with_role(platform, tree, "ospf_interface"):
        interface = known.get(node.statement.value)
        if interface is not None and not has_flag(platform, node, "ospf_passive"):
            yield path, interface
    passive = {node.statement.value for _, node in with_role(platform, tree, "ospf_passive")}
    for path, node in with_role(platform, tree, "ospf_network"):
        try:
            network = ipaddress.ip_network(str(node.statement.arguments[0]))
        except ValueError:
            continue
        for interface in known.values():
            held = [
                address
                for _, address in addresses(platform, interface.node)
                if address.version == network.version
            ]
            if interface.name not in passive and any(address.ip in network for address in held):
                yield path, interface


def has_flag(platform: Platform, entry: Node, role: str) -> bool:
    """Return whether the leaf with `role` directly inside `entry` is true."""
    name = platform.roles.get(role, "").rpartition("/")[2]
    leaf = entry.children.get(name)
    return leaf is not None and leaf.statement.value != "false"
