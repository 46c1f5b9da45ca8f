"""Templates that try to leave their sandbox: Python's inside, files, other templates, and what belongs to the program."""

from __future__ import annotations

import os
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory

from oast.errors import EstateError
from oast.estate.expressions import template_environment
from oast.intent.templates import template_of_text

CANARY = "canary-of-the-build-machine"
# What stands for a way into an object; each is tried by every kind of access.
OBJECTS = (
    "''", "()", "[]", "{}", "1", "true", "none", "range", "dict", "lipsum", "cycler", "joiner", "namespace", "cycler('a')", "joiner(',')",
    "namespace(a=1)", "range(3)", "m", "self", "device", "missing|default(m)", "'x'.upper", "[].append", "{}.items", "loop_of",
)  # fmt: skip
INNER = (
    "__class__",
    "__init__",
    "__globals__",
    "__dict__",
    "__mro__",
    "__subclasses__",
    "__builtins__",
    "__code__",
    "gi_frame",
    "_Context__self",
)
ACCESS = (
    "{{{{ ({o}).{i} }}}}",
    "{{{{ ({o})['{i}'] }}}}",
    "{{{{ ({o})|attr('{i}') }}}}",
    "{{{{ [{o}]|map(attribute='{i}')|list }}}}",
)
OTHER = (
    # formatting reaches attributes by text
    "{{ '{0.__class__}'.format(1) }}", "{{ '{0.__class__.__mro__}'.format('') }}", "{{ '{x.__init__.__globals__}'.format(x=m) }}",
    "{{ '{0[__class__]}'.format({}) }}", "{{ '{a.__class__}'.format_map({'a': 1}) }}", "{{ ('{0.__cla' ~ 'ss__}').format(1) }}",
    "{{ '%s'|format(m.__globals__) }}", "{{ ['{0.__class__}']|map('format', 1)|list }}",
    # names put together at run time
    "{{ ''['__cla' ~ 'ss__'] }}", "{{ ''|attr('__cla' ~ 'ss__') }}", "{{ ''|attr(['__', 'class', '__']|join) }}", "{{ ''|attr('\\x5f\\x5fclass\\x5f\\x5f') }}",
    "{{ [['__class__']]|map('first')|map('string')|list and ''|attr('__class__') }}", "{% set a = '__class__' %}{{ ''[a] }}", "{{ [1]|sort(attribute='__class__') }}",
    "{{ [1]|groupby('__class__')|list }}", "{{ [1]|selectattr('__class__')|list }}", "{{ [1]|sum(attribute='__class__') }}",
    "{{ [1]|unique(attribute='__class__')|list }}", "{{ [1]|min(attribute='__class__') }}",
    # other templates and files
    "{% include '/etc/passwd' %}", "{% include '../../canary.txt' %}", "{% include 'canary.txt' %}", "{% include ['../../canary.txt'] %}",
    "{% import '../../canary.txt' as x %}", "{% from '../../canary.txt' import x %}", "{% extends '../../canary.txt' %}",
    "{% include 'link.j2' %}", "{% include 'bine/../../../canary.txt' %}", "{% include '..\\\\..\\\\canary.txt' %}", "{% include '//canary.txt' %}",
    "{% include '\\0' %}", "{% include 'file:///etc/passwd' %}", "{% include 'http://127.0.0.1/' %}",
    # what there is in no template
    "{{ open('/etc/passwd').read() }}", "{{ eval('1') }}", "{{ exec('1') }}", "{{ __import__('os') }}", "{{ os.environ }}", "{{ config }}", "{{ request }}",
    "{{ globals() }}", "{{ locals() }}", "{{ vars() }}", "{{ getattr('', '__class__') }}", "{{ environment }}", "{{ super() }}", "{{ caller() }}", "{{ debug() }}",
    "{% do [].append(1) %}", "{% debug %}", "{% autoescape true %}{{ m.__class__ }}{% endautoescape %}", "{{ _('x') }}", "{{ gettext('x') }}",
    # methods that change what others see
    "{{ [].append(1) }}", "{{ {}.update(a=1) }}", "{{ [1].pop() }}", "{{ {}.clear() }}", "{{ {}.setdefault('a', 1) }}", "{{ device.clear() }}",
    "{% set device.x = 1 %}", "{% set ns = namespace() %}{% set ns.__class__ = 1 %}", "{% for x in [1] %}{{ loop.__class__ }}{% endfor %}",
    "{% for x in [1] %}{{ loop._iterable }}{% endfor %}", "{% for x in [1] %}{{ loop.cycle.__self__ }}{% endfor %}",
    "{% macro k() %}{{ caller.__globals__ }}{% endmacro %}{% call k() %}{% endcall %}", "{% macro k() %}{{ varargs.__class__ }}{% endmacro %}{{ k() }}",
    "{{ self._TemplateReference__context }}", "{{ self.__init__.__globals__ }}", "{{ m._func }}", "{{ m._environment }}", "{{ m.name.__class__ }}",
    "{{ (1).__class__ }}", "{{ 1.0.__class__ }}", "{{ ''.__class__.__mro__[1].__subclasses__() }}", "{{ x.__class__ if x is defined else ''.__class__ }}",
)  # fmt: skip
# No attempt may show any of it.
SHOWN = (
    CANARY,
    "root:",
    "<class",
    "<function",
    "<built-in",
    "<slot",
    "<method",
    " object at 0x",
    "{'__",
    "mappingproxy",
    "wrapper",
    "module '",
)


def attempts() -> list[str]:
    """Every object with every inner name, each by one kind of access, in turn; and all others."""
    pairs = [(o, i) for o in OBJECTS for i in INNER]
    return [ACCESS[number % len(ACCESS)].format(o=o, i=i) for number, (o, i) in enumerate(pairs)] + list(
        OTHER
    )


class SandboxTest(unittest.TestCase):
    def setUp(self) -> None:
        super().setUp()
        self.folder = Path(self.enterContext(TemporaryDirectory(prefix="oast-test-")))
        templates = self.folder / "templates" / "bine"
        templates.mkdir(parents=True)
        for place in (self.folder, self.folder / "templates"):
            (place / "canary.txt").write_text(CANARY)
        (templates / "link.j2").symlink_to(self.folder / "canary.txt")
        self.templates = templates

    def rendered(self, text: str) -> str:
        environment = template_environment(self.templates, {})
        values = {"device": {"name": "gull-core-1"}, "loop_of": iter([1])}
        return template_of_text("trial", "{% macro m() %}x{% endmacro %}" + text, environment).render(values)

    def test_no_attempt_gets_out(self) -> None:
        tried = attempts()
        self.assertGreater(len(tried), 300)
        before = dict(os.environ)
        refused = 0
        for text in tried:
            with self.subTest(text=text):
                try:
                    found = self.rendered(text)
                except EstateError as error:
                    refused += 1
                    found = " ".join(
                        f"{problem.message} {problem.hint} {problem.excerpt}" for problem in error.problems()
                    )
                    self.assertIsNotNone(error.problems()[0].place)
                for part in SHOWN:
                    self.assertNotIn(part, found.replace(text, ""))
        # What is not refused gives nothing, such as an attribute that there is not and a default.
        self.assertGreater(refused, len(tried) * 0.75)
        self.assertEqual(dict(os.environ), before)


if __name__ == "__main__":
    unittest.main()
