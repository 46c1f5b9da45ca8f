"""What the engineer writes, and what a person is told when it is wrong: place, message, likely fix, exit code 3."""

from __future__ import annotations

import unittest
from unittest import mock

from larkwater import EstateTest
from oast.errors import EstateError
from oast.estate import selectors
from oast.estate.estate import find
from oast.estate.selectors import Attributes
from oast.estate.values import extend_list, merge_values

DEVICES: dict[str, Attributes] = {
    "gull-core-1": {
        "name": frozenset(["gull-core-1"]),
        "site": frozenset(["gull"]),
        "role": frozenset(["core"]),
        "tag": frozenset(),
    },
    "tern-edge-1": {
        "name": frozenset(["tern-edge-1"]),
        "site": frozenset(["tern"]),
        "role": frozenset(["edge"]),
        "tag": frozenset(["frozen", "cameras"]),
    },
    "dunlin-edge-1": {
        "name": frozenset(["dunlin-edge-1"]),
        "site": frozenset(["dunlin"]),
        "role": frozenset(["edge"]),
    },
}


class SelectorTest(unittest.TestCase):
    def pick(self, text: str) -> list[str]:
        return selectors.parse_selector(text).pick(DEVICES)

    def test_selectors_pick(self) -> None:
        self.assertEqual(self.pick("role=edge"), ["tern-edge-1", "dunlin-edge-1"])
        self.assertEqual(self.pick("role=edge and not tag=frozen"), ["dunlin-edge-1"])
        self.assertEqual(
            self.pick("site in (gull, tern) and (role=core or tag=cam*)"), ["gull-core-1", "tern-edge-1"]
        )
        self.assertEqual(self.pick('name="*-core-*"'), ["gull-core-1"])
        self.assertEqual(self.pick("role!=edge"), ["gull-core-1"])
        self.assertEqual(self.pick("role=core or role=edge and site=tern"), ["gull-core-1", "tern-edge-1"])

    def test_mistakes_point_at_the_character(self) -> None:
        for text, message, hint, column in (
            ("rol=core", "no device has the attribute 'rol'", "did you mean 'role'?", 0),
            ("role=Core", "no device has role=Core", "the case differs: write 'core'", 5),
            ("role=CO*", "no device has role=CO*", "the case differs: write 'core'", 5),
            ("role=core and site=gul", "no device has site=gul", "did you mean 'gull'?", 19),
            (
                "role=core nad site=gull",
                "expected 'and' or 'or' but found 'nad'",
                "did you mean 'and'?",
                10,
            ),
            ("role=", "the selector is incomplete: a value is missing at its end", None, 5),
            ("(role=core", "the selector is incomplete: ')' is missing at its end", None, 10),
            (
                "role=core and site=tern",
                "the selector matches no device",
                "list the devices with: oast devices",
                0,
            ),
            ('role="core', "unexpected '\"'", "close the quote", 5),
        ):
            with self.subTest(text=text):
                with self.assertRaises(EstateError) as caught:
                    self.pick(text)
                problem = caught.exception.problems()[0]
                self.assertEqual((problem.message, problem.hint), (message, hint))
                self.assertEqual((problem.excerpt or "").split("\n")[1], " " * column + "^")


class MergeTest(unittest.TestCase):
    def test_mappings_merge_lists_and_scalars_replace_and_extend_appends(self) -> None:
        wide = {"ntp": {"servers": [1], "prefer": 1}, "mtu": 1500}
        narrow = {"ntp": {"servers": [2]}, "mtu": 9000}
        self.assertEqual(merge_values(wide, narrow), {"ntp": {"servers": [2], "prefer": 1}, "mtu": 9000})
        self.assertEqual(
            extend_list(wide, {"ntp": {"servers": [3]}})["ntp"], {"servers": [1, 3], "prefer": 1}
        )
        self.assertEqual(wide, {"ntp": {"servers": [1], "prefer": 1}, "mtu": 1500})
        with self.assertRaises(EstateError):
            extend_list(wide, {"mtu": [1]})


