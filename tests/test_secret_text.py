"""Templates that try to make text of a secret: each is an error at its line, and what may be done with a secret leaves its marks whole."""

from __future__ import annotations

import unittest

from hypothesis import given, settings, strategies as st

from oast.errors import EstateError
from oast.estate.expressions import evaluated, template_environment
from oast.estate.secret_text import MarkedText, captured, holds_secret, plain_text
from oast.intent.templates import template_of_text
from oast.records import MARK, Fingerprints, Secret, SecretAsText

FINGERPRINTS = Fingerprints(b"key")
SECRET = FINGERPRINTS.secret("quay", "kelp-and-foam")
MACRO = "{% macro m(a) %}k {{ a }}{% endmacro %}"
BLOCK = "{% set x %}k {{ s }}{% endset %}"
CALL = "{% macro m() %}{{ caller()|upper }}{% endmacro %}"
REFUSED = (
    # filters that convert
    "{{ s|upper }}", "{{ s|lower }}", "{{ s|e }}", "{{ s|escape }}", "{{ s|urlencode }}", "{{ s|string }}", "{{ s|string|length }}",
    "{{ s|safe }}", "{{ s|tojson }}", "{{ s|trim|upper }}", "{{ s|replace('a', 'b') }}", "{{ s|replace('<', '')|replace('>', '') }}",
    "{{ s|capitalize }}", "{{ s|title }}", "{{ s|center(90) }}", "{{ s|indent }}", "{{ s|truncate(9) }}", "{{ s|wordcount }}",
    "{{ s|wordwrap(5) }}", "{{ s|striptags }}", "{{ s|urlize }}", "{{ s|xmlattr }}", "{{ s|pprint }}", "{{ s|filesizeformat }}",
    "{{ s|format }}", "{{ '%s'|format(s) }}", "{{ '%.3s'|format(s) }}", "{{ s|join }}", "{{ [s]|join }}", "{{ ['x', s]|join('-') }}",
    "{{ 'xyz'|replace('y', s) }}", "{{ [s]|tojson }}", "{{ {'a': s}|tojson }}", "{{ {'a': s}|xmlattr }}", "{{ {'a': s}|urlencode }}",
    "{{ [s]|string }}", "{{ [[s]]|pprint }}", "{{ [s]|map('upper')|list }}", "{{ [s]|map('string')|join }}", "{{ s|int }}", "{{ s|float }}",
    "{{ s|round }}", "{{ s|abs }}", "{{ s|length }}", "{{ s|list }}", "{{ s|first }}", "{{ s|reverse }}", "{{ s|network_of }}",
    "{{ s|numbers_in }}", "{{ s|names_in }}", "{{ 'x'|password_hash(s) }}", "{{ s|sum }}", "{{ [s]|sum(start='') }}",
    # operators
    "{{ s ~ 'x' }}", "{{ 'x' ~ s }}", "{{ s ~ s }}", "{{ '%s' % s }}", "{{ s * 2 }}", "{{ s % 2 }}", "{{ s[0] }}", "{{ s[1:] }}", "{{ s < 'x' }}",
    "{{ 'a' in s }}", "{{ s in 'abc' }}", "{{ s + 1 }}", "{{ -s }}", "{% for c in s %}{{ c }}{% endfor %}",
    # methods and parts
    "{{ '{}'.format(s) }}", "{{ '{0.digest}'.format(s) }}", "{{ '-'.join([s]) }}", "{{ 'abc'.replace('b', s) }}", "{{ s.digest }}", "{{ s.mark }}",
    "{{ s.reveal() }}", "{{ s.name }}", "{{ s.__str__() }}", "{{ s['digest'] }}", "{{ s|attr('digest') }}", "{{ s|attr('reveal') }}",
    "{{ [s]|map(attribute='digest')|first }}", "{{ [s] }}", "{{ {'a': s} }}", "{{ (s, 1) }}", "{{ dict(a=s) }}",
    # text that a macro or a block gives back
    MACRO + "{{ m(s)|upper }}", MACRO + "{{ m(s)|string|length }}", MACRO + "{{ (m(s)|string)[8:16] }}", MACRO + "{{ m(s)[3:] }}",
    MACRO + "{{ m(s)|length }}", MACRO + "{{ m(s).upper() }}", MACRO + "{{ m(s)|replace('k', '') }}", MACRO + "{{ m(s)|list }}",
    MACRO + "{{ '%.9s' % m(s) }}", MACRO + "{{ '%.9s'|format(m(s)) }}", MACRO + "{{ m(s) ~ 'x' }}", MACRO + "{{ m(s).split() }}",
    MACRO + "{{ [m(s)]|join }}", MACRO + "{{ [m(s)]|tojson }}", MACRO + "{{ m(s)|tojson }}", MACRO + "{{ m(s)|urlencode }}",
    MACRO + "{{ m(s)|e }}", MACRO + "{{ m(s)|truncate(9) }}", MACRO + "{{ m(s)|reverse }}", MACRO + "{{ m(s) == 'x' }}",
    MACRO + "{{ m(s) < 'x' }}", MACRO + "{{ 'k' in m(s) }}", MACRO + "{% for c in m(s) %}{{ c }}{% endfor %}",
    MACRO + "{{ 'abc'.replace('b', m(s)) }}", MACRO + "{{ '-'.join([m(s)]) }}", MACRO + "{{ 'abc'|replace('b', m(s)) }}", MACRO + "{{ m(s)|trim|upper }}",
    MACRO + "{{ m(m(s))|upper }}", MACRO + "{{ (m(s) + 'x')|upper }}", MACRO + "{{ ('x' + m(s))[2:] }}", MACRO + "{{ m(s) * 2 }}",
    MACRO + "{{ m(s)|indent|length }}", MACRO + "{{ {'a': m(s)} }}", MACRO + "{{ [m(s)] }}", MACRO + "{{ m(s)|safe }}",
    BLOCK + "{{ x|upper }}", BLOCK + "{{ x[2:] }}", BLOCK + "{{ x|string|length }}", BLOCK + "{{ x|truncate(20, true, '') }}",
    "{% filter upper %}{{ s }}{% endfilter %}", "{% filter truncate(30) %}k {{ s }}{% endfilter %}", "{% set x | upper %}{{ s }}{% endset %}",
    CALL + "{% call m() %}{{ s }}{% endcall %}",
    # half a mark
    "{{ half }}", "{{ begins }}{{ 'a' * 64 }}", "\ue100", "x\ue101",
)  # fmt: skip
ALLOWED = (
    "{{ s }}", "k {{ s }} x", "{{ s + 'x' }}", "{{ 'x' + s }}", MACRO + "{{ m(s) }}", MACRO + "{{ m(m(s)) }}", MACRO + "{{ m(s)|indent(4) }}",
    MACRO + "{{ m(s)|trim }}", MACRO + "{{ m(s)|indent(2)|trim }}", MACRO + "{{ m(s) + 'x' }}", MACRO + "{{ 'x' + m(s) }}", BLOCK + "{{ x }}",
    "{% filter indent(2) %}a\n{{ s }}{% endfilter %}", "{% for one in [s] %}{{ one }}{% endfor %}", "{{ [s]|first }}", "{{ s|default('x') }}",
    "{% if s is defined and s %}{{ s }}{% endif %}", "{{ [{'a': s}]|map(attribute='a')|first }}", "{{ ([{'a': 1, 'b': s}]|selectattr('a', 'eq', 1)|first).b }}",
    "{{ s|password_hash('salt', 10) }}", "{% set y = s %}{{ y }}", "{{ [{'n': 2, 's': s}, {'n': 1, 's': s}]|sort(attribute='n')|map(attribute='s')|list|last }}",
    MACRO + "{% if m(s) %}{{ m(s) }}{% endif %}", "{{ s if s == s else '' }}", "{{ {'a': s}|items|first|last }}",
    "{% macro m() %}{{ caller() }}{% endmacro %}{% call m() %}{{ s }}{% endcall %}",
)  # fmt: skip


