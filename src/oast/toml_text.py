"""TOML in which every key knows its line, and tables that tell what is wrong in them: all at once, each at
its place."""

from __future__ import annotations

import math
import re
import string
import tomllib
import warnings
from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from oast.errors import ErrorCollector, EstateError
from oast.records import Place
from oast.spelling import spelling_hint
from oast.text_file import read_text_file

_HEADING = re.compile(r"\s*(?P<array>\[)?\[\s*(?P<name>[^\[\]]+?)\s*\](?(array)\])\s*(?:#.*)?$")
_KEY = re.compile(r"""\s*(?P<key>"(?:[^"\\]|\\.)*"|'[^']*'|[A-Za-z0-9_-]+)\s*=""")


class TomlFile:
    """A TOML file, called `file` in errors; what is wrong goes to `mistakes`. Raises EstateError when it is
    no TOML."""

    def __init__(self, path: Path, file: str, mistakes: ErrorCollector) -> None:
        self.file = file
        self.mistakes = mistakes
        try:
            text = read_text_file(path, file)
            self._data: dict[str, Any] = tomllib.loads(text)
        except (tomllib.TOMLDecodeError, OSError, RecursionError, ValueError) as error:
            line = re.search(r"line ([0-9]+)", str(error))
            reason = (
                error.strerror if isinstance(error, OSError) else str(error) or ("it is nested too deeply")
            )
            place = Place(file, int(line[1]) if line else None)
            raise EstateError(f"the file is not valid TOML: {reason}", place=place) from None
        self._lines = dict(_lines(text))
        self._read: set[str] = set()

    def place(self, *path: str) -> Place:
        """The line of the key at `path`, or of the innermost above it that has one."""
        for length in range(len(path), 0, -1):
            line = self._lines.get(path[:length])
            if line is not None:
                return Place(self.file, line)
        return Place(self.file, 1)

    def wrong(self, message: str, place: Place, hint: str | None = None) -> None:
        """Note a mistake."""
        with self.mistakes.collected():
            raise EstateError(message, place=place, hint=hint)

    def value(self, key: str) -> Any:
        """A value outside all tables."""
        self._read.add(key)
        return self._data.get(key)

    def table(self, name: str) -> Table | None:
        """Return the table `name`; None when it is missing."""
        self._read.add(name)
        data = self._data.get(name)
        if data is not None and not isinstance(data, dict):
            self.wrong(f"'{name}' must be a table: [{name}]", self.place(name))
            return None
        return None if data is None else Table(self, (name,), data)

    def array(self, name: str) -> Iterator[Table]:
        """Tables in a row, each below a heading [[NAME]] of its own."""
        self._read.add(name)
        written = self._data.get(name)
        for number, data in enumerate(written if isinstance(written, list) else ()):
            if isinstance(data, dict):
                yield Table(self, (name, str(number)), data)
        if written is not None and (
            not isinstance(written, list) or not all(isinstance(one, dict) for one in written)
        ):
            self.wrong(f"'{name}' must be an array of tables: [[{name}]]", self.place(name))

    def finish(self, where: str) -> None:
        """Everything in the file has to have been asked for; `where` is what the file is."""
        for key in self._data:
            if key not in self._read:
                self.wrong(f"unknown key '{key}' {where}", self.place(key), spelling_hint(key, self._read))


