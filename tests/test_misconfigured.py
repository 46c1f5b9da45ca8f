"""Mistakes made on devices behind Oast's back: each is found, on the device where it was made, with the configuration behind it."""

from __future__ import annotations

import json
import os
import time
import unittest
from dataclasses import dataclass
from typing import Any

from larkwater import SECRETS, LarkwaterTest
from netconf_client import Client

PATIENCE_S = 40
# Rounds of mistakes in every run of the tests; with OAST_ROUNDS (`make faults`), all of them.
QUICK = 1
# So long a neighbour that is not heard any more is still listed.
LOST_S = 3.5
INTERFACE = "/interfaces/interface[name={}]"


@dataclass(frozen=True)
class Mistake:
    """What is done on a device, in its words; and what has to be found there: a check whose title begins so, or, with a `+` or `-` before
    it, a statement that drifted."""

    device: str
    lines: tuple[str, ...]
    found: str
    file: str = ""


def bine(device: str, found: str, *lines: str, file: str = "") -> Mistake:
    return Mistake(device, lines, found, file)


def cowl(device: str, found: str, *lines: str, file: str = "") -> Mistake:
    return Mistake(device, ("open candidate", *lines, "commit", "save", "close candidate"), found, file)


def port(name: str, inner: str) -> str:
    interfaces = 'xmlns="urn:ietf:params:xml:ns:yang:ietf-interfaces"'
    return f"<interfaces {interfaces}><interface><name>{name}</name>{inner}</interface></interfaces>"


def bgp(address: str, inner: str) -> str:
    routing, own = 'xmlns="urn:ietf:params:xml:ns:yang:ietf-routing"', 'xmlns="urn:example:roundel:bgp"'
    protocol = f'<type xmlns:b="urn:example:roundel:bgp">b:bgp</type><name>main</name><bgp {own}><neighbor>'
    neighbor = f"<remote-address>{address}</remote-address>{inner}</neighbor></bgp>"
    outer = "control-plane-protocols"
    return f"<routing {routing}><{outer}><control-plane-protocol>{protocol}{neighbor}</control-plane-protocol></{outer}></routing>"


