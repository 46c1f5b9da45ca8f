"""Entries: what belongs to one on its own line, and how many of them there may be."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import oast
from in_memory import run
from lab import BEFORE, COMMON, Fault, Lab
from oast.config.dependency_order import NoDependencyOrder, in_dependency_order
from oast.config.edits import apply_edits, difference
from oast.config.indented_syntax import IndentedSyntax, tree_of_device
from oast.config.referential_integrity import integrity_errors
from oast.platforms.definition import Platform
from oast.platforms.load import SHIPPED, load_platform
from oast.records import Fingerprints
from test_ways import Case


class InlineTest(Case):
    def test_an_unknown_line_belongs_to_the_entry_whose_words_it_begins_with(self) -> None:
        async def push() -> None:
            for unknown in ("port two colour blue", "port two guard 7 x y"):
                lab = Lab("timer", [*BEFORE, unknown])
                plan = await self.in_memory(lab).compare()
                [comparison] = plan.comparisons
                self.assertEqual(
                    [
                        (spared.outer[0].text, spared.node.text)
                        for spared in comparison.spared
                        if spared.unknown
                    ],
                    [("port two", unknown)],
                )
                lab.fault = Fault()
                outcome = (await plan.deliver("a test")).outcomes[0]
                self.assertEqual(outcome.state, oast.State.DELIVERED, outcome)
                self.assertIn(
                    unknown, lab.running, "it was retained, and not removed together with its entry"
                )
                self.assertNotIn("port two text x", lab.running)

        run(push())

    def test_what_is_printed_with_it_is_read_as_the_same(self) -> None:
        platform = self.platform("")
        syntax = IndentedSyntax(platform)
        text = "port one text old\nport one colour blue\nport two colour red\nname pier\n"
        tree = syntax.parse(text).tree
        self.assertEqual(syntax.parse(syntax.written(tree)).tree, tree)
        self.assertEqual(sorted(syntax.written(tree).splitlines()), sorted(text.splitlines()))
        self.assertEqual(difference(tree_of_device(syntax, text), tree_of_device(syntax, text)), [])

    def test_lines_that_only_frame_a_listing_are_declared_once(self) -> None:
        for before in ("building the listing...", "! end of listing, 3 lines"):
            text = f"{before}\nname pier\n\tport is not its own line\nport one text old\n"
            platform = self.platform("", 'ignore = ["building .*", "! .*", ".*not its own line"]\n')
            parsed = IndentedSyntax(platform).parse(text)
            self.assertEqual(
                (parsed.problems, [node.text for node in parsed.tree.children.values()]),
                ((), ["name pier", "port one"]),
            )

    def test_tabs_in_the_indentation_lead_to_the_next_multiple_of_eight(self) -> None:
        syntax = IndentedSyntax(self.platform(""))
        self.assertEqual(syntax.parse("a\n        b\n\tc\n").tree.children["a"].children.keys(), {"b", "c"})

    def platform(self, more: str, spelling: str = "") -> Platform:

        path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "lab.toml"
        path.write_text(COMMON.replace("quotes = false\n", f"quotes = false\n{spelling}") + more)
        return load_platform(path, Fingerprints(b"key"))


class MaximumTest(unittest.TestCase):
    def setUp(self) -> None:
        super().setUp()
        text = (
            (SHIPPED / "bine.toml")
            .read_text()
            .replace('"ntp/server" = { kind = "list"', '"ntp/server" = { kind = "list", max-elements = 1', 1)
        )
        self.assertIn("max-elements", text)
        path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "bine.toml"
        path.write_text(text)
        self.syntax = IndentedSyntax(load_platform(path, Fingerprints(b"key")))

    def test_the_only_one_is_removed_before_another_is_made(self) -> None:
        before = tree_of_device(self.syntax, "ntp\n  server 192.0.2.9\n")
        after = tree_of_device(self.syntax, "ntp\n  server 192.0.2.10\n")
        ordered = in_dependency_order(difference(before, after), running=before)
        self.assertEqual(
            [(edit.operation, edit.node.text) for edit in ordered],
            [("remove", "server 192.0.2.9"), ("create", "server 192.0.2.10")],
        )
        self.assertEqual(integrity_errors(ordered, before), [])
        self.assertEqual(apply_edits(ordered, before), after)

    def test_one_too_many_is_said_before_anything_is_sent(self) -> None:
        before = tree_of_device(self.syntax, "ntp\n  server 192.0.2.9\n")
        both = tree_of_device(self.syntax, "ntp\n  server 192.0.2.9\n  server 192.0.2.10\n")
        [broken] = integrity_errors(difference(before, both), before)
        self.assertEqual(broken.message, "at most 1 'server' are allowed in 'ntp', and there would be 2")

    def test_where_the_new_one_is_needed_before_the_old_one_goes_there_is_no_order(self) -> None:
        before = tree_of_device(self.syntax, "ntp\n  server 192.0.2.9\n")
        after = tree_of_device(self.syntax, "ntp\n  server 192.0.2.10\n")
        remove, create = sorted(difference(before, after), key=lambda edit: edit.operation == "create")
        waits = mock.patch(
            "oast.config.dependency_order._before",
            side_effect=lambda edit, *rest: [1] if edit is remove else [],
        )
        with waits, self.assertRaises(NoDependencyOrder):
            in_dependency_order([remove, create], running=before)


if __name__ == "__main__":
    unittest.main()
