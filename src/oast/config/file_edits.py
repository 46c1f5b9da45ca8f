"""Edits a configuration file in place: everything that a change does not touch keeps every byte, including
comments and odd spacing.

A statement is replaced, inserted beside its siblings or deleted as a span of the text. Afterwards the text is
read again, and must give the intended tree: a change that cannot be made so is refused, and nothing is
written.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from oast.config.brace_syntax import BraceSyntax
from oast.config.edits import Edit, difference
from oast.config.file_spans import Span, spans_of
from oast.config.indented_syntax import IndentedSyntax, tree_of_device
from oast.config.line import Line
from oast.config.tree import Node, Path
from oast.errors import DeviceError
from oast.records import Secret


@dataclass(frozen=True)
class EditedText:
    """The new text of a file, with the secrets that were written into it."""

    text: str
    secrets: tuple[Secret, ...] = ()


def edit_file(syntax: IndentedSyntax, text: str, intended: Node) -> EditedText:
    """`text` with the statements that make it `intended` (canonical). Raises DeviceError when it cannot be
    edited in place."""
    editor = _Editor(syntax, text, intended)
    try:
        editor.run()
        is_right = not difference(tree_of_device(syntax, editor.text), intended)
    except (ValueError, IndexError) as wrong:
        raise _refused(str(wrong)) from None
    if not is_right:
        left = difference(tree_of_device(syntax, editor.text), intended)
        places = ", ".join(sorted({edit.rule.path or edit.node.text for edit in left})[:3])
        raise _refused(f"after the edit it would differ from the intent (at {places})")
    return EditedText(editor.text, tuple(editor.secrets))


def _refused(why: str) -> DeviceError:
    message = f"the file cannot be edited in place: {why}; nothing was sent"
    return DeviceError(message, hint="make this change manually once, or let no section own this part")


def _rewritten(edits: Sequence[Edit]) -> list[tuple[Edit, Edit]]:
    """Statements without a grammar that only say something else: one goes and one comes that begins with the
    same word."""
    groups: dict[tuple[Path, str], list[Edit]] = {}
    for edit in edits:
        rule = edit.node.statement.rule
        if (
            edit.operation in ("remove", "create")
            and not edit.node.children
            and (rule.structural or not rule.known)
        ):
            groups.setdefault((edit.path[:-1], edit.path[-1].split(" ")[0]), []).append(edit)
    pairs = [
        sorted(group, key=lambda edit: edit.operation, reverse=True)
        for group in groups.values()
        if len(group) == 2
    ]
    return [(old, new) for old, new in pairs if (old.operation, new.operation) == ("remove", "create")]


class _Editor:
    """Applies one edit after the other to the text; each reads the spans again, as the edit before it moved
    them."""

    def __init__(self, syntax: IndentedSyntax, text: str, intended: Node) -> None:
        self.text = text
        self.secrets: list[Secret] = []
        self._syntax = syntax
        self._intended = intended
        self._braces = isinstance(syntax, BraceSyntax)
        self._printed = list(syntax.printed(intended))
        self._read: tuple[str, Span] | None = None

    def run(self) -> None:
        edits = difference(tree_of_device(self._syntax, self.text), self._intended)
        for old, new in _rewritten(edits):
            span = self._spans(old.path)[-1]
            self.text = self.text[: span.start] + self._head(new.path) + self.text[span.head_end :]
            edits = [edit for edit in edits if edit is not old and edit is not new]
        for edit in (edit for edit in edits if edit.operation == "remove"):
            self._remove(edit.path)
        for edit in (edit for edit in edits if edit.operation == "replace"):
            self._replace(edit)
        for edit in edits:
            if edit.operation == "move":
                self._move(edit)
            elif edit.operation == "create":
                self._create(edit)

    # --- finding

    def _whole(self) -> Span:
        """The spans of the text as it is now."""
        if self._read is None or self._read[0] != self.text:
            self._read = self.text, spans_of(self._syntax, self.text)
        return self._read[1]

    def _spans(self, path: Path) -> list[Span]:
        """The outermost spans of the statement at `path`, or of parts of it."""
        found: list[Span] = []

        def look(span: Span) -> None:
            for child in span.children:
                if child.path[: len(path)] == path or any(
                    item[0][: len(path)] == path for item in child.items
                ):
                    found.append(child)
                else:
                    look(child)

        look(self._whole())
        return found

    def _region(self, span: Span) -> tuple[int, int]:
        """The whole lines of a statement where nothing else stands on them, with the comment that belongs to
        it; else the statement."""
        text, comment = self.text, self._syntax.comment
        first = text.rfind("\n", 0, span.start) + 1
        last = text.find("\n", span.end)
        last = len(text) if last < 0 else last
        rest = text[span.end : last].strip()
        if text[first : span.start].strip() or (rest and not rest.startswith(comment)):
            end = span.end
            while end < len(text) and text[end] == " ":
                end += 1
            return span.start, end
        end = min(last + 1, len(text))
        above = first
        while above > 0:
            before = text.rfind("\n", 0, above - 1) + 1
            if not text[before:above].strip().startswith(comment):
                break
            above = before
        # A comment above several statements is about all of them, unless it is the last one that goes.
        following = text[end:].split("\n", 1)[0].strip()
        is_shared = bool(following) and not following.startswith((comment, "}"))
        return (first if is_shared else above), end

    # --- removing

    def _remove(self, path: Path) -> None:
        while spans := self._spans(path):
            span = spans[-1]
            mine = [item for item in span.items if item[0][: len(path)] == path]
            if span.items and len(mine) < len(span.items):
                self._cut_item(span, mine)
                continue
            start, end = self._region(span)
            self.text = self.text[:start] + self.text[end:]

    def _cut_item(self, span: Span, mine: Sequence[tuple[Path, int, int]]) -> None:
        """One of `name [ a b ]`."""
        for _, start, end in reversed(mine):
            while self.text[start - 1] in " \t" and self.text[start - 2] != "[":
                start -= 1
            self.text = self.text[:start] + self.text[end:]

    # --- replacing

    def _replace(self, edit: Edit) -> None:
        path = edit.path
        spans = [span for span in self._spans(path) if span.path == path]
        if not spans:
            inner = [span for outer in self._spans(path) for span in outer.walk() if span.path == path]
            if not inner:
                raise ValueError(f"'{edit.node.text}' has no line of its own")
            spans = inner
        span = spans[-1]
        line = self._head(path)
        self.text = self.text[: span.start] + line + self.text[span.head_end :]

    def _head(self, path: Path) -> str:
        """The words of a statement, without its margin and what ends it."""
        for line, at in self._printed:
            if at == path:
                return (
                    self._written(line).strip().removesuffix("{").removesuffix(";").rstrip()
                    if self._braces
                    else self._written(line).strip()
                )
        raise ValueError(f"'{' / '.join(path)}' is not printed")

    def _written(self, line: Line) -> str:
        self.secrets.extend(line.secrets)
        return line.written()

    # --- inserting

    def _create(self, edit: Edit) -> None:
        path = edit.path
        lines = [self._written(line) for line, at in self._printed if at[: len(path)] == path]
        margin = min((len(line) - len(line.lstrip(" ")) for line in lines), default=0)
        lines = [line[margin:] for line in lines]
        neighbor = self._in_order(edit) if edit.rule.user_ordered else None
        if neighbor is not None:
            self._put_beside(neighbor[0], lines, is_after=neighbor[1])
        else:
            self._insert(path, lines)

    def _in_order(self, edit: Edit) -> tuple[Span, bool] | None:
        """The statement that one in the user's order comes before (or, at the end, after); None when it is
        the first of its kind."""
        depth = len(edit.path)
        siblings = [
            span
            for span in self._whole().walk()
            if len(span.path) >= depth
            and span.path[: depth - 1] == edit.path[:-1]
            and span.path[:depth] != edit.path
        ]
        if edit.before is not None:
            found = next((span for span in siblings if span.path[depth - 1] == edit.before.identity), None)
            if found is None:
                raise ValueError(f"'{edit.node.text}' has no place in its order")
            return found, False
        name = edit.path[-1].split(" ")[0]
        kind = [span for span in siblings if len(span.path) == depth and span.path[-1].split(" ")[0] == name]
        return (kind[-1], True) if kind else None

    def _insert(self, path: Path, lines: Sequence[str]) -> None:
        parent = self._container(path[:-1])
        siblings = [child for child in parent.children if child.path[: len(path) - 1] == path[:-1]]
        place = self._beside(path, siblings)
        if place is not None:
            sibling, is_after = place
            self._put_beside(sibling, lines, is_after=is_after)
        elif parent.path:
            self._put_into(parent, lines)
        else:
            self._put_at_end(lines)

    def _container(self, path: Path) -> Span:
        """The span in which statements directly below `path` stand."""
        whole = self._whole()
        if not self._braces and not self._is_indented():
            return whole
        found = whole
        for span in whole.walk():
            if (
                span.path
                and span.path == path[: len(span.path)]
                and (span.body is not None or span.path == path)
                and len(span.path) >= len(found.path)
            ):
                found = span
        return found

    def _is_indented(self) -> bool:
        return type(self._syntax) is IndentedSyntax

    def _beside(self, path: Path, siblings: Sequence[Span]) -> tuple[Span, bool] | None:
        """The sibling that a new statement is put after (or before)."""
        depth = len(path)
        parent = self._intended.at(path[:-1]) if depth > 1 else self._intended
        node = self._intended.at(path)
        if parent is None or node is None:
            raise ValueError("its place is not known")
        same = [
            span
            for span in siblings
            if len(span.path) >= depth and self._is_alike(parent, span.path[depth - 1], node, path)
        ]
        if same:
            return same[-1], True
        # What opens no block comes before the first block: the last one may take in whatever follows it.
        plain = []
        for span in siblings:
            if span.body is not None:
                break
            plain.append(span)
        if node.children:
            return (siblings[-1], True) if siblings else None
        return (plain[-1], True) if plain else (siblings[0], False) if siblings else None

    @staticmethod
    def _is_alike(parent: Node, identity: str, node: Node, path: Path) -> bool:
        other = parent.children.get(identity)
        if other is None:
            return identity.split(" ")[0] == path[-1].split(" ")[0]
        if not node.statement.rule.known or node.statement.rule.structural:
            return identity.split(" ")[0] == path[-1].split(" ")[0]
        return other.statement.rule is node.statement.rule

    def _margin_of(self, span: Span) -> str | None:
        """Return the text before a statement on its line; None when that is another statement."""
        before = self.text[self.text.rfind("\n", 0, span.start) + 1 : span.start]
        return before if not before.strip() else None

    def _put_beside(self, sibling: Span, lines: Sequence[str], *, is_after: bool) -> None:
        margin = self._margin_of(sibling)
        if margin is None:
            joined = " ".join(line.strip() for line in lines)
            at, piece = (sibling.end, f" {joined}") if is_after else (sibling.start, f"{joined} ")
            self.text = self.text[:at] + piece + self.text[at:]
            return
        block = "".join(f"{margin}{line}\n" for line in lines)
        if not is_after:
            at = self._region(sibling)[0]
            self.text = self.text[:at] + block + self.text[at:]
            return
        newline = self.text.find("\n", sibling.end)
        tail = self.text[sibling.end : newline if newline >= 0 else len(self.text)].strip()
        if tail and not tail.startswith(self._syntax.comment):
            joined = " ".join(line.strip() for line in lines)
            self.text = f"{self.text[: sibling.end]} {joined}{self.text[sibling.end :]}"
        elif newline < 0:
            self.text = f"{self.text}\n{block}"
        else:
            self.text = self.text[: newline + 1] + block + self.text[newline + 1 :]

    def _put_into(self, parent: Span, lines: Sequence[str]) -> None:
        """The first statement below one that holds none."""
        outer = self._margin_of(parent) or ""
        inner = outer + " " * self._syntax.indent
        block = "".join(f"{inner}{line}\n" for line in lines)
        if not self._braces:
            newline = self.text.find("\n", parent.head_end)
            if newline < 0:
                self.text = f"{self.text}\n{block}"
            else:
                self.text = self.text[: newline + 1] + block + self.text[newline + 1 :]
        elif parent.body is None:
            self.text = f"{self.text[: parent.head_end]} {{\n{block}{outer}}}{self.text[parent.end :]}"
        else:
            start, end = parent.body
            body = self.text[start:end]
            if "\n" in body:
                at = self.text.rfind("\n", start, end) + 1
                self.text = self.text[:at] + block + self.text[at:]
            else:
                kept = f" {body.strip()}\n{inner}" if body.strip() else "\n"
                self.text = f"{self.text[:start]}{kept.rstrip(' ')}{block}{outer}{self.text[end:]}"

    def _put_at_end(self, lines: Sequence[str]) -> None:
        if self.text and not self.text.endswith("\n"):
            self.text += "\n"
        self.text += "".join(f"{line}\n" for line in lines)

    # --- moving

    def _move(self, edit: Edit) -> None:
        """Cut a statement out with its comment, and put the same bytes where the user's order has it."""
        spans = self._spans(edit.path)
        if len(spans) != 1 or spans[0].items:
            raise ValueError(f"'{edit.node.text}' is not one statement that could be moved")
        start, end = self._region(spans[0])
        piece = self.text[start:end]
        self.text = self.text[:start] + self.text[end:]
        neighbor = self._in_order(edit)
        if neighbor is None:
            raise ValueError(f"'{edit.node.text}' has no place to be moved to")
        region = self._region(neighbor[0])
        at = region[1] if neighbor[1] else region[0]
        self.text = self.text[:at] + piece + self.text[at:]
