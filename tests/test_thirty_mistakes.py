"""Thirty mistakes of different kinds in one estate: all found in one run, each at its file and line, and nothing else."""

from __future__ import annotations

from dataclasses import dataclass

from larkwater import EstateTest


@dataclass(frozen=True)
class Planted:
    """In `file`, `old` becomes `new` (without `old`, `new` is added at the end). Told at the line of `at` in `where`, with `message`."""

    file: str
    old: str
    new: str
    at: str
    message: str
    where: str = ""


T = "templates/bine/"
HEADER = "{#\nsection: NAME\nowns: [user spare*]\n#}\n"
MISTAKES = (
    # the inventory
    Planted("inventory/more.yaml", "", "devices:\n  gull-core-1: {address: 192.0.2.91, platform: bine}\n", "gull-core-1: {", "duplicate device 'gull-core-1', also in inventory/devices.yaml:2"),
    Planted("inventory/more.yaml", "", "  wick-1: {address: 192.0.2.256, platform: bine}\n", "wick-1", "'192.0.2.256' is not an address"),
    Planted("inventory/more.yaml", "", "  wick-2: {address: 192.0.2.92}\n", "wick-2", "the device 'wick-2' has no 'platform'"),
    Planted("inventory/more.yaml", "", "  wick-3: {address: 192.0.2.93, platform: bine, site: {name: wick}}\n", "wick-3", "the attribute 'site' must be a value or a list of values"),
    Planted("inventory/more.yaml", "", "  wick-4: {address: 192.0.2.94, platform: bine, port: 99999}\n", "wick-4", "'port' must be a number from 1 to 65535"),
    Planted("inventory/more.yaml", "", "links:\n  - [gull-core-1 port7, gul-core-1 port1]\n", "port7", "there is no device 'gul-core-1'"),
    Planted("inventory/more.yaml", "", "  - [gull-core-1 port8, tern-edge-1 port1]\n", "port8", "tern-edge-1 port1 already has a link in"),
    Planted("inventory/quays.csv", "", "name,address,platform\nwick-5,192.0.2.95\n", "wick-5", "this row has 2 cells, the heading 3"),
    # values
    Planted("values/tab.yaml", "", "everywhere:\n\tspare: 1\n", "spare", "the indentation contains a tab"),
    Planted("values/twice.yaml", "", "everywhere:\n  spare: 1\n  spare: 2\n", "spare: 2", "duplicate key 'spare', first in line 2"),
    Planted("values/colon.yaml", "", "everywhere:\n  spare: desk: night\n", "night", "this line has a second ':'"),
    Planted("values/word.yaml", "", "everywere:\n  spare: 1\n", "everywere", "'everywere' in a values file"),
    Planted("values/rules.yaml", "", "rules:\n  - values: {spare: 1}\n", "values: {spare: 1}", "this rule has no 'on:' selector"),
    Planted("values/rules.yaml", "", "  - on: site=gul\n    values: {spare: 1}\n", "site=gul", "no device has site=gul"),
    Planted("values/rules.yaml", "", "  - on: role=core and\n    values: {spare: 1}\n", "role=core and", "the selector is incomplete: an attribute such as role is missing at its end"),
    Planted("values/rules.yaml", "", "  - on: role=core\n    values: {spare: {secret: nobody-has-it}}\n", "nobody-has-it", "no secret 'nobody-has-it'"),
    Planted("values/devices/gul-core-1.yaml", "", "spare: 1\n", "", "unknown device 'gul-core-1'; its values are not used"),
    Planted("values/devices/dunlin-edge-1.yaml", "", "one: '{{ other }}'\nother: '{{ one }}'\n", "one: '", "values refer to each other in a loop: one -> other -> one"),
    Planted("values/network.yaml", "secret: snmp-billing}", "secret: snmp-billing}\n      access: read-onyl", "read-onyl", "'communities[1].access' is 'read-onyl', not one of read-only, read-write"),
    Planted("values/network.yaml", "link_cost: 5", "link_cost: five", "link_cost: five", "'link_cost' is 'five', not a whole number from 1 to 65535"),
    # intent and templates
    Planted("intent.yaml", "", "  - section: system\n    on: role=edge\n", "- section: system\n    on", "the section 'system' is listed twice"),
    Planted("intent.yaml", "", "  - section: telemetry\n", "telemetry", "the section 'telemetry'"),
    Planted("intent.yaml", "", "  - sektion: spare\n", "sektion", "this must be '- section: NAME'"),
    Planted(T + "open.j2", "", HEADER.replace("NAME", "open") + "{% if spare %}\n", "{% if", "the template has an error"),
    Planted(T + "bare.j2", "", "interface spare0\n", "interface", "the template has no header"),
    Planted(T + "wide.j2", "", HEADER.replace("NAME", "wide").replace("spare*", "wide*") + "static-route 192.0.2.128/25\n  next-hop 192.0.2.1\n", "next-hop", "the section 'wide' renders a statement that it does not own"),
    Planted(T + "sums.j2", "", HEADER.replace("NAME", "sums").replace("spare*", "sums*") + "{{ device.address | network_of }}\n", "network_of", "is not an address or prefix with a length"),
    Planted(T + "time.j2", "  serv {{", "  sevr {{", "sevr", "'sevr' is not a statement below 'ntp'"),
    Planted(T + "users.j2", "  role {{", "role {{", "role {{", "'role' is not a statement at the top level"),
    Planted(T + "system.j2", "  search {{ domain }}", "  search {{ domain }}!", "domain }}!", "'larkwater.example!' is not a domain name"),
    Planted(T + "core-routes.j2", "next-hop 192.0.2.1", "next-hop {{ nxet_hop }}", "nxet_hop }}", "'nxet_hop' is not defined"),
    Planted(T + "monitoring.j2", "owns: [snmp]", "owns: [snmp, system/contact]", "owns", "'system / contact' is already owned by the section 'system' (templates/bine/system.j2)"),
    # what the intents show together
    Planted(T + "access-lists.j2", "  ace drop ip destination-network 198.51.100.0/24\n  ace accept ip\n", "", "acl crew", "'acl crew-wireless-in' has no 'ace'"),
    Planted(T + "interfaces.j2", "  ingress-acl {{ service.name }}-in", "  ingress-acl {{ service.name }}-inn", "-inn", "refers to the acl '"),
    Planted("values/devices/heron-core-1.yaml", "203.0.113.212", "203.0.113.211", "address {{ loopback.ipv4", "duplicate address 203.0.113.211", T + "interfaces.j2"),
    Planted("values/devices/plover-edge-1.yaml", "203.0.113.17/31", "203.0.113.97/31", "address {{ link.address", "the two ends of a link are in different subnets", T + "interfaces.j2"),
    # policies
    Planted("policies/more.yaml", "", "policies:\n  - policy: p\n    must_contian: ntp\n", "must_contian", "'must_contian' in a policy"),
    Planted("policies/more.yaml", "", "  - policy: q\n    must_not_contain: interface loop0/description *\n", "description \"router id\"", "policy 'q'", T + "interfaces.j2"),
)  # fmt: skip


