"""Declared variables: values checked before rendering, told at the line of the value."""

from __future__ import annotations

from larkwater import EstateTest


class VariablesTest(EstateTest):
    def declare(self, *lines: str, template: str = "x {{ v }}") -> None:
        """Replace the section `time` by one with these declarations; its text never gets to the grammar in these tests."""
        header = "".join(f"  {line}\n" for line in lines)
        (self.estate / "templates/bine/time.j2").write_text(
            f"{{#\nsection: time\nowns: [ntp]\nvariables:\n{header}#}}\n{template}\n"
        )

    def told(self, value: str) -> str:
        (self.estate / "values/zz.yaml").write_text(f"everywhere:\n  other: 1\n  v: {value}\n")
        return self.oast("render", "--on", "name=gull-core-1", "--section", "time", expect=3).err

    def test_every_type_allows_what_it_should_and_tells_the_rest_at_its_line(self) -> None:
        for declaration, right, wrong in (
            ("{type: integer, range: [1, 9]}", "9", "10"),
            ("integer", "-4", "4.5"),
            ("boolean", "true", "'yes'"),
            ("text", "12:30", "[a]"),
            ("ip-address", "2001:db8::1", "192.0.2.300"),
            ("ipv4-address", "192.0.2.3", "2001:db8::1"),
            ("ipv6-address", "2001:db8::1", "192.0.2.3"),
            ("prefix", "192.0.2.0/24", "192.0.2.1/24"),
            ("interface-address", "192.0.2.1/24", "192.0.2.1"),
            ("mac-address", "'00:00:5E:00:53:01'", "'00:00:5E:00:53'"),
            ("as-number", "64496", "4294967296"),
            ("vlan-id", "4094", "4095"),
            ("{choices: [red, blue]}", "red", "rde"),
            ("{of: vlan-id, least: 2}", "[1, 2]", "[1]"),
            ("{of: vlan-id}", "[1, 2]", "[1, x]"),
            ("{fields: {a: integer, b: {type: text, required: false}}}", "{a: 1}", "{b: x}"),
            ("{a: integer}", "{a: 1}", "{a: 1, c: 2}"),
            ("{secret: true}", "{secret: snmp-read}", "plain"),
        ):
            with self.subTest(declaration=declaration):
                self.declare(f"v: {declaration}")
                self.assertRegex(
                    self.told(right),
                    r"^templates/bine/time\.j2:7: ",
                    "the right value gets as far as the grammar",
                )
                told = self.told(wrong)
                self.assertTrue(told.startswith("values/zz.yaml:3: 'v"), told)
                self.assertIn("(declared in templates/bine/time.j2:5)", told)

    def test_the_line_is_that_of_the_item_in_a_list(self) -> None:
        self.declare("v: {of: {a: vlan-id}}")
        told = self.told("\n    - a: 1\n    - {a: 5000}")
        self.assertTrue(
            told.startswith("values/zz.yaml:5: 'v[1].a' is '5000', not a VLAN id from 1 to 4094"), told
        )

    def test_defaults_are_filled_in_down_to_the_fields_of_items(self) -> None:
        self.declare(
            "v: {of: {a: integer, b: {type: integer, default: 123}}}",
            "w: {default: 192.0.2.1}",
            template="ntp\n  server {{ w }}\n    port {{ v[0].b }}",
        )
        (self.estate / "values/zz.yaml").write_text("everywhere:\n  v: [{a: 1}]\n")
        self.assertEqual(
            self.oast("render", "--on", "role=core", "--section", "time", "--format", "json").json()[
                "devices"
            ][0]["text"],
            "ntp\n  server 192.0.2.1\n",
        )

    def test_what_is_missing_undeclared_or_declared_wrongly(self) -> None:
        self.declare("v: {type: text, help: the thing}", template="{{ v }}")
        told = self.oast("render", "--section", "time", expect=3).err
        self.assertIn(
            "templates/bine/time.j2:5: the section 'time' needs the value 'v', which is not defined (for gull-core-1,",
            told,
        )
        self.assertIn("define it in values/: the thing", told)
        self.declare("v: text", template="{{ v }}\n{{ contakt }}")
        self.assertIn(
            "templates/bine/time.j2:8: the template uses 'contakt', which its header does not declare",
            self.told("a"),
        )
        for wrong, message in (
            ("v: txt", "the variable 'v' has the unknown type 'txt'"),
            ("v: {type: text, defualt: 1}", "unknown key 'defualt' in the variable 'v'"),
        ):
            self.declare(wrong)
            self.assertIn(f"templates/bine/time.j2:5: {message}", self.told("a"))

    def test_the_declared_variables_are_described(self) -> None:
        described = self.oast("render", "--describe", "--format", "json").json()["variables"]
        cost = next(v for v in described if v["variable"] == "link_cost")
        self.assertEqual(
            cost,
            {
                "template": "templates/bine/routing.j2",
                "variable": "link_cost",
                "takes": "a whole number from 1 to 65535",
                "given": "default 10",
                "help": "the OSPF cost of each link",
            },
        )
        enabled = next(v for v in described if v["variable"] == "management.enabled")
        self.assertEqual((enabled["takes"], enabled["given"]), ("true or false", "default true"))
