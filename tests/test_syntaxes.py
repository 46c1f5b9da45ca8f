"""Paths and braces: the laws of configurations hold for every syntax, and devices that use them are delivered to by their files alone."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from hypothesis import given, settings, strategies as st

from oast.config.commands import commands_of
from oast.config.dependency_order import NoDependencyOrder, in_dependency_order
from oast.config.edits import apply_edits, difference, split_removals
from oast.config.syntaxes import syntax_of
from oast.config.tree import Node, canonical
from oast.errors import EstateError
from oast.platforms.load import SHIPPED, load_platform
from oast.records import Fingerprints
from odd_devices import Curious, Dotterel, Eider, Terraced
from odd_estate import Estate
from trees import configurations

FINGERPRINTS = Fingerprints(b"k" * 32)
PLATFORMS = Path(__file__).parent / "data" / "platforms"
EIDER = load_platform(PLATFORMS / "eider.toml", FINGERPRINTS)
DOTTEREL = load_platform(PLATFORMS / "dotterel.toml", FINGERPRINTS)
ONE = st.sampled_from


def braced(name: str) -> str:
    """The shipped platform, as if its configurations were written with braces."""
    text = (SHIPPED / f"{name}.toml").read_text(encoding="utf-8")
    return text.replace('syntax = "indented"', 'syntax = "braces"', 1)


with tempfile.TemporaryDirectory() as _folder:
    (Path(_folder) / "bine.toml").write_text(braced("bine"), encoding="utf-8")
    BRACED = load_platform(Path(_folder) / "bine.toml", FINGERPRINTS)
BINE = load_platform(SHIPPED / "bine.toml", FINGERPRINTS)


@st.composite
def eider_lines(draw: st.DrawFn) -> list[str]:
    """What an eider may run."""
    lines = draw(ONE([[], ["/system/contact = desk"], ['/system/contact = "night desk"']]))
    lines += [f"/system/key = {draw(ONE(['kelp', 'foam']))}"] if draw(st.booleans()) else []
    lines += [
        f"/system/server = 192.0.2.{n}" for n in draw(st.permutations([1, 2, 3]))[: draw(st.integers(0, 3))]
    ]
    vlans = draw(st.sets(ONE([7, 8, 9])))
    lines += [
        f"/vlans/vlan[id={n}]" if draw(st.booleans()) else f"/vlans/vlan[id={n}]/name = v{n}"
        for n in sorted(vlans)
    ]
    for port in sorted(draw(st.sets(ONE(["p1", "p2"])))):
        here = f"/interfaces/interface[name={port}]"
        below = [
            f"{here}/mtu = {draw(ONE([1500, 9000]))}",
            f"{here}/enabled = false",
            f"{here}/address[prefix=192.0.2.1/24]",
            f"{here}/guard",
        ]
        below += [
            f"{here}/guard/limit = 100",
            draw(ONE([f"{here}/description = x", f'{here}/description = "a / b = c [d]"'])),
        ]
        below += [f"{here}/access-vlan = {draw(ONE(sorted(vlans)))}"] if vlans else []
        lines += sorted(draw(st.sets(ONE(below)))) or [here]
    return lines


def tree(syntax_name: str, text: str) -> Node:
    platform = {"eider": EIDER, "dotterel": DOTTEREL, "braced": BRACED}[syntax_name]
    parsed = syntax_of(platform).parse(text)
    assert not parsed.problems, parsed.problems
    return canonical(parsed.tree)


class LawsTest(unittest.TestCase):
    @settings(max_examples=30, deadline=None)
    @given(configurations())
    def test_what_is_printed_with_braces_is_read_as_the_same(self, text: str) -> None:
        plain = canonical(syntax_of(BINE).parse(text).tree)
        printed = syntax_of(BRACED).written(tree("braced", syntax_of(BRACED).written(plain)))
        self.assertEqual(printed, syntax_of(BRACED).written(plain))
        # The same statements, whichever way they are written.
        self.assertEqual(syntax_of(BINE).written(tree("braced", printed)), syntax_of(BINE).written(plain))
        self.assertEqual(
            tree("braced", " ".join(printed.split("\n"))), tree("braced", printed), "line ends mean nothing"
        )

    @settings(max_examples=40, deadline=None)
    @given(eider_lines(), eider_lines())
    def test_paths_are_read_printed_compared_and_a_device_runs_what_was_intended(
        self, one: list[str], other: list[str]
    ) -> None:
        a, b = tree("eider", "\n".join(one)), tree("eider", "\n".join(other))
        syntax = syntax_of(EIDER)
        self.assertEqual(tree("eider", syntax.written(a)), a)
        edits = in_dependency_order(difference(a, b))
        self.assertEqual(apply_edits(edits, a), b)
        device = Eider(one)
        device.answer("open")
        for command in commands_of(edits, EIDER):
            self.assertEqual(device.answer(command.line.written()), "", command.line.written())
        self.assertEqual(device.answer("check"), "")
        self.assertEqual(tree("eider", "\n".join(device.candidate or [])), b)
        for told in (*(c.masked for c in commands_of(edits, EIDER)), repr(edits)):
            self.assertNotRegex(told, "kelp|foam")

    @settings(max_examples=30, deadline=None)
    @given(st.lists(ONE([
        "name a", "name b", "watch kelp", "watch reed", "resolver server 192.0.2.1", "resolver server 192.0.2.2", "port quay/1", "port quay/2",
        'port quay/1 text "to the pier"', "port quay/1 size 9000", "port quay/2 address 192.0.2.1/24", "peer 192.0.2.9 as 77",
        "peer 192.0.2.9 as 78", "peer 192.0.2.9 via quay/2", "list in rule 10 drop", "list in rule 10 accept logged",
        "list in rule 20 accept from 198.51.100.0/24",
    ]), max_size=9), st.lists(ONE([
        "name b", "watch reed", "resolver server 192.0.2.2", "port quay/1 text x", "port quay/1 address 192.0.2.1/24", "port quay/2",
        "peer 192.0.2.9 as 78", "list in rule 20 drop", "list in rule 30 drop",
    ]), max_size=7))  # fmt: skip
    def test_lines_for_a_device_with_braces_lead_to_what_was_intended(
        self, one: list[str], other: list[str]
    ) -> None:
        device, wanted = Dotterel(*one), Dotterel(*other)
        a, b = tree("dotterel", device.text()), tree("dotterel", wanted.text())
        try:
            made = commands_of(in_dependency_order(difference(a, b), running=a), DOTTEREL)
        except NoDependencyOrder:
            return
        for command in made:
            self.assertEqual(device.answer(command.line.written()), "", command.line.written())
        self.assertEqual(tree("dotterel", device.text()), b)


class MistakesTest(unittest.TestCase):
    def told(self, name: str, text: str) -> list[tuple[int, str]]:
        return [
            (p.line, p.message)
            for p in syntax_of({"eider": EIDER, "dotterel": DOTTEREL}[name]).parse(text).problems
        ]

    def test_each_mistake_in_paths_has_its_line(self) -> None:
        for line, message in (
            ("system/contact = x", "this is not a path: 'system/contact = x'"),
            ("/sytem/contact = x", "'sytem' is not a statement at the top level"),
            ("/interfaces/interface/mtu = 9000", "'interface' has no key 'name'"),
            ("/interfaces/interface[id=p1]/mtu = 9000", "'interface' has no key 'id'"),
            (
                "/interfaces/interface[name=p1/mtu = 9000",
                "this is not a path: '[name=p1/mtu = 9000'",
            ),
            ("/interfaces/interface[name=p1]/mtu = many", "'many' is not a whole number from 68 to 9216"),
            ("/system/contact", "'contact' needs text; in quotes when it has spaces"),
            ("/system = x", "unexpected 'x' after 'system'"),
        ):
            found = self.told("eider", f"// a comment\n/system/contact = desk\n{line}\n")
            self.assertIn(
                (3, message),
                found,
                line,
            )

    def test_each_mistake_in_braces_has_its_line(self) -> None:
        for text, line, message in (
            ("name a\nwatch b;\n", 1, "unexpected 'watch' after 'name'"),
            ("port quay/1 {\n  size 9000\n}\n", 2, "';' is missing after 'size 9000'"),
            ("port quay/1 {\n  size 9000;\n", 1, "the '{' after 'port quay/1' is not closed"),
            ("name a;\n}\n", 2, "'}' without an opening '{'"),
            ("\n{ name a; }\n", 2, "'{' without a statement before it"),
            ("resolver { server [ 192.0.2.1; }\n", 1, "'[' is not closed"),
            ("name a; ]\n", 1, "']' without an opening '['"),
            ('port quay/1 { text "to\nthe pier"; }\n', 1, "a quoted text must end on its line"),
            ("port quay/1 {\n\n  sise 9000;\n}\n", 3, "'sise' is not a statement below 'port'"),
        ):
            self.assertIn((line, message), self.told("dotterel", text), text)

    def test_what_a_syntax_cannot_write_is_told_in_the_platforms_file(self) -> None:
        for name, old, new, told in (
            (
                "eider",
                'keys = 1 }\n"vlans/vlan/name"',
                'keys = 1, end = "over" }\n"vlans/vlan/name"',
                "'end' cannot be used with the syntax 'paths'",
            ),
            (
                "eider",
                'takes = "id:vlan-number", keys = 1',
                'takes = "id:vlan-number text", keys = 1',
                "other arguments than its keys",
            ),
            (
                "eider",
                '"system/contact"',
                '"system/whom to call"',
                "has several words, which a path cannot",
            ),
            (
                "eider",
                '"vlans/vlan/name" = { kind = "leaf", takes = "text" }',
                '"vlans/vlan/name" = { kind = "leaf", takes = "text [b]" }',
                "must take exactly one value,",
            ),
            (
                "dotterel",
                'takes = "size", default',
                'takes = "size", set = "x {line}", default',
                "'set' cannot be used with the syntax 'braces'",
            ),
            (
                "skerry",
                'comment = "!"',
                'comment = "!"\nset = "have {line}"',
                "'set' can only be used with a syntax whose lines contain the whole path",
            ),
            ("eider", 'syntax = "paths"', 'syntax = "path"', "did you mean 'paths'?"),
        ):
            with tempfile.TemporaryDirectory() as folder, self.subTest(told=told):
                text = (PLATFORMS / f"{name}.toml").read_text(encoding="utf-8")
                self.assertIn(old, text)
                path = Path(folder) / f"{name}.toml"
                path.write_text(text.replace(old, new, 1), encoding="utf-8")
                with self.assertRaises(EstateError) as caught:
                    load_platform(path, FINGERPRINTS)
                self.assertIn(told, " ".join(f"{p.message} {p.hint}" for p in caught.exception.problems()))


EIDER_TEMPLATE = """{#
section: all
owns: [system, vlans, interfaces/interface *]
#}
/system/contact = "{{ text }}"
/system/key = {{ key }}
{% for server in ['192.0.2.3', '192.0.2.1'] %}
/system/server = {{ server }}
{% endfor %}
/vlans/vlan[id=7]/name = gates
/interfaces/interface[name=p1]/access-vlan = 7
/interfaces/interface[name=p1]/enabled = false
"""
DOTTEREL_TEMPLATE = """{#
section: all
owns: [name, watch, resolver, port *]
#}
name pier;
watch {{ key }};
resolver { server [ 192.0.2.3 192.0.2.4 ]; }
port quay/1 {
    text "{{ text }}";
    size 9000;
}
"""


class ProgramTest(unittest.TestCase):
    def setUp(self) -> None:
        self.eider = Eider(
            [
                "/system/contact = desk",
                "/system/server = 192.0.2.1",
                "/system/odd = 7",
                "/vlans/vlan[id=9]/name = old",
            ]
        )
        self.dotterel = Dotterel(
            "name before",
            "resolver server 192.0.2.9",
            "port quay/1 odd thing 7",
            "port quay/2 size 9000",
            "peer 192.0.2.9 as 77",
        )
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-odd-")))
        templates = {"eider": EIDER_TEMPLATE, "dotterel": DOTTEREL_TEMPLATE}
        self.estate = Estate(folder, {"pier-sw": self.eider, "pier-rt": self.dotterel}, templates)

    def test_both_are_compared_delivered_and_then_as_intended(self) -> None:
        code, out, err = self.estate.run("lint")
        self.assertEqual((code, err), (0, ""), out)
        code, out, err = self.estate.run("push", "-m", "first", "--yes", "-v")
        self.assertEqual(code, 0, out + err)
        self.assertIn("2 devices delivered", out)
        self.assertIn("rollback: confirmed commit (pier-sw)", out)
        self.assertIn("rollback: inverse commands sent by Oast (pier-rt)", out)
        self.assertIn("are unknown to the platform's grammar and are retained", out)
        for line in (
            "/system/odd = 7",
            "/system/key = kelp",
            "/vlans/vlan[id=7]/name = gates",
            "/interfaces/interface[name=p1]/access-vlan = 7",
        ):
            self.assertIn(line, self.eider.running)
        servers = [line for line in self.eider.running if "server" in line]
        self.assertEqual(servers, ["/system/server = 192.0.2.3", "/system/server = 192.0.2.1"])
        self.assertNotIn("/vlans/vlan[id=9]/name = old", self.eider.running)
        self.assertEqual((self.eider.startup, self.eider.timer), (self.eider.running, None))
        for words in ("thing 7;", "peer 192.0.2.9 as 77;", "name pier;", "watch kelp;", "server 192.0.2.4;"):
            self.assertIn(words, self.dotterel.text())
        self.assertNotIn("quay/2", self.dotterel.text())
        code, out, err = self.estate.run("push", "-m", "again", "--yes")
        self.assertIn("2 devices in", out)
        for text in (out, err, *(p.read_text() for p in (self.estate.folder / ".oast/log").rglob("*.log"))):
            self.assertNotIn("kelp", text)

    def test_what_is_refused_is_taken_back_and_told_at_its_template_line(self) -> None:
        before = (list(self.eider.running), self.dotterel.text())
        self.eider.refuse, self.dotterel.refuse = "vlan[id=7]", "192.0.2.4"
        code, out, _ = self.estate.run("push", "-m", "first", "--yes")
        self.assertEqual(code, 4, out)
        self.assertIn(
            "the device rejected 'set /vlans/vlan[id=7]/name = gates': not today (templates/eider/all.j2:10)",
            out,
        )
        self.assertIn(
            "the device rejected 'have resolver server 192.0.2.4': not today (templates/dotterel/all.j2:7)",
            out,
        )
        self.assertEqual(self.eider.running, before[0])
        self.assertEqual(
            canonical(syntax_of(DOTTEREL).parse(self.dotterel.text()).tree),
            canonical(syntax_of(DOTTEREL).parse(before[1]).tree),
        )

    def test_a_template_is_read_in_the_devices_own_words_and_a_mistake_is_told_there(self) -> None:
        path = self.estate.folder / "templates/dotterel/all.j2"
        path.write_text(path.read_text().replace("    size 9000;", "    size 9000"))
        path = self.estate.folder / "templates/eider/all.j2"
        path.write_text(path.read_text().replace("/access-vlan = 7", "/access-vlam = 7"))
        code, out, _ = self.estate.run("lint")
        self.assertEqual(code, 3)
        self.assertIn("templates/dotterel/all.j2:10: ';' is missing after 'size 9000'", out)
        self.assertIn("templates/eider/all.j2:11: 'access-vlam' is not a statement below 'interface'", out)
        self.assertIn("did you mean 'access-vlan'?", out)

    def test_rendered_text_shows_where_each_line_comes_from(self) -> None:
        code, out, _ = self.estate.run("render", "--trace")
        self.assertEqual(code, 0)
        self.assertRegex(out, r'/system/contact = "to the pier" +(#|//|%)? *.*templates/eider/all.j2:5')
        self.assertRegex(out, r"size 9000; +.*templates/dotterel/all.j2:10")


QUESTIONS = """errors = ['cannot: (?P<message>.*)']
warnings = ['cannot: vouch for .*']

[session.pagers.begin]
prompt = '-- a key to go on --'
answer = "\\n"

[session.questions.lose]
command = 'lose .*'
prompt = 'this cannot be undone; lose it\\?'
answer = "certainly"

[session.errors_of.name]
command = 'have name .*'
errors = ['that is taken']
"""


class QuestionsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.device = Curious("name pier", "resolver server 192.0.2.9", "port quay/2 size 9000")
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-odd-")))
        self.estate = Estate(folder, {"pier-rt": self.device}, {"dotterel": DOTTEREL_TEMPLATE})
        inventory = folder / "inventory/devices.yaml"
        inventory.write_text(inventory.read_text().replace("platform: curious", "platform: dotterel"))
        self.platform = folder / "platforms/dotterel.toml"
        self.platform.write_text(
            self.platform.read_text().replace("errors = ['cannot: (?P<message>.*)']\n", QUESTIONS)
        )

    def test_what_a_device_asks_is_answered_as_the_file_says_and_warnings_are_no_errors(self) -> None:
        code, out, err = self.estate.run("push", "-m", "x", "--yes")
        self.assertEqual(code, 0, out + err)
        self.assertNotIn("quay/2", self.device.text())
        self.assertIn("size 9000;", self.device.text())
        self.assertEqual(set(self.device.answers), {"", "certainly"})
        log = next((self.estate.folder / ".oast/log").rglob("pier-rt.log"), None)
        self.assertTrue(log is None or "answer: 'certainly'" in log.read_text())
        self.assertRegex(self.estate.run("push", "-m", "x", "--yes")[1], r"(?m)^\d+ devices? in sync$")

    def test_what_is_an_error_behind_one_command_alone_is_one(self) -> None:
        template = self.estate.folder / "templates/dotterel/all.j2"
        template.write_text(template.read_text().replace("name pier;", "name other;"))
        code, out, _ = self.estate.run("push", "-m", "x", "--yes")
        self.assertEqual(code, 4)
        self.assertIn("the device rejected 'have name other': that is taken", out)

    def test_a_question_that_the_file_does_not_know_ends_the_session_and_nothing_is_answered(self) -> None:
        self.platform.write_text(self.platform.read_text().replace("lose it", "loose it"))
        code, out, _ = self.estate.run("push", "-m", "x", "--yes")
        self.assertEqual(code, 4)
        self.assertIn("(waiting for the answer to 'lose", out)
        self.assertNotIn("certainly", self.device.answers)

    def test_mistakes_in_the_tables_are_told(self) -> None:
        for old, new, told in (
            ('answer = "certainly"\n', "", "[session.questions.lose]"),
            ("command = 'have name .*'\n", "", "[session.errors_of.name] needs 'command' and 'errors'"),
            ("command = 'lose .*'\n", "", "add 'command' to the question"),
            ("prompt = '-- a key", "promt = '-- a key", "did you mean 'prompt'?"),
            ("warnings = ['cannot", "warnings = ['(cannot", "is not a regular expression"),
        ):
            text = self.platform.read_text()
            self.assertIn(old, text)
            self.platform.write_text(
                text.replace(old, new).replace("[session]\n", "[session]\nin_flight = 4\n")
            )
            code, out, _ = self.estate.run("lint")
            self.assertEqual(code, 3)
            self.assertIn(told, out)
            self.platform.write_text(text)


class LevelsTest(unittest.TestCase):
    def test_several_levels_are_climbed_to_edit_and_left_before_anything_is_read(self) -> None:
        device = Terraced("name pier", "resolver server 192.0.2.9", "port quay/2 size 9000")
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="oast-odd-")))
        estate = Estate(folder, {"pier-rt": device}, {"dotterel": DOTTEREL_TEMPLATE})
        inventory, platform = folder / "inventory/devices.yaml", folder / "platforms/dotterel.toml"
        inventory.write_text(inventory.read_text().replace("platform: terraced", "platform: dotterel"))
        levels = ", ".join(f"{level} = '--- \\S+ ---\\n{level}> '" for level in Terraced.LEVELS)
        text = (
            platform.read_text()
            .replace("all = '--- \\S+ ---\\n> '", levels)
            .replace("[types]", EDITING + "[types]", 1)
        )
        platform.write_text(text)
        code, out, err = estate.run("push", "-m", "x", "--yes")
        self.assertEqual(code, 0, out + err)
        self.assertNotIn("quay/2", device.text())
        self.assertEqual(device.level, 0)
        self.assertRegex(estate.run("push", "-m", "x", "--yes")[1], r"(?m)^\d+ devices? in sync$")
        # A level that is not one of those in which one edits is not left, and what is read there is refused.
        platform.write_text(
            text.replace('level = ["alter", "deeper"]', 'level = "alter"').replace(
                '"alter", "deeper"', '"alter", "deeper"'
            )
        )
        template = folder / "templates/dotterel/all.j2"
        template.write_text(template.read_text().replace("name pier;", "name other;"))
        code, out, err = estate.run("push", "-m", "x", "--yes")
        self.assertEqual(code, 4)


EDITING = """enter = ["alter", "deeper"]
level = ["alter", "deeper"]
leave = "out"

"""


class UnknownTest(unittest.TestCase):
    """Lines that only read like known ones."""

    def test_an_unknown_line_with_the_words_of_an_entry_is_not_the_entry(self) -> None:
        syntax = syntax_of(DOTTEREL)
        running = canonical(syntax.parse("peer 192.0.2.9;\nname a;\n").tree)
        wanted = tree("dotterel", "peer 192.0.2.9 as 77;\nname a;\n")
        edits, spared = split_removals(difference(running, wanted))
        self.assertEqual([one.node.text for one in spared], ["peer 192.0.2.9"])
        self.assertEqual(
            [c.line.written() for c in commands_of(in_dependency_order(edits), DOTTEREL)],
            ["have peer 192.0.2.9 as 77"],
        )

    def test_what_stands_below_a_leaf_of_a_line_stays_with_it(self) -> None:
        for text in (
            "peer 192.0.2.9 as 77 { odd 7; }\n",
            "peer 192.0.2.9;\npeer 192.0.2.9 as 77;\n",
            "port quay/1 { text x { y; } }\n",
        ):
            syntax = syntax_of(DOTTEREL)
            read = syntax.parse(text).tree
            self.assertEqual(syntax.parse(syntax.written(read)).tree, read, text)

    def test_a_list_in_brackets_behind_thousands_of_words_is_told_and_not_written_out(self) -> None:
        parsed = syntax_of(DOTTEREL).parse("name " + "a " * 3000 + "[ " + "b " * 3000 + "];\n")
        self.assertIn("3000 items after 3001 words", [problem.message for problem in parsed.problems])
