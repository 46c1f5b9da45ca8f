"""Answers of every form as records: tables however they are aligned, JSON, blocks of lines, and fields made of others."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings, strategies as st

from oast.errors import EstateError, ProtocolError
from oast.operations.ask import records_document
from oast.platforms.definition import DerivedField, ReadingDefinition
from oast.platforms.load import SHIPPED, load_platform
from oast.platforms.reading_schema import READINGS, FieldType, ValueKind
from oast.readings.records import find_other_values, records
from oast.records import Fingerprints
from oast.verify.checks import Check, evaluate

TABLE = ReadingDefinition(
    "show ports",
    {
        "Port": "name",
        "Admin state": "admin-status",
        "State": "oper-status",
        "MTU": "mtu",
        "Errors in": "in-errors",
        "Told": "description",
    },
    right=frozenset(("MTU", "Errors in")),
    skip=("^Total:",),
    continues=True,
)
LISTING = """  what the pier knows of its ports

Port       Admin state  State    MTU  Errors in  Told
---------  -----------  -----  -----  ---------  ------------------
quay/1     up           down    1500          0  to the pier, left
quay/2     down         down   65535   18446744  -
                                                 and more of it
quay/10    up           up        68             x
Total: 3 ports
"""


class TableTest(unittest.TestCase):
    def test_headings_of_several_words_numbers_to_the_right_underlines_and_rows_that_go_on(self) -> None:
        fields = ("name", "admin-status", "oper-status", "mtu", "in-errors", "description")
        wanted = [
            ("quay/1", "up", "down", "1500", "0", "to the pier, left"),
            ("quay/2", "down", "down", "65535", "18446744", "and more of it"),
            ("quay/10", "up", "up", "68", None, "x"),
        ]
        self.assertEqual(records(LISTING, TABLE), [dict(zip(fields, row, strict=True)) for row in wanted])

    @settings(max_examples=80, deadline=None)
    @given(
        st.lists(
            st.tuples(
                st.sampled_from(["quay/1", "a"]),
                st.sampled_from(["up", "admin down", None]),
                st.integers(0, 10**9),
                st.sampled_from(["x", "to the pier", None]),
            ),
            max_size=5,
        )
    )
    def test_what_was_printed_in_columns_is_read(
        self, rows: list[tuple[str, str | None, int, str | None]]
    ) -> None:
        headings = ("Port name", "State", "Octets", "Told")
        texts = [tuple("-" if cell is None else str(cell) for cell in row) for row in rows]
        widths = [max(len(row[n]) for row in (headings, *texts)) for n in range(4)]
        text = "\n".join(
            "  ".join(
                cell.rjust(width) if n == 2 else cell.ljust(width)
                for n, (cell, width) in enumerate(zip(row, widths, strict=True))
            )
            for row in (headings, *texts)
        )
        reading = ReadingDefinition(
            "x",
            {"Told": "told", "Port name": "name", "State": "state", "Octets": "octets"},
            right=frozenset(("Octets",)),
        )
        found = [(r["name"], r["state"], r["octets"], r["told"]) for r in records(text, reading)]
        self.assertEqual(found, [(name, state, str(number), told) for name, state, number, told in rows])

    @settings(max_examples=75, deadline=None)
    @given(
        st.lists(
            st.one_of(
                st.tuples(
                    st.sampled_from(["quay/1", "a", "-", ""]),
                    st.sampled_from(
                        ["12", "0", "007", "1 2", "-", "", "1,000", "many", "18446744073709551615"]
                    ),
                    st.sampled_from(["up", "lower down", "-", "", "x"]),
                ),
                st.sampled_from(["", "   ", "---- ----", " +==+", "quay/100 runs on", "\x1c"]),
            ),
            max_size=4,
        )
    )
    def test_by_columns_and_by_rows_are_the_same(self, lines: list[tuple[str, str, str] | str]) -> None:
        types = {
            "name": FieldType(ValueKind.TEXT, key=True),
            "octets": FieldType(ValueKind.NUMBER),
            "told": FieldType(ValueKind.TEXT),
        }
        shown = [line if isinstance(line, str) else f"{line[0]:8}{line[1]:22}{line[2]}" for line in lines]
        text = "\n".join([f"{'Port':8}{'Octets':22}Told", *shown])
        fields = {"Port": "name", "Octets": "octets", "Told": "told"}
        ways: list[object] = []
        # What is skipped is nowhere in these; a table of which something is skipped is read row by row.
        for skip in ((), ("^never$",)):
            try:
                ways.append(records(text, ReadingDefinition("x", fields, skip=skip, types=types)))
            except ProtocolError:  # the first of several may be another
                ways.append("wrong")
        self.assertEqual(*ways)

    def test_a_table_without_its_headings_is_an_error(self) -> None:
        for text in ("", "nothing here\n", "Port Admin state MTU\nquay/1 up 1500\n"):
            with self.assertRaisesRegex(ProtocolError, "has no line with the headings Port, Admin state"):
                records(text, TABLE)


class OtherFormsTest(unittest.TestCase):
    def test_json_with_a_list_or_with_keys_that_are_data(self) -> None:
        by_key = ReadingDefinition(
            "x",
            records="peers",
            key="address",
            picks={"state": "session.state", "as": "remote.as", "tags": "tags"},
        )
        text = '{"peers": {"192.0.2.9": {"session": {"state": "up"}, "remote": {"as": 64501}, "tags": ["a", true]}, "192.0.2.8": {}}}'
        self.assertEqual(
            records(text, by_key),
            [
                {"address": "192.0.2.9", "state": "up", "as": "64501", "tags": "a, true"},
                {"address": "192.0.2.8", "state": None, "as": None, "tags": None},
            ],
        )
        listed = ReadingDefinition("x", picks={"name": "n"})
        self.assertEqual(records('[{"n": "a"}, {"n": false}]', listed), [{"name": "a"}, {"name": "false"}])
        self.assertEqual(records("{}", by_key), [])

    def test_json_that_is_none_is_an_error_with_its_line(self) -> None:
        reading = ReadingDefinition("show peers", records="peers", key="address", picks={"state": "state"})
        for text, told in (
            ('{\n"peers": ', r"the answer to 'show peers' is not JSON \(line 2\)"),
            ("[" * 100_000, "is not JSON"),
            ('{"peers": 7}', "has no list at 'peers'"),
            ('"text"', ""),
        ):
            if told:
                with self.assertRaisesRegex(ProtocolError, told):
                    records(text, reading)
            else:
                self.assertEqual(records(text, reading), [])

    def test_blocks_of_lines(self) -> None:
        reading = ReadingDefinition(
            "show neighbours",
            begins=r"^Neighbour",
            patterns={"address": r"^Neighbour (\S+)", "state": r"State:\s+(.+)$", "as": r"AS\s+(\d+)"},
        )
        text = "2 known\n\nNeighbour 192.0.2.9\n  State:  Up since noon\n  AS  64501\nNeighbour 192.0.2.8\n  AS 64502, AS 7\n"
        self.assertEqual(
            records(text, reading),
            [
                {"address": "192.0.2.9", "state": "Up since noon", "as": "64501"},
                {"address": "192.0.2.8", "state": None, "as": "64502"},
            ],
        )
        one = ReadingDefinition(
            "show version", patterns={"name": r"Name: (\S+)", "version": r"Version (\S+)"}
        )
        self.assertEqual(records("Name: quay\nVersion 7.1\n", one), [{"name": "quay", "version": "7.1"}])
        self.assertEqual(records("", reading), [])
        with self.assertRaisesRegex(
            ProtocolError, r"the answer to 'show version' has no field of the reading \(from line 2\)"
        ):
            records("\nwelcome\n", one)

    def test_fields_are_made_of_others(self) -> None:
        reading = ReadingDefinition(
            "x",
            {"Where": "where", "State": "state"},
            derived={
                "interface": DerivedField("where", "^([^:]+):"),
                "address": DerivedField("where", ":(.+)$"),
                "state": DerivedField("state", "^([A-Za-z-]+)", {"Full": "full"}),
                "up": DerivedField("state", None, {"full": "yes"}),
            },
        )
        found = records(
            "Where                 State\neth-core:203.0.113.1  Full/-\neth-edge              Init/DR\n",
            reading,
        )
        self.assertEqual(
            found,
            [
                {
                    "where": "eth-core:203.0.113.1",
                    "state": "full",
                    "interface": "eth-core",
                    "address": "203.0.113.1",
                    "up": "yes",
                },
                {"where": "eth-edge", "state": "Init", "interface": None, "address": None, "up": "Init"},
            ],
        )
        self.assertEqual(reading.fields, ("where", "state", "interface", "address", "up"))


class OtherValueTest(unittest.TestCase):
    def test_a_word_outside_a_closed_list_is_other_and_the_other_records_are_read(self) -> None:
        types = READINGS["routes"].fields
        command = ReadingDefinition(
            command="show", columns={"prefix": "destination-prefix", "from": "source-protocol"}, types=types
        )
        table = "prefix           from\n192.0.2.0/24     kernel\n198.51.100.0/24  STATIC\n203.0.113.0/24   kernel\n"
        found = records(table, command)
        self.assertEqual([str(row["source-protocol"]) for row in found], ["other", "static", "other"])
        self.assertEqual(find_other_values({"quay": found}), {("source-protocol", "kernel"): {"quay": 2}})
        document = records_document(found)[0]
        self.assertEqual(
            (document["source-protocol"], document["source-protocol-listed"]), ("other", "kernel")
        )
        self.assertNotIn("source-protocol-listed", records_document(found)[1])
        check = Check(
            "quay",
            "a route",
            "routes",
            {"destination-prefix": "192.0.2.0/24"},
            "source-protocol",
            "static",
            (),
        )
        self.assertEqual(
            evaluate([check, check._replace(expected="other")], {"routes": found})[0].actual, "other (kernel)"
        )
        self.assertTrue(evaluate([check._replace(expected="other")], {"routes": found})[0].passed)


class FileTest(unittest.TestCase):
    def test_readings_of_every_form_are_written_in_a_platforms_file_and_mistakes_are_told(self) -> None:
        shipped = (SHIPPED / "bine.toml").read_text(encoding="utf-8")
        more = """[readings.peers]
