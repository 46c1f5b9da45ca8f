"""Values that explain themselves: provenance, values that refer to others, inventories from spreadsheets."""

from __future__ import annotations

import csv
import io

from larkwater import EstateTest


class ExplainTest(EstateTest):
    def explained(self, *arguments: str) -> str:
        return self.oast("explain", *arguments).out

    def test_the_winning_value_comes_first_and_what_it_overrode_after(self) -> None:
        path = self.estate / "values/devices/gull-core-1.yaml"
        path.write_text(path.read_text() + "link_cost: 3\n")
        line = len(path.read_text().splitlines())
        shown = self.explained("gull-core-1", "link_cost", "--with", "link_cost=2")
        self.assertEqual(
            [" ".join(row.split()) for row in shown.splitlines()],
            [
                "link_cost = 2",
                "--with --with",
                f"values/devices/gull-core-1.yaml:{line} file of the device (3, overridden)",
                f"values/network.yaml:{self.line_of('values/network.yaml', 'link_cost: 5')} rule on role=core (5, overridden)",
                "values/network.yaml:21 everywhere (10, overridden)",
            ],
        )

    def test_mappings_merge_lists_are_extended_and_a_scalar_can_replace_a_mapping(self) -> None:
        self.edit("values/network.yaml", "    extend:\n", "    extend:\n      name_servers: [192.0.2.55]\n")
        shown = self.explained("gull-core-1", "name_servers")
        self.assertIn('name_servers = ["192.0.2.53", "192.0.2.54", "192.0.2.55"]', shown)
        self.assertIn('rule on role=core  (appended ["192.0.2.55"])', shown)
        self.assertIn('everywhere  (["192.0.2.53", "192.0.2.54"], extended)', shown)
        document = self.oast(
            "explain", "gull-core-1", "management", "--with", "management=none", "--format", "json"
        ).json()
        self.assertEqual(document["format"], "oast.explain/1")
        self.assertEqual([v["key"] for v in document["values"]], ["management"])
        origins = document["values"][0]["origins"]
        self.assertEqual([o["source"] for o in origins], ["everywhere"] * 3 + ["--with"])
        self.assertEqual((origins[0]["file"], origins[0]["line"]), ("values/network.yaml", 19))

    def test_what_stands_in_a_list_is_explained_by_who_put_it_there(self) -> None:
        own = "values/devices/tern-edge-1.yaml"
        line = self.line_of(own, "vlan: 120")
        shown = self.explained("tern-edge-1", "services[2].interfaces[0].vlan")
        self.assertEqual(shown, f"services[2].interfaces[0].vlan = 120\n  {own}:{line}  file of the device\n")
        shown = self.explained("gull-core-1", "trap_receivers[1]")
        line = self.line_of("values/network.yaml", "192.0.2.61")
        self.assertEqual(
            shown, f"trap_receivers[1] = 192.0.2.61\n  values/network.yaml:{line}  rule on role=core\n"
        )
        self.assertIn("everywhere", self.explained("gull-core-1", "trap_receivers[0]"))
        for key, message in (
            ("services[9]", "'services' has no 'services[9]'"),
            ("services[0].nmae", "did you mean 'name'?"),
            ("services[0].name.x", "'services' has no 'services[0].name.x'"),
            ("contact[0]", "'contact' has no 'contact[0]'"),
            ("services[x]", "'services' has no 'services[x]'"),
            ("services[", "tern-edge-1 has no value 'services['"),
        ):
            with self.subTest(key=key):
                self.assertIn(message, self.oast("explain", "tern-edge-1", key, expect=3).err)

    def test_attributes_are_explained_secrets_masked_and_mistakes_named(self) -> None:
        self.assertEqual(
            self.explained("gull-core-1", "device.site"),
            "device.site = gull\n  inventory/devices.yaml:5  inventory\n",
        )
        self.assertNotIn('quay"', self.explained("gull-core-1", "communities"))
        self.assertRegex(self.explained("gull-core-1", "communities"), r"<secret [0-9a-f]{8}>")
        self.assertIn(
            "did you mean 'link_cost'?", self.oast("explain", "gull-core-1", "link_cots", expect=3).err
        )
        self.assertIn("did you mean 'gull-core-1'?", self.oast("explain", "gull-core-2", expect=3).err)


