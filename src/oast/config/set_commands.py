"""From edits to lines that each name a whole path: by path statements, or by the words of all levels one
behind the other."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from oast.config.edits import Edit
from oast.config.indented_syntax import own_line
from oast.config.line import Line, format_line
from oast.config.path_syntax import assigned, step
from oast.config.tree import Node, Path
from oast.platforms import Platform, Statement
from oast.records import Value

Parts = tuple[Value, ...]


class FlatWriter:
    """Writes edits for a device on which nothing is entered: every line says where it belongs."""

    def __init__(self, platform: Platform) -> None:
        self._grammar = platform.grammar
        self._spelling = platform.spelling
        self._by_path = platform.syntax in ("paths", "xml")

    def write(self, edits: Sequence[Edit]) -> Iterator[tuple[Line, Path]]:
        """The lines for `edits` in their order, each with the path of the statement it is about."""
        for edit in edits:
            before: Parts = ()
            inline: tuple[Statement, ...] = ()
            for node in edit.outer:
                before, inline = self._behind(before, inline, node.statement)
            if edit.operation == "remove":
                yield self._removed(edit.node, before, inline), edit.path
                continue
            if edit.operation in ("create", "replace"):
                yield from self._set(edit.node, before, inline, edit.path, alone=edit.operation == "replace")
            yield from self._placed(edit, before, inline)

    def _behind(
        self, before: Parts, inline: tuple[Statement, ...], statement: Statement
    ) -> tuple[Parts, tuple[Statement, ...]]:
        """What comes before the statements below `statement`."""
        if self._by_path:
            return (*before, *step(self._grammar, statement)), ()
        if statement.rule.inline:
            return before, (*inline, statement)
        return self._joined(before, own_line(self._grammar, statement, inline).parts), ()

    @staticmethod
    def _joined(before: Parts, parts: Sequence[Value]) -> Parts:
        return (*before, " ", *parts) if before else tuple(parts)

    def _line(self, statement: Statement, before: Parts, inline: tuple[Statement, ...]) -> Parts:
        if self._by_path:
            return (*before, *step(self._grammar, statement), *assigned(self._grammar, statement))
        return self._joined(before, own_line(self._grammar, statement, inline).parts)

    def _identity(self, statement: Statement, before: Parts, inline: tuple[Statement, ...]) -> Parts:
        """The line without the value that the statement is not known by."""
        if self._by_path:
            own = step(self._grammar, statement)
            return (
                *before,
                *own,
                *(assigned(self._grammar, statement) if statement.rule.kind == "leaf-list" else ()),
            )
        form = statement.rule.form
        if form is None:
            return self._joined(before, (statement.value,))
        words: list[Value] = []
        for word in form.identity(
            {other.rule.path: other for other in (*inline, statement)}, self._grammar.quote
        ):
            words.extend((" ", word) if words else (word,))
        return self._joined(before, words)

    def _fields(
        self, statement: Statement, before: Parts, inline: tuple[Statement, ...]
    ) -> dict[str, Sequence[Value]]:
        return {
            "line": self._line(statement, before, inline),
            "identity": self._identity(statement, before, inline),
        }

    def _set(
        self, node: Node, before: Parts, inline: tuple[Statement, ...], path: Path, *, alone: bool = False
    ) -> Iterator[tuple[Line, Path]]:
        """Write a statement and its contents, which create it; the statement itself where it has none, or is
        meant `alone`."""
        if alone or not node.children or node.statement.rule.presence:
            yield format_line(self._spelling.set, self._fields(node.statement, before, inline)), path
        if not alone:
            inner, within = self._behind(before, inline, node.statement)
            for identity, child in node.children.items():
                yield from self._set(child, inner, within, (*path, identity))

    def _removed(self, node: Node, before: Parts, inline: tuple[Statement, ...]) -> Line:
        remove = self._spelling.remove
        if not node.statement.rule.known and self._spelling.remove_unknown is not None:
            remove = self._spelling.remove_unknown
        return format_line(remove, self._fields(node.statement, before, inline))

    def _placed(
        self, edit: Edit, before: Parts, inline: tuple[Statement, ...]
    ) -> Iterator[tuple[Line, Path]]:
        """Where in a user's order it goes; what was just made stands last."""
        if edit.before is None and edit.operation != "move":
            return
        statement = self._identity(edit.node.statement, before, inline)
        if edit.before is not None and self._spelling.insert_before is not None:
            other = self._identity(edit.before.statement, before, inline)
            yield (
                format_line(self._spelling.insert_before, {"statement": statement, "other": other}),
                edit.path,
            )
        elif edit.before is None and self._spelling.insert_last is not None:
            yield format_line(self._spelling.insert_last, {"statement": statement}), edit.path
