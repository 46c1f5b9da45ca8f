"""Platform files: every mistake is told with its line and the likely fix, and none ends as a fault of the program."""

from __future__ import annotations

import random
import re
import tempfile
import unittest
from pathlib import Path

from oast.config.indented_syntax import IndentedSyntax
from oast.config.tree import canonical
from oast.errors import EstateError
from oast.platforms.load import SHIPPED, load_platform
from oast.records import Fingerprints
from trees import tree_of

SKERRY = Path(__file__).parent / "data/platforms/skerry.toml"
BINE = SHIPPED / "bine.toml"
MISTAKES = (
    ('name = "skerry"', 'nmae = "skerry"', "unknown key 'nmae' in [platform]"),
    ("indent = 1", 'indent = "one"', "'indent' must be a whole number"),
    ("indent = 1", "indent = 99", "'indent' must be from 1 to 16"),
    ("quotes = false", 'quotes = "no"', "'quotes' must be true or false"),
    ('"drop {identity}"', '"drop {name}"', "unknown placeholder {name} in 'remove'"),
    ('"drop {identity}"', '"drop {identity"', "the braces in 'drop {identity' do not match"),
    ('comment = "!"', 'comment = "!"\nsyntax = "brackets"', "unknown value 'brackets' of 'syntax'"),
    ('comment = "!"', 'comment = "!"\ntransport = "serial"', "unknown value 'serial' of 'transport'"),
    ('comment = "!"', 'comment = "!"\ninsert_last = "put {statement}"', "'insert_before' and 'insert_last' need each other"),
    (r"user = '\S+ > '", r"user = '(\S+ > '", "is not a regular expression"),
    ('privileged = ["admin", "setup"]', 'privileged = ["admni", "setup"]', "no prompt has the level 'admni'"),
    ('level = "setup"', 'level = "setpu"', "no prompt has the level 'setpu'"),
    ('running = "print setup"\n', "", "'running' is missing in [edit]"),
    ("[edit]", "[edits]", "[edit]"),
    ("in_flight = 4", "in_flight = 0", "'in_flight' must be from 1 to 1000"),
    ("range = [1, 600]", "range = [600, 1]", "must be two whole numbers, the lower first"),
    ("range = [1, 600]", 'range = ["a", "z"]', "must be two whole numbers, the lower first"),
    ('examples = ["2026-11-01"]', 'examples = ["tomorrow"]', "the example 'tomorrow' of 'day' does not match its pattern"),
    ('action = { choices = ["accept", "drop"] }', "action = { choices = [] }", "the choices of 'action' must be at least one word"),
    ('action = { choices = ["accept", "drop"] }', "action = { }", "the type 'action' needs one of choices, range, pattern"),
    ('takes = "ranges"', 'takes = "rangse"', "unknown type 'rangse'"),
    ('kind = "leaf", takes = "ranges"', 'kind = "laef", takes = "ranges"', "unknown value 'laef' of 'kind'"),
    ('"login" = { kind = "list", takes = "name", keys = 1 }', '"login" = { kind = "list", takes = "name" }', "the list 'login' has no keys"),
    ('"login" = { kind = "list", takes = "name", keys = 1 }', '"login" = { kind = "list", takes = "name", keys = 3 }', "'keys' is 3, but there are 1 arguments"),
    ('"port/vlans"', '"prot/vlans"', "'prot/vlans' must come after 'prot', which is missing before it"),
    ('"port/vlans"', '"port/ip mtu/vlans"', "cannot be below 'port/ip mtu', which is a leaf"),
    ('default = "1500"', 'default = "big"', "the default of 'port/ip mtu' is invalid: 'big' is not a whole number"),
    ('leafref = "filter"', 'leafref = "fitler"', "'port/filter' refers to 'fitler', which is not a statement"),
    ('leafref = "group:label"', 'leafref = "group:lable"', "refers to the argument 'lable', which 'group' does not have"),
    ('line = "note {number} says', 'line = "note {numbr} says', "unknown placeholder {numbr} in 'line'"),
    ('line = "{number} {action} {what}"', 'line = "{number} {action}"', "'line' must contain {what} once"),
    ('set = "timers {hello} {dead}"', 'set = "timers {hello} {daed}"', "unknown placeholder {daed} in 'set'"),
    ('true = "disabled"', 'maybe = "disabled"', "'port/disabled': 'maybe' is not true or false"),
    ("hello:seconds dead:seconds", "seconds seconds", "'port/timers' has two arguments with the name 'seconds'"),
    ('delimiters = ["%%", "@@"]', 'delimiters = ["%%"], line = "hello {text}"', "'delimiters' can only be used for a leaf with one text"),
    ("inline = true", "inline = true, end = 5", "'end' must be text in quotes"),
    ('"neighbor" = { kind = "list", takes = "ip-address"', '"neighbor" = { kind = "list", takes = "ip-address name"', "'neighbor' cannot be inline"),
    ('"port/ip"', '"port/ip address"', "is not valid TOML"),
    ("[types]", '[timer]\narm = "arm"\nconfirm = "c"\nrevert = "r"\n[types]', "'arm' must contain {seconds} or {minutes}"),
    ("[types]", '[timer]\narm = "arm {seconds}"\nconfirm = "c"\nrevert = "r"\n[candidate]\ncommit = "c {seconds}"\nconfirm = "c"\ncancel = "x"\n[types]', "[candidate] and [timer]"),
    ("[types]", '[scheduled]\narm = "restart in {minutes}"\ncancel = "x"\n[types]', "'armed' is missing in [scheduled]"),
    ("[types]", '[roles]\ninterface = "port"\n[types]', "the role 'interface' needs the role 'enabled'"),
    ("[types]", '[readings.ports]\ncommand = "ports"\n[types]', "the reading 'ports' has no 'columns'"),
)  # fmt: skip


