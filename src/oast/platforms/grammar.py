"""The grammar of a platform: which statements exist where, and what each one is.

The concepts are those of a YANG data tree (RFC 7950): container, list entry with keys, leaf, leaf-list,
ordered-by user, default, presence. A grammar turns one line of text, in its context, into a `Statement`.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from oast.nearest import nearest, suggestion
from oast.platforms.types import ValueType, WrongValue

SortKey = tuple[int, tuple[str | int, ...]]
Kind = Literal["container", "list", "leaf", "leaf-list"]

# One statement text is remembered per context; a fleet repeats itself. The bound keeps a hostile input from filling memory.
REMEMBERED_STATEMENTS = 200_000


class UnknownStatement(ValueError):
    """A line that the grammar does not allow in its context."""

    def __init__(self, message: str, *, word: str, hint: str | None = None) -> None:
        super().__init__(message)
        self.message = message
        self.word = word
        self.hint = hint


@dataclass(frozen=True, slots=True)
class Argument:
    """A value of type `type`, behind the word `keyword` when it has one; a flag is a keyword without a type."""

    type: ValueType | None
    keyword: str | None = None


@dataclass(eq=False, slots=True)
class Rule:
    """What one kind of statement is. Equal only to itself.

    `telling`: it, or one below it, is unique, refers to others or needs others, so that checks have to look there.
    """

    word: str
    path: str
    kind: Kind
    order: int = 0
    arguments: tuple[Argument, ...] = ()
    keys: int = 0
    default: str | None = None
    user_ordered: bool = False
    presence: bool = False
    secret: bool = False
    volatile: bool = False
    unique: bool = False
    refers: str | None = None
    needs: str | None = None
    known: bool = True
    telling: bool = False
    children: dict[str, Rule] = field(default_factory=dict)
    statements: dict[str, Statement] = field(default_factory=dict, repr=False)

    positional: tuple[Argument, ...] = field(init=False)
    optional: dict[str, Argument] = field(init=False)
    vanishes: bool = field(init=False)
    """Whether a statement of it says nothing when nothing stands below it."""
    holds_others: bool = field(init=False)
    """Whether other statements may stand below one of it."""

    def __post_init__(self) -> None:
        self.holds_others = self.kind in ("container", "list")
        self.vanishes = self.kind == "container" and self.known and not self.presence
        self.positional = tuple(a for a in self.arguments if a.keyword is None)
        self.optional = {a.keyword: a for a in self.arguments if a.keyword is not None}


class Statement:
    """One configuration statement in canonical spelling; shared, never changed.

    `identity` is what it is known by among its siblings: a leaf by its name, a list entry by its keys,
    a leaf-list item by its whole text. `silent`: canonical text leaves it out, as a default or as volatile.
    `sort_key` is the grammar's order, then the name; `place_key` lacks the name where the user orders.
    """

    __slots__ = ("identity", "place_key", "rule", "silent", "sort_key", "text")

    def __init__(self, rule: Rule, identity: str, text: str) -> None:
        self.rule = rule
        self.identity = identity
        self.text = text
        self.silent = rule.volatile or (rule.default is not None and text == f"{rule.word} {rule.default}")
        self.sort_key: SortKey = (rule.order, natural(identity))
        # With the grammar's order alone, Python's stable sort keeps the user's order.
        self.place_key: SortKey = (rule.order, ()) if rule.user_ordered or not rule.known else self.sort_key

    def __repr__(self) -> str:
        return f"<statement of {self.rule.path}>"

    @property
    def target(self) -> str:
        """The words behind the first, as written."""
        return self.text[len(self.rule.word) + 1 :]


_DIGITS = re.compile(r"([0-9]+)")


def natural(text: str) -> tuple[str | int, ...]:
    """A sort key under which `port10` comes after `port9`: texts and numbers alternate, beginning with a text."""
    if text.isalpha():
        return (text,)
    parts: list[str | int] = list(_DIGITS.split(text))
    parts[1::2] = [int(part) for part in parts[1::2]]
    return tuple(parts)


_WORD = re.compile(r'"((?:[^"\\]|\\.)*)"(?=\s|$)|(\S+)')


def words_of(line: str) -> list[str]:
    """The words of a line; double quotes hold one word together, a backslash in them escapes. Raises UnknownStatement."""
    if '"' not in line:
        return line.split()
    words = []
    for match in _WORD.finditer(line):
        if match[2] is not None and match[2].startswith('"'):
            raise UnknownStatement("a quoted text is not closed", word=match[2], hint="add the closing quote")
        words.append(match[2] if match[2] is not None else re.sub(r"\\(.)", r"\1", match[1]))
    return words


class Grammar:
    """All statements of a platform, below `root`."""

    def __init__(self, platform: str, root: Rule) -> None:
        self.platform = platform
        self.root = root
        self.root_statement = Statement(root, "", "")
        self._unknown = Rule(word="", path="?", kind="container", order=1_000_000, known=False)
        self._contexts: dict[str, list[Rule]] = {}
        _mark_telling(root)
        for rule in self.rules():
            self._contexts.setdefault(rule.word, []).append(rule)

    def rules(self) -> Iterator[Rule]:
        """Every rule, outer before inner, in the grammar's own order."""
        waiting = list(self.root.children.values())[::-1]
        while waiting:
            rule = waiting.pop()
            yield rule
            waiting.extend(list(rule.children.values())[::-1])

    def check_pattern(self, levels: Sequence[str]) -> None:
        """Whether a pattern such as `("interface *", "mtu *")` can match anything. Raises UnknownStatement with the nearest word."""
        contexts = [self.root]
        for level in levels:
            word = level.split(" ", 1)[0]
            words = {name: child for context in contexts for name, child in context.children.items()}
            matching = [child for context in contexts for name, child in context.children.items() if fnmatch.fnmatchcase(name, word)]
            if not matching:
                where = f"below '{contexts[0].word}'" if contexts[0].word else "at the left edge"
                raise UnknownStatement(f"'{word}' is not a statement {where}", word=word, hint=suggestion(word, words))
            contexts = matching

    def statement(self, context: Rule, line: str) -> Statement:
        """The canonical statement that `line` (stripped) is below `context`. Raises UnknownStatement."""
        known = context.statements.get(line)
        if known is not None:
            return known
        made = self._statement(context, line)
        if len(context.statements) >= REMEMBERED_STATEMENTS:
            context.statements.clear()
        # Two spellings of one statement share one record, so that equal trees are made of identical parts.
        made = context.statements.setdefault(made.text, made) if made.rule.known else made
        context.statements[line] = made
        return made

    def opaque(self, line: str) -> Statement:
        """A statement the grammar does not know, kept by its words: it can be carried and printed, not delivered."""
        text = " ".join(line.split())
        return Statement(self._unknown, text, text)

    def _statement(self, context: Rule, line: str) -> Statement:
        words = words_of(line)
        rule = self._rule(context, words[0])
        canonical = arguments_of(rule, words[1:])
        text = " ".join((rule.word, *canonical))
        if rule.kind == "list":
            identity = " ".join((rule.word, *canonical[: rule.keys]))
        else:
            identity = text if rule.kind == "leaf-list" else rule.word
        return Statement(rule, identity, text)

    def _rule(self, context: Rule, word: str) -> Rule:
        exact = context.children.get(word)
        if exact is not None:
            return exact
        starting = [rule for name, rule in context.children.items() if name.startswith(word)]
        if len(starting) == 1:
            return starting[0]
        where = f"below '{context.word}'" if context.word else "at the left edge"
        if starting:
            names = ", ".join(rule.word for rule in starting)
            raise UnknownStatement(f"'{word}' {where} can mean {names}", word=word, hint="write one more letter")
        raise UnknownStatement(f"'{word}' is not a statement {where}", word=word, hint=self._placement(context, word))

    def _placement(self, context: Rule, word: str) -> str | None:
        elsewhere = self._contexts.get(word, []) or [r for w, rules in self._contexts.items() if w.startswith(word) for r in rules]
        # A short word can be the beginning of many; only what cannot be meant otherwise is worth a hint.
        elsewhere = elsewhere if len(elsewhere) == 1 or word in self._contexts else []
        if elsewhere:
            outer = elsewhere[0].path.rpartition("/")[0]
            place = f"below '{outer.replace('/', ' / ')}'" if outer else "at the left edge"
            return f"'{word}' belongs {place}: look at the indentation"
        near = nearest(word, context.children)
        if near:
            return f"did you mean '{near}'?"
        if not context.children:
            return f"nothing stands below '{context.word}'"
        return f"known here: {', '.join(sorted(context.children))}"


