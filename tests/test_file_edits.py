"""Configuration files are edited in place: what a change does not touch keeps every byte."""

from __future__ import annotations

import random
import re
import unittest
from dataclasses import replace

from hypothesis import given, settings, strategies as st

from oast.config.brace_syntax import BraceSyntax
from oast.config.file_edits import edit_file
from oast.config.file_spans import spans_of
from oast.config.indented_syntax import IndentedSyntax, tree_as_listed, tree_of_device
from oast.config.tree import Node, canonical, root_of
from oast.errors import DeviceError
from trees import BINE, COWL, COWL_SYNTAX, SYNTAX, configurations, tree_of

BRACES = BraceSyntax(BINE)
CODE = """filter inbound {
  # a brace in a comment: }
  if (net ~ [ 198.51.100.0/24+, 203.0.113.0/24 ]) then { accept; } else { reject "why: }"; }
\tcase rest: { print 'x'; };
}
"""


def text_of(tree: Node) -> str:
    return BRACES.written(tree)


def known(tree: Node) -> Node:
    return root_of(BINE.grammar, {i: n for i, n in tree.children.items() if n.statement.rule.known})


def with_unknown_of(other: Node, tree: Node) -> Node:
    """`tree` with the statements of `other` that the grammar does not know, at the top."""
    unknown = {i: n for i, n in other.children.items() if not n.statement.rule.known}
    return canonical(root_of(BINE.grammar, {**tree.children, **unknown}))


def decorated(text: str, chance: random.Random) -> str:
    """The same configuration as people write it: comments, odd spacing, blank lines, and code of something else."""
    lines: list[str] = []
    for number, line in enumerate(text.splitlines()):
        if not line.startswith(" ") and line != "}" and chance.random() < 0.5:
            lines += ["", f"# note {number}: see the desk", ""]
        if line.strip() != "}" and '"' not in line and chance.random() < 0.3:
            line = re.sub(r"(?<=\S) (?=[a-z])", chance.choice(["  ", "\t", "   "]), line, count=1)
        if line.endswith(";") and chance.random() < 0.3:
            line += f"   # own {number}"
        lines.append(line + (" " if chance.random() < 0.1 else ""))
        if line == "}" and chance.random() < 0.2:
            lines += ["", *CODE.replace("inbound", f"code{number}").splitlines(), ""]
    return "\n".join(lines) + "\n"


class PropertyTest(unittest.TestCase):
    @settings(max_examples=30, deadline=None)
    @given(configurations(), configurations(), st.integers(0, 2**32))
    def test_outside_of_what_changes_every_byte_stays_also_there_and_back(
        self, one: str, other: str, seed: int
    ) -> None:
        file = decorated(text_of(tree_of(one)), random.Random(seed))
        before = tree_of_device(BRACES, file)
        after = with_unknown_of(before, tree_of(other))
        new = edit_file(BRACES, file, after).text
        self.assertEqual(tree_of_device(BRACES, new), after)
        back = edit_file(BRACES, new, before).text
        for text in (new, back):
            for note in re.findall(r"\n\n# note .*\n\n", file):
                self.assertIn(note.strip(), text)
            for block in re.findall(r"filter code\d+ \{\n.*?\n\}\n", file, re.DOTALL):
                self.assertIn(block, text)
        self.assertEqual(edit_file(BRACES, file, before).text, file, "nothing to change")
        # Statements that are in both keep their whole lines, with the comment behind them.
        for span in spans_of(BRACES, file).walk():
            line = file[file.rfind("\n", 0, span.start) + 1 : file.find("\n", span.end)]
            if span.path and span.body is None and before.at(span.path) == after.at(span.path) is not None:
                self.assertIn(line, new)

    @settings(max_examples=20, deadline=None)
    @given(configurations(), configurations())
    def test_indented_files_are_edited_in_place_too(self, one: str, other: str) -> None:
        file = "".join(
            f"{line}\n" + ("# about it\n\n" if not n % 5 else "") for n, line in enumerate(one.splitlines())
        )
        new = edit_file(SYNTAX, file, tree_of(other)).text
        self.assertEqual(tree_of_device(SYNTAX, new), tree_of(other))