def loaded(text: str) -> EstateError | None:
    """What is wrong with a platform file."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "p.toml"
        path.write_text(text, encoding="utf-8")
        try:
            load_platform(path, Fingerprints(b"key"))
        except EstateError as error:
            return error
    return None


class MistakesTest(unittest.TestCase):
    def test_each_mistake_is_told_once_at_its_line(self) -> None:
        source = SKERRY.read_text(encoding="utf-8")
        self.assertIsNone(loaded(source))
        for old, new, message in MISTAKES:
            with self.subTest(new=new):
                self.assertIn(old, source)
                text = source.replace(old, new, 1)
                error = loaded(text)
                self.assertIsNotNone(error)
                problems = error.problems() if error else ()
                matching = [p for p in problems if message in p.message]
                self.assertEqual(len(matching), 1, [p.message for p in problems])
                place = matching[0].place
                changed = next(
                    (
                        n
                        for n, (a, b) in enumerate(zip(source.split("\n"), text.split("\n"), strict=False), 1)
                        if a != b
                    ),
                    None,
                )
                self.assertIsNotNone(place)
                if not any(part in message for part in ("[edit]", "[candidate] and [timer]", "valid TOML")):
                    self.assertLessEqual(
                        abs((place.line or 0) - (changed or 0)),
                        3 if "[types]" in old else 0,
                        (place, changed),
                    )

    def test_several_mistakes_are_told_together(self) -> None:
        text = (
            SKERRY.read_text(encoding="utf-8")
            .replace("quotes = false", "qoutes = false")
            .replace('takes = "ranges"', 'takes = "rangse"')
        )
        error = loaded(text)
        self.assertEqual(len(error.problems() if error else ()), 2)

    def test_two_statements_written_alike_are_told(self) -> None:
        text = (
            SKERRY.read_text(encoding="utf-8")
            + '"port/ip two" = { kind = "leaf", takes = "number", line = "ip mtu {number}" }\n'
        )
        self.assertIsNone(loaded(text), "another type may still tell them apart")
        text = (
            SKERRY.read_text(encoding="utf-8")
            + '"port/other" = { kind = "leaf", takes = "boolean", lines = { true = "disabled" } }\n'
        )
        error = loaded(text)
        self.assertIn("have the same", str(error))

    def test_no_mistake_is_a_fault_of_the_program(self) -> None:
        words = [
            "",
            "{",
            "}",
            "[",
            "]",
            '"',
            "=",
            "true",
            "0",
            "-1",
            "[]",
            "{}",
            '""',
            "1e9",
            "{x}",
            "(",
            "list",
            "leaf",
            "\x00",
            "é",
            "port",
        ]
        rng = random.Random(7)
        for source in (SKERRY.read_text(encoding="utf-8"), BINE.read_text(encoding="utf-8")):
            for _ in range(200):
                text = source
                for _ in range(rng.randint(1, 3)):
                    parts = re.split(r"(\W+)", text)
                    at = rng.randrange(len(parts))
                    parts[at] = rng.choice([*words, parts[rng.randrange(len(parts))]])
                    text = "".join(parts)
                loaded(text)


class NothingNeededTest(unittest.TestCase):
    def test_three_lines_are_a_platform_and_without_a_grammar_structure_is_compared(self) -> None:
        from oast.config.commands import commands_of
        from oast.config.edits import difference

        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "p.toml"
            text = "format = 2\n[platform]\nname = 'x'\nquotes = false\n[session]\nprompts = { all = '> ' }\n[edit]\nrunning = 'show'\n"
            path.write_text(text)
            platform = load_platform(path, Fingerprints(b"key"))
        syntax = IndentedSyntax(platform)
        one = canonical(syntax.parse("a 1\n  b 2\n  c\nd\n").tree)
        other = canonical(syntax.parse("a 1\n  c\n  e 5\n").tree)
        lines = [command.line.written() for command in commands_of(difference(one, other), platform)]
        self.assertEqual(lines, ["a 1", "  e 5", "  remove b 2", "remove d"])
        self.assertEqual(syntax.written(one), "a 1\n  b 2\n  c\nd\n")
        self.assertEqual(tree_of("ntp\n  server 192.0.2.1\n").children["ntp"].statement.rule.path, "ntp")
