"""What a person reads is plain English: texts of the program, help and documentation, read from their sources.

`make lint` runs it, too. A text that needs a word of the list stands in EXCEPTIONS with its reason.
"""

from __future__ import annotations

import ast
import re
import unittest
from collections.abc import Iterator
from functools import cache
from pathlib import Path

ROOT = Path(__file__).parent.parent
LONGEST_SENTENCE = 30
PHRASES = (
    r"ways? back", r"(?:goes|went|going|gone|come|came|comes) back", r"(?:take|takes|took|taken) back", r"brought (?:it )?back", r"left alone", r"held back",
    r"not touched", r"as it was", r"somebody", r"nobody", r"anybody", r"who(?:so)?ever", r"besides", r"anew", r"meanwhile", r"(?:is|are|was|were|been) told", r"what became of",
    r"stands? (?:around|beside|below|behind|here|there)", r"comes? in by", r"way in", r"second way", r"cables? away", r"not true", r"careful", r"fault of oast",
    r"run that died", r"dead runs?", r"leave in order", r"so many", r"that there is not", r"answer is no", r"in words", r"worked out", r"ha(?:s|ve) to", r"nothing to do",
    r"are all true", r"all true", r"whose it is", r"by whom", r"is none\b", r"is no [a-z]+\b",
)  # fmt: skip
BRITISH = (
    r"neighbours?",
    r"colours?",
    r"behaviour",
    r"authoris\w+",
    r"normalis\w+",
    r"recognis\w+",
    r"cancell(?:ed|ing)",
    r"honour\w*",
    r"harbours?",
)
BANNED = re.compile(rf"\b(?:{'|'.join((*PHRASES, *BRITISH))})\b", re.IGNORECASE)
EXCEPTIONS = {
    "there is no": "a plain statement that something does not exist",
    "is no longer": "a state that has ended",
    "is no answer": "as in 'there is no answer'",
    "further attempts when there is no answer": "as in 'there is no answer'",
}
# Names of made-up places and platforms, and what devices list in their own words.
NAMES = re.compile(r"harbour|pier-rt|oast platform new harbour|`[^`]*`|'[^']*'|\"[^\"]*\"")


@cache
def texts() -> list[tuple[str, str]]:
    """Every literal of four words or more in the tool's source that is no docstring, with its place."""
    found = []
    for path in sorted((ROOT / "src" / "oast").rglob("*.py")):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        found += [
            (f"{path.relative_to(ROOT)}:{line}", text)
            for line, text in _literals(tree)
            if len(text.split()) >= 4
        ]
    return found


def _literals(tree: ast.Module) -> Iterator[tuple[int, str]]:
    parts = {
        id(part)
        for node in ast.walk(tree)
        if isinstance(node, ast.JoinedStr)
        for part in ast.walk(node)
        if part is not node
    }
    documents = {
        id(step.value)
        for node in ast.walk(tree)
        for step in (node.body if isinstance(getattr(node, "body", None), list) else ())
        if isinstance(step, ast.Expr)
    }
    for node in ast.walk(tree):
        if id(node) in parts or id(node) in documents:
            continue
        if isinstance(node, ast.JoinedStr):
            yield (
                node.lineno,
                "".join(str(part.value) if isinstance(part, ast.Constant) else "X" for part in node.values),
            )
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            yield node.lineno, node.value


def pages() -> Iterator[tuple[str, str]]:
    """Every paragraph of the documentation outside of examples, with its place."""
    for path in (ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))):
        text = re.sub(
            r"^```.*?^```$",
            lambda match: "\n" * match[0].count("\n"),
            path.read_text(encoding="utf-8"),
            flags=re.MULTILINE | re.DOTALL,
        )
        for number, line in enumerate(text.splitlines(), 1):
            if line.strip():
                yield f"{path.relative_to(ROOT)}:{number}", line


def banned(text: str) -> list[str]:
    """The phrases in `text` that a glossary replaces."""
    plain = NAMES.sub(" ", text)
    for exception in EXCEPTIONS:
        plain = plain.replace(exception, " ")
    return [match[0] for match in BANNED.finditer(plain)]


class WordingTest(unittest.TestCase):
    def test_the_list_finds_what_it_is_for_and_only_that(self) -> None:
        self.assertEqual(
            banned("careful: nobody has touched it, and the way back is gone"),
            ["careful", "nobody", "way back"],
        )
        self.assertEqual(banned("there is no answer, and the neighbor is no longer up"), [])

    def test_texts_of_the_program_have_no_phrase_that_the_glossary_replaces(self) -> None:
        self.assertGreater(len(texts()), 1500)
        for place, text in texts():
            if not re.match(r"\s*(?:SELECT|INSERT|UPDATE|DELETE|CREATE)", text):
                self.assertEqual(banned(text), [], f"{place}: {text!r}")

    def test_sentences_of_the_program_are_short(self) -> None:
        for place, text in texts():
            if "\n" in text.strip() or text.count("X") > 8:
                continue
            for sentence in re.split(r"(?<=[.;?])\s|\n", text):
                self.assertLessEqual(len(sentence.split()), LONGEST_SENTENCE, f"{place}: {sentence!r}")

    def test_the_documentation_has_no_phrase_that_the_glossary_replaces(self) -> None:
        for place, line in pages():
            self.assertEqual(banned(line), [], f"{place}: {line!r}")


if __name__ == "__main__":
    unittest.main()