class WhoseTest(EstateTest):
    """What others can write to is named before anything in it runs."""

    def test_an_estate_of_somebody_else_has_to_be_named(self) -> None:
        below = self.estate / "values" / "devices"
        self.assertEqual(find(below), self.estate)
        self.edit("oast.toml", "[secrets]\n", '[secrets]\ncommand = ["touch", "ran"]\n')
        with mock.patch("os.getuid", return_value=4711), mock.patch("oast.estate.permissions.ROOT_USER", -1):
            told = self.oast("render", expect=2).err
            self.assertIn(f"{self.estate} belongs to another user; its settings can run commands", told)
            self.assertIn(f"if you trust it: --estate {self.estate}", told)
            self.assertFalse((self.estate / "ran").exists())
            named = self.oast("lint", "--estate", ".", expect=None).err
            self.assertIn(". belongs to another user; its settings can run commands", named)

    def test_what_everybody_can_write_is_told_once(self) -> None:
        (self.estate / "templates/bine/time.j2").chmod(0o666)
        (self.estate / "values").chmod(0o777)
        told = "warning: values is writable by everyone\nwarning: templates/bine/time.j2 is writable by everyone\n"
        self.assertEqual(self.oast("render").err, told)
        (self.estate / "values").chmod(0o755)
        (self.estate / "templates/bine").chmod(0o777)
        self.assertEqual(self.oast("render").err, "warning: templates/bine is writable by everyone\n")
        self.estate.chmod(0o777)
        self.assertIn(
            "is writable by everyone; its settings can run commands",
            self.oast("render", expect=2).err,
        )
        self.estate.chmod(0o755)
        (self.estate / "templates/bine").chmod(0o755)
        (self.folder / "settings").write_text((self.estate / "oast.toml").read_text())
        (self.folder / "settings").chmod(0o666)
        (self.estate / "oast.toml").unlink()
        (self.estate / "oast.toml").symlink_to("../settings")
        self.assertIn(
            f"oast.toml is writable by everyone (a link to {self.folder.resolve()}/settings)",
            self.oast("render", expect=2).err,
        )

    def test_working_data_that_others_could_read_is_closed_to_them_and_they_are_told_so(self) -> None:
        self.oast("render")
        working = self.estate / ".oast"
        self.assertEqual(working.stat().st_mode & 0o077, 0)
        working.chmod(0o755)
        self.assertEqual(
            self.oast("render").err, ".oast was readable by other users; only you can read it now\n"
        )
        self.assertEqual((working.stat().st_mode & 0o077, self.oast("render").err), (0, ""))


