"""Selectors: expressions that pick devices, such as `role=core and site in (gull, tern) and not tag=frozen`.

    selector   = term { "or" term }
    term       = factor { "and" factor }
    factor     = "not" factor | "(" selector ")" | test
    test       = attribute "=" value | attribute "!=" value | attribute "in" "(" value { "," value } ")"

A value may hold the globs * ? []; quotes keep it as it is. `name` is the device's own name; `tag` looks in the list `tags`.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

from oast.errors import EstateError
from oast.nearest import nearest, suggestion
from oast.records import Place, Problem

Attributes = Mapping[str, frozenset[str]]
"""What a device is known by: attribute to all its values as text."""

_TOKEN = re.compile(r"""\s*(?:(?P<sign>!=|=|\(|\)|,)|"(?P<quoted>[^"]*)"|(?P<word>[^\s=!(),"]+))""")
_WORDS = ("and", "or", "not", "in")


@dataclass(frozen=True, slots=True)
class Test:
    """One comparison: the attribute has at least one of `values`. The columns (from 0) are for errors."""

    attribute: str
    values: tuple[str, ...]
    column: int
    value_columns: tuple[int, ...]


@dataclass(frozen=True)
class Selector:
    """A parsed selector: `text` as written, `matches` decides for one device, `tests` are all comparisons in it."""

    text: str
    matches: Callable[[Attributes], bool]
    tests: tuple[Test, ...]
    place: Place | None = None

    def pick(self, devices: Mapping[str, Attributes]) -> list[str]:
        """The names of the devices it picks, in their order. Raises EstateError for unknown attributes or values, and for none."""
        self.check(devices.values())
        picked = [name for name, attributes in devices.items() if self.matches(attributes)]
        if not picked:
            raise _error(self.text, 0, "the selector picks no device", "look at what 'oast devices' lists", self.place)
        return picked

    def check(self, devices: Iterable[Attributes]) -> None:
        """Whether every attribute and value named is known to at least one of `devices`. Raises EstateError."""
        known: dict[str, set[str]] = {}
        for attributes in devices:
            for attribute, values in attributes.items():
                known.setdefault(attribute, set()).update(values)
        for test in self.tests:
            if test.attribute not in known:
                hint = suggestion(test.attribute, known)
                raise _error(self.text, test.column, f"no device has an attribute '{test.attribute}'", hint, self.place)
            for value, column in zip(test.values, test.value_columns, strict=True):
                if not any(_fits(value, v) for v in known[test.attribute]):
                    raise _error(
                        self.text,
                        column,
                        f"no device has {test.attribute}={value}",
                        _hint(value, known[test.attribute]),
                        self.place,
                    )


def _hint(value: str, known: Iterable[str]) -> str:
    other_case = [v for v in sorted(known) if _fits(value.lower(), v.lower())]
    if other_case and not any(v.lower() == value.lower() for v in known):
        return f"the case differs: there is '{other_case[0]}'"
    return suggestion(value, known)


def parse(text: str, place: Place | None = None) -> Selector:
    """Parse `text`, which stands at `place` when it comes from a file. Raises EstateError that points at the character."""
    return _Parser(text, place).selector()


def _fits(pattern: str, value: str) -> bool:
    return pattern == value or fnmatch.fnmatchcase(value, pattern)


def _error(text: str, column: int, message: str, hint: str | None, place: Place | None) -> EstateError:
    excerpt = f"{text}\n{' ' * column}^"
    return EstateError.of([Problem(message, place, hint, excerpt=excerpt)])


DEEPEST = 50
LONGEST = 20_000


class _Parser:
    """Recursive descent over the tokens (kind, text, column)."""

    def __init__(self, text: str, place: Place | None) -> None:
        self._text = text
        self._place = place
        self._tests: list[Test] = []
        self._depth = 0
        if len(text) > LONGEST:
            raise _error(text[:60] + "...", 60, f"the selector is longer than {LONGEST} characters", "use a tag", place)
        self._tokens = list(self._split())
        self._next = 0

    def _split(self) -> Iterable[tuple[str, str, int]]:
        position = 0
        while self._text[position:].strip():
            match = _TOKEN.match(self._text, position)
            if match is None:
                column = position + len(self._text[position:]) - len(self._text[position:].lstrip())
                hint = "close the quote" if self._text[column] == '"' else None
                raise _error(self._text, column, f"'{self._text[column]}' does not belong here", hint, self._place)
            kind = match.lastgroup or "word"
            start = match.start(kind)
            yield kind, match[kind], start
            position = match.end()

    def selector(self) -> Selector:
        if not self._tokens:
            raise _error(self._text, 0, "the selector is empty", "write for example role=core, or name=*", self._place)
        matches = self._either()
        if self._next < len(self._tokens):
            raise self._unexpected("'and' or 'or'")
        return Selector(self._text, matches, tuple(self._tests), self._place)

    def _either(self) -> Callable[[Attributes], bool]:
        parts = [self._both()]
        while self._accept("or"):
            parts.append(self._both())
        return parts[0] if len(parts) == 1 else lambda a: any(part(a) for part in parts)

    def _both(self) -> Callable[[Attributes], bool]:
        parts = [self._factor()]
        while self._accept("and"):
            parts.append(self._factor())
        return parts[0] if len(parts) == 1 else lambda a: all(part(a) for part in parts)

    def _factor(self) -> Callable[[Attributes], bool]:
        self._depth += 1
        if self._depth > DEEPEST:
            message = f"the selector is more than {DEEPEST} brackets or 'not' deep"
            column = self._tokens[min(self._next, len(self._tokens) - 1)][2]
            raise _error(self._text[: column + 20], column, message, "write it without brackets in brackets", self._place)
        try:
            return self._factor_within()
        finally:
            self._depth -= 1

    def _factor_within(self) -> Callable[[Attributes], bool]:
        if self._accept("not"):
            inner = self._factor()
            return lambda a: not inner(a)
        if self._accept("("):
            inside = self._either()
            self._expect(")")
            return inside
        return self._test()

    def _test(self) -> Callable[[Attributes], bool]:
        attribute, column = self._name("an attribute such as role")
        if self._accept("in"):
            self._expect("(")
            values = [self._name("a value")]
            while self._accept(","):
                values.append(self._name("a value"))
            self._expect(")")
            negative = False
        else:
            negative = self._accept("!=")
            if not negative:
                self._expect("=", "'=', '!=' or 'in'")
            values = [self._name("a value")]
        wanted = tuple(value for value, _ in values)
        self._tests.append(Test(attribute, wanted, column, tuple(c for _, c in values)))
        nothing: frozenset[str] = frozenset()
        if negative:
            return lambda a: not any(_fits(w, v) for v in a.get(attribute, nothing) for w in wanted)
        return lambda a: any(_fits(w, v) for v in a.get(attribute, nothing) for w in wanted)

    def _name(self, needed: str) -> tuple[str, int]:
        if self._next >= len(self._tokens) or self._tokens[self._next][0] == "sign":
            raise self._unexpected(needed)
        kind, text, column = self._tokens[self._next]
        if kind == "word" and text in _WORDS:
            raise self._unexpected(needed)
        self._next += 1
        return text, column

    def _accept(self, text: str) -> bool:
        if self._next < len(self._tokens) and self._tokens[self._next][0] != "quoted" and self._tokens[self._next][1] == text:
            self._next += 1
            return True
        return False

    def _expect(self, text: str, needed: str | None = None) -> None:
        if not self._accept(text):
            raise self._unexpected(needed or f"'{text}'")

    def _unexpected(self, needed: str) -> EstateError:
        if self._next >= len(self._tokens):
            return _error(self._text, len(self._text), f"the selector ends where {needed} is needed", None, self._place)
        _, text, column = self._tokens[self._next]
        near = nearest(text, _WORDS)
        hint = f"did you mean '{near}'?" if near and near != text else None
        return _error(self._text, column, f"'{text}' stands where {needed} is needed", hint, self._place)