IP = "urn:ietf:params:xml:ns:yang:ietf-ip"
GONE = 'xmlns:nc="urn:ietf:params:xml:ns:netconf:base:1.0" nc:operation="remove"'
OSPF = ("ospf", "area 0.0.0.0", "interface port1")
OSPF_PORT1 = "/ospf/area[area-id=0.0.0.0]/interface[name=port1]"
ROUNDS: tuple[tuple[Mistake, ...], ...] = (
    (
        bine("gull-core-1", "interface port2 is enabled", "interface port2", "enabled false", file="templates/bine/interfaces.j2"),
        bine("tern-edge-1", "the users ops-* are", "user ops-nobody", "role operator", file="templates/bine/users.j2"),
        bine("sandpiper-edge-1", "the clock is synchronized", "remove ntp", file="templates/bine/time.j2"),
        bine("dunlin-edge-1", "OSPF neighbor gull-core-1 on port1 is full", *OSPF, "passive true", file="templates/bine/routing.j2"),
        bine(
            "plover-edge-1", "interface port2 has its IPv4 address",
            "interface port2", "ipv4", "remove address 203.0.113.17/31", "address 203.0.113.117/31", file="templates/bine/interfaces.j2",
        ),
        cowl("gull-dist-1", "the settings match those of the partner gull-dist-2", "unset /pair", file="templates/cowl/pair.j2"),
        cowl(
            "heron-dist-2", "203.0.113.97 on vlan210 is backup here",
            f"set {INTERFACE.format('vlan210')}/ipv4/vrrp-instance[vrid=1]/priority = 200", file="templates/cowl/interfaces.j2",
        ),
        cowl("gull-access-1", "port5 is an untagged member of VLAN 210", f"set {INTERFACE.format('port5')}/switched-vlan/access-vlan = 220"),
        cowl("tern-access-1", "-trunk-vlan 110", f"unset {INTERFACE.format('port1')}/switched-vlan/trunk-vlan = 110"),
        cowl("plover-access-1", "interface port2 is enabled", f"set {INTERFACE.format('port2')}/enabled = false"),
        Mistake("gull-border-1", (bgp("203.0.113.57", "<peer-as>64511</peer-as>"),), "BGP neighbor 203.0.113.57 is established"),
        Mistake(
            "heron-border-1", ('<system xmlns="urn:ietf:params:xml:ns:yang:ietf-system"><hostname>elsewhere</hostname></system>',),
            "the host name is as intended", "templates/roundel/system.j2",
        ),
    ),
    (
        bine("gull-core-1", "the static route to 198.51.100.0/24 is in the routing table", "remove static-route 198.51.100.0/24"),
        bine("heron-core-1", "OSPF neighbor gull-core-1 on port1", "ospf", "area 0.0.0.0", "remove interface port1"),
        bine("tern-edge-1", "OSPF neighbor gull-core-1 on port1 is full", *OSPF, "hello-interval 2"),
        bine("plover-edge-1", "-ingress-acl ticket-gates-in", "interface port3.110", "remove ingress-acl", file="drift"),
        bine("sandpiper-edge-1", "the host name is as intended", "system", "hostname sandpiper", file="templates/bine/system.j2"),
        cowl("gull-dist-1", "bundle1 has all its members", f"unset {INTERFACE.format('port4')}/aggregate"),
        cowl("heron-dist-1", "interface vlan220 is enabled", f"set {INTERFACE.format('vlan220')}/enabled = false"),
        cowl("heron-access-1", "+spanning-tree", "set /spanning-tree/bridge-priority = 0", file="drift"),
        cowl("dunlin-access-1", "+name", "set /vlans/vlan[vlan-id=110]/name = elsewhere", file="drift"),
        cowl("tern-access-2", "the users ops-* are", "unset /users/user[name=ops-joss]", file="templates/cowl/users.j2"),
        cowl("heron-dist-2", "the clock is synchronized", "unset /ntp"),
        Mistake("plover-edge-2", (port("port1", "<enabled>false</enabled>"),), "interface port1 is enabled", "templates/roundel/interfaces.j2"),
    ),
    (
        bine("gull-core-1", "BGP neighbor gull-border-1 (203.0.113.213) is", "bgp", "remove neighbor 203.0.113.213", file="templates/bine/bgp.j2"),
        bine("heron-core-1", "the SNMP communities are as intended", "snmp", "community left-by-a-visitor", file="templates/bine/monitoring.j2"),
        bine("tern-edge-1", "OSPF neighbor heron-core-1 on port2 is full", "interface port2", "mtu 1500"),
        bine("plover-edge-1", "+vlan-id 111", "interface port4.110", "vlan-id 111", file="drift"),
        bine("sandpiper-edge-1", "+description", "interface port1", "description elsewhere", file="drift"),
        bine("dunlin-edge-1", "+ace", "acl crew-wireless-in", "ace accept tcp", file="drift"),
        cowl("gull-dist-2", "OSPF neighbor gull-core-1 on port1 is full", f"unset {OSPF_PORT1}", file="templates/cowl/routing.j2"),
        cowl("gull-access-1", "interface port1 is enabled", f"set {INTERFACE.format('port1')}/enabled = false"),
        cowl("dunlin-access-1", "the SNMP communities are as intended", "unset /snmp", file="templates/cowl/monitoring.j2"),
        cowl("heron-access-1", "port5 is an untagged member of VLAN 210", f"unset {INTERFACE.format('port5')}/switched-vlan/access-vlan"),
        Mistake("heron-border-1", (bgp("203.0.113.59", "<enabled>false</enabled>"),), "BGP neighbor 203.0.113.59 is established"),
        Mistake(
            "dunlin-edge-2", (port("port2", f'<ipv6 xmlns="{IP}" {GONE}/>'),), "interface port2 has its IPv6 address",
            "templates/roundel/interfaces.j2",
        ),
    ),
)  # fmt: skip