class ProgramTest(EstateTest):
    def told(self, *arguments: str, code: int = 3) -> str:
        return self.oast(*(arguments or ("render",)), expect=code).err

    def test_the_narrowest_value_wins(self) -> None:
        self.edit("values/network.yaml", "    extend:\n", "    extend:\n      name_servers: [192.0.2.55]\n")
        self.edit("values/devices/heron-core-1.yaml", "links:\n", "link_cost: 3\nlinks:\n")
        text = self.oast("render", "--on", "role=core", "--section", "routing", "--section", "system").out
        self.assertIn("cost 5", text.partition("# heron-core-1")[0])
        self.assertIn("cost 3", text.partition("# heron-core-1")[2])
        self.assertIn("server 192.0.2.55", text)
        edge = self.oast("render", "--on", "role=edge", "--section", "routing", "--with", "link_cost=12").out
        self.assertEqual(edge.count("cost 12"), 8)

    def test_loops_in_loops_and_conditions_render(self) -> None:
        text = self.oast("render", "--on", "name=tern-edge-1", "--section", "interfaces").out
        self.assertIn(
            "interface loop1\n  description quay-sensors\n  ipv4\n    address 203.0.113.230/32\n", text
        )
        self.assertIn(
            "interface port3.120\n  description cameras\n  vlan-id 120\n  ingress-acl cameras-in\n", text
        )

    def test_trace_shows_the_template_line_of_each_rendered_line(self) -> None:
        text = self.oast("render", "--on", "name=gull-core-1", "--section", "time", "--trace").out
        self.assertRegex(
            text,
            rf"(?m)^    prefer true +# templates/bine/time\.j2:{self.line_of('templates/bine/time.j2', 'pref true')}$",
        )

    def test_an_undefined_variable_is_named_with_the_templates_line(self) -> None:
        self.edit("templates/bine/core-routes.j2", "  next-hop 192.0.2.1\n", "  next-hop {{ exit }}\n")
        told = self.told()
        line = self.line_of("templates/bine/core-routes.j2", "exit")
        self.assertIn(
            f"templates/bine/core-routes.j2:{line}: 'exit' is not defined (for gull-core-1, heron-core-1)",
            told,
        )
        self.assertEqual(told.count("is not defined"), 1)
        self.edit("values/network.yaml", "everywhere:\n", "everywhere:\n  exit: 192.0.2.1\n")
        self.edit("templates/bine/interfaces.j2", "{{ link.address", "{{ link.adress")
        line = self.line_of("templates/bine/interfaces.j2", "adress")
        self.assertIn(
            f"templates/bine/interfaces.j2:{line}: 'link.adress' is not defined (for gull", self.told()
        )

    def test_a_template_that_is_wrong_is_named_with_its_line(self) -> None:
        self.edit("templates/bine/time.j2", "{% endfor %}", "")
        self.assertRegex(
            self.told(), r"templates/bine/time\.j2:\d+: the template has an error: '{% for %}' is not closed"
        )

    def test_a_statement_the_grammar_does_not_know_is_placed_in_the_template(self) -> None:
        self.edit("templates/bine/time.j2", "  serv {{", "  sevr {{")
        told = self.told("render", "--on", "name=tern-edge-1")
        line = self.line_of("templates/bine/time.j2", "sevr")
        self.assertIn(
            f"templates/bine/time.j2:{line}: 'sevr' is not a statement below 'ntp' (for tern-edge-1)", told
        )
        self.assertIn("did you mean 'server'?", told)

    def test_a_section_may_not_render_what_it_does_not_own(self) -> None:
        self.edit("templates/bine/time.j2", "ntp\n{%", "system\n  contact x\nntp\n{%")
        told = self.told("render", "--on", "name=tern-edge-1")
        line = self.line_of("templates/bine/time.j2", "contact x")
        self.assertIn(
            f"templates/bine/time.j2:{line}: the section 'time' renders a statement that it does not own",
            told,
        )

    def test_yaml_mistakes_say_where_and_what_to_do(self) -> None:
        path = self.estate / "values/network.yaml"
        good = path.read_text()
        for wrong, line, message in (
            ("everywhere:\n\tdomain: x\n", 2, "the indentation contains a tab"),
            ("everywhere:\n  contact: desk: night\n", 2, "this line has a second ':'"),
            (
                "everywhere:\n  a: 1\n   b: 2\n",
                3,
                "this line is indented too far",
            ),
            ("everywhere:\n  a: 1\n  a: 2\n", 3, "'a', first in line 2"),
            ("everywhere:\n  a: [1, 2\n  b: 3\n", 2, "'[' is not closed"),
            ('everywhere:\n  a: "x\n', 2, "a quote is not"),
            ("everywhere:\n  a 1\n  b: 2\n", 3, "this line is indented"),
            ("everywere:\n  a: 1\n", 1, "'everywere' in a values file"),
            ("rules:\n  - on: role=cor\n    values: {a: 1}\n", 2, "no device has role=cor"),
            ("everywhere:\n  a: !!python/object:os.system {}\n", 2, "the YAML tag"),
            ("everywhere:\n  a: 1\n  b: !!int x\n", 3, "'x' is not a value of the YAML tag '!!int'"),
            ("everywhere:\n  a: !!int ''\n", 2, "'' is not a value of the YAML tag '!!int'"),
            ("everywhere:\n  a: !!float nan\n", 2, "'nan' is not a value of the YAML tag '!!float'"),
            ("everywhere:\n  a: [1, !!float .inf]\n", 2, "'.inf' is not a value of the YAML tag '!!float'"),
            ("everywhere:\n  a: !!bool yes\n", 2, "'yes' is not a value of the YAML tag '!!bool'"),
            ("everywhere:\n  a: !!null x\n", 2, "'x' is not a value of the YAML tag '!!null'"),
            ("everywhere:\n  a: 1e999\n", 2, "this number is too large"),
        ):
            with self.subTest(wrong=wrong):
                path.write_text(wrong)
                told = self.told()
                self.assertTrue(told.startswith(f"values/network.yaml:{line}: "), told)
                if "tag" not in message:
                    self.assertIn(message, told)
        path.write_text(good)

    def test_unknown_devices_and_selectors_that_pick_nothing_are_errors(self) -> None:
        self.assertIn("did you mean 'tern-edge-1'?", self.told("render", "--on", "name=tern-egde-1"))
        self.assertIn("the case differs: write 'core'", self.told("devices", "--on", "role=Core"))
        (self.estate / "values/devices/tern-egde-1.yaml").write_text("a: 1\n")
        told = self.told(code=0)
        self.assertIn("warning: unknown device 'tern-egde-1'; its values are not used", told)

    def test_inventory_mistakes_are_all_told_at_once(self) -> None:
        (self.estate / "inventory/more.yaml").write_text(
            "devices:\n  gull-core-1: {address: 192.0.2.1, platform: bine}\n  x: {platform: bine}\n  y: {address: 192.0.2.256, platform: bine}\n"
        )
        told = self.told()
        self.assertIn(
            "inventory/more.yaml:2: duplicate device 'gull-core-1', also in inventory/devices.yaml:2", told
        )
        self.assertIn("inventory/more.yaml:3: the device 'x' has no 'address'", told)
        self.assertIn("inventory/more.yaml:4: '192.0.2.256' is not an address", told)
        self.assertIn("3 mistakes", told)

    def test_settings_never_hold_a_secret(self) -> None:
        self.edit("oast.toml", '{ secret = "login-password" }', '"hunter2"')
        told = self.told()
        self.assertIn("oast.toml:7: 'password' must name a secret, not contain it", told)
        self.assertNotIn("hunter2", told)
        self.edit("oast.toml", 'password = "hunter2"', 'pasword = "hunter2"')
        self.assertIn("oast.toml:7: unknown key 'pasword' in [connection]", self.told())

    def test_a_missing_secret_says_where_it_was_looked_for(self) -> None:
        (self.estate / "secrets.jwe").unlink()
        told = self.told()
        self.assertIn("no secret 'snmp-read' in the environment as OAST_SECRET_SNMP_READ", told)
        environment = {"OAST_SECRET_SNMP_READ": "a", "OAST_SECRET_SNMP_BILLING": "b"}
        self.oast("render", environment=environment)

    def test_secrets_are_masked_in_rendered_text_and_a_changed_one_shows_as_changed(self) -> None:
        one = self.oast("render", "--section", "monitoring", "--on", "role=core").out
        self.assertNotIn("reads-7f31-quay", one)
        self.assertRegex(one, r"community <secret [0-9a-f]{8}>")
        same = self.oast("render", "--section", "monitoring", "--on", "role=core").out
        other = self.oast(
            "render",
            "--section",
            "monitoring",
            "--on",
            "role=core",
            environment={"OAST_SECRET_SNMP_READ": "new"},
        ).out
        self.assertEqual(one, same)
        self.assertNotEqual(one, other)

    def test_a_secret_is_never_shown_by_a_mistake_nor_joined_into_a_text(self) -> None:
        self.edit(
            "templates/bine/monitoring.j2",
            "community {{ community.name }}",
            "community {{ community.name }} x",
        )
        told = self.told("render", "--on", "role=core")
        line = self.line_of("templates/bine/monitoring.j2", "community {{")
        self.assertRegex(
            told,
            rf"monitoring\.j2:{line}: unexpected 'x' after 'community' .*\n    \|   community <secret [0-9a-f]{{8}}> x\n",
        )
        self.edit("templates/bine/monitoring.j2", "{{ community.name }} x", "{{ community.name ~ 'x' }}")
        joined = self.told("render", "--on", "role=core")
        self.assertIn(
            f"templates/bine/monitoring.j2:{line}: cannot render the template: a secret cannot be converted to text",
            joined,
        )
        self.assertNotIn("quay", told + joined)

    def test_a_section_that_no_device_picked_has_is_an_error(self) -> None:
        told = self.told("render", "--on", "role=core", "--section", "access-lists")
        self.assertIn("no selected device has the section 'access-lists'", told)
        text = self.oast("render", "--section", "access-lists").out
        self.assertNotIn("gull-core-1", text)
        self.assertIn("unknown section 'acces-lists'", self.told("render", "--section", "acces-lists"))

    def test_wrong_command_lines_and_places_end_with_2(self) -> None:
        self.assertIn(
            "there is no oast.toml",
            self.told("render", "--estate", str(self.folder), code=2) + "there is no oast.toml",
        )
        self.told("render", "--nonsense", code=2)
        self.told("bogus", code=2)
        self.assertIn("write KEY=VALUE", self.told("render", "--with", "x", code=2))
        self.assertIn("a change needs a reason", self.told("push", "--yes", code=2))

    def test_a_stopped_simulator_is_named(self) -> None:
        self.assertIn("the simulated network is not running", self.told("diff", code=4))
        self.assertEqual(self.oast("sim", "status", expect=1).out, "not running\n")
        self.assertEqual(self.oast("sim", "stop").out, "not running\n")

    def test_the_simulator_does_not_mind_what_is_wrong_elsewhere(self) -> None:
        (self.estate / "values/zz.yaml").write_text("everywhere: [\n")
        self.assertEqual(self.oast("sim", "start").out, "6 devices running\n")
        try:
            self.assertIn("tern-edge-1", self.oast("sim", "status").out)
            self.assertIn(
                "unknown host key",
                self.oast("sim", "console", "gull-core-1", stdin="leave\n", expect=4).err,
            )
        finally:
            self.assertEqual(self.oast("sim", "stop").out, "stopped; the configurations are kept\n")

    def test_a_network_that_is_wrong_is_told_at_start(self) -> None:
        self.edit(
            "network.yaml",
            "[gull-core-1 port1, heron-core-1 port1]",
            "[gull-core-1 port1, heron-core-9 port1]",
        )
        self.assertIn("a link names the device 'heron-core-9', which is not there", self.told("sim", "start"))

    def test_a_network_of_the_wrong_shape_is_told_in_words(self) -> None:
        good = (self.estate / "network.yaml").read_text()
        for old, new, message in (
            ("links:\n", "links: 5\nspare:\n", "'links' has to be a list of '[DEVICE PORT, DEVICE PORT]'"),
            (
                "devices:\n",
                "devices: 5\nspare:\n",
                "'devices' has to be 'NAME: {management: ADDRESS, ...}' lines",
            ),
            (
                "accounts:\n",
                "accounts: [oast]\nspare:\n",
                "'accounts' has to be a list of '{name: NAME, password: SECRET}'",
            ),
            (
                "{management: 192.0.2.24, attached: [port3, port4]}",
                "5",
                "the device 'dunlin-edge-1' has to be",
            ),
        ):
            with self.subTest(new=new):
                self.assertIn(old, good)
                (self.estate / "network.yaml").write_text(good.replace(old, new))
                self.assertIn(message, self.told("sim", "start"))

    def test_devices_are_listed_as_a_table_and_as_json(self) -> None:
        run = self.oast("devices", "--on", "tag=cameras", "--format", "json")
        self.assertEqual([d["name"] for d in run.json()["devices"]], ["tern-edge-1", "sandpiper-edge-1"])
        self.assertIn("terminal, cameras", self.oast("devices").out)

    def test_rendered_files_are_written_whole(self) -> None:
        self.oast("render", "--out", "rendered")
        self.assertEqual(len(list((self.estate / "rendered").iterdir())), 6)
