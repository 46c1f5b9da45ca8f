"""Texts of devices and people in reports: words there, and neither markup, nor links, nor mentions, nor formulas."""

from __future__ import annotations

import csv
import io
import re
import unittest
from xml.etree import ElementTree

from hypothesis import given, settings, strategies as st
from markdown_it import MarkdownIt

from oast.cli.csv_output import csv_text
from oast.operations.report import _code, _fence, _text, defused, printable

NOTHING = "\u200b"
ODD = st.text(
    alphabet=st.sampled_from("ab1 @#!~%^&$:/.<>`*_[]()|\\-+=\"'{}\n\r\u2028?&;xXhtpsw"), max_size=60
)
MARKDOWN = MarkdownIt("commonmark").enable(["table", "strikethrough"])


class MarkdownTest(unittest.TestCase):
    @settings(max_examples=75)
    @given(ODD)
    def test_whatever_a_text_is_it_is_one_line_of_words(self, text: str) -> None:
        for template in ("# x {}", "| a | b |\n|---|---|\n| x {} | y |"):
            page = MARKDOWN.render(template.format(_text(text)) + "\n")
            tags = set(re.findall(r"<(\w+)", page))
            self.assertLessEqual(tags, {"h1", "table", "thead", "tbody", "tr", "th", "td"}, (text, page))
            words = " ".join(text.split())
            shown = ElementTree.fromstring(f"<page>{page}</page>")
            told = next(shown.iter("h1" if template[0] == "#" else "td"))
            self.assertEqual((told.text or "").replace(NOTHING, "").removeprefix("x").strip(), words)

    def test_nobody_is_mentioned_and_nothing_is_linked(self) -> None:
        for text in (
            "@all look", "see @ada/team", "closes #12", "!7", "~bug", "%v1", "&3", "$9", "ada@larkwater.example",
            "https://ferries.example/x", "ftp://a", "www.ferries.example", "WWW.ferries.example", "mailto:ada@b",
        ):  # fmt: skip
            with self.subTest(text=text):
                for made in (defused(text), printable(text), _text(text)):
                    self.assertNotRegex(made, r"@\w|#\w|!\w|~\w|%\w|(?<!\w)&\d|\$\w|://|(?i:www\.)", made)
        self.assertEqual(defused("half past 3: 12.5 %, a/b"), "half past 3: 12.5 %, a/b")

    def test_no_line_ends_the_fence_or_the_span_that_it_stands_in(self) -> None:
        lines = ["+ banner ```", "  `````", "- a"]
        fence = _fence(lines)
        page = MARKDOWN.render("\n".join([f"{fence}diff", *lines, fence, "behind"]))
        self.assertEqual(page.count("<pre>"), 1)
        self.assertIn("<p>behind</p>", page)
        self.assertEqual(MARKDOWN.renderInline(_code("a` <b> `c\nd")), "<code>a' &lt;b&gt; 'c d</code>")

    def test_xml_holds_what_it_can_and_no_html(self) -> None:
        case = ElementTree.Element("failure", message=printable("<b>\x00\x1b[1m & 'x'\ud800"))
        self.assertEqual(ElementTree.fromstring(ElementTree.tostring(case)).get("message"), "‹b›??[1m & 'x'?")


class CsvTest(unittest.TestCase):
    def test_no_cell_is_a_formula_and_numbers_stay_numbers(self) -> None:
        cells = ["=1+1", "+x", "-x", "@SUM(A1)", "\tx", "\rx", "-5", "+5.5", "plain", "", "a=b", "-"]
        text = csv_text(["cell"], [[cell] for cell in cells])
        found = [row[0] if row else "" for row in csv.reader(io.StringIO(text))][1:]
        self.assertEqual(
            found,
            ["'=1+1", "'+x", "'-x", "'@SUM(A1)", found[4], found[5], "-5", "+5.5", "plain", "", "a=b", "'-"],
        )
        self.assertTrue(all(cell.startswith("'") for cell in found[:6]))


if __name__ == "__main__":
    unittest.main()
