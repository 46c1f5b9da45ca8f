"""The difference as lines to read: signs, depth and text, with the statements around each change."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from oast.config.edits import Edit
from oast.config.tree import Node, Path

Sign = Literal["+", "-", ">", " "]


@dataclass(frozen=True, slots=True)
class ViewLine:
    """`sign`: + added, - removed, > moved, blank for a statement that only leads to a change. `note` says
    where to it moved."""

    sign: Sign
    depth: int
    text: str
    note: str | None = None


@dataclass(frozen=True, slots=True)
class Counts:
    """Statements added and removed; a changed value counts as one of each, a moved one as both."""

    added: int
    removed: int


def counts(edits: Sequence[Edit]) -> Counts:
    """How many statements `edits` add and remove."""
    added = removed = 0
    for edit in edits:
        if edit.operation in ("replace", "move"):
            added += 1
            removed += 1
        elif edit.operation == "create":
            added += 1 + sum(1 for _ in edit.node.walk())
        else:
            removed += 1 + sum(1 for _ in edit.node.walk())
    return Counts(added, removed)


def view(edits: Sequence[Edit]) -> tuple[ViewLine, ...]:
    """The lines for `edits`, in the grammar's order, removals before additions."""
    lines: list[ViewLine] = []
    open_path: Path = ()
    restated = {edit.path: edit.node.text for edit in edits if edit.operation == "replace"}
    for edit in sorted(edits, key=_reading_order):
        outer = edit.path[:-1]
        shared = 0
        while shared < min(len(outer), len(open_path)) and outer[shared] == open_path[shared]:
            shared += 1
        for depth in range(shared, len(outer)):
            lines.append(ViewLine(" ", depth, restated.get(outer[: depth + 1], edit.outer[depth].text)))
        lines.extend(_lines(edit, len(outer)))
        open_path = outer
    return tuple(lines)


def _reading_order(edit: Edit) -> tuple[tuple[int, bool, tuple[str | int, ...]], ...]:
    levels = [(node.statement.rule.order, True, node.statement.sort_key[1]) for node in edit.outer]
    own = edit.node.statement
    name = () if own.rule.user_ordered else own.sort_key[1]
    return (*levels, (own.rule.order, edit.operation != "remove", name))


def _lines(edit: Edit, depth: int) -> list[ViewLine]:
    if edit.operation == "move":
        note = f"now before: {edit.before.text}" if edit.before is not None else "now last"
        return [ViewLine(">", depth, edit.node.text, note)]
    lines: list[ViewLine] = []
    if edit.old is not None:
        lines.extend(_subtree("-", edit.old, depth, whole=edit.operation == "remove"))
    if edit.new is not None:
        made = _subtree("+", edit.new, depth, whole=edit.operation == "create")
        if edit.before is not None:
            made[0] = ViewLine("+", depth, made[0].text, f"before: {edit.before.text}")
        lines.extend(made)
    return lines


def _subtree(sign: Sign, node: Node, depth: int, *, whole: bool) -> list[ViewLine]:
    lines = [ViewLine(sign, depth, node.text)]
    if whole:
        lines.extend(ViewLine(sign, depth + len(path), below.text) for path, below in node.walk())
    return lines
