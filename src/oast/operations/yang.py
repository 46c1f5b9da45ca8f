"""The YANG modules of a device, as it gives them itself (RFC 6022, RFC 8525)."""

from __future__ import annotations

import dataclasses
import re
import time
from pathlib import Path

from lxml import etree

from oast.connect import NETCONF_PORT, Connector, Transcript
from oast.connect.netconf import NetconfSession, OfferedModule, operations as op
from oast.errors import DeviceRefused, ProtocolError
from oast.estate import Device
from oast.platforms import CliDialect, EditSpelling, Grammar, ModuleText, Netconf, Platform, Rule
from oast.records import Fingerprints

LIBRARY = "urn:ietf:params:xml:ns:yang:ietf-yang-library"
# Modules that every server has for the protocol itself, and that are not configuration.
PROTOCOL = re.compile(r"ietf-(?:netconf.*|yang-.*|datastores|restconf.*|origin)")
_USES = re.compile(r"^\s*(?:import|include)\s+\"?([A-Za-z_][\w.-]{0,127})(?![\w.-])", re.MULTILINE)
# However many modules a device says that its modules need.
MOST_MODULES = 2_000


async def read_yang_modules(
    connector: Connector, device: Device, folder: Path, log: Path
) -> list[ModuleText]:
    """The modules that `device` implements; what they import is put into `folder`. Raises DeviceError."""
    bare = Platform(
        name="unknown",
        syntax="xml",
        transport="netconf",
        grammar=Grammar("unknown", Rule(name="", path="", kind="container"), Fingerprints(b"")),
        spelling=EditSpelling(),
        dialect=CliDialect({}, ""),
        netconf=Netconf(),
    )
    target = connector.target(device)
    if device.port is None and target.host == device.address:
        target = dataclasses.replace(target, port=NETCONF_PORT)
    transcript = Transcript(time.monotonic, device.name)
    try:
        session = await connector.open(device, bare, transcript, target=target)
        try:
            if not isinstance(session, NetconfSession):
                raise AssertionError("the platform says NETCONF")
            return await _fetched(session, folder)
        finally:
            await session.close()
    finally:
        transcript.write(log)


async def _fetched(session: NetconfSession, folder: Path) -> list[ModuleText]:
    offered = [
        one for one in session.offered.modules or await _library(session) if not PROTOCOL.fullmatch(one.name)
    ]
    if not offered:
        raise ProtocolError(
            "the device offers no YANG modules of its own", hint="give a folder with them: --modules DIR"
        )
    # What holds the other modules' nodes may stand in a module that only deviates from them.
    found: list[ModuleText] = []
    waiting: list[str] = []
    for module in offered:
        text = await _schema(session, module.name, module.revision)
        found.append(ModuleText(module.name, text, f"{module.name}.yang", module.features))
        waiting += _USES.findall(text)
    known = {module.name for module in found}
    while waiting:
        name = waiting.pop()
        if name in known:
            continue
        known.add(name)
        if len(known) > MOST_MODULES:
            raise ProtocolError(f"the device's modules need more than {MOST_MODULES} others")
        try:
            text = await _schema(session, name, None)
        except DeviceRefused:
            continue  # pyang may bring it; if not, it is reported as missing
        (folder / f"{name}.yang").write_text(text, encoding="utf-8")
        waiting += _USES.findall(text)
    return found


async def _schema(session: NetconfSession, name: str, revision: str | None) -> str:
    reply = await session.rpc(op.get_schema(name, revision), written_down=False)
    text = reply.findtext(f"{{{op.MONITORING}}}data")
    if not text:
        raise ProtocolError(f"the device did not send the module {name}")
    return str(text)


async def _library(session: NetconfSession) -> list[OfferedModule]:
    """What a server names in its library and not in its hello (RFC 8525, sections 3 and 5)."""
    containers = [
        etree.Element(f"{{{LIBRARY}}}{name}", nsmap={None: LIBRARY})
        for name in ("yang-library", "modules-state")
    ]
    reply = await session.rpc(op.get(op.subtree(containers)), written_down=False)
    found: dict[str, OfferedModule] = {}
    for element in reply.iter(f"{{{LIBRARY}}}module"):
        name, kind = (
            element.findtext(f"{{{LIBRARY}}}name") or "",
            element.findtext(f"{{{LIBRARY}}}conformance-type"),
        )
        if kind in (None, "implement"):
            features = tuple(one.text or "" for one in element.findall(f"{{{LIBRARY}}}feature"))
            revision = element.findtext(f"{{{LIBRARY}}}revision") or None
            found.setdefault(
                name,
                OfferedModule(name, revision, element.findtext(f"{{{LIBRARY}}}namespace") or "", features),
            )
    return list(found.values())