class Table:
    """One table. Every getter notes what is wrong and then gives what lets the reading go on."""

    def __init__(
        self, file: TomlFile, path: tuple[str, ...], data: Mapping[str, Any], *, missing: bool = False
    ) -> None:
        """A table that is `missing` was reported already, so nothing is reported of its contents."""
        self.file = file
        self._missing = missing
        self.path = path
        self.data = data
        self._read: set[str] = set()

    @property
    def name(self) -> str:
        """As its heading has it; of tables in a row, without the number."""
        return ".".join(part for part in self.path if not part.isdecimal())

    def place(self, key: str | None = None) -> Place:
        return self.file.place(*self.path, *(() if key is None else (key,)))

    def wrong(self, key: str | None, message: str, hint: str | None = None) -> None:
        if not self._missing:
            self.file.wrong(message, self.place(key), hint)

    def _get(self, key: str, kind: type | tuple[type, ...], needed: str) -> Any:
        self._read.add(key)
        value = self.data.get(key)
        if value is None:
            return None
        if not isinstance(value, kind) or (isinstance(value, bool) and kind is not bool):
            self.wrong(key, f"'{key}' must be {needed}")
            return None
        return value

    def has(self, key: str) -> bool:
        self._read.add(key)
        return key in self.data

    def text(self, key: str) -> str | None:
        """A text, not empty."""
        value: str | None = self._get(key, str, "text in quotes")
        if value == "":
            self.wrong(key, f"'{key}' is empty", "give a value, or remove the line")
            return None
        return value

    def needed(self, key: str) -> str:
        """Return a text that is required; "" when it is missing."""
        value = self.text(key)
        if value is None and key not in self.data:
            self.wrong(None, f"'{key}' is missing in [{self.name}]")
        return value or ""

    def texts(self, key: str) -> tuple[str, ...]:
        """One text or a list of them."""
        value = self._get(key, (str, list), "text, or a list of texts")
        found = [value] if isinstance(value, str) else list(value or ())
        if not all(isinstance(text, str) for text in found):
            self.wrong(key, f"'{key}' must be text, or a list of texts")
            return ()
        return tuple(found)

    def flag(self, key: str, default: bool = False) -> bool:
        value: bool | None = self._get(key, bool, "true or false")
        return default if value is None else value

    def number(self, key: str, default: int, low: int, high: int) -> int:
        value: int | None = self._get(key, int, "a whole number")
        if value is not None and not low <= value <= high:
            self.wrong(key, f"'{key}' must be from {low} to {high}")
            return default
        return default if value is None else value

    def positive(self, key: str, default: float) -> float:
        """A number above 0."""
        value: float | None = self._get(key, (int, float), "a number above 0")
        if value is not None and not 0 < value < math.inf:
            self.wrong(key, f"'{key}' must be a number above 0")
            value = None
        return float(default if value is None else value)

    def count(self, key: str, default: float) -> float:
        """A whole number, 0 or more."""
        value: int | None = self._get(key, int, "a whole number, 0 or more")
        if value is not None and value < 0:
            self.wrong(key, f"'{key}' must be a whole number, 0 or more")
            value = None
        return float(default if value is None else value)

    def fraction(self, key: str, default: float) -> float:
        """A number from 0 to 1."""
        value: float | None = self._get(key, (int, float), "a number from 0 to 1")
        if value is not None and not 0 <= value <= 1:
            self.wrong(key, f"'{key}' must be a number from 0 to 1", "0.5 means half")
            value = None
        return float(default if value is None else value)

    def choice(self, key: str, choices: Collection[str], default: str | None = None) -> str:
        """Return one of `choices`; without a `default` it is required."""
        value = self.text(key) if default is not None else self.needed(key)
        if value and value not in choices:
            self.wrong(key, f"unknown value '{value}' of '{key}'", spelling_hint(value, choices))
            value = None
        return value or default or next(iter(choices))

    def pattern(self, key: str) -> str | None:
        """A regular expression."""
        value = self.text(key)
        return value if value is None or self.compiles(key, value) else None

    def compiles(self, key: str, pattern: str) -> bool:
        """Whether `pattern` is a regular expression; notes it when it is not."""
        try:
            with warnings.catch_warnings():
                # What a later Python may read otherwise is nothing to rely on.
                warnings.simplefilter("error")
                re.compile(pattern)
        except (re.error, OverflowError, RecursionError, Warning) as wrong:
            self.wrong(key, f"'{pattern}' is not a regular expression: {wrong}")
            return False
        return True

    def template(self, key: str, fields: Iterable[str], *, required: Iterable[str] = ()) -> str | None:
        """A text with {…} for its parts, of which only `fields` are known, and `required` have to
        be there."""
        value = self.text(key)
        if value is None or not self.fits(key, value, fields):
            return None
        for name in required:
            if f"{{{name}}}" not in value:
                self.wrong(key, f"'{key}' must contain {{{name}}}")
        return value

    def fits(self, key: str, template: str, fields: Iterable[str]) -> bool:
        """Whether all parts that `template` names are known; notes those that are not."""
        known = list(fields)
        try:
            names = [
                (name, spec, how)
                for _, name, spec, how in string.Formatter().parse(template)
                if name is not None
            ]
        except ValueError:
            self.wrong(
                key,
                f"the braces in '{template}' do not match",
                "write {{ and }} for literal braces",
            )
            return False
        for name, spec, how in names:
            if name not in known or spec or how:
                hint = (
                    spelling_hint(name, known)
                    if known
                    else "nothing varies in it; write {{ and }} for literal braces"
                )
                self.wrong(key, f"unknown placeholder {{{name}}} in '{key}'", hint)
                return False
        return True

    def mapping(self, key: str, needed: str) -> Mapping[str, str]:
        """A table of texts inside this one."""
        value = self._get(key, dict, needed)
        if value is not None and (not value or not all(isinstance(text, str) for text in value.values())):
            self.wrong(key, f"'{key}' must be {needed}")
            return {}
        return dict(value or {})

    def table(self, key: str, needed: str = "a table") -> Table | None:
        """A table inside this one."""
        value = self._get(key, dict, needed)
        return None if value is None else Table(self.file, (*self.path, key), value)

    def tables(self) -> Iterable[tuple[str, Table]]:
        """Every entry of this table, each a table itself."""
        for key in self.data:
            inner = self.table(key, "a table, { … }")
            if inner is not None:
                yield key, inner

    def array(self, key: str) -> Iterator[Table]:
        """Tables in a row, each below a heading [[…]] of its own."""
        written = self._get(key, list, f"an array of tables, [[{'.'.join((*self.path, key))}]]")
        for number, data in enumerate(written or ()):
            if isinstance(data, dict):
                yield Table(self.file, (*self.path, key, str(number)), data)
            else:
                self.wrong(key, f"'{key}' must be an array of tables, [[{'.'.join((*self.path, key))}]]")

    def value(self, key: str) -> Any:
        """Return the value, of whatever type."""
        self._read.add(key)
        return self.data.get(key)

    def finish(self) -> None:
        """Every key has to have been asked for."""
        for key in self.data:
            if key not in self._read:
                self.wrong(key, f"unknown key '{key}' in [{self.name}]", spelling_hint(key, self._read))


def _lines(text: str) -> Iterable[tuple[tuple[str, ...], int]]:
    """Where each table and each key begins. Keys inside inline tables have the line of the outer one."""
    table: tuple[str, ...] = ()
    arrays: Counter[tuple[str, ...]] = Counter()
    for number, line in enumerate(text.split("\n"), 1):
        heading = _HEADING.match(line)
        key = _KEY.match(line)
        if heading:
            table = tuple(part.strip().strip("\"'") for part in _parts(heading["name"]))
            if heading["array"]:
                arrays[table] += 1
                table = (*table, str(arrays[table] - 1))
            yield table, number
        elif key:
            yield (*table, *(part.strip().strip("\"'") for part in _parts(key["key"]))), number


def _parts(name: str) -> list[str]:
    return re.findall(r'"[^"]*"|\'[^\']*\'|[^.\s]+', name)