class MisconfiguredTest(LarkwaterTest):
    whole = True

    def test_every_mistake_is_found_where_it_was_made(self) -> None:
        self.oast("push", "-m", "set up", "--one-wave", "--yes")
        self.oast("verify", "--wait", "60")
        self.assertIn("no drift: 24 devices unchanged", self.oast("drift").out)
        self.three_cables_away()
        self.assertGreaterEqual(sum(map(len, ROUNDS)), 30)
        rounds = ROUNDS if os.environ.get("OAST_ROUNDS") else ROUNDS[:QUICK]
        for number, mistakes in enumerate(rounds):
            for mistake in mistakes:
                self.make(mistake)
            time.sleep(LOST_S)
            deadline = time.monotonic() + PATIENCE_S
            while (missing := self.missing(mistakes)) and time.monotonic() < deadline:
                time.sleep(3)
            for mistake in missing:
                with self.subTest(round=number, device=mistake.device, mistake=mistake.found):
                    self.fail(f"it was not found; there is {self.seen[mistake.device]}")
            if number + 1 < len(rounds):
                self.oast("push", "-m", "as intended", "--one-wave", "--yes", "--allow-removals")

    def three_cables_away(self) -> None:
        """A pair of switches says nothing of its networks any more: who misses them is beyond both cores, and the change goes back."""
        line = "{{ interface }}vlan{{ vlan.id }}]/passive = true\n"
        self.edit("templates/cowl/routing.j2", line, "")
        push = (
            "push",
            "-m",
            "less to say",
            "--on",
            "name=gull-dist-*",
            "--section",
            "routing",
            "--neighbor-hops",
            "3",
            "--one-wave",
            "--yes",
        )
        run = self.oast(*push, expect=5)
        # All twelve other routers, the last of which are three cables away.
        self.assertRegex(
            run.out,
            r", gull-border-1 and 9 more: all prefixes from before the change are in the routing table: expected as before; missing: 203\.0\.113\.64/28, ",
        )
        self.edit(
            "templates/cowl/routing.j2", "{% for vlan in vlans %}\n", "{% for vlan in vlans %}\n" + line
        )
        self.oast("drift", "--on", "name=gull-dist-*")

    def make(self, mistake: Mistake) -> None:
        if mistake.lines[0].startswith("<"):
            where = json.loads((self.estate / ".oast" / "sim" / "listening.json").read_text())["devices"][
                mistake.device
            ]
            with Client(where["host"], where["port"], "oast", SECRETS["login-password"]) as client:
                config = f"<target><candidate/></target><config>{mistake.lines[0]}</config>"
                for operation in (f"<edit-config>{config}</edit-config>", "<commit/>"):
                    answer = client.ask(operation)
                    self.assertIn("<ok/>", answer, (mistake, answer))
            return
        lines = mistake.lines
        if lines[0] != "open candidate":
            lines = self.levelled(mistake.lines)
        said = self.console(mistake.device, *lines)
        # What the test's console begins with is nothing that a cowl knows.
        self.assertEqual(
            said.count("error:") + said.count("refused:"), int(lines[0] == "open candidate"), (mistake, said)
        )

    @staticmethod
    def levelled(lines: tuple[str, ...]) -> tuple[str, ...]:
        """Statements of a bine, each below the one before it; what removes or is a value ends a level."""
        made, depth = [], 0
        for line in lines:
            made.append(f"{'  ' * depth}{line}")
            if not line.startswith("remove") and line.split()[0] in (
                "interface",
                "ospf",
                "area",
                "ipv4",
                "user",
                "system",
                "snmp",
                "bgp",
                "acl",
            ):
                depth += 1
        return ("raise", SECRETS["privilege-password"], "edit", *made, "close")

    def missing(self, mistakes: tuple[Mistake, ...]) -> list[Mistake]:
        """Those that are not found, neither by a check nor as drift."""
        on = (
            "--on",
            f"name in ({', '.join(sorted({mistake.device for mistake in mistakes}))})",
            "--format",
            "json",
        )
        checks = self.oast("verify", *on, expect=None).json()["devices"]
        drifted = self.oast("drift", *on, expect=None).json()["devices"]
        self.seen: dict[str, list[tuple[str, Any]]] = {}
        for device in checks:
            self.seen[device["device"]] = [
                (one["check"], one["file"]) for one in device["checks"] if not one["passed"]
            ]
        for device in drifted:
            for edit in device["edits"]:
                for sign, side in (("-", edit.get("old")), ("+", edit.get("new"))):
                    if side is not None:
                        words = [*edit["path"], side["statement"]]
                        self.seen.setdefault(device["device"], []).extend(
                            (f"{sign}{word}", "drift") for word in words
                        )
        return [mistake for mistake in mistakes if not self.is_found(mistake)]

    def is_found(self, mistake: Mistake) -> bool:
        return any(
            what.startswith(mistake.found) and (not mistake.file or where == mistake.file)
            for what, where in self.seen.get(mistake.device, ())
        )


if __name__ == "__main__":
    unittest.main()
