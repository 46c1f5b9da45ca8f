"""The laws of configuration trees, on random configurations, and against a device that was not written from this grammar."""

from __future__ import annotations

import graphlib
import ipaddress
import itertools
import unittest

from hypothesis import given, reject, settings, strategies as st

from oast.config.commands import commands_of
from oast.config.dependency_order import NoDependencyOrder, constraints, in_dependency_order
from oast.config.edits import Edit, apply_edits, difference
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
    return [c.line.written() for c in commands_of(ordered(difference(a, b)), BINE)]


def ordered(edits: list[Edit]) -> list[Edit]:
    """In a safe order; there is none only where bindings exchange access lists that change themselves."""
    try:
        return in_dependency_order(edits)
    except NoDependencyOrder as circle:
        if not {"acl"} < {edit.path[0].split()[0] for edit in circle.edits}:
            raise
        reject()


class LawsTest(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(configurations())
    def test_parsing_what_was_printed_gives_the_same_tree_and_canonical_form_is_idempotent(
        self, text: str
    ) -> None:
        tree = tree_of(text)
        self.assertIs(canonical(tree), tree)
        again = SYNTAX.parse(SYNTAX.written(tree))
        self.assertEqual(again.problems, ())
        self.assertEqual(again.tree, tree)
        self.assertEqual(SYNTAX.written(again.tree), SYNTAX.written(tree))
        self.assertEqual(difference(tree, canonical(again.tree)), [])

    @settings(max_examples=40, deadline=None)
    @given(configurations(), configurations())
    def test_applying_a_difference_gives_the_other_tree(self, one: str, other: str) -> None:
        a, b = tree_of(one), tree_of(other)
        edits = difference(a, b)
        self.assertEqual(apply_edits(edits, a), b)
        self.assertEqual(apply_edits(ordered(edits), a), b)
        self.assertEqual(bool(edits), a != b)

    @settings(max_examples=30, deadline=None)
    @given(configurations(), configurations())
    def test_a_section_is_entered_once_where_nothing_forces_to_come_back(self, one: str, other: str) -> None:
        edits = ordered(difference(tree_of(one), tree_of(other)))
        waits = graphlib.TopologicalSorter[str]()
        for edit, followers in zip(edits, constraints(edits, ()), strict=True):
            for follower in followers:
                if edits[follower].path[0] != edit.path[0]:
                    waits.add(edits[follower].path[0], edit.path[0])
        entered = [name for name, _ in itertools.groupby(edit.path[0] for edit in edits)]
        try:
            waits.prepare()
        except graphlib.CycleError:
            return  # sections that wait for each other cannot each be done at once
        self.assertEqual(len(entered), len(set(entered)), entered)

    @settings(max_examples=60, deadline=None)
    @given(configurations(), configurations())
    def test_a_device_accepts_every_command_and_runs_what_was_intended(self, one: str, other: str) -> None:
        a, b = tree_of(one), tree_of(other)
        after = delivered(one, commands_between(a, b))
        self.assertEqual(tree_of(after), b)

    @settings(max_examples=30, deadline=None)
    @given(
        configurations(),
        configurations(),
        st.sets(st.sampled_from(["ntp", "snmp", "acl *", "system/contact", "user a*"]), min_size=1),
    )
    def test_inside_the_scope_a_device_is_as_intended_and_outside_untouched(
        self, one: str, other: str, owned: set[str]
    ) -> None:
        scope = Scope.of(pattern_of(own) for own in owned)
        a, b = tree_of(one), tree_of(other)
        edits = difference(scope.within(a), scope.within(b))
        after = apply_edits(edits, a)
        self.assertEqual(canonical(scope.within(after)), canonical(scope.within(b)))
        rest = Scope((("*",),), tuple(pattern_of(own) for own in owned))
        self.assertEqual(
            SYNTAX.written(canonical(rest.within(after))), SYNTAX.written(canonical(rest.within(a)))
        )

    @settings(max_examples=40, deadline=None)
    @given(
        st.lists(
            st.tuples(
                st.booleans(),
                st.sampled_from(["mtu", "mtu 9000", "mtu x y", "odd", "odd 1", "interface", "enabled"]),
            ),
            max_size=9,
        )
    )
    def test_no_line_that_the_grammar_does_not_know_is_ever_lost_or_joined(
        self, written: list[tuple[bool, str]]
    ) -> None:
        """Repeated, named like what is known, with something below them: all are kept as often as they stand."""
        text = "interface port1\n" + "".join(
            f"{'    ' if deeper else '  '}{line}\n" for deeper, line in [(False, "mtu"), *written]
        )
        printed = SYNTAX.written(SYNTAX.parse(text).tree)

        def unknown(lines: str) -> list[str]:
            return sorted(
                line for line in lines.split("\n") if line.strip() not in ("", "mtu 9000", "interface port1")
            )

        self.assertEqual(unknown(printed), unknown(text))


@st.composite
def filtered(draw: st.DrawFn) -> str:
    """Two interfaces, and access lists that they may be bound to."""
    lists = draw(
        st.dictionaries(st.sampled_from(["a", "b", "c"]), AccessListSafetyTest.some_entries, max_size=3)
    )
    lines = [
        line
        for name, entries in lists.items()
        for line in (f"acl {name}", *(f"  ace {v} ip source-network {n}" for v, n in entries))
    ]
    for number, port in enumerate(("port1", "port2")):
        if draw(st.booleans()):
            lines += [f"interface {port}", *(["  enabled false"] if draw(st.booleans()) else [])]
            lines += (
                [f"  ingress-acl {draw(st.sampled_from(sorted(lists)))}"]
                if lists and draw(st.booleans())
                else []
            )
            addresses = draw(st.sets(st.sampled_from(["10.0.1.0/31", "10.0.2.0/31"]), max_size=1))
            lines += (
                ["  ipv4", *(f"    address 203.0.113.{2 * number}/{a[-2:]}" for a in addresses)]
                if addresses
                else []
            )
    return "\n".join(lines) + "\n"


Rule = tuple[str, ipaddress.IPv4Network]


def _decides(rules: list[Rule], packet: ipaddress.IPv4Address) -> str:
    return next((verdict for verdict, network in rules if packet in network), "none")


class AccessListSafetyTest(unittest.TestCase):
    networks = st.sampled_from(
        [
            f"{base}/{length}"
            for base, length in (("0.0.0.0", 0), ("10.0.0.0", 30), ("10.0.0.0", 31), ("10.0.0.2", 31))
        ]
    )
    entries = st.lists(st.tuples(st.sampled_from(["accept", "drop"]), networks), unique=True, max_size=6)
    some_entries = st.lists(
        st.tuples(st.sampled_from(["accept", "drop"]), networks), unique=True, min_size=1, max_size=4
    )

    @settings(max_examples=100, deadline=None)
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

    @settings(max_examples=40, deadline=None)
    @given(st.deferred(lambda: filtered()), st.deferred(lambda: filtered()))
    def test_at_every_moment_each_interface_filters_as_before_or_as_intended(
        self, old: str, new: str
    ) -> None:
        """Whatever is bound, changed and taken away: no interface is ever open to what neither configuration lets in."""

        def verdicts(device: Configuration) -> dict[tuple[str, str], str]:
            found = {}
            for port in ("port1", "port2"):
                interface = device.root.get("interface", port)
                family = interface.get("ipv4") if interface else None
                is_open = (
                    interface is not None
                    and family is not None
                    and family.all("address")
                    and interface.value("enabled") == "true"
                )
                bound = interface.value("ingress-acl") if interface else None
                acl = device.root.get("acl", bound) if bound else None
                rules = (
                    [(i.values[0], ipaddress.IPv4Network(i.values[3])) for i in acl.all("ace")] if acl else []
                )
                for n in range(5):
                    packet = ipaddress.IPv4Address(f"10.0.0.{n}")
                    found[port, str(packet)] = (
                        "closed" if not is_open else _decides(rules, packet) if bound else "accept"
                    )
            return found

        a, b = tree_of(old), tree_of(new)
        try:
            steps = in_dependency_order(difference(a, b), running=a)
        except NoDependencyOrder:
            # Two interfaces exchange lists that are both changed: without a third list there is no safe way.
            changed = [
                name
                for name in ("acl a", "acl b", "acl c")
                if a.at((name,)) and b.at((name,)) and a.at((name,)) != b.at((name,))
            ]
            self.assertGreaterEqual(len(changed), 2)
            return
        device, goal = Configuration(frozenset(PORTS)), Configuration(frozenset(PORTS))
        device.load(old)
        goal.load(new)
        before, after = verdicts(device), verdicts(goal)
        stack: list[tuple[int, Item]] = []
        for command in (c.line.written() for c in commands_of(steps, BINE)):
            device.enter(command, stack)
            for key, verdict in verdicts(device).items():
                if verdict == "accept":
                    self.assertIn("accept", {before[key], after[key]}, (key, command))
                elif verdict != "closed":
                    self.assertNotEqual({"accept"}, {before[key], after[key]}, (key, command))
        self.assertEqual(verdicts(device), after)