class ExampleTest(unittest.TestCase):
    def edit(self, text: str, *changes: tuple[str, str], syntax: IndentedSyntax = BRACES) -> str:
        """`text` edited to what it would be with `changes` made by hand, which need not be as tidy."""
        intended = text
        for old, new in changes:
            self.assertIn(old, intended)
            intended = intended.replace(old, new, 1)
        return edit_file(syntax, text, tree_of_device(syntax, intended)).text

    def test_a_value_is_replaced_and_nothing_else(self) -> None:
        text = 'system {\n  contact    "old";   # who\n\n  hostname quay-1;  }\n'
        self.assertEqual(self.edit(text, ('"old"', "new")), text.replace('contact    "old"', "contact new"))

    def test_an_empty_block_stays_a_block_and_a_single_line_a_single_line(self) -> None:
        text = "interface port1 { }\nntp { server 192.0.2.9; server 192.0.2.10 { prefer true; } }\n"
        self.assertEqual(self.edit(text, ("server 192.0.2.9; ", "")), text.replace("server 192.0.2.9; ", ""))
        self.assertEqual(
            self.edit(text, ("server 192.0.2.9;", "server 192.0.2.9; server 192.0.2.11;")),
            text.replace("prefer true; }", "prefer true; } server 192.0.2.11;"),
        )
        grown = self.edit(text, ("{ }", '{ description "quay"; }'))
        self.assertEqual(grown, text.replace("{ }", "{\n  description quay;\n}"))

    def test_a_comment_goes_with_its_statement_and_one_above_several_stays(self) -> None:
        text = (
            "ntp {\n  # the clocks of the estuary\n  server 192.0.2.9;\n  server 192.0.2.10;\n}\n\n"
            "# a colleague's account\nuser ada {\n  role operator;\n}\n\nuser ben;\n"
        )
        self.assertIn(
            "# the clocks of the estuary\n  server 192.0.2.10;",
            self.edit(text, ("  server 192.0.2.9;\n", "")),
        )
        self.assertEqual(self.edit(text, ("user ada {\n  role operator;\n}\n", "")).count("colleague"), 0)

    def test_new_statements_stand_beside_their_siblings_and_never_behind_a_block_that_may_take_them_in(
        self,
    ) -> None:
        flat = replace(BINE, name="host", grammar=BINE.grammar)
        syntax = IndentedSyntax(flat)
        text = "user ada\n  role operator\n# only for these\nfilter guests\n  allow nothing\n"
        new = self.edit(text, ("user ada\n", "user ben\nuser ada\n"), syntax=syntax)
        self.assertEqual(new, text.replace("  role operator\n", "  role operator\nuser ben\n"))

    def test_a_users_order_is_kept_by_moving_the_same_bytes(self) -> None:
        text = "acl in-a {\n  ace accept   ip;  # first\n  ace drop tcp;\n  ace reject icmp;\n}\n"
        moved = self.edit(
            text,
            ("  ace accept   ip;  # first\n", ""),
            ("  ace reject icmp;\n", "  ace reject icmp;\n  ace accept ip;\n"),
        )
        self.assertEqual(
            moved, "acl in-a {\n  ace drop tcp;\n  ace reject icmp;\n  ace accept   ip;  # first\n}\n"
        )

    def test_lists_in_brackets_lose_and_keep_items(self) -> None:
        text = "system {\n  dns-resolver {\n    server [ 192.0.2.1 192.0.2.2\n             192.0.2.3 ];  # all\n  }\n}\n"
        new = self.edit(text, ("192.0.2.2\n", "\n"))
        self.assertEqual(new.split(), text.replace("192.0.2.2", "").split())

    def test_paths_are_edited_line_by_line(self) -> None:
        text = "# the desk\n/system/contact = desk\n\n/system/hostname = quay-1   \n"
        new = edit_file(
            COWL_SYNTAX, text, tree_of_device(COWL_SYNTAX, text.replace("desk\n\n", "pier\n\n"))
        ).text
        self.assertEqual(new, text.replace("= desk", "= pier"))
        self.assertEqual(COWL.spelling.comment, "#")

    def test_what_cannot_be_edited_is_refused_and_nothing_is_lost(self) -> None:
        text = "user ada {\n  role operator;\n"
        intended = tree_as_listed(BRACES, "user ada {\n  role viewer;\n}\n")
        with self.assertRaisesRegex(
            DeviceError, "cannot be edited in place: a '{' is not closed; nothing was sent"
        ):
            edit_file(BRACES, text, canonical(intended))


if __name__ == "__main__":
    unittest.main()
