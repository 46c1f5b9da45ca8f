"""Expressions that would make more than any configuration needs: each is an error at its line, before memory or time is spent."""

from __future__ import annotations

import unittest

from oast.errors import EstateError
from oast.estate.expressions import evaluated, template_environment
from oast.estate.output_size import size_of
from oast.estate.template_limits import SIZE, LimitExceeded
from oast.intent.templates import template_of_text

GROWING = "{% set ns = namespace(x='a') %}{% for i in range(40) %}{% set ns.x = EXPRESSION %}{% endfor %}{{ ns.x|length }}"
BEYOND = (
    "{{ lipsum(n=100000) }}", "{{ lipsum(n=5, min=1000000, max=1000001) }}", "{{ 'a'|batch(10**9,'x')|list }}", "{{ [1]|batch(10**8,'x')|list }}",
    "{{ [1]|slice(10**9)|list }}", "{{ [1]|slice(10**7,'x')|list }}", "{{ ('a'*1000000)|replace('a','b'*1000) }}",
    "{{ ('a'*1000000).replace('a','b'*1000) }}", "{{ ('a'*1000)|replace('a','b'*1000)|replace('b','c'*1000) }}",
    "{{ ('a'*100000)|replace('','b'*1000) }}", "{{ ('x,'*1000000).split(',')|join('y'*1000) }}", "{{ ('y'*1000).join(('x,'*1000000).split(',')) }}",
    "{{ range(99999)|map('string')|join('y'*1000) }}", "{{ (['x'*100000]*5000)|join }}", "{{ (['x'*100000]*5000)|tojson }}",
    "{{ (['x'*100000]*5000)|string }}", "{{ (['x'*100000]*5000)|pprint }}", "{{ (['x'*100000]*5000)|sum(start='') }}",
    "{{ ('a'*10000).translate({97: 'b'*10000}) }}", "{{ ('ab'*1000000)|wordwrap(1) }}", "{{ ('a b '*20000)|wordwrap(1, wrapstring='x'*1000) }}",
    "{{ ('a\\n'*1000000)|indent('x'*1000) }}", "{{ ('a\\n'*1000000)|indent(90000) }}", "{{ ('&'*3000000)|e }}", "{{ (' '*9000000)|urlencode }}",
    "{{ 1e308*10 }}", "{{ -(1e308*10) }}", "{{ 1e400 }}", "{{ 'inf'|float }}", "{{ 'nan'|float }}", "{{ 'x'|center(10**9) }}",
    "{{ '{0:1000000000}'.format(1) }}", "{{ '%1000000000d'|format(1) }}", "{{ [0]*10**8 }}", "{{ 'x' * 10**8 }}", "{{ 2**100000 }}",
    *(GROWING.replace("EXPRESSION", one) for one in (
        "ns.x + ns.x", "ns.x ~ ns.x", "[ns.x, ns.x]|join", "ns.x|replace('a','aa')", "'%s%s'|format(ns.x, ns.x)", "'{0}{0}'.format(ns.x)",
        "'%s%s' % (ns.x, ns.x)", "'{a}{a}'.format_map({'a': ns.x})",
    )),
    "{% set ns = namespace(x=['a']) %}{% for i in range(40) %}{% set ns.x = [ns.x, ns.x] %}{% endfor %}{{ ns.x|string }}",
    "{% set ns = namespace(x=['a']) %}{% for i in range(40) %}{% set ns.x = [ns.x, ns.x] %}{% endfor %}{{ ns.x|tojson }}",
)  # fmt: skip
ENOUGH = (
    ("{{ ['a', 'b']|join(', ') }}", "a, b"), ("{{ range(3)|map('string')|join('-') }}", "0-1-2"), ("{{ [{'n': 'a'}, {'n': 'b'}]|join('+', attribute='n') }}", "a+b"),
    ("{{ 'a.b'|replace('.', '-') }}", "a-b"), ("{{ 'aaa'.replace('a', 'b', 1) }}", "baa"), ("{{ '%s-%03d'|format('x', 7) }}", "x-007"),
    ("{{ '{} {n}'.format(1, n=2) }}", "1 2"), ("{{ [1, 2, 3]|batch(2)|map('length')|list }}", "[2, 1]"), ("{{ [1, 2, 3]|slice(2)|list }}", "[[1, 2], [3]]"),
    ("{{ 'a\nb'|indent(2) }}", "a\n  b"), ("{{ 'a b'|wordwrap(1) }}", "a\nb"), ("{{ {'a': 1}|tojson }}", '{"a": 1}'), ("{{ 1.5 }}", "1.5"),
    ("{{ lipsum(n=1, html=false)|length > 10 }}", "True"), ("{{ ','.join(['a', 'b']) }}", "a,b"), ("{{ 'ab'|join('-') }}", "a-b"),
)  # fmt: skip


def rendered(text: str) -> str:
    return template_of_text("trial", text, template_environment(None, {})).render({})


class OutputSizeTest(unittest.TestCase):
    def test_what_would_make_too_much_is_an_error_at_its_line(self) -> None:
        for text in BEYOND:
            with self.subTest(text=text), self.assertRaises(EstateError) as caught:
                rendered(f"one\n{text}")
            [problem] = caught.exception.problems()
            self.assertEqual(problem.place and problem.place.line, 2, text)
            self.assertNotIn("MemoryError", problem.message)

    def test_what_a_configuration_needs_is_made_as_ever(self) -> None:
        for text, wanted in ENOUGH:
            self.assertEqual(rendered(text), wanted, text)

    def test_a_value_has_a_size_and_one_that_is_too_large_is_told_early(self) -> None:
        self.assertLess(size_of(["a" * 10, {"b": 1}, None]), 100)
        shared: list[object] = ["a"]
        for _ in range(60):
            shared = [shared, shared]
        for value in (shared, "x" * (SIZE + 1), ["x" * 1000] * 20_000, list(range(600_000))):
            with self.assertRaises(LimitExceeded):
                size_of(value)
        with self.assertRaises(LimitExceeded):
            evaluated("1e308 * 10", {})


if __name__ == "__main__":
    unittest.main()
