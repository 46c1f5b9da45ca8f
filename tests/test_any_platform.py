"""A made-up router that is odd in every way a platform definition can describe keeps the same laws as the one that ships."""

from __future__ import annotations

import unittest
from pathlib import Path

from hypothesis import given, settings

from oast.config.commands import commands_of
from oast.config.dependency_order import NoDependencyOrder, in_dependency_order
from oast.config.diff_text import view
from oast.config.edits import apply_edits, difference
from oast.config.indented_syntax import IndentedSyntax
from oast.config.tree import Node, canonical
from oast.platforms.load import load_platform
from oast.records import Fingerprints
from skerry import Skerry, setups

SKERRY = load_platform(Path(__file__).parent / "data/platforms/skerry.toml", Fingerprints(b"key"))
SYNTAX = IndentedSyntax(SKERRY)


def tree_of(text: str) -> Node:
    parsed = SYNTAX.parse(text)
    assert not parsed.problems, (text, parsed.problems)
    return canonical(parsed.tree)


def lines_between(one: str, other: str) -> list[str]:
    running = tree_of(one)
    return [
        c.line.written()
        for c in commands_of(
            in_dependency_order(difference(running, tree_of(other)), running=running), SKERRY
        )
    ]


class LawsTest(unittest.TestCase):
    @settings(max_examples=75, deadline=None)
    @given(setups())
    def test_parsing_what_was_printed_gives_the_same_tree(self, text: str) -> None:
        tree = tree_of(text)
        self.assertIs(canonical(tree), tree)
        self.assertEqual(tree_of(SYNTAX.written(tree)), tree)
        device = Skerry()
        device.load(text)
        self.assertEqual(difference(tree_of(device.text()), tree), [])

    @settings(max_examples=75, deadline=None)
    @given(setups(), setups())
    def test_the_router_takes_every_line_and_runs_what_was_intended(self, one: str, other: str) -> None:
        a, b = tree_of(one), tree_of(other)
        try:
            edits = in_dependency_order(difference(a, b), running=a)
        except NoDependencyOrder:
            # Only where a group gets another name while others that stay refer to the old one.
            return self.assertRegex(one + other, "backup|neighbor .* group")
        self.assertEqual(apply_edits(edits, a), b)
        device = Skerry()
        device.load(one)
        for command in commands_of(edits, SKERRY):
            device.take(command.line.written())
        self.assertEqual(tree_of(device.text()), b)
        return None


class SpellingTest(unittest.TestCase):
    def same(self, one: str, other: str) -> None:
        self.assertEqual(difference(tree_of(one), tree_of(other)), [])

    def test_what_is_written_differently_and_means_the_same(self) -> None:
        self.same(
            "port ether1\n vlans 1-3,7\n",
            "port Ether1\n vlans 7,1,2,3\n not disabled\n ip mtu 1500\n ip false\n",
        )
        self.same("port ether1\n share a weight 1\n", "port ether1\n share a\n")
        self.same("port ether1\n share a quiet weight 7\n", "port ether1\n share a weight 7 quiet\n")
        self.same("welcome %%\nhi\n%%\n", "welcome @@\nhi\n@@\n")
        self.same(
            "describe 192.0.2.1 as b\nneighbor 192.0.2.1 peer-as 7\n",
            "neighbor 192.0.2.1 peer-as 7\ndescribe 192.0.2.1 as b\n",
        )

    def test_several_lines_are_leaves_of_one_entry(self) -> None:
        tree = tree_of(
            "neighbor 192.0.2.1 peer-as 7\ndescribe 192.0.2.1 as a b\nport ether1\n ip true\n ip address 192.0.2.1 / 24\n"
        )
        self.assertEqual(list(tree.children["neighbor 192.0.2.1"].children), ["peer-as", "description"])
        self.assertEqual(list(tree.children["port ether1"].children), ["ip", "ip address 192.0.2.1 24"])

    def test_text_between_delimiters_is_never_read_as_configuration(self) -> None:
        tree = tree_of("welcome %%\nport ether1\n disabled\n%%\nhost name a\n")
        self.assertEqual(list(tree.children), ["host name", "welcome"])
        problems = SYNTAX.parse("host name a\nwelcome %%\nport ether1\n").problems
        self.assertEqual(
            [(p.line, p.message) for p in problems], [(2, "the text of 'welcome' is not closed")]
        )

    def test_words_are_not_abbreviated_and_mistakes_are_told(self) -> None:
        for text, message in (
            ("por ether1\n", "'por' is not a statement at the top level"),
            ("port ether1\n timers 7\n", "'timers' needs a whole number from 1 to 600"),
            ("neighbor 192.0.2.1 pear-as 7\n", "'pear-as' cannot follow 'neighbor 192.0.2.1'"),
            ("note 1 says x till 2026-11-01\n", "'until'"),
            ("port ether1\n share a range 1\n", "'range' needs a whole number from 0 to 65535"),
            ("filter a\n accept 10 x\n", "'accept' is not a whole number"),
        ):
            self.assertIn(message, SYNTAX.parse(text).problems[0].message)


