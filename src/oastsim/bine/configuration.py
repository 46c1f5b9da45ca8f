"""A bine device's configuration: lines take effect one at a time, or are refused and change nothing."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from oastsim.bine.schema import STATEMENTS, Known
from oastsim.values import is_number

STEP = 2
Key = tuple[str, ...]
# Statements that say nothing about interfaces and routes.
INERT = frozenset(("description", "snmp", "community", "target", "contact", "location"))
# What says which packets get through, and nothing else.
FILTERING = frozenset(("ingress-acl", "egress-acl", "acl", "ace"))


class Refused(Exception):
    """A line that was not carried out; `column` (from 0) is where the wrong word begins in it."""

    def __init__(self, message: str, column: int) -> None:
        super().__init__(message)
        self.message = message
        self.column = column


@dataclass
class Item:
    """One statement that is configured, and those below it by key."""

    known: Known
    values: tuple[str, ...] = ()
    below: dict[Key, Item] = field(default_factory=dict)

    @property
    def key(self) -> Key:
        if self.known.shape == "entry":
            return (self.known.word, *self.values[: self.known.named_by])
        return (self.known.word, *self.values) if self.known.shape == "item" else (self.known.word,)

    @property
    def line(self) -> str:
        return " ".join((self.known.word, *self.values))

    def get(self, *key: str) -> Item | None:
        return self.below.get(key)

    def value(self, word: str) -> str | None:
        """The value of a single statement below this one, or its default."""
        found = self.below.get((word,))
        return found.values[0] if found else self.known.below[word].default

    def all(self, word: str) -> Iterator[Item]:
        """Everything configured below this one with `word`."""
        return (item for key, item in self.below.items() if key[0] == word)


Word = tuple[str, int]


def split(line: str) -> list[Word]:
    """The words of a line with the column each begins at. Raises Refused for a quote that is not closed."""
    words = []
    for match in re.finditer(r'"((?:[^"\\]|\\.)*)"|[^ \t]+', line):
        if match[0].startswith('"') and match[1] is None:
            raise Refused("the quote is not closed", match.start())
        words.append((re.sub(r"\\(.)", r"\1", match[1]) if match[1] is not None else match[0], match.start()))
    return words


def quote(text: str) -> str:
    if text and not re.search(r'[\s"\\#]', text):
        return text
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


class Configuration:
    """The statements of one device. `ports` are the interfaces its hardware has."""

    def __init__(self, ports: frozenset[str]) -> None:
        self.root = Item(STATEMENTS)
        self.ports = ports
        # Counts what has really changed of what the network depends on: interfaces, addresses, routing.
        self.revision = 0
        # And of what is let through.
        self.filters_revision = 0

    def text(self) -> str:
        """The whole configuration as bine lists it."""
        return "".join(line + "\n" for line in _lines(self.root, 0))

    def load(self, text: str) -> None:
        """Add every line of `text`. Raises Refused at the first that is wrong."""
        stack: list[tuple[int, Item]] = []
        for line in text.split("\n"):
            if line.strip() and not line.strip().startswith("#"):
                self.enter(line, stack)

    def enter(self, line: str, stack: list[tuple[int, Item]]) -> None:
        """Carry out one line. `stack` is the session's: which statements are open, and how far in each
        stands."""
        indent = len(line) - len(line.lstrip(" "))
        while stack and stack[-1][0] >= indent:
            stack.pop()
        if indent and not stack:
            raise Refused("this line is indented, and nothing is open above it", indent)
        context = stack[-1][1] if stack else self.root
        words = split(line)
        verb = words[0][0]
        if verb == "remove":
            self._remove(context, words[1:], line)
        elif verb == "insert":
            self._insert(context, words[1:], line)
        else:
            item = self._set(context, _statement(context.known, words, line))
            if item.known.below:
                stack.append((indent, item))

    def _set(self, context: Item, new: Item, column: int = 0) -> Item:
        self._check(context, new, column)
        present = context.below.get(new.key)
        if present is not None:
            if present.values != new.values:
                self._changed(new)
            present.values = new.values
            return present
        self._changed(new)
        context.below[new.key] = new
        return new

    def _changed(self, item: Item) -> None:
        if item.known.word in FILTERING:
            self.filters_revision += 1
        elif item.known.word not in INERT:
            self.revision += 1

    def _remove(self, context: Item, words: list[Word], line: str) -> None:
        if not words:
            raise Refused("what to remove is missing", len(line))
        known = _find(context.known, words[0])
        if known.shape == "single" and len(words) == 1:
            key: Key = (known.word,)
        else:
            key = _statement(context.known, words, line, only_name=True).key
        if key not in context.below:
            raise Refused(f"{' '.join(key)} is not configured", words[0][1])
        user = self._used_by(context, key)
        if user:
            raise Refused(f"{' '.join(key)} is in use by {user}", words[0][1])
        self._changed(context.below[key])
        del context.below[key]

    def _insert(self, context: Item, words: list[Word], line: str) -> None:
        new, place = self._placed(context, words, line)
        if not new.known.keeps_order:
            raise Refused(f"{new.known.word} has no order", words[0][1])
        other: Key | None = None
        if words[place][0] == "before":
            if place + 1 == len(words):
                raise Refused("the statement to stand before is missing", len(line))
            other = _statement(context.known, words[place + 1 :], line).key
            if other not in context.below or other == new.key:
                raise Refused(f"{' '.join(other)} is not there to stand before", words[place + 1][1])
        self._check(context, new, words[0][1])
        rest = {key: item for key, item in context.below.items() if key != new.key}
        self._changed(new)
        context.below.clear()
        for key, item in rest.items():
            if key == other:
                context.below[new.key] = new
            context.below[key] = item
        context.below.setdefault(new.key, new)

    def _placed(self, context: Item, words: list[Word], line: str) -> tuple[Item, int]:
        """The statement to insert, and where the words of its place begin: a statement may hold these words
        itself."""
        first: Refused | None = None
        for place in [
            n
            for n, (word, _) in enumerate(words)
            if n and (word == "before" or (word == "last" and n == len(words) - 1))
        ]:
            try:
                new = _statement(context.known, words[:place], line)
                if words[place][0] == "before" and place + 1 < len(words):
                    _statement(context.known, words[place + 1 :], line)
            except Refused as refused:
                first = first or refused
            else:
                return new, place
        raise first or Refused("say before which statement, or last", len(line))

    def _check(self, context: Item, new: Item, column: int) -> None:
        word = new.known.word
        if context is self.root and word == "interface":
            self._check_hardware(new.values[0], column)
        elif word == "vlan-id" and "." not in context.values[0]:
            raise Refused("vlan-id is for a sub-interface such as port1.110", column)
        elif (
            word in ("ingress-acl", "egress-acl", "source-acl")
            and self.root.get("acl", new.values[0]) is None
        ):
            raise Refused(f"there is no acl {new.values[0]}", column)
        elif (
            context.known.word == "interface"
            and word == "network-instance"
            and self.root.get(word, new.values[0]) is None
        ):
            raise Refused(f"there is no network-instance {new.values[0]}", column)
        elif (
            context.known.word == "area"
            and word == "interface"
            and self.root.get("interface", new.values[0]) is None
        ):
            raise Refused(f"interface {new.values[0]} is not configured", column)
        elif word == "address":
            for interface in self.root.all("interface"):
                family = interface.get(context.known.word)
                if family is not None and family is not context and new.key in family.below:
                    raise Refused(f"{new.values[0]} is in use on {interface.values[0]}", column)

    def _check_hardware(self, name: str, column: int) -> None:
        port = name.split(".")[0]
        if port not in self.ports and not port.startswith("loop"):
            raise Refused(f"this device has no {port}", column)

    def _used_by(self, context: Item, key: Key) -> str | None:
        """Who refers to the statement `key` of `context`, if anyone does."""
        if context is not self.root or key[0] not in ("acl", "interface", "network-instance"):
            return None
        if key[0] == "network-instance":
            return next(
                (i.line for i in self.root.all("interface") if i.value("network-instance") == key[1]), None
            )
        if key[0] == "acl":
            for interface in self.root.all("interface"):
                if key[1] in (interface.value("ingress-acl"), interface.value("egress-acl")):
                    return interface.line
            snmp = self.root.get("snmp")
            return (
                next((c.known.word for c in snmp.all("community") if c.value("source-acl") == key[1]), None)
                if snmp
                else None
            )
        ospf = self.root.get("ospf")
        areas = ospf.all("area") if ospf else ()
        return next((f"ospf {a.line}" for a in areas if a.get("interface", key[1])), None)


def _find(context: Known, word: Word) -> Known:
    text, column = word
    if text in context.below:
        return context.below[text]
    meant = [known for name, known in context.below.items() if name.startswith(text)]
    if len(meant) == 1:
        return meant[0]
    if meant:
        raise Refused(f'"{text}" could be {" or ".join(k.word for k in meant)}', column)
    if not context.below:
        raise Refused(f"nothing can stand below {context.word}", column)
    raise Refused(f'"{text}" is unknown here; known: {" ".join(context.below)}', column)


def _statement(context: Known, words: list[Word], line: str, *, only_name: bool = False) -> Item:
    known = _find(context, words[0])
    rest = words[1:]
    if known.text:
        if not rest:
            raise Refused("a text is missing", len(line))
        return Item(known, (quote(" ".join(word for word, _ in rest)),))
    if known.mask and len(rest) == 2:
        rest = [(f"{rest[0][0]}/{rest[1][0]}", rest[0][1])]
    checks = known.takes[: known.named_by] if only_name and known.shape == "entry" else known.takes
    values = []
    for check in checks:
        if not rest:
            raise Refused(f"{known.word} is not complete", len(line))
        word, column = rest.pop(0)
        try:
            values.append(quote(check(word)))
        except ValueError as wrong:
            raise Refused(f'"{word}": {wrong}', column) from None
    values.extend(_pairs(known, rest, line))
    return Item(known, tuple(values))


def _pairs(known: Known, rest: list[Word], line: str) -> list[str]:
    given: dict[str, list[str]] = {}
    while rest:
        word, column = rest.pop(0)
        meant = [word] if word in known.pairs else [p for p in known.pairs if p.startswith(word)]
        if len(meant) != 1:
            raise Refused(f'"{word}" is too much for {known.word}', column)
        check = known.pairs[meant[0]]
        if check is None:
            given[meant[0]] = []
            continue
        if not rest:
            raise Refused(f"{meant[0]} is not complete", len(line))
        value, column = rest.pop(0)
        try:
            given[meant[0]] = [check(value)]
        except ValueError as wrong:
            raise Refused(f'"{value}": {wrong}', column) from None
    return [
        part
        for pair in known.pairs
        if pair in given and given[pair] != ["any"]
        for part in (pair, *given[pair])
    ]


def _lines(item: Item, depth: int) -> Iterator[str]:
    order = {word: number for number, word in enumerate(item.known.below)}
    for below in sorted(item.below.values(), key=lambda i: (order[i.known.word], _sorting(i))):
        if below.known.shape == "single" and below.values == (below.known.default,):
            continue
        if below.known.shape == "block" and not below.below and below.known.word != "ospf":
            continue
        yield " " * (STEP * depth) + below.line
        yield from _lines(below, depth + 1)


def _sorting(item: Item) -> list[tuple[int, int | str]]:
    if item.known.keeps_order:
        return []
    return [
        (0, int(part)) if is_number(part) else (1, part)
        for part in re.split(r"([0-9]{1,40})", " ".join(item.values))
    ]
