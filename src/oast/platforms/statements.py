"""What a statement is: its rule, its keys and its values.

The concepts are those of a YANG data tree (RFC 7950): container, list entry with keys, leaf, leaf-list,
ordered-by user, default, presence, leafref, min-elements. Text is not part of it: `oast.platforms.grammar`
and the syntaxes turn text into statements and back.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

from oast.platforms.secret_words import SecretWords
from oast.platforms.types import ValueType, quoted
from oast.records import SHOWN, Secret, Value

if TYPE_CHECKING:
    from oast.platforms.matching import Branch, Form

SortKey = tuple[int, tuple[str | int, ...]]
Kind = Literal["container", "list", "leaf", "leaf-list"]
Arguments = tuple[Value | None, ...]


class UnknownStatement(ValueError):
    """A line that the grammar does not allow in its context. `depth` is how many of its words were
    understood."""

    def __init__(self, message: str, *, word: str, hint: str | None = None, depth: int = 0) -> None:
        super().__init__(message)
        self.message = message
        self.word = word
        self.hint = hint
        self.depth = depth


@dataclass(frozen=True, slots=True)
class Argument:
    """One argument of a statement. A flag has no `type`: its word is all there is to it."""

    name: str
    type: ValueType | None
    key: bool = False
    secret: bool = False


@dataclass(frozen=True, slots=True)
class Option:
    """A word that may stand in a statement, with the arguments behind it (their numbers); left out, it means
    `default`."""

    keyword: str
    numbers: tuple[int, ...]
    default: Arguments | None = None


@dataclass(frozen=True, slots=True)
class Leafref:
    """The argument `number` names an entry: the value of argument `target_argument` of a statement at
    `target`."""

    number: int
    target: str
    target_argument: int = 0


@dataclass(frozen=True, slots=True)
class Spelling:
    """How a statement is sent to a device, where that is not its line: one template a line, with {…} for its
    parts."""

    set: tuple[str, ...] = ()
    change: tuple[str, ...] = ()
    remove: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Module:
    """A YANG module (RFC 7950, section 5.1): what names belong to in XML, and the prefix they are written
    with."""

    name: str
    namespace: str
    prefix: str


@dataclass(eq=False, slots=True)
class Rule:
    """One kind of statement. Equal only to itself.

    `inline`: its contents are written on the same line. `end`: the word that ends the section. `delimiters`:
    the value is text over several lines between two of them. `concerns_others`: it, or a statement inside, is
    unique, a leafref or has a least number, so that checks must visit it; `least` are the statements inside
    that must not be missing. `filters`: it binds its parent to a list in which the first match decides.
    `gate`: its parent is enabled while it is "true". `structural`: there is no grammar here, the line is its
    own key. `module` is where its name belongs in XML.
    """

    name: str
    path: str
    kind: Kind
    order: int = 0
    arguments: tuple[Argument, ...] = ()
    options: Mapping[str, Option] = field(default_factory=dict)
    default: Arguments | None = None
    user_ordered: bool = False
    appended_only: bool = False
    presence: bool = False
    volatile: bool = False
    unique: bool = False
    inline: bool = False
    end: str | None = None
    delimiters: tuple[str, ...] = ()
    min_elements: int = 0
    max_elements: int | None = None
    """How many of it there may be in one entry or container (RFC 7950, section 7.7.6); None for as many as
    one likes."""
    leafrefs: tuple[Leafref, ...] = ()
    spelling: Spelling = field(default_factory=Spelling)
    known: bool = True
    structural: bool = False
    module: Module | None = None
    concerns_others: bool = False
    filters: bool = False
    gate: bool = False
    least: tuple[Rule, ...] = ()
    hide: Callable[[str], str] = field(default=str, repr=False)
    """The conversion of a statement's text before it is stored."""
    secret_words: SecretWords | None = field(default=None, repr=False)
    """Of a line that no grammar describes: the words after which a secret may stand."""
    outer: Rule | None = field(default=None, repr=False)
    children: dict[str, Rule] = field(default_factory=dict, repr=False)

    written: str | None = None
    """The line as the platform file spells it; None for the name with the arguments behind it."""
    lines: Mapping[str, str] = field(default_factory=dict)
    """The line for each value of a leaf that has no place in its line for the value."""
    form: Form | None = field(default=None, repr=False)
    value_forms: Mapping[str, Form] = field(default_factory=dict, repr=False)
    branch: Branch | None = field(default=None, repr=False)
    cache: dict[str, tuple[Statement, ...]] = field(default_factory=dict, repr=False)
    instances: dict[Arguments, Statement] = field(default_factory=dict, repr=False)

    keys: tuple[int, ...] = field(init=False)
    positional: tuple[int, ...] = field(init=False)
    vanishes: bool = field(init=False)
    """Return whether a statement of it means nothing without contents."""
    holds_others: bool = field(init=False)
    """Return whether a statement of it may have contents."""

    def __post_init__(self) -> None:
        self.holds_others = self.kind in ("container", "list")
        self.vanishes = (
            (self.kind == "container" or (self.kind == "list" and self.inline))
            and self.known
            and not self.presence
        )
        self.keys = tuple(n for n, argument in enumerate(self.arguments) if argument.key)
        optional = {n for option in self.options.values() for n in option.numbers}
        self.positional = tuple(n for n in range(len(self.arguments)) if n not in optional)

    @property
    def local(self) -> str:
        """Its name in XML: without the module that tells it from another of that name."""
        return self.name.rpartition(":")[2]

    @property
    def tag(self) -> str:
        """Its element's name, as `{namespace}name`."""
        return f"{{{self.module.namespace}}}{self.local}" if self.module is not None else self.local

    @property
    def secret(self) -> bool:
        return any(argument.secret for argument in self.arguments)

    def argument(self, name: str) -> int | None:
        """The number of the argument called `name`."""
        return next((n for n, argument in enumerate(self.arguments) if argument.name == name), None)