class EditsTest(unittest.TestCase):
    def test_each_statement_is_changed_and_removed_in_its_own_way(self) -> None:
        self.assertEqual(
            lines_between("login ada\n word reed\n", "login ada\n word sedge\n"),
            ["login ada", " drop word", " word sedge"],
        )
        self.assertEqual(
            lines_between("port ether1\n timers 7 28\n disabled\n", "port ether1\n"),
            ["port ether1", " not disabled", " timers default"],
        )
        self.assertEqual(
            lines_between(
                "filter a\n 10 drop x\n 20 drop y\nend-filter\nhost name a\n",
                "filter a\n 10 drop z\nend-filter\nhost name b\n",
            ),
            ["host name b", "filter a", " 10 drop z", " drop 20", "end-filter"],
        )
        neighbor = "neighbor 192.0.2.1 peer-as 7\ndescribe 192.0.2.1 as a\n"
        self.assertEqual(
            lines_between(neighbor, "neighbor 192.0.2.1 peer-as 8\n"),
            ["neighbor 192.0.2.1 peer-as 8", "forget description of 192.0.2.1"],
        )
        self.assertEqual(lines_between(neighbor, ""), ["drop neighbor 192.0.2.1"])

    def test_a_change_replaces_and_never_removes_the_new_after_the_old(self) -> None:
        self.assertEqual(lines_between("host name a\n", "host name b\n"), ["host name b"])

    def test_references_in_a_circle_come_after_what_they_refer_to(self) -> None:
        both = "group 1 north\n backup south\ngroup 2 south\n backup north\n"
        self.assertEqual(
            lines_between("", both),
            ["group 1 north", "group 2 south", " backup north", "group 1 north", " backup south"],
        )
        gone = lines_between(both, "")
        self.assertLess(
            max(gone.index(" drop backup"), len(gone) - 1 - gone[::-1].index(" drop backup")),
            gone.index("drop group 1"),
        )

    def test_a_circle_that_nothing_breaks_is_told(self) -> None:
        # The group is known by its number: its name cannot change while it refers to itself by name.
        one, other = "group 1 north\n backup north\n", "group 1 south\n backup south\n"
        device = Skerry()
        device.load(one)
        try:
            lines = lines_between(one, other)
        except NoDependencyOrder as circle:
            self.assertIn("group 1 south", str(circle))
        else:
            for line in lines:
                device.take(line)
            self.assertEqual(tree_of(device.text()), tree_of(other))

    def test_a_secret_is_a_secret_from_the_text_to_the_line(self) -> None:
        edits = difference(tree_of("login ada\n"), tree_of("login ada\n word reed\n"))
        made = commands_of(in_dependency_order(edits), SKERRY)
        for told in (
            repr(made),
            "".join(c.masked for c in made),
            repr(edits),
            repr([line.text for line in view(edits)]),
        ):
            self.assertNotIn("reed", told)
        self.assertIn(" word reed", [c.line.written() for c in made])
        self.assertNotIn(
            "reed", repr([rule.cache for rule in SKERRY.grammar.rules()] + [SYNTAX._blocks, SYNTAX._leaves])
        )
