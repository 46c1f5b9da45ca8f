"""The laws of configuration trees, on random configurations, and against a device that was not written from this grammar."""

from __future__ import annotations

import ipaddress
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from oast.config.commands import commands
from oast.config.difference import applied, difference
from oast.config.order import in_safe_order
from oast.config.ownership import Scope, pattern_of
from oast.config.tree import Node, canonical
from oastsim.bine.configuration import Configuration, Item
from trees import BINE, PORTS, SYNTAX, configurations, tree_of


def delivered(text: str, commands: list[str]) -> str:
    """What a device that runs `text` runs after `commands`; every single one has to be accepted."""
    device = Configuration(frozenset(PORTS))
    device.load(text)
    stack: list[tuple[int, Item]] = []
    for command in commands:
        device.enter(command, stack)
    return device.text()


def commands_between(a: Node, b: Node) -> list[str]:
    return [c.line.written() for c in commands(in_safe_order(difference(a, b)), BINE)]


class LawsTest(unittest.TestCase):
    @settings(max_examples=80, deadline=None)
    @given(configurations())
    def test_parsing_what_was_printed_gives_the_same_tree_and_canonical_form_is_idempotent(self, text: str) -> None:
        tree = tree_of(text)
        self.assertIs(canonical(tree), tree)
        again = SYNTAX.parse(SYNTAX.written(tree))
        self.assertEqual(again.problems, ())
        self.assertEqual(again.tree, tree)
        self.assertEqual(SYNTAX.written(again.tree), SYNTAX.written(tree))
        self.assertEqual(difference(tree, canonical(again.tree)), [])

    @settings(max_examples=80, deadline=None)
    @given(configurations(), configurations())
    def test_applying_a_difference_gives_the_other_tree(self, one: str, other: str) -> None:
        a, b = tree_of(one), tree_of(other)
        edits = difference(a, b)
        self.assertEqual(applied(edits, a), b)
        self.assertEqual(applied(in_safe_order(edits), a), b)
        self.assertEqual(bool(edits), a != b)

    @settings(max_examples=120, deadline=None)
    @given(configurations(), configurations())
    def test_a_device_accepts_every_command_and_runs_what_was_intended(self, one: str, other: str) -> None:
        a, b = tree_of(one), tree_of(other)
        after = delivered(one, commands_between(a, b))
        self.assertEqual(tree_of(after), b)

    @settings(max_examples=60, deadline=None)
    @given(configurations(), configurations(), st.sets(st.sampled_from(["ntp", "snmp", "acl *", "system/contact", "user a*"]), min_size=1))
    def test_inside_the_scope_a_device_is_as_intended_and_outside_untouched(self, one: str, other: str, owned: set[str]) -> None:
        scope = Scope.of(pattern_of(own) for own in owned)
        a, b = tree_of(one), tree_of(other)
        edits = difference(scope.within(a), scope.within(b))
        after = applied(edits, a)
        self.assertEqual(canonical(scope.within(after)), canonical(scope.within(b)))
        rest = Scope((("*",),), tuple(pattern_of(own) for own in owned))
        self.assertEqual(SYNTAX.written(canonical(rest.within(after))), SYNTAX.written(canonical(rest.within(a))))


Rule = tuple[str, ipaddress.IPv4Network]


def _decides(rules: list[Rule], packet: ipaddress.IPv4Address) -> str:
    return next((verdict for verdict, network in rules if packet in network), "none")


class AccessListSafetyTest(unittest.TestCase):
    networks = st.sampled_from(
        [f"{base}/{length}" for base, length in (("0.0.0.0", 0), ("10.0.0.0", 30), ("10.0.0.0", 31), ("10.0.0.2", 31))]
    )
    entries = st.lists(st.tuples(st.sampled_from(["accept", "drop"]), networks), unique=True, max_size=6)

    @settings(max_examples=200, deadline=None)
    @given(entries, entries)
    def test_at_every_moment_each_packet_is_decided_as_before_or_as_intended(
        self, old: list[tuple[str, str]], new: list[tuple[str, str]]
    ) -> None:
        def text(entries: list[tuple[str, str]]) -> str:
            return "acl x\n" + "".join(f"  ace {v} ip source-network {n}\n" for v, n in entries)

        def rules(device: Configuration) -> list[Rule]:
            acl = device.root.get("acl", "x")
            return [(i.values[0], ipaddress.IPv4Network(i.values[3])) for i in acl.all("ace")] if acl else []

        device = Configuration(frozenset())
        device.load(text(old))
        goal = Configuration(frozenset())
        goal.load(text(new))
        before, after = rules(device), rules(goal)
        stack: list[tuple[int, Item]] = []
        for command in commands_between(tree_of(text(old)), tree_of(text(new))):
            device.enter(command, stack)
            for packet in (ipaddress.IPv4Address(f"10.0.0.{n}") for n in range(5)):
                allowed = {_decides(before, packet), _decides(after, packet)}
                self.assertIn(_decides(rules(device), packet), allowed, command)
        self.assertEqual(rules(device), after)
