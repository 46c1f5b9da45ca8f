"""Ownership on random scopes: nested to any depth, overlapping, in every combination of sections; nothing else is ever lost."""

from __future__ import annotations

import itertools
import os
import unittest

from hypothesis import assume, example, given, settings, strategies as st

from oast.config.commands import commands_of
from oast.config.dependency_order import NoDependencyOrder, in_dependency_order
from oast.config.edits import apply_edits, difference, split_removals
from oast.config.globs import glob_matches, globs_overlap
from oast.config.ownership import Pattern, Scope, patterns_overlap
from oast.config.referential_integrity import integrity_errors
from oast.config.tree import Path, canonical
from oastsim.bine.configuration import Refused
from test_config_laws import delivered
from trees import BINE, SYNTAX, configurations, tree_of

EXAMPLES = int(os.environ.get("OAST_SCOPES", "30"))
LETTERS = "ab"


def owner_of(path: Path, owners: dict[str, list[Pattern]]) -> str | None:
    """Whose the node at `path` is, by the definition and nothing else: of all patterns above it, the longest decides."""
    above = [
        (len(p), name)
        for name, patterns in owners.items()
        for p in patterns
        if len(p) <= len(path) and all(glob_matches(a, b) for a, b in zip(p, path, strict=False))
    ]
    return max(above)[1] if above else None


@st.composite
def sections(draw: st.DrawFn) -> tuple[str, str, dict[str, list[Pattern]], list[str]]:
    """Two configurations, disjoint owners whose patterns come from them, and some of the owners."""
    one, other = draw(configurations()), draw(configurations())
    paths = sorted({path for text in (one, other) for path, _ in tree_of(text).walk()})
    owners: dict[str, list[Pattern]] = {}
    for name in ("a", "b", "c", "d"):
        for path in draw(st.lists(st.sampled_from(paths), max_size=3)):
            pattern = tuple(draw(_glob_of(level)) for level in path)
            if not any(patterns_overlap(pattern, other) for own in owners.values() for other in own):
                owners.setdefault(name, []).append(pattern)
    assume(owners)
    wanted = draw(st.lists(st.sampled_from(sorted(owners)), min_size=1, unique=True))
    return one, other, owners, wanted


def _glob_of(level: str) -> st.SearchStrategy[str]:
    word, _, key = level.partition(" ")
    choices = [level]
    if key and not any(c in level for c in "*?["):
        choices += [
            f"{word} *",
            f"{word} {key[:1]}*",
            f"{word} *{key[-1:]}",
            f"{word} {key[:-1]}?",
            f"{word} [{key[0]}z]{key[1:]}",
        ]
    return st.sampled_from(choices)


# What is owned stands in an entry that is made only to lead to it, and refers to an interface that is made as well.
LEADING = (
    "acl in-a\n  ace accept ip\ninterface loop0\n  ingress-acl in-a\n  ipv4\n    address 203.0.113.0/31\n"
    "ospf\n  area 0.0.0.7\n    interface loop0\n",
    "interface port1\n  enabled false\n  ipv4\n    address 203.0.113.0/31\nospf\n  area 0.0.0.0\n    interface port1\n      cost 7\n",
    {
        "c": [("interface *",), ("acl in-a",), ("ospf", "area 0.0.0.0", "interface port1", "cost")],
        "d": [("ospf", "area 0.0.0.7")],
    },
    ["c", "d"],
)


