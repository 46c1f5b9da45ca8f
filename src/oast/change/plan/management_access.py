"""Management access: which edits may cut the path by which Oast reaches a device, and where a change moves it
to."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from oast.config import Edit, Node, Path
from oast.connect import Address, Session, SessionAddresses
from oast.errors import DeviceError
from oast.estate import ManagementAccess
from oast.intent import Intent, Interface, addresses, interfaces
from oast.platforms import Platform
from oast.readings import read_readings


@dataclass(frozen=True)
class AccessRisk:
    """An edit that may cut the path, and what of the path it touches."""

    edit: Edit
    why: str

    def __str__(self) -> str:
        edit = self.edit
        return f"{' / '.join((*(node.text for node in edit.outer), edit.node.text))} ({self.why})"


@dataclass(frozen=True)
class ManagementMove:
    """The change takes the address `before` away from where Oast reaches the device.

    `to` is the address at which Oast reaches it afterwards and confirms the change; None when no address is
    known to remain, so that the device will be rolled back. `is_alternate` when that is the alternate
    management address.
    """

    before: str
    to: str | None
    is_alternate: bool = False


def management_move(
    intent: Intent, running: Node, after: Node, route: SessionAddresses
) -> ManagementMove | None:
    """Whether the change that makes `running` into `after` moves the address that Oast uses, and where to."""
    before = next((address for address in route.device if _holder(intent.platform, running, address)), None)
    if before is None or route.is_out_of_band:
        return None
    old, new = _holder(intent.platform, running, before), _holder(intent.platform, after, before)
    if old == new:
        return None
    access = intent.device.management
    if new is not None:
        return ManagementMove(str(before), str(before))
    for host, is_alternate in _hosts(access):
        if host == str(before):
            continue
        address = _parsed(host)
        if (
            address is None
            or _holder(intent.platform, after, address)
            or (is_alternate and access.alternate and access.alternate.interface)
        ):
            return ManagementMove(str(before), host, is_alternate)
    return ManagementMove(str(before), None)


def _hosts(access: ManagementAccess) -> Iterator[tuple[str, bool]]:
    yield access.address, False
    if access.alternate is not None:
        yield access.alternate.host, True


def _parsed(host: str) -> Address | None:
    try:
        return ipaddress.ip_address(host)
    except ValueError:
        return None


def _holder(platform: Platform, tree: Node, address: Address) -> str | None:
    """The interface that has the address and is not shut."""
    for interface in interfaces(platform, tree):
        if not interface.is_off and any(own.ip == address for _, own in addresses(platform, interface.node)):
            return interface.name
    return None


async def interface_by_reading(session: Session, host: str) -> str | None:
    """The interface on which the device's own listing of interfaces shows an address; None when it does not,
    or cannot be read."""
    reading = session.platform.readings.get("interfaces")
    address = _parsed(host)
    if reading is None or address is None:
        return None
    try:
        records = (await read_readings(session, session.platform, ["interfaces"])).get("interfaces", ())
    except DeviceError:
        return None
    for record in records:
        for field in ("ipv4-address", "ipv6-address"):
            found = record.get(field)
            if isinstance(found, tuple) and any(getattr(own, "ip", None) == address for own in found):
                return str(record.get("name"))
    return None


def management_interfaces(intent: Intent, running: Node, route: SessionAddresses) -> list[Interface]:
    """The interfaces of either configuration by which Oast reaches the device: the one that is named, or
    those with its address."""
    platform = intent.platform
    if route.is_out_of_band:
        return []
    return [
        interface
        for tree in (running, intent.tree)
        for interface in interfaces(platform, tree)
        if interface.name == route.interface
        or (
            route.interface is None
            and any(own.ip in route.device for _, own in addresses(platform, interface.node))
        )
    ]


def access_risks(
    platform: Platform, holders: Sequence[Interface], edits: Sequence[Edit], route: SessionAddresses
) -> list[AccessRisk]:
    """The edits that may cut the path, which goes by the interfaces `holders`. What Oast cannot tell may."""
    filters = set(_filters(platform, holders))
    found = []
    for edit in edits:
        why = _why(edit, platform, holders, filters, route)
        if why is not None:
            found.append(AccessRisk(edit, why))
    return found


def _why(
    edit: Edit, platform: Platform, holders: Sequence[Interface], filters: set[str], route: SessionAddresses
) -> str | None:
    roles = platform.roles
    if "interface" not in roles and not route.is_out_of_band:
        return "possibly management access: the platform declares no role for interfaces"
    if any(is_ancestor_or_same(edit.path, holder.path) for holder in holders):
        return "the interface that Oast connects through"
    top = _with_role(edit, platform)
    if top is None:
        return None
    role, statement = top
    if role in ("user", "privilege_password") and (role != "user" or statement == route.user):
        return "Oast's login"
    if route.is_out_of_band:
        return None
    is_unknown = not holders and route.interface is None
    if role == "access_list" and (statement in filters or is_unknown):
        return "a filter on the interface that Oast connects through"
    if role == "static_route" and (not route.ours or any(_holds(statement, own) for own in route.ours)):
        return "the route back to Oast"
    if role == "interface" and is_unknown:
        return "an interface; Oast cannot tell which one it connects through"
    if role == "interface" and statement == route.interface:
        return "the interface that Oast connects through"
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


def is_ancestor_or_same(one: Path, other: Path) -> bool:
    """Return whether two places are the same, or one contains the other."""
    length = min(len(one), len(other))
    return one[:length] == other[:length]