def _mark_telling(rule: Rule) -> bool:
    below = [_mark_telling(child) for child in rule.children.values()]
    rule.telling = any(below) or bool(rule.unique or rule.refers or rule.needs)
    return rule.telling


def arguments_of(rule: Rule, words: Sequence[str]) -> list[str]:
    """The canonical arguments of a statement of `rule` from the words behind its first. Raises UnknownStatement."""
    canonical: list[str] = []
    position = 0
    for argument in rule.positional:
        if position >= len(words):
            needed = argument.type.help if argument.type else "a word"
            raise UnknownStatement(f"'{rule.word}' lacks {needed}", word=rule.word)
        value, position = _value(rule, argument, words, position)
        canonical.append(value)
    if position == len(words):
        return canonical
    optional = rule.optional
    given: dict[str, str] = {}
    while position < len(words):
        keyword = _keyword(rule, words[position], optional)
        if keyword in given:
            raise UnknownStatement(f"'{keyword}' stands twice in '{rule.word}'", word=keyword)
        position += 1
        argument = optional[keyword]
        if argument.type is None:
            given[keyword] = keyword
            continue
        if position >= len(words):
            raise UnknownStatement(f"'{keyword}' lacks {argument.type.help}", word=keyword)
        value, position = _value(rule, argument, words, position)
        given[keyword] = f"{keyword} {value}"
    # `any` says nothing that leaving the keyword out does not say.
    canonical.extend(given[k] for k in optional if k in given and given[k] != f"{k} any")
    return canonical


def _keyword(rule: Rule, word: str, optional: Mapping[str, Argument]) -> str:
    starting = [word] if word in optional else [k for k in optional if k.startswith(word)]
    if len(starting) == 1:
        return starting[0]
    if not optional:
        raise UnknownStatement(f"'{word}' is one word too many for '{rule.word}'", word=word, hint="put text with spaces in quotes")
    near = nearest(word, optional)
    hint = f"did you mean '{near}'?" if near else f"known here: {', '.join(optional)}"
    raise UnknownStatement(f"'{word}' is not a part of '{rule.word}'", word=word, hint=hint)


def _value(rule: Rule, argument: Argument, words: Sequence[str], position: int) -> tuple[str, int]:
    value_type = argument.type
    if value_type is None:
        raise AssertionError("only a keyword can be without a type")
    most = len(words) - position if value_type.most is None else value_type.most
    taken = words[position : position + most]
    try:
        return value_type.convert(taken), position + len(taken)
    except WrongValue as wrong:
        raise UnknownStatement(f"'{' '.join(taken)}' is not {wrong}", word=taken[0], hint=wrong.hint) from None
    except ValueError:
        raise UnknownStatement(f"'{taken[0]}' is not {value_type.help}", word=taken[0]) from None