class ScopeTest(unittest.TestCase):
    @settings(max_examples=EXAMPLES, deadline=None)
    @given(sections())
    def test_what_is_not_owned_is_never_lost_and_what_is_owned_becomes_as_intended(
        self, case: tuple[str, str, dict[str, list[Pattern]], list[str]]
    ) -> None:
        one, other, owners, wanted = case
        running, intended = tree_of(one), tree_of(other)
        others = [p for name, patterns in owners.items() if name not in wanted for p in patterns]
        scope = Scope.of([p for name in wanted for p in owners[name]], others)
        edits, spared = split_removals(difference(scope.within(running), scope.within(intended)))
        after = apply_edits(edits, running)
        there, then = dict(running.walk()), dict(after.walk())
        for path, node in there.items():
            owner = owner_of(path, owners)
            self.assertEqual(scope.covers(path), owner in wanted, path)
            if owner not in wanted and not node.statement.rule.vanishes:
                self.assertTrue(path in then, f"{path} of {owner} was lost")
                self.assertEqual(then[path].statement, node.statement)
        wants = dict(intended.walk())
        stay = {s.path for s in spared}
        for path, node in then.items():
            if owner_of(path, owners) in wanted and not node.statement.silent:
                held = any(
                    p[: len(path)] == path and p in there and owner_of(p, owners) not in wanted for p in then
                )
                if path not in wants:
                    self.assertTrue(held or path in stay, f"{path} is owned, not intended, and stays")
                elif not held:
                    self.assertEqual(node.statement, wants[path].statement)
        for path in wants:
            vanishing = intended.at(path) is None or intended.at(path).statement.rule.vanishes  # type: ignore[union-attr]
            self.assertTrue(
                vanishing or path in then or owner_of(path, owners) not in wanted,
                f"{path} is intended and missing",
            )
        if not edits and not spared:
            mine, wished = (
                {
                    p: n.statement
                    for p, n in tree.items()
                    if owner_of(p, owners) in wanted and not n.statement.rule.vanishes
                }
                for tree in (there, wants)
            )
            self.assertEqual(mine, wished, "falsely in sync")

    @settings(max_examples=max(20, EXAMPLES // 8), deadline=None)
    @given(sections())
    @example(LEADING)
    def test_a_device_loses_nothing_that_is_not_owned(
        self, case: tuple[str, str, dict[str, list[Pattern]], list[str]]
    ) -> None:
        one, other, owners, wanted = case
        running, intended = tree_of(one), tree_of(other)
        scope = Scope.of(
            [p for n in wanted for p in owners[n]],
            [p for n, own in owners.items() if n not in wanted for p in own],
        )
        edits, _ = split_removals(difference(scope.within(running), scope.within(intended)))
        expected = apply_edits(edits, running)
        broken = integrity_errors(edits, running)
        try:
            lines = [c.line.written() for c in commands_of(in_dependency_order(edits, running=running), BINE)]
        except NoDependencyOrder:
            return
        if broken:
            # What was told before anything is sent is what the device says, and nothing else is.
            with self.assertRaises(Refused, msg=broken[0].message):
                delivered(one, lines)
            return
        after = delivered(one, lines)
        for path, node in running.walk():
            if owner_of(path, owners) not in wanted and not node.statement.rule.vanishes:
                found = tree_of(after).at(path)
                self.assertTrue(
                    found is not None and found.statement == node.statement, f"{path} was lost on the device"
                )
        self.assertEqual(SYNTAX.written(tree_of(after)), SYNTAX.written(canonical(expected)))


class GlobTest(unittest.TestCase):
    def test_two_globs_meet_exactly_when_there_is_a_text_that_both_match(self) -> None:
        parts = ["a", "b", "*", "?", "[ab]", "[!a]", "["]
        globs = ["".join(p) for length in (0, 1, 2, 3) for p in itertools.product(parts, repeat=length)]
        texts = ["".join(t) for length in range(5) for t in itertools.product("ab[c", repeat=length)]
        matched = {glob: frozenset(t for t in texts if glob_matches(glob, t)) for glob in globs}
        for number, one in enumerate(globs):
            for other in globs[number % 7 :: 7]:
                self.assertEqual(globs_overlap(one, other), bool(matched[one] & matched[other]), (one, other))

    def test_the_pairs_that_engineers_write(self) -> None:
        for one, other, both in (
            ("user ops-*", "user *-night", True),
            ("interface port?", "interface port1*", True),
            ("interface port?", "interface port1?", False),
            ("interface port[1-4]", "interface port[5-9]", False),
            ("interface port[1-4]", "interface port[4-9]", True),
            ("static-route 192.0.2.*", "static-route *.0/24", True),
            ("static-route 192.0.2.*", "static-route 198.*", False),
            ("user *", "interface *", False),
        ):
            self.assertEqual(globs_overlap(one, other), both, (one, other))
            self.assertEqual(globs_overlap(other, one), both, (other, one))


if __name__ == "__main__":
    unittest.main()
