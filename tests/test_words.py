"""Words that are not what they look like: the same reading on both sides, or an error in words before a device sees them."""

from __future__ import annotations

import unittest

from hypothesis import given, settings, strategies as st

from larkwater import EstateTest, LarkwaterTest
from oastsim.bine.configuration import Configuration
from test_config_laws import commands_between, delivered
from trees import PORTS, SYNTAX, tree_of

NAMES = ("last", "before", "insert", "remove", "close", "a", "search")


class WordsOfEditsTest(unittest.TestCase):
    @settings(max_examples=100, deadline=None)
    @given(st.permutations(NAMES), st.permutations(NAMES), st.integers(0, 7), st.integers(0, 7))
    def test_entries_may_be_called_like_the_words_of_an_edit(
        self, one: list[str], other: list[str], few: int, many: int
    ) -> None:
        def text(names: list[str]) -> str:
            lists = "".join(f"acl {name}\n  ace accept ip\n" for name in sorted(names))
            return lists + "system\n  dns-resolver\n" + "".join(f"    search {name}\n" for name in names)

        a, b = text(one[:few]), text(other[:many])
        self.assertEqual(tree_of(delivered(a, commands_between(tree_of(a), tree_of(b)))), tree_of(b))

    @settings(max_examples=120, deadline=None)
    @given(st.text(st.sampled_from(list('ab"\\ \t\u00a0\u2028\u0660\u00b2\x0b1')), max_size=12))
    def test_whatever_a_device_holds_is_read_as_it_stands(self, odd: str) -> None:
        device = Configuration(frozenset(PORTS))
        stack: list[tuple[int, object]] = []
        try:
            for line in ("interface port1", f"  description {odd}"):
                device.enter(line, stack)  # type: ignore[arg-type]
        except Exception:
            return
        listing = device.text()
        printed = SYNTAX.written(SYNTAX.parse(listing).tree)
        self.assertEqual(printed, listing)


class OddCharactersTest(EstateTest):
    def test_what_looks_like_a_space_and_is_none_is_told_at_its_line(self) -> None:
        template = self.estate / "templates/bine/system.j2"
        before = template.read_text()
        number = next(
            n for n, line in enumerate(before.split("\n"), 1) if "location" in line and "{{" in line
        )
        for odd, called in (
            ("\u00a0", "U+00A0 (no-break space)"),
            ("\u2028", "U+2028 (line separator)"),
            ("\u200b", "U+200B (zero width space)"),
            ("\u202e", "U+202E (right-to-left override)"),
            ("\t", "U+0009 (a tab)"),
            ("\x0b", "U+000B (a control character)"),
        ):
            template.write_text(
                before.replace('location "{{ location }}"', f'location "{{{{ location }}}}{odd}x"')
            )
            told = self.oast("lint", expect=3)
            self.assertIn(
                f"templates/bine/system.j2:{number}: the line contains {called}, which devices do not accept",
                told.out + told.err,
            )
        template.write_text(before)
        self.edit("values/network.yaml", "contact: Larkwater network desk", 'contact: "Larkwater\\u00a0desk"')
        told = self.oast("lint", "--trace", expect=3)
        self.assertIn("the line contains U+00A0 (no-break space)", told.out + told.err)
        self.assertIn("values/network.yaml", told.out + told.err)

    def test_digits_of_other_scripts_and_of_thousands_are_no_numbers(self) -> None:
        for number in ("\u0664\u0662", "\u00b2", "9" * 5000):
            run = self.oast("render", "--with", f"link_cost={number}", expect=None)
            self.assertIn(run.code, (2, 3))
            self.assertIn("link_cost", run.err)
            self.oast("explain", "gull-core-1", f"links[{number}]", expect=None)
            self.oast("diff", "--parallel", number, expect=2)
        inventory = self.estate / "inventory/terminals.csv"
        inventory.write_text(
            inventory.read_text().replace("name,address,", "name,address,port,").replace("1,192", "1,192", 1)
        )
        self.oast("lint", expect=None)


class OddDeviceTest(LarkwaterTest):
    delivered = True

    def test_odd_text_that_somebody_typed_on_a_device_stays_as_it_is(self) -> None:
        typed = (
            "raise",
            "Is0lde-privilege",
            "edit",
            "interface loop9",
            '  description "quay\u00a0one\u2028two \u0664"',
            "close",
        )
        self.edit(
            "templates/bine/interfaces.j2",
            'owns: ["interface *"]',
            'owns: ["interface port[1-8]*", "interface loop[0-8]", "interface manage*"]',
        )
        self.console("gull-core-1", *typed)
        self.oast("push", "-m", "x", "--on", "name=gull-core-1", "--with", "contact=pier", "--yes")
        self.assertIn('description "quay\u00a0one\u2028two \u0664"', self.running("gull-core-1"))
