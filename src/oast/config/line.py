"""Lines in which secrets are secrets: for looking at they are masked, for the wire they are revealed."""

from __future__ import annotations

import string
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from oast.records import Secret, Value, revealed


class SuspectText(str):
    """Text of a line that no grammar describes: `masked` is what may be shown of it."""

    __slots__ = ("masked",)
    masked: str

    def __new__(cls, text: str, masked: str) -> SuspectText:
        made = super().__new__(cls, text)
        made.masked = masked
        return made


@dataclass(frozen=True, slots=True)
class Line:
    """One line, or several for text over several lines, in parts that stand directly behind each other."""

    parts: tuple[Value, ...]

    @property
    def masked(self) -> str:
        """The line to look at: secrets as fingerprints."""
        return "".join(part.masked if isinstance(part, SuspectText) else str(part) for part in self.parts)

    @property
    def secrets(self) -> tuple[Secret, ...]:
        return tuple(part for part in self.parts if isinstance(part, Secret))

    def written(self) -> str:
        """The line itself, secrets revealed. For the wire."""
        return "".join(revealed(part) for part in self.parts)

    def behind(self, margin: str) -> Line:
        """The same line, indented."""
        return Line((margin, *self.parts)) if margin else self


def of_words(words: Iterable[Value]) -> Line:
    """A line of words with a space between them."""
    parts: list[Value] = []
    for word in words:
        if parts:
            parts.append(" ")
        parts.append(word)
    return Line(tuple(parts))


def format_line(template: str, fields: Mapping[str, Sequence[Value]]) -> Line:
    """`template` with what its {…} stand for."""
    parts: list[Value] = []
    for text, name, _, _ in string.Formatter().parse(template):
        if text:
            parts.append(text)
        if name is not None:
            parts.extend(fields[name])
    return Line(tuple(parts))
