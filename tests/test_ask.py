"""oast ask: records of many devices in one table, what a command lists, and a value that is read on one and used on the others."""

from __future__ import annotations

import csv
import io
import json
import unittest
from ipaddress import ip_interface, ip_network

from hypothesis import given, strategies as st

from larkwater import SECRETS, LarkwaterTest
from oast.errors import EstateError
from oast.platforms.load import SHIPPED
from oast.platforms.reading_schema import READINGS, FieldType, ValueKind
from oast.readings.filter_expression import condition
from oast.readings.values import convert, natural_sort_key, to_text

CORE, OTHER = "gull-core-1", "heron-core-1"
ON = ("--on", "role=core")


class AskTest(LarkwaterTest):
    delivered = True

    def test_one_table_of_many_devices_sorted_with_the_columns_and_the_records_that_are_wanted(self) -> None:
        out = self.oast(
            "ask",
            "interfaces",
            *ON,
            "-q",
            "--where",
            "oper-status=up and not name=loop*",
            "--columns",
            "device,name,mtu",
        ).out
        heading, first, *_ = out.splitlines()
        self.assertEqual(heading.split(), ["device", "name", "mtu"])
        self.assertEqual(first.split(), [CORE, "manage0", "1500"])
        self.assertRegex(out, r"(?m)^\d+ records of 2 devices$")
        rows = self.oast("ask", "routes", *ON, "--sort", "metric", "--descending", "--format", "json").json()[
            "records"
        ]
        metrics = [row["metric"] for row in rows]
        self.assertEqual(metrics, sorted(metrics, reverse=True))
        self.assertGreater(metrics[0], 9)
        self.assertLess(natural_sort_key("port2"), natural_sort_key("port10"))

    def test_records_for_other_programs(self) -> None:
        out = self.oast("ask", "interfaces", *ON, "--format", "csv").out
        rows = list(csv.DictReader(io.StringIO(out)))
        self.assertEqual({row["device"] for row in rows}, {CORE, OTHER})
        lines = [
            json.loads(line)
            for line in self.oast("ask", "interfaces", *ON, "--format", "jsonl").out.splitlines()
        ]
        self.assertEqual(len(lines), len(rows))
        self.assertIsInstance(lines[0]["mtu"], int)
        self.assertIsInstance(lines[0]["ipv4-address"], list)
        picked = self.oast(
            "ask", "interfaces", *ON, "--pick", "[?\"oper-status\"=='up'] | length(@)", "--format", "json"
        ).json()
        self.assertEqual(set(picked["devices"]), {CORE, OTHER})
        self.assertGreater(picked["devices"][CORE], 3)

    def test_what_is_asked_for_has_to_be_there(self) -> None:
        for arguments, code, told in (
            (("interfces",), 2, "did you mean 'interfaces'?"),
            ((), 2, "what to read is missing"),
            (("interfaces", "--columns", "mto"), 2, "did you mean 'mtu'?"),
            (("interfaces", "--sort", "x"), 2, "has no field 'x'"),
            (("interfaces", "--where", "oper-statuss=up"), 3, "did you mean 'oper-status'?"),
            (("interfaces", "--where", "oper-status=upp"), 3, "did you mean 'up'?"),
            (("interfaces", "--where", "name<3"), 3, "is not a number"),
            (("interfaces", "--pick", "[?"), 2, "is not a valid JMESPath"),
            (("interfaces", "--pick", "abs(@)"), 2, "does not fit the records"),
            (("interfaces", "--save", "x"), 2, "--save needs --pick,"),
            (("--raw", "read system", "--sort", "name"), 2, "--sort needs a READING"),
            (("--raw", "read system\nsave startup"), 2, "a command must be one line"),
            (("--raw", "read system\nsave startup", "--allow-any"), 2, "a command must be one line"),
        ):
            with self.subTest(arguments=arguments):
                self.assertIn(told, self.oast("ask", *arguments, *ON, expect=code).err)

    def test_a_device_that_does_not_answer_is_named_and_the_others_are_shown(self) -> None:
        self.fault(OTHER, "down")
        run = self.oast("ask", "system", *ON, expect=4)
        self.assertRegex(run.out, rf"(?m)^{CORE} +{CORE} +bine +4\.2 +LW\d{{8}} +\d+$")
        self.assertIn(f"{OTHER}: ", run.err)
        document = self.oast("ask", "system", *ON, "--format", "json", expect=4).json()
        self.assertEqual([one["device"] for one in document["failed"]], [OTHER])

    def test_a_row_that_does_not_fit_is_an_error_with_its_line(self) -> None:
        shipped = (SHIPPED / "bine.toml").read_text().replace('name = "bine"', 'name = "brine"')
        (self.estate / "platforms").mkdir()
        (self.estate / "platforms/brine.toml").write_text(
            shipped.replace('mtu = "mtu", ', "").replace('ipv4 = "ipv4-address"', 'ipv4 = "mtu"')
        )
        (self.estate / "templates/bine").rename(self.estate / "templates/brine")
        for path in (self.estate / "inventory").iterdir():
            path.write_text(path.read_text().replace("bine", "brine"))
        run = self.oast("ask", "interfaces", *ON, expect=4)
        self.assertRegex(
            run.err, r"line 2 of the answer to 'read ports' has '.*' for 'mtu', which is not a whole number"
        )

    def test_only_what_reads_is_sent_and_equal_answers_are_shown_once(self) -> None:
        told = self.oast("ask", "--raw", "save startup", *ON, expect=2)
        self.assertIn(
            "'save startup' is not known to be read-only on the platform bine (gull-core-1); nothing was sent to any device",
            told.err,
        )
        out = self.oast("ask", "--raw", "read users", *ON, "-q").out
        self.assertIn(f"{CORE}, {OTHER}  (all 2)", out)
        self.assertEqual(out.count("role"), 1)
        self.console(OTHER, "raise", SECRETS["privilege-password"], "edit", "user visitor", "close")
        out = self.oast("ask", "--raw", "read users", *ON, "-q").out
        self.assertRegex(out, r"(?m)^\+visitor +viewer$")
        self.assertIn(f"{OTHER}\n", out)
        refused = self.oast("ask", "--raw", "read nothing", *ON, expect=4)
        self.assertIn("is not a command", refused.err)
        self.oast("ask", "--raw", "lower", *ON, "--allow-any", expect=4)

    def test_no_secret_is_shown_also_of_the_configuration(self) -> None:
        for arguments in (
            ("--raw", "read running"),
            ("--raw", "read running", "--format", "json"),
            ("--raw", "read running", "--out", "said"),
        ):
            run = self.oast("ask", *arguments, *ON)
            told = run.out + "".join(path.read_text() for path in (self.estate / "said").glob("*"))
            self.assertNotIn(SECRETS["snmp-read"], told)
            self.assertNotIn("pbkdf2", told)
        self.assertRegex(told, "community <secret [0-9a-f]{8}>")

    def test_a_secret_is_hidden_however_it_is_spelt(self) -> None:
        self.console(
            CORE,
            "raise",
            SECRETS["privilege-password"],
            "edit",
            "snmp",
            '  community "qu\\"ay & pier"',
            "close",
        )
        told = self.oast("ask", "--raw", "read running", "--on", f"name={CORE}").out
        self.assertNotIn("ay & pier", told)
        self.assertGreaterEqual(told.count("<secret "), 2)

    def test_a_file_for_each_device(self) -> None:
        self.assertIn("2 files in .oast/asked/system", self.oast("ask", "system", *ON, "--out").out)
        (record,) = json.loads((self.estate / ".oast/asked/system" / f"{CORE}.json").read_text())
        self.assertEqual(record["os-name"], "bine")
        self.oast("ask", "--raw", "read system", *ON, "--out", "said")
        self.assertIn("serial", (self.estate / "said" / f"{OTHER}.txt").read_text())

    def test_what_is_read_on_one_device_is_used_on_all_by_the_next_push(self) -> None:
        self.edit("templates/bine/system.j2", 'contact "{{ contact }}"', "contact {{ release }}")
        self.edit(
            "templates/bine/system.j2",
            "  contact: {help: whom to call about the device}",
            "  release: {help: what the hub runs}",
        )
        run = self.oast(
            "ask", "system", "--on", f"name={OTHER}", "--pick", '[0]."os-release"', "--save", "release"
        )
        self.assertIn("release is saved in values/read.yaml", run.err)
        text = (self.estate / "values/read.yaml").read_text()
        self.assertRegex(text, rf"(?m)^# release: read on {OTHER} at 20\S+: system, \[0\]")
        self.oast("push", "-m", "what was read", *ON, "--yes")
        self.assertIn("contact 4.2", self.running(CORE))
        self.assertIn("values/read.yaml:", self.oast("explain", CORE, "release").out)
        self.oast(
            "ask", "system", "--on", f"name={OTHER}", "--pick", '[0]."os-name"', "--save", "seen.system"
        )
        self.assertIn("system: bine", (self.estate / "values/read.yaml").read_text())
        self.assertIn("# release: ", (self.estate / "values/read.yaml").read_text())

    def test_what_cannot_be_one_value_of_all_is_not_saved(self) -> None:
        run = self.oast("ask", "system", *ON, "--pick", "[0].name", "--save", "x", expect=2)
        self.assertIn("2 different values", run.err)
        self.assertIn(
            "gives no",
            self.oast("ask", "system", *ON, "--pick", "[9].name", "--save", "x", expect=2).err,
        )
        self.assertIn(
            "not a valid name for a value",
            self.oast("ask", "system", *ON, "--pick", '[0]."os-name"', "--save", "1 x", expect=2).err,
        )
        run = self.oast("ask", "system", *ON, "--pick", '[0]."os-name"', "--save", "contact")
        self.assertIn("contact is saved in values/read.yaml", run.err)
        (self.estate / "values/read.yaml").write_text("everywhere: {x: 1}\n")
        self.assertIn(
            "was not written by Oast",
            self.oast("ask", "system", *ON, "--pick", '[0]."os-name"', "--save", "x", expect=2).err,
        )

    def test_the_readings_there_are(self) -> None:
        known = {
            one["reading"]: one for one in self.oast("ask", "--list", "--format", "json").json()["readings"]
        }
        self.assertIn("ip-neighbors", known)
        mtu = next(field for field in known["interfaces"]["fields"] if field["field"] == "mtu")
        self.assertEqual((mtu["type"], mtu["unit"]), ("number", "octets"))
        self.assertIn("RFC 8343", known["interfaces"]["source"])
        self.assertIn("in-errors", self.oast("ask", "--list").out)


