"""Which edits may cut the path by which Oast reaches a device: its interface, address, filter, route or login."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from oast.config.difference import Edit
from oast.config.tree import Node, Path
from oast.connect.route import Address, Route
from oast.intent.intent import Intent
from oast.intent.roles import Interface, addresses, interfaces
from oast.platforms.definition import Platform


@dataclass(frozen=True)
class Risk:
    """An edit that may cut the path, and what of the path it touches."""

    edit: Edit
    why: str

    def __str__(self) -> str:
        edit = self.edit
        return f"{' / '.join((*(node.text for node in edit.outer), edit.node.text))} ({self.why})"


def interfaces_of(intent: Intent, running: Node, route: Route) -> list[Interface]:
    """The interfaces that have, or are to have, an address by which the device is reached."""
    platform = intent.platform
    return [
        interface
        for tree in (running, intent.tree)
        for interface in interfaces(platform, tree)
        if any(own.ip in route.device for _, own in addresses(platform, interface.node))
    ]


def risks(platform: Platform, holders: Sequence[Interface], edits: Sequence[Edit], route: Route) -> list[Risk]:
    """The edits that may cut the path, which goes by the interfaces `holders`. What Oast cannot tell may."""
    filters = set(_filters(platform, holders))
    found = []
    for edit in edits:
        why = _why(edit, platform, holders, filters, route)
        if why is not None:
            found.append(Risk(edit, why))
    return found


def _why(edit: Edit, platform: Platform, holders: Sequence[Interface], filters: set[str], route: Route) -> str | None:
    roles = platform.roles
    if "interface" not in roles:
        return "what may be the way in: the platform does not say what an interface is"
    if any(overlap(edit.path, holder.path) for holder in holders):
        return "the interface by which Oast comes in"
    top = _with_role(edit, platform)
    if top is None:
        return None
    role, statement = top
    if role == "access_list" and (statement in filters or not holders):
        return "a filter on the interface by which Oast comes in"
    if role in ("user", "privilege_password") and (role != "user" or statement == route.user):
        return "the login of Oast"
    if role == "static_route" and (not route.ours or any(_holds(statement, own) for own in route.ours)):
        return "the route back to Oast"
    if role == "interface" and not holders:
        return "an interface, and Oast cannot tell by which it comes in"
    return None


def _with_role(edit: Edit, platform: Platform) -> tuple[str, str] | None:
    """The role of the outermost statement that an edit is in and that has one of these, and its first key."""
    by_path = {platform.roles[role]: role for role in _WATCHED if role in platform.roles}
    for node in (*edit.outer, edit.node):
        role = by_path.get(node.statement.rule.path)
        if role is not None:
            return role, node.statement.value
    for _, node in edit.node.walk():
        role = by_path.get(node.statement.rule.path)
        if role is not None:
            return role, node.statement.value
    return None


_WATCHED = ("interface", "access_list", "static_route", "user", "privilege_password")


def _filters(platform: Platform, holders: Iterable[Interface]) -> Iterator[str]:
    """The access lists that the interfaces refer to."""
    for holder in holders:
        for _, node in holder.node.walk():
            for leafref in node.statement.rule.leafrefs:
                value = node.statement.arguments[leafref.number]
                if leafref.target == platform.roles.get("access_list") and isinstance(value, str):
                    yield value


def _holds(prefix: str, address: Address) -> bool:
    try:
        return address in ipaddress.ip_network(prefix, strict=False)
    except ValueError:
        return True  # what Oast cannot read may hold it


def overlap(one: Path, other: Path) -> bool:
    """Whether one of two places is the other, or stands below it."""
    length = min(len(one), len(other))
    return one[:length] == other[:length]
