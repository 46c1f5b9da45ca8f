"""Filters and tests: every line of their page is run."""

from __future__ import annotations

import re
import unittest
from pathlib import Path

import jinja2

from oast.estate.expressions import value_environment
from oast.estate.filters import FILTERS, TESTS
from oast.records import Fingerprints

PAGE = (Path(__file__).parent.parent / "docs" / "filters.md").read_text(encoding="utf-8")
LOGIN = Fingerprints(b"the page's key").secret("login", "Tideline-3301")
ROW = re.compile(r"^\|(?: *(?:`\w+`)? *\|)? `(?P<expression>.+?)` \| `(?P<result>.+?)` \|$", re.MULTILINE)


class FiltersPageTest(unittest.TestCase):
    def rows(self, part: str) -> list[tuple[str, str]]:
        found = [(m["expression"].replace("\\|", "|"), m["result"]) for m in ROW.finditer(part)]
        self.assertTrue(found)
        return found

    def test_every_example_gives_what_the_page_says(self) -> None:
        right, _, _ = PAGE.partition("An unsuitable value")
        rows = self.rows(right)
        for expression, result in rows:
            with self.subTest(expression=expression):
                self.assertEqual(
                    value_environment().from_string("{{ " + expression + " }}").render(login=LOGIN), result
                )
        for name in (*FILTERS, *TESTS):
            self.assertTrue(
                any(re.search(rf"\b{name}\b", expression) for expression, _ in rows), f"{name} has no example"
            )

    def test_every_mistake_is_told_as_the_page_says(self) -> None:
        for expression, message in self.rows(PAGE.partition("An unsuitable value")[2]):
            with (
                self.subTest(expression=expression),
                self.assertRaises((ValueError, jinja2.UndefinedError)) as caught,
            ):
                value_environment().from_string("{{ " + expression + " }}").render(login=LOGIN)
            self.assertEqual(str(caught.exception), message)
