"""From edits to the lines a device is sent: how each is spelt on an indented command line."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from oast.config.dependency_order import references_filter
from oast.config.edits import Edit, secrets_in
from oast.config.indented_syntax import own_line, text_lines
from oast.config.line import Line, format_line
from oast.config.secret_fingerprints import require_known_secrets
from oast.config.set_commands import FlatWriter
from oast.config.tree import Node, Path
from oast.platforms import EditSpelling, Grammar, Platform, Rule, Statement
from oast.records import Value


@dataclass(frozen=True, slots=True)
class Command:
    """A line for the device, or the lines of one text; `path` is the statement it is about."""

    line: Line
    path: Path

    @property
    def masked(self) -> str:
        return self.line.masked


def commands_of(edits: Sequence[Edit], platform: Platform) -> list[Command]:
    """The lines for `edits` in their order: a statement is entered once for all consecutive edits below it.

    Raises DeviceError when one would hold a secret of which no more than the fingerprint was kept.
    """
    require_known_secrets(secrets_in(edits))
    if platform.syntax != "indented":
        return [Command(line, path) for line, path in FlatWriter(platform).write(edits)]
    return _Writer(platform).write(edits)


class _Writer:
    """Keeps which sections are open while it writes."""

    def __init__(self, platform: Platform) -> None:
        self._grammar: Grammar = platform.grammar
        self._spelling: EditSpelling = platform.spelling
        self._open: list[Node] = []
        self._restated: dict[Path, Statement] = {}
        self._made: list[Command] = []

    def write(self, edits: Sequence[Edit]) -> list[Command]:
        for edit in edits:
            around = [
                (n, edit.path[: number + 1])
                for number, n in enumerate(edit.outer)
                if not n.statement.rule.inline
            ]
            inline = tuple(node.statement for node in edit.outer if node.statement.rule.inline)
            self._enter(around, edit.path)
            self._say(self._spelt(edit, inline), edit.path, together=bool(edit.rule.delimiters))
            if edit.operation == "create":
                self._below(edit.node, edit.path, inline)
            elif edit.operation == "replace":
                self._restated[edit.path] = edit.node.statement
                if edit.rule.holds_others and not edit.rule.inline:
                    self._open.append(edit.node)
        self._leave(0, ())
        return self._made

    def _say(self, lines: Sequence[Line], path: Path, *, together: bool = False) -> None:
        """Text between delimiters goes `together`: the device does not answer in the middle of it."""
        margin = " " * (self._spelling.indent * len(self._open))
        if together and len(lines) > 1:
            parts: list[Value] = [margin]
            for number, line in enumerate(lines):
                parts.extend((*(("\n",) if number else ()), *line.parts))
            self._made.append(Command(Line(tuple(parts)), path))
            return
        self._made.extend(Command(line.behind(margin), path) for line in lines)

    def _enter(self, around: Sequence[tuple[Node, Path]], path: Path) -> None:
        shared = 0
        while (
            shared < min(len(around), len(self._open))
            and around[shared][0].identity == self._open[shared].identity
        ):
            shared += 1
        self._leave(shared, path)
        for node, here in around[shared:]:
            self._say([own_line(self._grammar, self._restated.get(here, node.statement), ())], here)
            self._open.append(node)

    def _leave(self, depth: int, path: Path) -> None:
        while len(self._open) > depth:
            end = self._open.pop().statement.rule.end
            if end is not None:
                self._say([Line((end,))], path)

    def _below(self, node: Node, path: Path, inline: tuple[Statement, ...]) -> None:
        """Everything below a node that was just made; its section stays open."""
        if not node.statement.rule.inline and node.statement.rule.holds_others:
            self._open.append(node)
            inline = ()
        else:
            inline = (*inline, node.statement)
        depth = len(self._open)
        for identity, child in _filters_first(node):
            here = (*path, identity)
            self._say(self._set(child, inline), here, together=bool(child.statement.rule.delimiters))
            if child.children:
                self._below(child, here, inline)
                self._leave(depth, here)

    def _set(self, node: Node, inline: tuple[Statement, ...]) -> list[Line]:
        statement, rule = node.statement, node.statement.rule
        if rule.inline and node.children and not rule.presence:
            return []
        if rule.spelling.set:
            return [format_line(template, self._fields(statement, inline)) for template in rule.spelling.set]
        if rule.delimiters:
            return list(text_lines(self._grammar, statement, inline, ""))
        return [own_line(self._grammar, statement, inline)]

    def _spelt(self, edit: Edit, inline: tuple[Statement, ...]) -> list[Line]:
        statement, rule = edit.node.statement, edit.rule
        if edit.operation == "remove":
            return self._removed(edit, inline)
        if edit.operation == "replace" and rule.spelling.change and edit.old is not None:
            fields = self._fields(statement, inline)
            fields.update(
                {f"old.{name}": value for name, value in self._values(rule, edit.old.statement).items()}
            )
            return [format_line(template, fields) for template in rule.spelling.change]
        placed = edit.before is not None or edit.operation == "move"
        if placed and self._spelling.insert_before is not None and self._spelling.insert_last is not None:
            line = own_line(self._grammar, statement, inline).parts
            if edit.before is None:
                return [format_line(self._spelling.insert_last, {"statement": line})]
            other = self._identity(edit.before.statement, inline)
            return [format_line(self._spelling.insert_before, {"statement": line, "other": other})]
        return self._set(edit.node, inline)

    def _removed(self, edit: Edit, inline: tuple[Statement, ...]) -> list[Line]:
        statement, rule = edit.node.statement, edit.rule
        if not rule.known:
            return [
                format_line(
                    self._spelling.remove_unknown or self._spelling.remove, self._fields(statement, inline)
                )
            ]
        if rule.spelling.remove:
            return [
                format_line(template, self._fields(statement, inline)) for template in rule.spelling.remove
            ]
        default = rule.default[0] if rule.lines and rule.default else None
        if isinstance(default, str):
            return [own_line(self._grammar, self._grammar.made(rule, (default,)), inline)]
        if rule.inline and rule.kind == "container":
            return [
                line
                for child in edit.node.children.values()
                for line in self._gone(edit, child, (*inline, statement))
            ]
        return [format_line(self._spelling.remove, self._fields(statement, inline))]

    def _gone(self, edit: Edit, child: Node, inline: tuple[Statement, ...]) -> Iterator[Line]:
        """Send the words on a container's line separately: the container's name alone may have another
        meaning."""
        yield from self._removed(Edit("remove", (*edit.outer, edit.node), child, None), inline)

    def _fields(self, statement: Statement, inline: tuple[Statement, ...]) -> dict[str, Sequence[Value]]:
        fields: dict[str, Sequence[Value]] = {
            "line": own_line(self._grammar, statement, inline).parts,
            "identity": self._identity(statement, inline),
        }
        for other in inline:
            fields.update(
                {
                    f"{other.rule.name}.{name}": value
                    for name, value in self._values(other.rule, other).items()
                }
            )
        fields.update(self._values(statement.rule, statement))
        return fields

    def _values(self, rule: Rule, statement: Statement) -> dict[str, Sequence[Value]]:
        found: dict[str, Sequence[Value]] = {}
        for argument, value in zip(rule.arguments, statement.arguments, strict=True):
            if value is None:
                found[argument.name] = ()
            elif isinstance(value, str):
                found[argument.name] = (self._grammar.quote(value),)
            else:
                found[argument.name] = (value.spelt(self._grammar.quote),)
        return found

    def _identity(self, statement: Statement, inline: tuple[Statement, ...]) -> Sequence[Value]:
        form = statement.rule.form
        if form is None:
            return (statement.value,)
        by_path = {other.rule.path: other for other in (*inline, statement)}
        parts: list[Value] = []
        for word in form.identity(by_path, self._grammar.quote):
            parts.extend((" ", word) if parts else (word,))
        return parts


def _filters_first(node: Node) -> Iterable[tuple[str, Node]]:
    """Return the children of a created node, in the order in which they are sent: a filter before what it
    filters."""
    if not node.statement.rule.concerns_others:
        return node.children.items()
    return sorted(node.children.items(), key=lambda item: not references_filter(item[1]))