class ReferenceTest(EstateTest):
    def values(self, text: str) -> None:
        (self.estate / "values/zz.yaml").write_text(text)

    def test_values_refer_to_values_attributes_and_other_devices(self) -> None:
        self.values(
            "everywhere:\n"
            '  contact: "{{ company }} desk for {{ device.site }}"\n'
            "  company: Larkwater\n"
            '  link_cost: "{{ base_cost * 2 }}"\n'
            "  base_cost: 6\n"
            "  management: {port: manage0, shown: '{{ management.port | upper }}'}\n"
            "  hubs: \"{{ network.pick('tag=hub') | map(attribute='name') | list }}\"\n"
            '  far_end: "{{ network.other_end(device.name, links[0].port).device.values.links[0].address }}"\n'
        )
        document = self.oast("explain", "tern-edge-1", "--format", "json").json()
        values = {v["key"]: v["value"] for v in document["values"]}
        self.assertEqual(values["contact"], "Larkwater desk for tern")
        self.assertEqual(values["link_cost"], 12)
        self.assertEqual(values["management.shown"], "MANAGE0")
        self.assertEqual(values["hubs"], ["gull-core-1", "heron-core-1"])
        self.assertEqual(values["far_end"], "203.0.113.0/31")
        self.assertIn("cost 12", self.oast("render", "--on", "name=tern-edge-1", "--section", "routing").out)
        shown = self.oast("explain", "tern-edge-1", "link_cost").out
        self.assertIn("values/zz.yaml:4", shown)
        self.assertIn("written as {{ base_cost * 2 }}", shown)

    def test_templates_reach_the_other_end_of_a_link(self) -> None:
        self.edit(
            "templates/bine/interfaces.j2",
            ".device.name }}",
            ".device.site }} with {{ network.device('gull-core-1').address }}",
        )
        self.assertIn(
            "to heron with 192.0.2.11",
            self.oast("render", "--on", "name=tern-edge-1", "--section", "interfaces").out,
        )

    def test_circles_and_undefined_references_are_errors_with_their_place(self) -> None:
        for text, line, message in (
            ("everywhere:\n  a: '{{ b }}'\n  b: '{{ c.d }}'\n  c: {d: '{{ a }}'}\n", 2, "values refer to each other in a loop: a -> b -> c.d -> a"),
            ("everywhere:\n  a: '{{ nothing }}'\n", 2, "cannot evaluate 'a': 'nothing' is not defined"),
            ("everywhere:\n  b: 1\n  a: '{{ 1 + }}'\n", 3, "the expression in 'a' has an error"),
            ("everywhere:\n  a: \"{{ network.device('gul').site }}\"\n", 2, "unknown device 'gul'"),
            ("everywhere:\n  a: '{{ 1 // 0 }}'\n", 2, "cannot evaluate 'a': "),
        ):  # fmt: skip
            with self.subTest(text=text):
                self.values(text)
                told = self.oast("render", "--on", "name=gull-core-1", expect=3).err
                self.assertTrue(told.startswith(f"values/zz.yaml:{line}: {message}"), told)


class CsvTest(EstateTest):
    def test_an_inventory_may_be_a_spreadsheet_and_its_mistakes_have_their_row(self) -> None:
        path = self.estate / "inventory/quays.csv"
        path.write_text(
            'name,address,platform,site,role,tags\nwick-edge-1,2001:DB8::31,bine,"wick, north",edge,terminal;new\n\n'
        )
        listed = self.oast(
            "devices", "--on", "tag=new", "--columns", "name,address,site,tags", "--format", "csv"
        ).out
        self.assertEqual(
            list(csv.reader(io.StringIO(listed)))[1],
            ["wick-edge-1", "2001:DB8::31", "wick, north", "terminal;new"],
        )
        self.assertEqual(self.oast("devices", "--on", "site='wick*'", expect=None).code, 3)
        for text, place, message in (
            ("name,address\nx,192.0.2.1\n", 2, "the device 'x' has no 'platform'"),
            ("name,address,platform\nx,192.0.2.1\n", 2, "this row has 2 cells, the heading 3"),
            ("device,address\n", 1, "the heading has no column 'name'"),
            (
                "name,address,platform\ngull-core-1,192.0.2.1,bine\n",
                2,
                "also in inventory/devices.yaml:2",
            ),
        ):
            with self.subTest(text=text):
                path.write_text(text)
                told = self.oast("devices", expect=3).err
                self.assertTrue(told.startswith(f"inventory/quays.csv:{place}: "), told)
                self.assertIn(message, told)

    def test_columns_are_picked_and_unknown_ones_named(self) -> None:
        self.assertEqual(
            self.oast("devices", "--columns", "site,name", "--on", "role=core").out,
            "site   name\ngull   gull-core-1\nheron  heron-core-1\n",
        )
        self.assertIn("did you mean 'site'?", self.oast("devices", "--columns", "sit", expect=2).err)


class WriteCommunityTest(EstateTest):
    """A community that may write, in the demo network with all its platforms."""

    whole = True

    def test_it_is_written_where_the_platform_has_access_and_left_out_where_it_would_be_read_only(
        self,
    ) -> None:
        self.edit(
            "values/network.yaml",
            "- name: {secret: snmp-billing}\n",
            "- name: {secret: snmp-billing}\n      access: read-write\n",
        )
        shown = {
            p: self.oast("render", "--on", f"platform={p}", "--section", "monitoring").out
            for p in ("bine", "cowl", "roundel")
        }
        self.assertEqual(shown["bine"].count("    access read-write\n"), 6)
        self.assertEqual(shown["cowl"].count("]/access = read-write\n"), 14)
        self.assertEqual(
            shown["roundel"].count("<text-name>"), 4, "each of the four has the community that only reads"
        )
