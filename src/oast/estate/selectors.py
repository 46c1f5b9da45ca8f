"""Selectors: expressions that pick devices, such as `role=core and site in (gull, tern) and not tag=frozen`.

    selector   = term { "or" term }
    term       = factor { "and" factor }
    factor     = "not" factor | "(" selector ")" | test
    test       = attribute "=" value | attribute "!=" value | attribute "in" "(" value { "," value } ")"

A value may hold the globs * ? []; quotes keep it as it is. `name` is the device's own name; `tag` looks in
the list `tags`.
"""

from __future__ import annotations

import fnmatch
import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Generic, TypeVar

from oast.errors import EstateError
from oast.records import OF_DEVICES, Place, Problem
from oast.spelling import closest_match, spelling_hint

Attributes = Mapping[str, frozenset[str]]
"""What a device is known by: attribute to all its values as text."""

T = TypeVar("T")
_TOKEN = re.compile(r"""\s*(?:(?P<sign>!=|=|\(|\)|,)|"(?P<quoted>[^"]*)"|(?P<word>[^\s=!(),"]+))""")
_WORDS = ("and", "or", "not", "in")


@dataclass(frozen=True, slots=True)
class AttributeTest:
    """One comparison: the attribute has at least one of `values`. The columns (from 0) are for errors."""

    attribute: str
    values: tuple[str, ...]
    column: int
    value_columns: tuple[int, ...]


@dataclass(frozen=True)
class Selector:
    """A parsed selector: `text` as written, `matches` decides for one device, `tests` are all comparisons in
    it."""

    text: str
    matches: Callable[[Attributes], bool]
    tests: tuple[AttributeTest, ...]
    place: Place | None = None

    def pick(self, devices: Mapping[str, Attributes]) -> list[str]:
        """The names of the devices it picks, in their order. Raises EstateError for unknown attributes or
        values, and for none."""
        self.check(devices.values())
        picked = [name for name, attributes in devices.items() if self.matches(attributes)]
        if not picked:
            raise error_at(
                self.text,
                0,
                "the selector matches no device",
                "list the devices with: oast devices",
                self.place,
                OF_DEVICES,
            )
        return picked

    def check(self, devices: Iterable[Attributes]) -> None:
        """Whether every attribute and value named is known to at least one of `devices`. Raises
        EstateError."""
        known: dict[str, set[str]] = {}
        for attributes in devices:
            for attribute, values in attributes.items():
                known.setdefault(attribute, set()).update(values)
        for test in self.tests:
            if test.attribute not in known:
                hint = spelling_hint(test.attribute, known)
                message = f"no device has the attribute '{test.attribute}'"
                raise error_at(self.text, test.column, message, hint, self.place, OF_DEVICES)
            for value, column in zip(test.values, test.value_columns, strict=True):
                if not any(_fits(value, v) for v in known[test.attribute]):
                    raise error_at(
                        self.text,
                        column,
                        f"no device has {test.attribute}={value}",
                        _hint(value, known[test.attribute]),
                        self.place,
                        OF_DEVICES,
                    )


def _hint(value: str, known: Iterable[str]) -> str:
    other_case = [v for v in sorted(known) if _fits(value.lower(), v.lower())]
    if other_case and not any(v.lower() == value.lower() for v in known):
        return f"the case differs: write '{other_case[0]}'"
    return spelling_hint(value, known)


def parse_selector(text: str, place: Place | None = None) -> Selector:
    """Parse `text`, which stands at `place` when it comes from a file. Raises EstateError that points at the
    character."""
    return _Selecting(text, place).selector()


def _fits(pattern: str, value: str) -> bool:
    return pattern == value or fnmatch.fnmatchcase(value, pattern)


def error_at(
    text: str, column: int, message: str, hint: str | None, place: Place | None, subject: str = ""
) -> EstateError:
    """What is wrong at the character `column` (from 0) of an expression."""
    excerpt = f"{text}\n{' ' * column}^"
    return EstateError.of([Problem(message, place, hint, excerpt=excerpt, subject=subject)])


DEEPEST = 50
LONGEST = 20_000


