"""Mistakes in how templates print values: an empty value, a value that would add statements, and a statement
that is set twice."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import jinja2

from oast.config import Node, Path
from oast.estate import RAW_BEGINS, RAW_ENDS, spelling_of
from oast.platforms import Platform
from oast.records import Place

PlaceOf = Callable[[str], Place | None]
# Characters that end a line, a quote, a statement or an element in one syntax or another.
_SPECIAL = re.compile("[\n\r\"';{}<>&]")
_WORD = re.compile(r"\w")
_RAW = re.compile(f"{RAW_BEGINS}.*?{RAW_ENDS}", re.DOTALL)
_NAMES = {"\n": "a line break", "\r": "a line break", '"': "a quote", "'": "a quote"}


@dataclass(frozen=True, slots=True)
class AddedStatement:
    """The value at the dotted `key`, whose character `what` would end the statement that prints it."""

    key: str
    what: str


def without_raw_marks(text: str) -> str:
    """A rendered text without the marks of the filter `raw`."""
    return text.replace(RAW_BEGINS, "").replace(RAW_ENDS, "") if RAW_BEGINS in text else text


def special_values(values: Mapping[str, object]) -> list[tuple[str, str]]:
    """Every text among `values` that could end a statement where it is printed, by its dotted key."""
    return list(_special(values, ""))


def _special(value: object, key: str) -> Iterator[tuple[str, str]]:
    if isinstance(value, str):
        # A separator alone may stand anywhere in a text.
        if _SPECIAL.search(value) and _WORD.search(value):
            yield key, value
    elif isinstance(value, Mapping):
        for name, inner in value.items():
            yield from _special(inner, f"{key}.{name}" if key else str(name))
    elif isinstance(value, list | tuple):
        for number, inner in enumerate(value):
            yield from _special(inner, f"{key}[{number}]")


def added_statements(
    rendered: str, tree: Node, special: Sequence[tuple[str, str]], platform: Platform, comment: str
) -> Iterator[AddedStatement]:
    """The values that are printed in `rendered` and are not part of an argument in the `tree` that was read
    from it; without a grammar, not part of a line. Values printed by the filter `raw` are left out."""
    text = _RAW.sub("", rendered)
    statements: str | None = None
    arguments: list[str] | None = None
    for key, value in special:
        if value not in text:
            continue
        breaks = "\n" in value.rstrip("\n")
        if not breaks:
            if statements is None:
                lines = text.split("\n")
                statements = "\n".join(line for line in lines if not line.lstrip().startswith(comment))
            if value not in statements:
                continue
        if arguments is None:
            arguments = [
                argument
                for _, node in tree.walk()
                if node.statement.rule.known or platform.by_structure
                for argument in node.statement.arguments
                if isinstance(argument, str)
            ]
        plain = value.strip().replace('\\"', '"')
        whole = sum(value.strip() in one or plain in one for one in arguments)
        if not whole or (breaks and whole < text.count(value)):
            mark = "\n" if breaks else next((one for one in value if _SPECIAL.match(one)), "")
            yield AddedStatement(key, _NAMES.get(mark, f"'{mark}'"))


def empty_name(tree: jinja2.nodes.Template, line: int | None, values: Mapping[str, object]) -> str | None:
    """The name, as the template spells it, of the empty value that is printed on `line`; None when several
    are, or none can be found."""
    found = {
        name
        for output in tree.find_all(jinja2.nodes.Output)
        for node in output.nodes
        if node.lineno == line and (name := spelling_of(node)) is not None and _is_empty(name, values)
    }
    return found.pop() if len(found) == 1 else None


def _is_empty(name: str, values: Mapping[str, object]) -> bool:
    value: object = values
    for part in re.findall(r"[^.\[\]]+", name):
        try:
            value = value[int(part)] if isinstance(value, list) else value[part]  # type: ignore[index]
        except (KeyError, IndexError, TypeError, ValueError):
            return False
    return value is None


def repeated_leaves(
    text: str, lines_of: Iterable[tuple[int, Path]], tree: Node
) -> Iterator[tuple[int, int, Node]]:
    """The leaves that a text sets twice, to different values: the line of the first, the line of the last,
    and the node that counts."""
    first: dict[Path, int] = {}
    lines = text.split("\n")
    for number, path in lines_of:
        node = tree.at(path)
        if node is None or not node.statement.rule.known or node.statement.rule.kind != "leaf":
            continue
        before = first.setdefault(path, number)
        if " ".join(lines[before - 1].split()) != " ".join(lines[number - 1].split()):
            yield before, number, node
