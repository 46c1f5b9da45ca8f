"""Messages for mistakes in Jinja2, in templates and in values: what is wrong, on which line, and the likely
fix."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import Any

import jinja2
from jinja2 import nodes
from jinja2.exceptions import SecurityError
from jinja2.utils import missing

from oast.records import SecretAsText
from oast.spelling import spelling_hint

JinjaErrorText = tuple[int | None, str, str | None]
"""The line (from 1), what is wrong, and the likely fix."""


class EmptyValueError(Exception):
    """A value that is empty (null) was to be printed."""

    def __str__(self) -> str:
        return "the value is empty"


class MissingError(jinja2.UndefinedError):
    """Something that is not defined was used: `name`, or `name` (or number) in `holder`."""

    def __init__(self, holder: Any, name: Any, message: str | None = None) -> None:
        super().__init__(message)
        self.holder = None if holder is missing else holder
        self.name = name

    def told(self, path: str | None, known: Iterable[str]) -> tuple[str, str | None]:
        """What is not defined and the likely fix; `path` is how the expression spells it, `known` the names
        there are."""
        if self.name is None:
            return str(self), None
        if self.holder is None:
            return f"'{self.name}' is not defined", spelling_hint(str(self.name), known)
        outer, _, _ = (path or "").rpartition("." if isinstance(self.name, str) else "[")
        within = f"'{outer}'" if outer else "the value in this expression"
        if isinstance(self.holder, Sequence) and not isinstance(self.holder, str):
            items = f"{len(self.holder)} item" + ("" if len(self.holder) == 1 else "s")
            return f"{within} has {items}; [{self.name}] is out of range", "count from [0]"
        message = (
            f"'{path}' is not defined"
            if path
            else (f"'{self.name}' is not defined in the value in this expression")
        )
        if isinstance(self.holder, Mapping):
            return message, spelling_hint(str(self.name), map(str, self.holder))
        return message, f"{within} is {kind_of(self.holder)} and has no attributes"


class Missing(jinja2.StrictUndefined):
    """What is not defined: any use of it raises MissingError, which knows where it was looked for."""

    __slots__ = ()

    def __init__(
        self, hint: str | None = None, obj: Any = missing, name: Any = None, exc: Any = jinja2.UndefinedError
    ) -> None:
        raised: Any = partial(MissingError, obj, name) if exc is jinja2.UndefinedError else exc
        super().__init__(hint, obj, name, raised)


_KINDS = {
    **dict.fromkeys(("str", "Markup"), "text"),
    **dict.fromkeys(("list", "tuple", "YamlList", "_LazyList", "generator"), "a list"),
    **dict.fromkeys(("dict", "YamlMap", "_LazyMap", "mappingproxy"), "a mapping"),
    **dict.fromkeys(("int", "float"), "a number"),
    **dict.fromkeys(("function", "method", "builtin_function_or_method"), "a function"),
    "bool": "true or false",
    "NoneType": "nothing",
    "Secret": "a secret",
    "DeviceView": "a device",
    "Network": "the network",
}


def kind_of(value: Any) -> str:
    """Describe a value for a message."""
    return _kind(type(value).__name__)


def _kind(type_name: str) -> str:
    return _KINDS.get(type_name.rpartition(".")[2], type_name)


def missing_path(tree: nodes.Template, line: int | None, name: Any) -> str | None:
    """How the template spells what ends in `name` on `line`, such as `link.address`; None when that is not
    clear."""
    found = set()
    ends: list[nodes.Getattr | nodes.Getitem] = [*tree.find_all(nodes.Getattr), *tree.find_all(nodes.Getitem)]
    for node in ends:
        last = node.attr if isinstance(node, nodes.Getattr) else getattr(node.arg, "value", None)
        if last == name and (line is None or node.lineno == line):
            found.add(spelling_of(node))
    return found.pop() if len(found) == 1 else None


def spelling_of(node: nodes.Node) -> str | None:
    """How a name or a part of one is written, such as `link.address`; None for any other expression."""
    if isinstance(node, nodes.Name):
        return node.name
    if not isinstance(node, (nodes.Getattr, nodes.Getitem)):
        return None
    outer = spelling_of(node.node)
    if outer is None:
        return None
    if isinstance(node, nodes.Getattr):
        return f"{outer}.{node.attr}"
    inner = getattr(node.arg, "value", None)
    return (
        f"{outer}.{inner}" if isinstance(inner, str) else f"{outer}[{inner}]" if inner is not None else None
    )


# --- while rendering
# ----------------------------------------------------------------------------------------------------

_NUMBERS = "turn text into a number with '| int', or join texts with '~'"
_RAISED: Sequence[tuple[str, str, str | None]] = (
    (
        r"'([\w.]+)' object is not iterable",
        "cannot loop over {0}",
        "use a list",
    ),
    (r"'([\w.]+)' object is not callable", "cannot call {0}", "remove the '()' after it"),
    (r"can only concatenate (str) \(not \"([\w.]+)\"\) to str", "cannot add {0} and {1}", _NUMBERS),
    (
        r"unsupported operand type\(s\) for [^:]+: '([\w.]+)' and '([\w.]+)'",
        "cannot calculate with {0} and {1}",
        _NUMBERS,
    ),
    (
        r"'.+' not supported between instances of '([\w.]+)' and '([\w.]+)'",
        "cannot compare {0} and {1}",
        _NUMBERS,
    ),
    (r"type ([\w.]+) doesn't define .*", "the filter does not accept {0}", "check the value that it gets"),
    (r"object of type '([\w.]+)' has no len\(\)", "{0} has no length", "check the value"),
)


def describe_jinja_error(error: Exception) -> tuple[str, str | None]:
    """What an expression raised, without the words of the machinery below it; and the likely fix."""
    text = str(error)
    if isinstance(error, jinja2.TemplateNotFound):
        if type(error) is not jinja2.TemplateNotFound:
            return str(error.message), "included templates must be in the templates folder"
        return (
            f"cannot find the included template '{error.name}'",
            "included templates must be in the templates folder",
        )
    if isinstance(error, (RecursionError, SyntaxError)):
        return "too many nested includes or macro calls", "simplify the templates"
    if isinstance(error, SecretAsText):
        return text, "print it alone (text{{ secret }}text), or join it with +, which gives a secret"
    if isinstance(error, SecurityError):
        return f"templates run in a sandbox: {text.rstrip('.')}", None
    for pattern, message, hint in _RAISED if isinstance(error, TypeError) else ():
        match = re.search(pattern, text)
        if match:
            return message.format(*map(_kind, match.groups())), hint
    return text or type(error).__name__, None


# --- before rendering
# ---------------------------------------------------------------------------------------------------

_CLOSES = {"{{": "}}", "{%": "%}", "{#": "#}"}
_BLOCKS = ("for", "if", "macro", "call", "filter", "with", "autoescape", "block")
_TAGS = (*_BLOCKS, "else", "elif", "set", "include", "import", "from", "raw", "extends")
_SPELT_ELSEWHERE = {
    "elseif": "elif",
    "elsif": "elif",
    "foreach": "for",
    "end": "endfor or endif",
    "unless": "if not",
}


def unknown_words(
    tree: nodes.Template, filters: Iterable[str], tests: Iterable[str]
) -> JinjaErrorText | None:
    """A filter or a test that does not exist."""
    for kind, what, known in ((nodes.Filter, "filter", set(filters)), (nodes.Test, "test", set(tests))):
        for node in tree.find_all(kind):
            if node.name not in known:
                return node.lineno, f"unknown {what} '{node.name}'", spelling_hint(node.name, known)
    return None


def syntax(error: jinja2.TemplateSyntaxError, source: str, env: jinja2.Environment) -> JinjaErrorText:
    """Describe an invalid template. A missing closing tag is reported where the tag opens, not where the
    parser gave up."""
    message = (error.message or "").rstrip(".")
    tag = re.search(r"unknown tag '((?!end\w)\w+)'", message)
    told = _delimiter(source) or (None if tag else _block(source, env))
    if told is not None:
        return told
    if tag:
        fix = _SPELT_ELSEWHERE.get(tag[1])
        return (
            error.lineno,
            f"unknown tag '{{% {tag[1]} %}}'",
            f"write '{fix}'" if fix else spelling_hint(tag[1], _TAGS),
        )
    named = re.search(r"No (filter|test) named '(\w+)'", message)
    if named:
        known: Iterable[str] = env.filters if named[1] == "filter" else env.tests
        return error.lineno, f"unknown {named[1]} '{named[2]}'", spelling_hint(named[2], known)
    got = re.search(r"expected token '.*', got '(.*)'", message)
    if got and got[1] == "=":
        return error.lineno, "'=' is an assignment, not a comparison", "write '=='"
    if got:
        hint = "join texts with '~', write a filter after '|', or add a missing quote"
        return error.lineno, f"unexpected '{got[1]}'", hint
    if "unexpected char" in message:
        return (
            error.lineno,
            "a quote is not closed, or a character is not allowed here",
            "add the closing quote",
        )
    return error.lineno, message or "the template has an error", None


# What Python and Jinja2 raise for a template that is beyond what they can compile.
BEYOND = (RecursionError, SyntaxError, MemoryError, ValueError)
DEEPEST = 20
_STEP = re.compile(r"\{%-?\s*(?P<tag>\w+)|(?P<open>[(\[{])|(?P<close>[)\]}])|(?P<number>[0-9]{4000,})")
_WITH_END = frozenset(("for", "if", "macro", "call", "filter", "block", "with", "raw", "autoescape"))


def beyond(source: str) -> JinjaErrorText:
    """A template that cannot be compiled: where it is too deep, or a number too long."""
    depth = brackets = 0
    for match in _STEP.finditer(source):
        line = source.count("\n", 0, match.start()) + 1
        if match["number"]:
            return line, f"a number of {len(match['number'])} digits", "use a smaller number"
        tag = match["tag"] or ""
        depth += (tag in _WITH_END) - tag.startswith("end")
        brackets = brackets + bool(match["open"]) - bool(match["close"])
        if depth > DEEPEST or brackets > DEEPEST:
            return (
                line,
                f"more than {DEEPEST} levels of nesting",
                "move a part to another template and include it",
            )
    longest = max(source.split("\n"), key=len)
    return (
        source.split("\n").index(longest) + 1,
        "this is nested too deeply, or too long",
        "split it with {% set %}",
    )


def _delimiter(source: str) -> JinjaErrorText | None:
    opened: tuple[str, int, int] | None = None
    for match in re.finditer(r"\{\{|\{%|\{#|\}\}|%\}|#\}", source):
        mark = match[0]
        if opened is None:
            if mark in _CLOSES:
                opened = mark, source.count("\n", 0, match.start()) + 1, match.end()
        elif mark == _CLOSES[opened[0]]:
            opened = None
        elif mark in _CLOSES and opened[0] != "{#":
            break
    if opened is None:
        return None
    mark, line, end = opened
    rest = source[end:].partition("\n")[0]
    if mark == "{{" and "}" in rest:
        return line, "'{{' is closed by only one '}'", "write '}}'"
    return line, f"'{mark}' is not closed", f"add '{_CLOSES[mark]}'"


def _tags(source: str, env: jinja2.Environment) -> Iterator[tuple[int, str, bool]]:
    """Each tag with its line, and whether it sets a value in one line (`{% set a = 1 %}`)."""
    words: list[str] = []
    line = 0
    for number, kind, text in env.lexer.tokeniter(source, None):
        if kind == "block_begin":
            words, line = [], number
        elif kind == "block_end" and words:
            yield line, words[0], "=" in words
        elif kind in ("name", "operator"):
            words.append(text)


def _block(source: str, env: jinja2.Environment) -> JinjaErrorText | None:
    opened: list[tuple[str, int]] = []
    try:
        for line, tag, sets in _tags(source, env):
            if tag in _BLOCKS or (tag == "set" and not sets):
                opened.append((tag, line))
            elif tag.startswith("end") and tag[3:] in (*_BLOCKS, "set"):
                if not opened:
                    return (
                        line,
                        f"'{{% {tag} %}}' has no opening tag",
                        "remove it, or add the opening tag",
                    )
                last, begun = opened.pop()
                if last != tag[3:]:
                    message = f"'{{% {last} %}}' is not closed before '{{% {tag} %}}' in line {line}"
                    return begun, message, f"add '{{% end{last} %}}'"
    except jinja2.TemplateSyntaxError:
        return None
    if not opened:
        return None
    last, begun = opened[-1]
    return begun, f"'{{% {last} %}}' is not closed", f"add '{{% end{last} %}}'"