class SelectorParser(ABC, Generic[T]):
    """Recursive descent over the tokens (kind, text, column) of an expression about things of one kind; what
    a `test` is says the subclass."""

    what = "selector"
    example = "write for example role=core, or name=*"
    token = _TOKEN

    def __init__(self, text: str, place: Place | None) -> None:
        self.text = text
        self._place = place
        self._depth = 0
        if len(text) > LONGEST:
            raise error_at(
                text[:60] + "...",
                60,
                f"the {self.what} is longer than {LONGEST} characters",
                "use a tag instead",
                place,
            )
        self._tokens = list(self._split())
        self._next = 0

    def _split(self) -> Iterable[tuple[str, str, int]]:
        position = 0
        while self.text[position:].strip():
            match = self.token.match(self.text, position)
            if match is None:
                column = position + len(self.text[position:]) - len(self.text[position:].lstrip())
                hint = "close the quote" if self.text[column] == '"' else None
                raise error_at(self.text, column, f"unexpected '{self.text[column]}'", hint, self._place)
            kind = match.lastgroup or "word"
            start = match.start(kind)
            yield kind, match[kind], start
            position = match.end()

    def whole(self) -> Callable[[T], bool]:
        """The expression, which is all of the text."""
        if not self._tokens:
            raise error_at(self.text, 0, f"the {self.what} is empty", self.example, self._place)
        matches = self._either()
        if self._next < len(self._tokens):
            raise self._unexpected("'and' or 'or'")
        return matches

    @abstractmethod
    def test(self) -> Callable[[T], bool]:
        """One comparison, which begins at the next token."""

    def _either(self) -> Callable[[T], bool]:
        parts = [self._both()]
        while self.accept("or"):
            parts.append(self._both())
        return parts[0] if len(parts) == 1 else lambda a: any(part(a) for part in parts)

    def _both(self) -> Callable[[T], bool]:
        parts = [self._factor()]
        while self.accept("and"):
            parts.append(self._factor())
        return parts[0] if len(parts) == 1 else lambda a: all(part(a) for part in parts)

    def _factor(self) -> Callable[[T], bool]:
        self._depth += 1
        if self._depth > DEEPEST:
            message = f"the {self.what} nests more than {DEEPEST} brackets or 'not'"
            column = self._tokens[min(self._next, len(self._tokens) - 1)][2]
            raise error_at(
                self.text[: column + 20],
                column,
                message,
                "simplify it",
                self._place,
            )
        try:
            return self._factor_within()
        finally:
            self._depth -= 1

    def _factor_within(self) -> Callable[[T], bool]:
        if self.accept("not"):
            inner = self._factor()
            return lambda a: not inner(a)
        if self.accept("("):
            inside = self._either()
            self.expect(")")
            return inside
        return self.test()

    def name(self, needed: str) -> tuple[str, int]:
        """The next word, and where it stands. Raises EstateError that says what is `needed`."""
        if self._next >= len(self._tokens) or self._tokens[self._next][0] == "sign":
            raise self._unexpected(needed)
        kind, text, column = self._tokens[self._next]
        if kind == "word" and text in _WORDS:
            raise self._unexpected(needed)
        self._next += 1
        return text, column

    def accept(self, text: str) -> bool:
        """Whether this is the next token, which is taken then."""
        if (
            self._next < len(self._tokens)
            and self._tokens[self._next][0] != "quoted"
            and self._tokens[self._next][1] == text
        ):
            self._next += 1
            return True
        return False

    def expect(self, text: str, needed: str | None = None) -> None:
        """Take this token. Raises EstateError when it is another."""
        if not self.accept(text):
            raise self._unexpected(needed or f"'{text}'")

    def _unexpected(self, needed: str) -> EstateError:
        if self._next >= len(self._tokens):
            return error_at(
                self.text,
                len(self.text),
                f"the {self.what} is incomplete: {needed} is missing at its end",
                None,
                self._place,
            )
        _, text, column = self._tokens[self._next]
        near = closest_match(text, _WORDS)
        hint = f"did you mean '{near}'?" if near and near != text else None
        return error_at(self.text, column, f"expected {needed} but found '{text}'", hint, self._place)


class _Selecting(SelectorParser[Attributes]):
    """An expression about devices."""

    def __init__(self, text: str, place: Place | None) -> None:
        self._tests: list[AttributeTest] = []
        super().__init__(text, place)

    def selector(self) -> Selector:
        matches = self.whole()
        return Selector(self.text, matches, tuple(self._tests), self._place)

    def test(self) -> Callable[[Attributes], bool]:
        attribute, column = self.name("an attribute such as role")
        if self.accept("in"):
            self.expect("(")
            values = [self.name("a value")]
            while self.accept(","):
                values.append(self.name("a value"))
            self.expect(")")
            negative = False
        else:
            negative = self.accept("!=")
            if not negative:
                self.expect("=", "'=', '!=' or 'in'")
            values = [self.name("a value")]
        expected = tuple(value for value, _ in values)
        self._tests.append(AttributeTest(attribute, expected, column, tuple(c for _, c in values)))
        nothing: frozenset[str] = frozenset()
        if negative:
            return lambda a: not any(_fits(w, v) for v in a.get(attribute, nothing) for w in expected)
        return lambda a: any(_fits(w, v) for v in a.get(attribute, nothing) for w in expected)