class ThirtyMistakesTest(EstateTest):
    def test_all_are_found_at_their_place_and_nothing_else(self) -> None:
        for planted in MISTAKES:
            path = self.estate / planted.file
            text = path.read_text() if path.exists() else ""
            if planted.old:
                self.assertIn(planted.old, text)
            path.write_text(text.replace(planted.old, planted.new) if planted.old else text + planted.new)
        with (self.estate / "intent.yaml").open("a") as intent:
            intent.write("".join(f"  - section: {name}\n" for name in ("open", "bare", "wide", "sums")))
        found = self.oast("lint", "--format", "json", expect=3).json()["problems"]
        left = [(f["file"], f["line"], f["message"]) for f in found]
        for planted in MISTAKES:
            file = planted.where or planted.file
            text = (self.estate / file).read_text()
            line = text[: text.index(planted.at)].count("\n") + 1 if planted.at else None
            hits = [f for f in left if f[0] == file and f[1] == line and planted.message in f[2]]
            with self.subTest(planted=planted.message):
                self.assertTrue(
                    hits, f"not told at {file}:{line}; there is {[f for f in left if f[0] == file]}"
                )
            left = [f for f in left if f not in hits]
        self.assertEqual(left, [], "nothing else is told")
        self.assertGreaterEqual(len(MISTAKES), 30)
