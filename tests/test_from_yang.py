"""Platforms made of YANG modules: what becomes of each type, what is left out, and what is wrong in a module."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from oast.config.syntaxes import syntax_of
from oast.errors import EstateError
from oast.platforms.from_yang import ModuleText, platform_of, texts_in
from oast.platforms.load import load_platform
from oast.platforms.yang_types import python_pattern
from oast.records import Fingerprints

FOLDER = Path(__file__).parent / "data" / "yang"
LAMP = '<lamps xmlns="urn:example:pierhead"><lamp><name>a</name><colour>red</colour>{}</lamp></lamps>'


class FromYangTest(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        made = platform_of("pierhead", texts_in(FOLDER), (FOLDER,))
        self.made = made
        path = self.folder / "pierhead.toml"
        path.write_text(made.text)
        self.syntax = syntax_of(load_platform(path, Fingerprints(b"key")))

    def test_every_type_becomes_one_of_the_grammar(self) -> None:
        for inner, told in (
            ("", None),
            ("<brightness>1.50</brightness>", None),
            ("<brightness>1.51</brightness>", "is not a number from 0.0 to 1.5 with at most 2"),
            ("<brightness>0.123</brightness>", "is not a number"),
            ("<days>sunday monday</days>", None),
            ("<days>tuesday</days>", "made of monday, sunday"),
            ("<offset>-3</offset>", None),
            ("<offset>0</offset>", "from -10 to -1 or from 1 to 10"),
            ("<lit/>", None),
            ("<lit>yes</lit>", "takes no value"),
            ("<code-secret>none</code-secret>", None),
            ("<code-secret>300</code-secret>", "from 0 to 255 or one of none"),
        ):
            with self.subTest(inner=inner):
                problems = [problem.message for problem in self.syntax.parse(LAMP.format(inner)).problems]
                self.assertEqual(len(problems), 0 if told is None else 1, problems)
                self.assertIn(told or "", "".join(problems))
        wrong = LAMP.replace("<name>a<", "<name>A<")
        self.assertIn("of the type lamp-name", self.syntax.parse(wrong.format("")).problems[0].message)
        self.assertIn(
            "did you mean",
            self.syntax.parse(LAMP.replace(">red<", ">rde<").format("")).problems[0].hint or "",
        )

    def test_canonical_values_keys_order_secrets_and_defaults(self) -> None:
        text = LAMP.format(
            "<brightness>1.0</brightness><days>sunday monday</days><code-secret>7</code-secret>"
        )
        written = self.syntax.masked(self.syntax.parse(text).tree)
        self.assertIn(">ph:red</colour>", written)
        self.assertIn("<days>monday sunday</days>", written)
        self.assertNotIn("<code-secret>7<", written)
        rules = {rule.path: rule for rule in self.syntax.grammar.rules()}
        self.assertTrue(rules["lamps/lamp"].user_ordered)
        self.assertEqual(
            (rules["lamps/lamp/colour"].min_elements, rules["lamps/lamp/brightness"].default), (1, ("1.0",))
        )
        self.assertEqual(self.made.left_out, ["lamps/lamp/notes (anydata has no schema)"])

    def test_a_feature_that_is_not_there_takes_its_statements_along(self) -> None:
        text = (FOLDER / "pierhead.yang").read_text()
        self.assertIn("brightness", platform_of("p", [ModuleText("pierhead", text, "x.yang")]).text)
        self.assertNotIn("brightness", platform_of("p", [ModuleText("pierhead", text, "x.yang", ())]).text)

    def test_what_is_wrong_in_a_module_is_told_at_its_line(self) -> None:
        text = (FOLDER / "pierhead.yang").read_text()
        for old, new, told in (
            ("type empty;", "type emtpy;", "emtpy"),
            ("prefix ph;", "prefix ph;\n  import nowhere { prefix n; }", 'module "nowhere" not found'),
            ("key name;", "key nmae;", "nmae"),
        ):
            with self.subTest(new=new):
                changed = text.replace(old, new)
                line = changed[: changed.index(new) + len(new)].count("\n") + 1
                with self.assertRaises(EstateError) as raised:
                    platform_of("p", [ModuleText("pierhead", changed, "pierhead.yang")])
                found = [(p.place.line if p.place else 0, p.message) for p in raised.exception.problems()]
                self.assertTrue(any(number == line and told in message for number, message in found), found)
        for nonsense in ("", "{", "module x {", "\x00"):
            with self.assertRaises(EstateError):
                platform_of("p", [ModuleText("x", nonsense, "x.yang")])
        with self.assertRaisesRegex(EstateError, "no YANG modules"):
            texts_in(self.folder / "none")

    def test_patterns_of_xml_schema(self) -> None:
        self.assertEqual(python_pattern("[a$^]$"), r"[a$^]\$")
        self.assertEqual(python_pattern(r"\$x"), r"\$x")
        for unknown in (r"\p{L}+", r"[\i]", "[a-z-[aeiou]]", "("):
            self.assertIsNone(python_pattern(unknown))


if __name__ == "__main__":
    unittest.main()
