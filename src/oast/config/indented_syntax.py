"""The indented syntax: a statement a line, what belongs to it deeper below it. Text to tree and back."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from oast.answer_parsing import is_one_off, parse_if_long, spend
from oast.config import line as lines
from oast.config.line import Line, SuspectText
from oast.config.tree import Node, Path, SiblingIndex, canonical, root_of
from oast.errors import ProtocolError
from oast.gc_tuning import gc_disabled
from oast.platforms import (
    NO_SECRETS,
    ODD,
    Grammar,
    Platform,
    Rule,
    Statement,
    UnknownStatement,
    WrongValue,
    check_secret,
    named_odd,
    with_secrets,
)
from oast.records import Secret, Value

# A block that begins at the left edge is remembered with its tree: the second configuration of a fleet is
# mostly the first.
REMEMBERED_BLOCKS = 10_000
# No configuration is that deep; reading one that is would end in Python's own limit.
DEEPEST = 60
# A tab in the indentation leads to the next multiple of this many columns.
TAB = 8


@dataclass(frozen=True, slots=True)
class TextProblem:
    """A line that the grammar or the syntax does not allow. `line` counts from 1, `word` is the wrong word in
    it."""

    line: int
    message: str
    word: str
    hint: str | None


@dataclass(frozen=True, slots=True)
class Parsed:
    """A tree, and what was wrong on the way; statements that are not known stand in the tree by their words.

    `broken` says why nothing of the text could be read.
    """

    tree: Node
    problems: tuple[TextProblem, ...]
    too_deep: bool = False
    broken: str | None = None
    sets_twice: bool = False
    """Whether a leaf is set again with another value; the last of them counts."""


def tree_as_listed(syntax: IndentedSyntax, text: str) -> Node:
    """The tree of what a device lists, in its order. Raises ProtocolError for a text that is no
    configuration."""
    return accept_listed(syntax.parse(text))


def accept_listed(parsed: Parsed) -> Node:
    """Return the tree of a listing. Raises ProtocolError when the text is not a configuration."""
    if parsed.too_deep:
        raise ProtocolError(
            f"the output has more than {DEEPEST} levels of nesting, too many for a configuration"
        )
    if parsed.broken is not None:
        raise ProtocolError(f"cannot parse the output: {parsed.broken}")
    return parsed.tree


def tree_of_device(syntax: IndentedSyntax, text: str) -> Node:
    """Return the canonical tree of a device's listing. Raises ProtocolError when the text is not a
    configuration."""
    return canonical(tree_as_listed(syntax, text))


async def read_tree(syntax: IndentedSyntax, text: str) -> Node:
    """The same for what a device has just listed: a long text is parsed beside the event loop. Raises
    ProtocolError."""
    return await parse_if_long((text,), tree_of_device, syntax, text)


class IndentedSyntax:
    """Parses and prints the text of one platform."""

    def __init__(self, platform: Platform) -> None:
        self.grammar = platform.grammar
        self.comment = platform.spelling.comment
        self.indent = platform.spelling.indent
        self._ignored = (
            re.compile("|".join(f"(?:{one})" for one in platform.spelling.ignore))
            if platform.spelling.ignore
            else None
        )
        self._blocks: dict[str, tuple[Node, ...]] = {}
        self._leaves: dict[Statement, Node] = {}
        self._begins = re.compile(rf"\n(?=[^\s{re.escape(self.comment[0])}])")
        self._by_block = not any(rule.end or rule.delimiters for rule in self.grammar.rules())

    def parse(self, text: str, marks: Mapping[str, Secret] = NO_SECRETS) -> Parsed:
        """The tree of `text`, in the text's order; `marks` are the secrets it may hold. Never raises: see
        `Parsed.problems`."""
        with gc_disabled():
            return self._parsed(self.plain(text), marks)

    def plain(self, text: str) -> str:
        """The text with plain line ends, and nothing on the lines that only frame a listing."""
        text = text.replace("\r\n", "\n")
        if self._ignored is None:
            return text
        ignored = self._ignored
        return "\n".join("" if ignored.fullmatch(line.strip()) else line for line in text.split("\n"))

    def _parsed(self, text: str, marks: Mapping[str, Secret]) -> Parsed:
        children: dict[str, Node] = {}
        problems: list[TextProblem] = []
        line_number = 1
        blocks = self._blocks
        siblings = SiblingIndex(self.grammar)
        too_deep = sets_twice = False
        # Where a section ends with a word of its own, or text stands between delimiters, the left edge
        # divides nothing.
        for block in self._begins.split(text) if self._by_block else (text,):
            nodes = blocks.get(block)
            if nodes is None:
                reader = _BlockReader(self, marks)
                nodes = reader.read(block.split("\n"), line_number)
                problems.extend(reader.problems)
                too_deep = too_deep or reader.too_deep
                sets_twice = sets_twice or reader.sets_twice
                if (
                    not reader.problems
                    and not reader.sets_twice
                    and not reader.has_secrets
                    and not is_one_off()
                ):
                    if len(blocks) >= REMEMBERED_BLOCKS:
                        blocks.clear()
                        self._leaves.clear()
                    blocks[block] = nodes
            for node in nodes:
                siblings.add(children, node)
            line_number += block.count("\n") + 1
        if "\t" in text or not text.replace("\n", "").isprintable():
            problems.extend(odd_characters(text))
        sets_twice = sets_twice or siblings.sets_twice
        return Parsed(root_of(self.grammar, children), tuple(problems), too_deep, sets_twice=sets_twice)

    def lines_of(self, text: str, marks: Mapping[str, Secret] = NO_SECRETS) -> Iterator[tuple[int, Path]]:
        """Each line number (from 1) that holds a statement, with the path of the statement. Slow; for
        pointing at places."""
        reader = _BlockReader(self, marks, with_places=True)
        reader.read(self.plain(text).split("\n"), 1)
        yield from reader.places

    def leaf(self, statement: Statement) -> Node:
        """The node of a leaf; equal leaves are one node."""
        if statement.has_secret or is_one_off():
            return Node(statement, {})
        return self._leaves.get(statement) or self._leaves.setdefault(statement, Node(statement, {}))

    def masked(self, tree: Node) -> str:
        """The text of `tree` for looking at: secrets are fingerprints."""
        return "".join(f"{line.masked}\n" for line, _ in self.printed(tree))

    def written(self, tree: Node) -> str:
        """The text of `tree` as a device takes it, secrets revealed."""
        return "".join(f"{line.written()}\n" for line, _ in self.printed(tree))

    def printed(self, tree: Node) -> Iterator[tuple[Line, Path]]:
        """The lines of everything below `tree`, each with the path of its statement."""
        yield from self._printed(tree, (), (), 0)

    def _printed(
        self, node: Node, path: Path, outer: tuple[Statement, ...], depth: int
    ) -> Iterator[tuple[Line, Path]]:
        margin = " " * (self.indent * depth)
        for identity, child in node.children.items():
            here, rule = (*path, identity), child.statement.rule
            if not rule.inline:
                for line in text_lines(self.grammar, child.statement, outer, margin):
                    yield line, here
                if child.children:
                    yield from self._printed(child, here, (), depth + 1)
                if rule.end is not None:
                    yield Line((margin + rule.end,)), here
                continue
            if not child.children or rule.presence:
                yield own_line(self.grammar, child.statement, outer).behind(margin), here
            yield from self._printed(child, here, (*outer, child.statement), depth)


def own_line(grammar: Grammar, statement: Statement, outer: tuple[Statement, ...]) -> Line:
    """The line of a statement; `outer` are those around it on the same line."""
    rule = statement.rule
    form = rule.value_forms.get(statement.value, rule.form)
    if form is None:
        return Line((opaque_text(statement),))
    by_path = {other.rule.path: other for other in (*outer, statement)}
    return lines.of_words(form.words(by_path, grammar.quote))


def opaque_text(statement: Statement, spelling: Callable[[str], str] = str) -> Value:
    """The line of a statement that no grammar describes, as it is written."""
    line = next((value for value in statement.arguments if value is not None), "")
    if isinstance(line, Secret) or statement.rule.known or statement.rule.secret_words is None:
        return line
    text = spelling(line)
    return SuspectText(text, statement.rule.secret_words.mask(text))


def text_lines(
    grammar: Grammar, statement: Statement, outer: tuple[Statement, ...], margin: str
) -> Iterator[Line]:
    """The line of a statement, or the lines of text between delimiters: only the first of those
    is indented."""
    rule = statement.rule
    if not rule.delimiters:
        yield own_line(grammar, statement, outer).behind(margin)
        return
    value = statement.arguments[0] or ""
    text = value if isinstance(value, str) else "" if value.is_forgotten else value.reveal()
    delimiter = next((d for d in rule.delimiters if d not in text), rule.delimiters[0])
    yield Line((f"{margin}{rule.name} {delimiter}",))
    for part in [value] if isinstance(value, Secret) else value.split("\n"):
        yield Line((part,))
    yield Line((delimiter,))


# A tab between words is fine; inside a text in quotes it would be typed as the key that it is.
_ODD = re.compile(f'{ODD.pattern}|"[^"\n]*\t[^"\n]*"')


def odd_characters(text: str) -> Iterator[TextProblem]:
    """Where `text` holds characters that devices do not take as they are."""
    for number, line in enumerate(text.split("\n"), 1):
        for match in _ODD.finditer(line):
            character = "\t" if len(match[0]) > 1 else match[0]
            message = f"the line contains {named_odd(character)}, which devices do not accept"
            hint = "use an ordinary space, or remove it" if character != "\t" else "use spaces inside quotes"
            yield TextProblem(number, message, character, hint)
            break


class _BlockReader:
    """Reads lines into nodes. The stack holds the nodes that are open, how far in each stands, and its first
    child."""

    def __init__(
        self, syntax: IndentedSyntax, marks: Mapping[str, Secret], *, with_places: bool = False
    ) -> None:
        self.problems: list[TextProblem] = []
        self.places: list[tuple[int, Path]] = []
        self.has_secrets = False
        self.too_deep = False
        self._with_places = with_places
        self._syntax = syntax
        self._grammar = syntax.grammar
        self._siblings = SiblingIndex(syntax.grammar)
        self._marks = marks
        self._nodes = [root_of(syntax.grammar)]
        self._indents, self._belows = [-1], [-1]

    def read(self, lines: list[str], first_line: int) -> tuple[Node, ...]:
        nodes, indents, belows, comment = self._nodes, self._indents, self._belows, self._syntax.comment
        special = not self._syntax._by_block
        waiting: Statement | None = None  # a leaf, unless a line below it is indented further
        waiting_in: dict[str, Node] = {}
        waiting_indent = 0
        skip = 0
        for number, line in enumerate(lines, first_line):
            left = line.lstrip(" \t")
            stripped = left.rstrip(" \t\r")
            if skip or not stripped or stripped.startswith(comment):
                skip -= 1 if skip else 0
                continue
            indent = len(line) - len(left)
            if "\t" in line[:indent]:
                indent = len(line[:indent].expandtabs(TAB))
            if special and self._ended(stripped, indent):
                waiting = None
                continue
            if waiting is not None and indent > waiting_indent:
                self._open_in(waiting_in, waiting, waiting_indent)
            if len(nodes) > DEEPEST:
                self._give_up(number, stripped)
                break
            while indents[-1] >= indent:
                nodes.pop()
                indents.pop()
                belows.pop()
            if belows[-1] != indent:
                belows[-1] = self._first_child(indents[-1], belows[-1], indent, number, line)
            context = nodes[-1].statement.rule
            if special and (rule := _delimited(context, stripped)) is not None:
                made, skip = self._between(rule, stripped, lines[number - first_line + 1 :], number)
            else:
                made = context.cache.get(stripped) or self._statements(context, stripped, number)
            statement = made[-1]
            spend(statement.rule.known, not statement.rule.known)
            siblings = nodes[-1].children if len(made) == 1 else self._within(made[:-1])
            self.has_secrets = self.has_secrets or statement.has_secret
            path = self._path_of(made) if self._with_places else ()
            if statement.rule.holds_others:
                waiting = None
                if len(made) == 1:
                    self._open(statement, indent)
                else:
                    self._open_in(siblings, statement, indent)
                path = (*path, self._nodes[-1].identity)
            else:
                # A leaf has no contents, so it is opened only when an indented line follows.
                waiting, waiting_in, waiting_indent = statement, siblings, indent
                if statement.identity not in siblings:
                    siblings[statement.identity] = self._syntax.leaf(statement)
                else:
                    self._restate(siblings, statement)
                path = (*path, statement.identity)
            if self._with_places:
                self.places.append((number, path))
        return tuple(nodes[0].children.values())

    def _give_up(self, number: int, stripped: str) -> None:
        self.too_deep = True
        message, word = f"more than {DEEPEST} levels of nesting", _first_word(stripped)
        self.problems.append(TextProblem(number, message, word, "check the indentation"))

    @property
    def sets_twice(self) -> bool:
        """Whether a leaf was set again with another value."""
        return self._siblings.sets_twice

    def _path_of(self, made: Sequence[Statement]) -> Path:
        """Where the last of the statements of a line stands, without itself."""
        return (*(node.statement.identity for node in self._nodes[1:]), *(one.identity for one in made[:-1]))

    def _restate(self, siblings: dict[str, Node], statement: Statement) -> None:
        """Add a leaf that exists already, or an unknown statement with the same words."""
        self._siblings.make_room(siblings, statement)
        present = siblings.get(statement.identity)
        below = present.children if present is not None else None
        if present is not None and statement.rule.kind == "leaf" and present.statement != statement:
            self._siblings.sets_twice = True
        siblings[statement.identity] = Node(statement, below) if below else self._syntax.leaf(statement)

    def _within(self, outer: tuple[Statement, ...]) -> dict[str, Node]:
        """The children of the innermost of `outer`, which stand on the same line."""
        siblings = self._nodes[-1].children
        for statement in outer:
            self._siblings.make_room(siblings, statement)
            node = siblings.get(statement.identity)
            if node is None:
                node = siblings[statement.identity] = Node(statement, {})
            siblings = node.children
        return siblings

    def _open(self, statement: Statement, indent: int) -> None:
        self._open_in(self._nodes[-1].children, statement, indent)

    def _open_in(self, siblings: dict[str, Node], statement: Statement, indent: int) -> None:
        """Open `statement` for the lines that follow. A statement that is repeated is opened again, with its
        former contents."""
        node = siblings.get(statement.identity)
        if node is not None and not (statement.rule.known and node.statement.rule.known):
            self._siblings.make_room(siblings, statement)
            statement = statement if statement.rule.known else self._siblings.another(siblings, statement)
            node = None
        if node is None or node.statement is not statement or not statement.rule.holds_others:
            node = siblings[statement.identity] = Node(statement, {} if node is None else dict(node.children))
        self._nodes.append(node)
        self._indents.append(indent)
        self._belows.append(-1)

    def _ended(self, stripped: str, indent: int) -> bool:
        """Whether the line is the word with which an open section ends; closes it then."""
        for number in range(len(self._nodes) - 1, 0, -1):
            if self._nodes[number].statement.rule.end == stripped and indent >= self._indents[number]:
                del self._nodes[number:], self._indents[number:], self._belows[number:]
                return True
        return False

    def _between(
        self, rule: Rule, stripped: str, following: list[str], number: int
    ) -> tuple[tuple[Statement, ...], int]:
        """Text over several lines between delimiters, and how many of the `following` lines belong to it."""
        rest = stripped[len(rule.name) :].strip()
        delimiter = rest[:1] if all(len(d) == 1 for d in rule.delimiters) else rest.split()[0] if rest else ""
        text, skip = [rest[len(delimiter) :].strip()], 0
        closed = bool(text[0]) and delimiter in text[0]
        while delimiter and not closed and skip < len(following):
            text.append(following[skip].rstrip())
            closed = delimiter in following[skip]
            skip += 1
        if not closed:
            self.problems.append(
                TextProblem(
                    number,
                    f"the text of '{rule.name}' is not closed",
                    rule.name,
                    f"end it with a line {delimiter!r}",
                )
            )
            return (self._grammar.opaque(stripped),), 0
        before, _, after = text[-1].partition(delimiter)
        if after.strip():
            self.problems.append(
                TextProblem(
                    number + skip, f"'{after.strip()}' follows the end of the text", after.strip(), None
                )
            )
        value = with_secrets("\n".join([*text[:-1], before.rstrip()]).strip("\n"), self._marks)
        if rule.secret and isinstance(value, str):
            value = self._grammar.fingerprints.secret("", value)
        if isinstance(value, Secret) and not rule.secret:
            message = (
                f"the secret '{value.name}' is in '{rule.name}', which the platform does not mark as secret"
            )
            self.problems.append(
                TextProblem(number, message, rule.name, ("use it only in statements marked as secret"))
            )
        elif isinstance(value, Secret) and value.name:
            self.problems.extend(_problem_of(value, rule, number))
        return (self._grammar.made(rule, (value,)),), skip

    def _first_child(self, outer_indent: int, below: int, indent: int, number: int, line: str) -> int:
        """How far in the children of the open statement stand; tells where this line does not fit that."""
        word = _first_word(line)
        if "\t" in line[: len(line) - len(line.lstrip(" \t"))]:
            self.problems.append(
                TextProblem(
                    number, "the indentation has a tab", word, f"use {self._syntax.indent} spaces per level"
                )
            )
        if outer_indent < 0 and indent > 0:
            message = f"'{word}' is indented, but no line above it can contain it"
            self.problems.append(TextProblem(number, message, word, "remove the indentation"))
        elif below >= 0:
            message = f"'{word}' is indented by {indent} spaces, the lines around it by {below}"
            self.problems.append(TextProblem(number, message, word, "add or remove spaces"))
        return 0 if outer_indent < 0 else indent if below < 0 else below

    def _statements(self, context: Rule, line: str, number: int) -> tuple[Statement, ...]:
        if not context.known:
            return (self._grammar.opaque(line),)
        try:
            return self._grammar.statements(context, line, self._marks)
        except UnknownStatement as unknown:
            self.problems.append(TextProblem(number, unknown.message, unknown.word, unknown.hint))
            opaque = self._grammar.opaque(_masked(line, self._marks))
            entry = self._grammar.inline_entry(context, line, self._marks)
            return (opaque,) if entry is None else (entry, opaque)


def _problem_of(secret: Secret, rule: Rule, number: int) -> Iterator[TextProblem]:
    """Why a secret that is text over several lines cannot be sent, if it cannot."""
    if secret.is_forgotten:
        return
    try:
        check_secret(secret.name, secret.reveal(), several_lines=True)
    except WrongValue as wrong:
        yield TextProblem(number, str(wrong), rule.name, wrong.hint)
    if all(delimiter in secret.reveal() for delimiter in rule.delimiters):
        message = (
            f"the secret '{secret.name}' contains every delimiter that could end the text of '{rule.name}'"
        )
        yield TextProblem(
            number, message, rule.name, f"use a secret without {' or '.join(map(repr, rule.delimiters))}"
        )


def _first_word(line: str) -> str:
    """Return the text before the first space or tab: devices know no other kind of space."""
    return re.split("[ \t]", line.strip(" \t"), maxsplit=1)[0]


def _delimited(context: Rule, line: str) -> Rule | None:
    """The statement with text between delimiters that the line begins, if it begins one."""
    return next(
        (
            r
            for r in context.children.values()
            if r.delimiters and (line == r.name or line.startswith(r.name + " "))
        ),
        None,
    )


def _masked(line: str, marks: Mapping[str, Secret]) -> str:
    found: Value = with_secrets(line, marks) if marks else line
    return line if isinstance(found, str) else str(found)