def rendered(text: str) -> str:
    """A template with the secret `s`, and some parts of its mark."""
    marks: dict[str, Secret] = {}
    env = template_environment(None, marks)
    return template_of_text("trial", text, env).render(
        {"s": SECRET, "half": SECRET.mark[:20], "begins": SECRET.mark[0]}
    )


class TemplateTest(unittest.TestCase):
    def test_no_template_makes_text_of_a_secret(self) -> None:
        for text in REFUSED:
            with self.subTest(text=text):
                with self.assertRaises(EstateError) as caught:
                    rendered(text)
                told = " ".join(
                    f"{problem.message} {problem.hint}" for problem in caught.exception.problems()
                )
                for part in ("kelp", SECRET.digest[:8], "\ue100"):
                    self.assertNotIn(part, told)
                self.assertIsNotNone(caught.exception.problems()[0].place)

    def test_what_may_be_done_leaves_every_mark_whole(self) -> None:
        for text in ALLOWED:
            with self.subTest(text=text):
                found = rendered(text)
                rest = MARK.sub("", found)
                self.assertNotEqual(rest, found)
                for part in ("kelp", SECRET.digest[:8], "\ue100", "\ue101", "<secret"):
                    self.assertNotIn(part, rest)
                self.assertIs(type(found), str)

    def test_an_expression_in_a_value_makes_no_text_of_it_either(self) -> None:
        self.assertEqual(evaluated("s", {"s": SECRET}), SECRET)
        self.assertEqual(evaluated("s + 'x'", {"s": SECRET}).reveal(), "kelp-and-foamx")
        for text in ("s|string", "s ~ 'x'", "[s]|join", "'%s' % s", "[s]|string", "s|upper"):
            with self.assertRaises(SecretAsText):
                evaluated(text, {"s": SECRET})
        self.assertEqual(str(SECRET), f"<secret {SECRET.digest[:8]}>", "elsewhere its fingerprint is shown")

    @settings(max_examples=120)
    @given(st.lists(st.sampled_from([
        "upper", "trim", "indent", "string", "first", "last", "list", "join", "replace('a','')", "length", "tojson", "e", "default('')", "reverse",
        "map('string')", "map('upper')", "batch(2)", "slice(2)", "sort", "unique", "center(80)", "format", "attr('mark')", "pick('@')", "wordwrap(3)",
    ]), max_size=4), st.sampled_from(["s", "m(s)", "[s]", "[m(s)]", "{'a': s}", "x", "s + 'x'", "m(s) + 'x'"]))  # fmt: skip
    def test_no_chain_of_filters_gets_at_it(self, filters: list[str], start: str) -> None:
        text = f"{MACRO}{BLOCK}{{{{ ({start}){''.join(f'|{one}' for one in filters)} }}}}"
        try:
            found = rendered(text)
        except EstateError:
            return
        rest = MARK.sub("", found)
        for part in ("kelp", SECRET.digest[:8], "\ue100", "\ue101", "secret"):
            self.assertNotIn(part, rest)


class MarkedTextTest(unittest.TestCase):
    def test_every_method_of_text_is_refused(self) -> None:
        marked = captured(f"k {SECRET.mark}")
        self.assertIsInstance(marked, MarkedText)
        self.assertIs(type(captured("plain")), str)
        self.assertEqual(plain_text(marked), f"k {SECRET.mark}")
        for name in dir(str):
            if not name.startswith("__"):
                with self.assertRaises(SecretAsText, msg=name):
                    getattr(marked, name)()

    def test_secrets_are_found_in_whatever_holds_them(self) -> None:
        for value in (
            SECRET,
            [SECRET],
            {"a": [SECRET]},
            ({"b": SECRET},),
            {SECRET: 1},
            [captured(SECRET.mark)],
        ):
            self.assertTrue(holds_secret(value), value)
        for value in ("x", 1, None, [], {"a": ["b"]}, range(3)):
            self.assertFalse(holds_secret(value), value)


if __name__ == "__main__":
    unittest.main()