command = "read peers json"
records = "peers"
key = "address"
picks = { state = "session.state" }

[readings.peers.fields.up]
from = "state"
values = { established = "true" }

[readings.clock]
command = "read clock"
begins = '^Clock'
patterns = { offset = 'offset (\\S+)' }

"""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "own.toml"
            path.write_text(shipped.replace("[readings.routes]", more + "[readings.routes]", 1))
            readings = load_platform(path, Fingerprints(b"k")).readings
            self.assertEqual(readings["peers"].fields, ("address", "state", "up"))
            self.assertEqual(
                records('{"peers": {"a": {"session": {"state": "established"}}}}', readings["peers"]),
                [{"address": "a", "state": "established", "up": "true"}],
            )
            for old, new, told in (
                (
                    'picks = { state = "session.state" }',
                    'picks = { state = "session." }',
                    "'session.' is not a valid JMESPath",
                ),
                ('from = "state"', 'from = "stete"', "'stete' is not a field of this reading"),
                ("offset (\\S+)", "offset \\S+", "has no group"),
                ("patterns = {", "patters = {", "the reading 'clock' has no 'columns'"),
                ("begins = '^Clock'", "columns = { Offset = 'offset' }", "has both 'columns' and 'patterns'"),
            ):
                text = shipped.replace("[readings.routes]", more.replace(old, new) + "[readings.routes]", 1)
                self.assertNotEqual(text.count(new), 0)
                path.write_text(text)
                with self.assertRaises(EstateError) as caught:
                    load_platform(path, Fingerprints(b"k"))
                self.assertIn(told, " ".join(p.message for p in caught.exception.problems()))
                self.assertTrue(
                    all(p.place is not None and p.place.line for p in caught.exception.problems())
                )
