"""What a device's intent says of it, found once by the roles that its platform declares."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property

from oast.config import Node, Path
from oast.intent import Intent, Interface, InterfaceAddress, addresses, is_off
from oast.platforms import Platform

Cable = tuple[str, str]
"""One end: device and interface."""


class IntentFacts:
    """One device's intent. Everything is looked up in the tree once, as a network has many devices and a
    device many statements."""

    def __init__(self, intent: Intent) -> None:
        self.name = intent.device.name
        self.intent = intent
        self.platform: Platform = intent.platform
        self.tree = intent.tree
        self._reads: dict[tuple[str, str | None], bool] = {}

    def reads(self, reading: str, field: str | None = None) -> bool:
        """Whether the platform has a reading, with that field."""
        found = self._reads.get((reading, field))
        if found is None:
            definition = self.platform.readings.get(reading)
            found = self._reads[reading, field] = definition is not None and (
                field is None or field in definition.fields
            )
        return found

    @cached_property
    def _by_role(self) -> Mapping[str, list[tuple[Path, Node]]]:
        roles: dict[str, list[str]] = {}
        for role, rule in self.platform.roles.items():
            roles.setdefault(rule, []).append(role)
        found: dict[str, list[tuple[Path, Node]]] = {}
        for path, node in self.tree.walk():
            for role in roles.get(node.statement.rule.path, ()):
                found.setdefault(role, []).append((path, node))
        return found

    def role(self, role: str) -> Sequence[tuple[Path, Node]]:
        """Every statement with the role; none where the platform declares no such role."""
        return self._by_role.get(role, ())

    def below(self, role: str, path: Path) -> Node | None:
        """The statement with the role below the one at `path`."""
        return next((node for other, node in self.role(role) if other[: len(path)] == path), None)

    @cached_property
    def interfaces(self) -> Sequence[Interface]:
        """The interfaces that are intended."""
        return tuple(
            Interface(node.statement.value, path, node, is_off(self.platform, node))
            for path, node in self.role("interface")
        )

    @cached_property
    def _interfaces(self) -> Mapping[str, Interface]:
        return {interface.name: interface for interface in self.interfaces}

    def interface(self, name: str) -> Interface | None:
        """The one called so, if it is intended."""
        return self._interfaces.get(name)

    @cached_property
    def addresses(self) -> Mapping[str, Sequence[InterfaceAddress]]:
        """The addresses of each interface, sorted."""
        # Most interfaces of a switch have none.
        holding = {
            path[:n]
            for family in ("ipv4", "ipv6")
            for path, _ in self.role(f"{family}_address")
            for n in range(1, len(path))
        }
        held = {
            one.name: [a for _, a in addresses(self.platform, one.node)] if one.path in holding else []
            for one in self.interfaces
        }
        return {
            name: sorted(found, key=lambda one: (one.version, int(one.ip))) for name, found in held.items()
        }

    @cached_property
    def hostname(self) -> str:
        """What it is meant to be called."""
        found = self.role("hostname")
        return found[0][1].statement.value if found else self.name

    @cached_property
    def _areas(self) -> Mapping[Path, str]:
        return {path: node.statement.value for path, node in self.role("ospf_area")}

    def area(self, path: Path) -> str | None:
        """The OSPF area around a statement; None where the platform does not say which statements
        are areas."""
        return next((self._areas[path[:n]] for n in range(len(path), 0, -1) if path[:n] in self._areas), None)

    def owned(self, role: str) -> Iterator[str]:
        """Globs over the keys of the list with the role: those of its entries that some section owns."""
        path = self.platform.roles.get(role, "").split("/")
        for patterns in self.intent.owners.values():
            for pattern in patterns:
                if (
                    len(pattern) <= len(path)
                    and [level.split(" ")[0] for level in pattern] == path[: len(pattern)]
                ):
                    glob = pattern[-1].partition(" ")[2] or "*"
                    if len(pattern) == len(path) or glob == "*":
                        yield glob