class Statement:
    """One configuration statement: its rule and its arguments in canonical form (None: left out). Never
    changed; shared.

    `identity` is what it is known by among its siblings: a leaf by its name, a list entry by its keys, a
    leaf-list item by its value; in it a secret is a digest. `silent`: canonical form leaves it out, as a
    default or as volatile. `sort_key` is the grammar's order, then the name; `place_key` lacks the name where
    the user orders.
    """

    __slots__ = (
        "_hash",
        "_text",
        "arguments",
        "copy",
        "has_secret",
        "identity",
        "place_key",
        "rule",
        "silent",
        "sort_key",
    )

    def __init__(self, rule: Rule, arguments: Arguments, *, copy: int = 0) -> None:
        self.rule = rule
        self.arguments = arguments
        self.copy = copy
        self.has_secret = (rule.secret or rule.secret_words is not None) and any(
            isinstance(value, Secret) for value in arguments
        )
        self.identity = _identity(rule, arguments) + (f" #{copy}" if copy else "")
        self.silent = rule.volatile or (rule.default is not None and arguments == rule.default)
        self.sort_key: SortKey = (rule.order, natural_key(self.identity))
        # With the grammar's order alone, Python's stable sort keeps the user's order.
        self.place_key: SortKey = (
            (rule.order, ()) if rule.user_ordered or rule.structural or not rule.known else self.sort_key
        )
        self._text: str | None = None
        self._hash = hash((rule.path, arguments, self.identity))

    def __hash__(self) -> int:
        return self._hash

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        return (
            isinstance(other, Statement)
            and self._hash == other._hash
            and self.rule is other.rule
            and self.arguments == other.arguments
            and self.identity == other.identity
        )

    def __repr__(self) -> str:
        return f"<statement of {self.rule.path}>"

    def with_arguments(self, arguments: Arguments) -> Statement:
        """The same statement with other arguments."""
        return Statement(self.rule, arguments, copy=self.copy)

    @property
    def keys(self) -> tuple[Value, ...]:
        """What tells a list entry from its siblings."""
        return tuple(value for number in self.rule.keys if (value := self.arguments[number]) is not None)

    @property
    def values(self) -> tuple[Value, ...]:
        """Its arguments but for keys and for options that are left out."""
        return tuple(v for n, v in enumerate(self.arguments) if v is not None and n not in self.rule.keys)

    @property
    def value(self) -> str:
        """The value of a leaf, the first key of an entry: the first argument. "" without arguments, and for a
        secret."""
        first = next((value for value in self.arguments if value is not None), "")
        return first if isinstance(first, str) else ""

    @property
    def text(self) -> str:
        """The statement to look at: the name and its parts, secrets as fingerprints."""
        if self._text is None:
            words = self.rule.secret_words
            mask = str if words is None else _withheld
            text = (
                self.rule.form.own_text(self)
                if self.rule.form is not None
                else " ".join(_parts(self.rule, self.arguments, mask))
            )
            text = self.rule.hide(text.replace("\n", "\\n"))
            self._text = text if words is None else words.mask(text)
        return self._text


def _identity(rule: Rule, arguments: Arguments) -> str:
    if rule.kind == "leaf-list":
        return " ".join(_parts(rule, arguments, _digest))
    if rule.kind == "list" or not rule.known:
        chosen = tuple(value if n in rule.keys else None for n, value in enumerate(arguments))
        return " ".join(_parts(rule, chosen, _digest))
    return rule.name


def _withheld(secret: Secret) -> str:
    """A whole line of which no more than the fingerprint was kept."""
    return f"<line {secret.digest[:SHOWN]}>"


def _digest(secret: Secret) -> str:
    return f"<secret {secret.digest}>"


def _parts(rule: Rule, arguments: Arguments, mask: Callable[[Secret], str]) -> list[str]:
    """The name and what is given of the arguments, each as one word; options behind their keywords."""
    parts = [rule.name] if rule.name and not rule.structural and rule.known else []
    for number in rule.positional:
        value = arguments[number]
        if value is not None:
            parts.append(
                mask(value)
                if isinstance(value, Secret)
                else quoted(value)
                if rule.known and not rule.structural
                else value
            )
    for option in rule.options.values():
        given = [value for number in option.numbers if (value := arguments[number]) is not None]
        if given:
            parts.append(option.keyword)
            if rule.arguments[option.numbers[0]].type is not None:
                parts.extend(mask(value) if isinstance(value, Secret) else quoted(value) for value in given)
    return parts


_DIGITS = re.compile(r"([0-9]+)")
# A number with more digits is not a count; converting it would take long.
_COUNTED = 40


def natural_key(text: str) -> tuple[str | int, ...]:
    """A sort key under which `port10` comes after `port9`: texts and numbers alternate, beginning with a
    text."""
    if text.isalpha():
        return (text,)
    parts: list[str | int] = list(_DIGITS.split(text))
    parts[1::2] = [
        int(part) if len(part) <= _COUNTED else 10**_COUNTED + len(part) for part in map(str, parts[1::2])
    ]
    return tuple(parts)