class ValuesTest(unittest.TestCase):
    def test_what_devices_write_in_their_own_ways_is_one_value(self) -> None:
        for kind, texts, wanted in (
            (FieldType(ValueKind.DURATION), ("93784", "1d 02:03:04", "1 day, 2:03:04", "1d 2h 3m 4s", "1 day, 2 hours, 3 minutes and 4 seconds"), 93784.0),
            (FieldType(ValueKind.NUMBER, unit="bit/s"), ("1000000000", "1G", "1000M", "1 Gbit/s", "1000 Mbps"), 1_000_000_000),
            (FieldType(ValueKind.NUMBER), ("1500", "1,500", "+1500"), 1500),
            (FieldType(ValueKind.MAC), ("02:00:5E:0a:0b:0c", "0200.5e0a.0b0c", "02-00-5e-0a-0b-0c"), "02:00:5e:0a:0b:0c"),
            (FieldType(ValueKind.NAMES), ("port10,port2", "port2 port10", "port2, port10"), ("port2", "port10")),
            (FieldType(ValueKind.BOOLEAN), ("true", "yes", "ON"), True),
            (FieldType(ValueKind.PREFIX), ("198.51.100.0/24", "198.51.100.7/24", "198.51.100.0/255.255.255.0"), ip_network("198.51.100.0/24")),
            (FieldType(ValueKind.INTERFACE_ADDRESSES), ("2001:DB8::1/64", "2001:db8:0::1/64 fe80::1/64"), (ip_interface("2001:db8::1/64"),)),
        ):  # fmt: skip
            for text in texts:
                with self.subTest(text=text):
                    self.assertEqual(convert(kind, text), wanted)

    def test_what_no_field_can_hold_is_told(self) -> None:
        for kind, text, told in (
            (ValueKind.NUMBER, "many", "not a whole number"),
            (ValueKind.DECIMAL, "nan", "no number"),
            (ValueKind.DURATION, "soon", "not a duration"),
            (ValueKind.ADDRESS, "192.0.2.256", "no address"),
            (ValueKind.PREFIX, "x/8", "no prefix"),
            (ValueKind.MAC, "02:00", "not a MAC address"),
            (ValueKind.BOOLEAN, "perhaps", "neither true nor false"),
            (ValueKind.INTERFACE_ADDRESSES, "quay", "not an address with"),
        ):
            with self.subTest(text=text), self.assertRaisesRegex(ValueError, told):
                convert(FieldType(kind), text)

    @given(st.ip_addresses(), st.integers(0, 10**9), st.floats(0, 1e9))
    def test_a_value_and_its_text_are_the_same(self, address: object, number: int, seconds: float) -> None:
        self.assertEqual(to_text(convert(FieldType(ValueKind.ADDRESS), str(address))), str(address))
        self.assertEqual(convert(FieldType(ValueKind.NUMBER), to_text(number)), number)

    def test_expressions_over_fields(self) -> None:
        fields = READINGS["interfaces"].fields
        record = {
            "name": "port3",
            "oper-status": "down",
            "mtu": 9000,
            "ipv4-address": (ip_interface("192.0.2.9/24"),),
            "speed": None,
        }
        for text, meant in (
            ("oper-status=down", True),
            ("oper-status!=down", False),
            ("name in (port1, port3)", True),
            ("name=port* and mtu>1500", True),
            ("mtu<=1500 or mtu>=9000", True),
            ("not (mtu=9000)", False),
            ("ipv4-address=192.0.2.0/25", True),
            ("ipv4-address=192.0.2.128/25", False),
            ("ipv4-address=192.0.2.9", True),
            ("speed=-", True),
            ("speed>1", False),
        ):
            with self.subTest(text=text):
                self.assertEqual(condition(text, fields)(record), meant)
        with self.assertRaises(EstateError):
            condition("mtu<many", fields)


if __name__ == "__main__":
    unittest.main()
