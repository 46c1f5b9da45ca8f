"""Mistakes found without a device: the right file and line, the likely fix, and nothing else."""

from __future__ import annotations

import shutil

from larkwater import EstateTest
from oast import __version__
from oast.platforms.load import SHIPPED as PLATFORMS


class LintTest(EstateTest):
    def problems(self, *arguments: str) -> list[dict[str, object]]:
        document = self.oast("lint", "--format", "json", *arguments, expect=3).json()
        self.assertEqual(document["format"], "oast.lint/1")
        found: list[dict[str, object]] = document["problems"]
        return found

    def only(self, *arguments: str) -> dict[str, object]:
        found = self.problems(*arguments)
        self.assertEqual(len(found), 1, found)
        return found[0]

    def test_the_demos_estate_has_no_mistakes(self) -> None:
        self.assertEqual(self.oast("lint").out, "no mistakes: 6 devices\n")
        self.assertEqual(self.oast("lint", "--format", "json").json()["problems"], [])

    def test_a_reference_to_what_is_not_configured(self) -> None:
        self.edit("templates/bine/routing.j2", "interface {{ link.port }}\n", "interface {{ link.port }}1\n")
        found = self.problems("--on", "name=tern-edge-1")
        self.assertEqual({f["kind"] for f in found}, {"reference"})
        self.assertEqual(
            {f["line"] for f in found}, {self.line_of("templates/bine/routing.j2", "link.port }}1")}
        )
        self.assertIn(
            "'interface' refers to the interface 'port11', which is not configured", str(found[0]["message"])
        )

    def own_platform(self, old: str = "", new: str = "") -> None:
        """The estate's devices get a platform of its own: bine with VLANs and routing policies; `old` in it becomes `new`."""
        text = (PLATFORMS / "bine.toml").read_text().replace('name = "bine"', 'name = "fen"')
        text = text.replace(
            '"interface/vlan-id" = { kind = "leaf",',
            '"interface/vlan-id" = { kind = "leaf", leafref = "vlan",',
        )
        text += '"vlan" = { kind = "list", takes = "vlan-id", keys = 1 }\n'
        text += '"routing-policy" = { kind = "container" }\n'
        text += '"routing-policy/policy-definition" = { kind = "list", takes = "name", keys = 1 }\n'
        text += '"ospf/import-policy" = { kind = "leaf", takes = "name", leafref = "routing-policy/policy-definition" }\n'
        (self.estate / "platforms").mkdir(exist_ok=True)
        (self.estate / "platforms/fen.toml").write_text(text.replace(old, new) if old else text)

    def test_references_of_any_kind_that_a_platform_has(self) -> None:
        self.own_platform()
        shutil.copytree(self.estate / "templates/bine", self.estate / "templates/fen")
        for file in ("inventory/devices.yaml", "inventory/terminals.csv"):
            self.edit(file, "bine", "fen")
        vlans = "{#\nsection: vlans\nowns: [vlan *, routing-policy]\n#}\nvlan 110\nvlan 120\nvlan 130\nrouting-policy\n  policy-definition ours\n"
        (self.estate / "templates/fen/vlans.j2").write_text(vlans)
        self.edit("intent.yaml", "sections:\n", "sections:\n  - section: vlans\n")
        self.edit("templates/fen/routing.j2", "  router-id", "  import-policy ours\n  router-id")
        self.oast("lint")
        self.edit("templates/fen/vlans.j2", "vlan 130", "vlan 131")
        self.edit("templates/fen/routing.j2", "import-policy ours", "import-policy theirs")
        found = {(f["file"], f["line"], f["message"]) for f in self.problems("--on", "name=tern-edge-1")}
        self.assertEqual(
            found,
            {
                (
                    "templates/fen/interfaces.j2",
                    self.line_of("templates/fen/interfaces.j2", "vlan-id {{"),
                    "'vlan-id' refers to the vlan '130', which is not configured",
                ),
                (
                    "templates/fen/routing.j2",
                    self.line_of("templates/fen/routing.j2", "theirs"),
                    "'import-policy' refers to the policy-definition 'theirs', which is not configured",
                ),
            },
        )

    def test_a_platform_that_is_wrong_is_told(self) -> None:
        self.edit("inventory/devices.yaml", "bine", "fen")
        self.assertIn("unknown platform 'fen'", str(self.problems("--on", "role=core")[0]["message"]))
        for old, new, message in (
            (
                'leafref = "vlan"',
                'leafref = "vlam"',
                "'interface/vlan-id' refers to 'vlam', which is not a statement",
            ),
            ("[edit]", "[edits]", "[edit]"),
            ('takes = "vlan-id", keys', 'takes = "vlanid", keys', "unknown type 'vlanid'"),
            (
                'kind = "list", takes = "vlan-id"',
                'kind = "lits", takes = "vlan-id"',
                "unknown value 'lits'",
            ),
            (
                'enabled = "interface/enabled"\n',
                "",
                "the role 'interface' needs the role 'enabled'",
            ),
            (
                '"interface/enabled"\n',
                '"interface/enabeld"\n',
                "the role 'enabled' refers to 'interface/enabeld', which is not a statement",
            ),
            ("format = 2", "format = 9", "must begin with 'format = 2'"),
            ("format = 2", "format = ", "not valid TOML:"),
        ):
            with self.subTest(new=new):
                self.own_platform(old, new)
                found = next(
                    f for f in self.problems("--on", "role=core") if f["file"] == "platforms/fen.toml"
                )
                self.assertIn(message, str(found["message"]))

    def test_what_no_section_owns_may_be_on_the_device_already(self) -> None:
        self.edit(
            "templates/bine/access-lists.j2", "owns: [acl *]", "owns: [acl ticket*, acl crew*, acl cam*]"
        )
        self.edit(
            "templates/bine/interfaces.j2",
            "  ingress-acl {{ service.name }}-in",
            "  ingress-acl {{ service.name }}-in\n  egress-acl by-hand",
        )
        self.oast("lint")

    def test_an_address_that_is_used_twice(self) -> None:
        self.edit("values/devices/dunlin-edge-1.yaml", "203.0.113.224", "203.0.113.223")
        problem = self.only()
        self.assertEqual((problem["kind"], problem["file"]), ("address", "templates/bine/interfaces.j2"))
        self.assertIn(
            "address 203.0.113.223, also on sandpiper-edge-1 interface loop0",
            str(problem["message"]),
        )
        self.assertIn(
            "loopback.ipv4 = 203.0.113.223  values/devices/dunlin-edge-1.yaml:1",
            self.only("--trace")["values"],
        )  # type: ignore[arg-type]

    def test_the_two_ends_of_a_link_in_different_subnets(self) -> None:
        self.edit("values/devices/tern-edge-1.yaml", "203.0.113.13/31", "203.0.113.129/31")
        problem = self.only()
        self.assertEqual(problem["kind"], "link")
        self.assertEqual(
            problem["message"],
            "the two ends of a link are in different subnets: 203.0.113.12/31 here, 203.0.113.129/31 on tern-edge-1 port2",
        )
        self.assertEqual(
            problem["hint"],
            f"the link is in inventory/devices.yaml:{self.line_of('inventory/devices.yaml', 'heron-core-1 port2')}",
        )

    def test_a_list_that_must_not_be_empty(self) -> None:
        self.edit("templates/bine/core-routes.j2", "  next-hop 192.0.2.1\n", "")
        problem = self.only()
        self.assertEqual(
            (problem["kind"], problem["message"]),
            ("empty", "'static-route 198.51.100.0/24' has no 'next-hop'"),
        )
        self.assertEqual(problem["devices"], ["gull-core-1", "heron-core-1"])

    def test_a_section_that_owns_what_cannot_be(self) -> None:
        self.edit("templates/bine/no-static-routes.j2", "static-route *", "static-rout *")
        problem = self.only("--on", "name=tern-edge-1")
        self.assertEqual((problem["file"], problem["line"]), ("templates/bine/no-static-routes.j2", 3))
        self.assertEqual(
            problem["message"],
            "the section owns 'static-rout *', but 'static-rout' is not a statement at the top level",
        )
        self.assertEqual(problem["hint"], "did you mean 'static-route'?")

    def test_two_sections_that_own_the_same(self) -> None:
        self.edit("templates/bine/time.j2", "owns: [ntp]", "owns: [ntp, user ops-m*]")
        problem = self.only()
        self.assertEqual(
            (problem["kind"], problem["file"], problem["line"]), ("ownership", "templates/bine/time.j2", 3)
        )
        self.assertIn(
            "'user ops-m*' is already owned by the section 'users' (templates/bine/users.j2)",
            str(problem["message"]),
        )

    def test_lost_indentation_and_wrong_words_in_one_run_and_no_consequences_of_them(self) -> None:
        self.edit("templates/bine/access-lists.j2", "acl cameras-in", "acll cameras-in")
        self.edit("templates/bine/time.j2", "    ibur true", "ibur true")
        found = self.problems()
        places = [(f["kind"], f["file"], f["line"]) for f in found]
        self.assertEqual(
            places,
            [
                (
                    "grammar",
                    "templates/bine/access-lists.j2",
                    self.line_of("templates/bine/access-lists.j2", "acll"),
                ),
                ("grammar", "templates/bine/time.j2", self.line_of("templates/bine/time.j2", "ibur")),
            ],
        )
        hints = {str(f["hint"]) for f in found}
        self.assertIn("check the indentation: 'ibur' belongs below 'ntp / server'", hints)
        self.assertIn("did you mean 'acl'?", hints)

    def test_sarif_has_a_result_with_rule_and_place_for_each(self) -> None:
        self.edit("templates/bine/time.j2", "  serv {{", "  sevr {{")
        log = self.oast("lint", "--format", "sarif", expect=3).json()
        self.assertEqual(log["version"], "2.1.0")
        run = log["runs"][0]
        self.assertEqual(
            (run["tool"]["driver"]["name"], run["tool"]["driver"]["version"]), ("oast", __version__)
        )
        result = run["results"][0]
        self.assertIn(result["ruleId"], {rule["id"] for rule in run["tool"]["driver"]["rules"]})
        location = result["locations"][0]["physicalLocation"]
        line = self.line_of("templates/bine/time.j2", "sevr")
        self.assertEqual(
            (location["artifactLocation"]["uri"], location["region"]["startLine"]),
            ("templates/bine/time.j2", line),
        )

    def test_mistakes_in_links_are_told_at_their_line(self) -> None:
        for text, message in (
            ("  - [gull-core-1 port9]\n", "this is not a link"),
            ("  - [gull-core-1 port9, gul-core-1 port8]\n", "no device 'gul-core-1'"),
            (
                "  - [gull-core-1 port1, dunlin-edge-1 port8]\n",
                "gull-core-1 port1 already has a link in inventory/devices.yaml:",
            ),
        ):
            with self.subTest(text=text):
                (self.estate / "inventory/zz.yaml").write_text("links:\n" + text)
                problem = self.only()
                self.assertEqual((problem["file"], problem["line"]), ("inventory/zz.yaml", 2))
                self.assertIn(message, str(problem["message"]))

    def test_templates_ask_what_is_at_the_other_end(self) -> None:
        self.edit(
            "templates/bine/interfaces.j2",
            '"to {{ network.other_end(device.name, link.port).device.name }}"',
            '"{{ network.other_end(device.name, link.port).interface }} of {{ network.other_end(device.name, link.port).device.name }}"',
        )
        self.assertIn(
            'description "port2 of gull-core-1"',
            self.oast("render", "--on", "name=tern-edge-1", "--section", "interfaces").out,
        )
        self.edit(
            "templates/bine/interfaces.j2",
            "network.other_end(device.name, link.port)",
            "network.other_end(device.name, 'port77')",
        )
        told = self.oast("render", "--on", "name=tern-edge-1", expect=3).err
        line = self.line_of("templates/bine/interfaces.j2", "port77")
        self.assertIn(
            f"templates/bine/interfaces.j2:{line}: cannot render the template: the inventory has no link at tern-edge-1 port77",
            told,
        )
