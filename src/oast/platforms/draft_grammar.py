"""A first grammar, guessed from a listing: which words are names of statements, which are values, and of what
type.

No value of the listing goes into the draft, as it may be a secret: only names, types and the numbers of the
lines that they rest on.
"""

from __future__ import annotations

import ipaddress
import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import chain

from oast.platforms.draft_text import DraftLine

NAME = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.-]*")
# Words with a digit that are names of protocols, and no values.
PROTOCOL = re.compile(
    r"(?i)(?:ip|ipv|icmpv?|ospfv?|snmpv?|v|rip|ripv|http|bgp|ssh|tls|md|sha|l|layer)-?\d{1,3}"
)
SECRET = re.compile(
    r"(?i)(?:^|[-_"
    r" ])(?:password|passphrase|secret|community|communities|key|psk|hash|token|credential)s?(?:$|[-_ ])"
)
CLOSED = re.compile(r"(?i)(?:shut|shutdown|closed?|disabled?|off|down|inactive)")
FREE_TEXT = re.compile(r"(?i)(?:description|comment|remark|banner|contact|location|text|title|notes?|says)")


@dataclass(frozen=True)
class Value:
    """A place for a value in a statement's line."""

    type: str
    name: str = ""


@dataclass(frozen=True)
class Pattern:
    """Lines that are written alike: constant words and values, in order."""

    parts: tuple[str | Value, ...]
    lines: tuple[tuple[int, DraftLine], ...]
    """Each with the number of the entry that it belongs to."""

    @property
    def values(self) -> tuple[Value, ...]:
        return tuple(part for part in self.parts if isinstance(part, Value))


@dataclass(frozen=True)
class DraftStatement:
    """One line of [statements]: its path, its fields as TOML, and the lines of the listing that it was
    guessed from."""

    path: str
    fields: tuple[tuple[str, str], ...]
    lines: tuple[int, ...]

    @property
    def text(self) -> str:
        fields = ", ".join(f"{key} = {value}" for key, value in self.fields)
        count = f"{len(self.lines)} line{'' if len(self.lines) == 1 else 's'}"
        return f"{_toml(self.path)} = {{ {fields} }}    # guess from {count}: {_line_numbers(self.lines)}"


def statements_of(lines: Sequence[DraftLine]) -> list[DraftStatement]:
    """A statement for each kind of line, outer before inner."""
    return list(_context("", [list(lines)]))


def roles_of(statements: Iterable[DraftStatement]) -> dict[str, str]:
    """The statements that look like interfaces and their parts (see `oast.platforms.load.ROLES`)."""
    found: dict[str, str] = {}
    for statement in statements:
        fields = dict(statement.fields)
        outer, _, name = statement.path.rpartition("/")
        if fields["kind"] == '"list"' and not outer and re.fullmatch(r"(?i)(?:interfaces?|ports?)", name):
            found.setdefault("interface", statement.path)
        interface = found.get("interface")
        if interface is None or outer != interface:
            continue
        for role, takes in (
            ("ipv4_address", "ipv4-address-and-length"),
            ("ipv6_address", "ipv6-address-and-length"),
        ):
            if fields.get("takes") == f'"{takes}"':
                found.setdefault(role, statement.path)
        if ("lines" in fields and CLOSED.fullmatch(name)) or (
            fields.get("takes") == '"boolean"' and name == "enabled"
        ):
            found.setdefault("enabled", statement.path)
    # A role that others need is of no use without them.
    return found if "enabled" in found else {}


# --- the statements of one context
# --------------------------------------------------------------------------------------


def _context(outer: str, instances: Sequence[Sequence[DraftLine]]) -> Iterator[DraftStatement]:
    """The statements below `outer`, of which `instances` are the entries with their lines."""
    groups: dict[str, list[tuple[int, DraftLine]]] = defaultdict(list)
    for number, lines in enumerate(instances):
        for line in lines:
            if line.words:
                groups[line.words[0]].append((number, line))
    taken: set[str] = set()
    for word, group in groups.items():
        for pattern in _patterns((word,), group):
            yield from _statement(outer, pattern, taken)


def _statement(outer: str, pattern: Pattern, taken: set[str]) -> Iterator[DraftStatement]:
    values, parts = pattern.values, pattern.parts
    first = next((n for n, part in enumerate(parts) if isinstance(part, Value)), len(parts))
    name = " ".join(str(part) for part in parts[:first])
    constants = [str(part) for part in parts if isinstance(part, str)]
    for more in constants[first:]:
        name = f"{name} {more}" if f"{outer}{name}" in taken else name
    if f"{outer}{name}" in taken or "/" in name:
        return  # Left to be known by its words alone.
    taken.add(f"{outer}{name}")
    numbers = tuple(line.number for _, line in pattern.lines)
    inline = _inline(pattern)
    children = [line.children for _, line in pattern.lines if line.children]
    most = max(Counter(instance for instance, _ in pattern.lines).values())
    fields: list[tuple[str, str]] = [
        ("kind", _toml(_kind(pattern, most, is_outer=bool(children) or inline is not None)))
    ]
    named = _named(parts)
    if values:
        takes = " ".join(
            f"{value.name}:{value.type}" if value.name != value.type else value.type for value in named
        )
        fields.append(("takes", _toml(takes)))
        if fields[0][1] == '"list"':
            fields.append(("keys", str(len(values) if children or inline else _keys(pattern))))
    if inline is not None:
        fields.append(("inline", "true"))
    if (
        (isinstance(parts[-1], str) and values)
        or name != " ".join(map(str, parts[:first]))
        or _is_split(parts, first)
    ):
        at = iter(named)
        fields.append(
            (
                "line",
                _toml(" ".join(f"{{{next(at).name}}}" if isinstance(p, Value) else _brace(p) for p in parts)),
            )
        )
    if fields[0][1] == '"leaf"' and not values:
        fields[1:] = [
            ("takes", '"boolean"'),
            ("lines", f"{{ {'false' if CLOSED.fullmatch(name) else 'true'} = {_toml(name)} }}"),
        ]
    secret = _secret(parts)
    if secret is not None:
        fields.append(("secret", "true" if len(values) == 1 else f"[{_toml(named[secret].name)}]"))
    yield DraftStatement(f"{outer}{name}", tuple(fields), numbers)
    if inline is not None:
        yield from _context(f"{outer}{name}/", inline)
    elif children:
        yield from _context(f"{outer}{name}/", children)


def _kind(pattern: Pattern, most: int, *, is_outer: bool) -> str:
    """`most` is how many of these lines one entry has."""
    if is_outer or any(line.keys for _, line in pattern.lines):
        return "list" if pattern.values else "container"
    if not pattern.values:
        return "leaf"
    if len(pattern.values) == 1:
        return "leaf-list" if most > 1 else "leaf"
    # Taken for one leaf, a second route would replace the first.
    return "leaf" if most == 1 and all(value.type == "number" for value in pattern.values) else "list"


def _keys(pattern: Pattern) -> int:
    """How many values from the front tell the entries apart."""
    at = [n for n, part in enumerate(pattern.parts) if isinstance(part, Value)]
    for count in range(1, len(at)):
        found = [(instance, *(line.words[n] for n in at[:count])) for instance, line in pattern.lines]
        if len(set(found)) == len(found):
            return count
    return len(at)


def _is_split(parts: Sequence[str | Value], first: int) -> bool:
    """Whether constant words stand between the values."""
    return any(isinstance(part, str) for part in parts[first:])


def _named(parts: Sequence[str | Value]) -> list[Value]:
    """The values with names that differ: their keys, else the word before them, else their types."""
    found: list[Value] = []
    first = next((n for n, part in enumerate(parts) if isinstance(part, Value)), 0)
    secret = _secret(parts)
    for at, part in enumerate(parts):
        if not isinstance(part, Value):
            continue
        before = parts[at - 1]
        name = part.name or (
            before if at > first and isinstance(before, str) and NAME.fullmatch(before) else part.type
        )
        taken = {value.name for value in found}
        free = next(one for one in (name, *(f"{name}-{count}" for count in range(2, 99))) if one not in taken)
        found.append(Value("word" if secret == len(found) else part.type, free))
    return found


def _secret(parts: Sequence[str | Value]) -> int | None:
    """Which of the values is a secret, by the words before it."""
    at = -1
    is_secret = False
    for part in parts:
        if isinstance(part, Value):
            at += 1
            if is_secret:
                return at
        else:
            is_secret = is_secret or SECRET.search(part) is not None
    return None


def _inline(pattern: Pattern) -> list[list[DraftLine]] | None:
    """The lines of each entry without the entry's own words, where several lines of one entry begin with the
    same key."""
    if not isinstance(pattern.parts[-1], Value) or len(pattern.values) != 1:
        return None
    length = len(pattern.parts)
    entries: dict[tuple[int, str], list[DraftLine]] = defaultdict(list)
    for instance, line in pattern.lines:
        if line.children:
            return None
        entries[instance, line.words[length - 1]].append(line)
    if all(len(line.words) == length for _, line in pattern.lines):
        return None
    return [[DraftLine(line.number, line.words[length:]) for line in lines] for lines in entries.values()]


# --- how lines are written
# ----------------------------------------------------------------------------------------------


def _patterns(parts: tuple[str | Value, ...], lines: Sequence[tuple[int, DraftLine]]) -> Iterator[Pattern]:
    """The patterns of lines that all begin with `parts`."""
    at = len(parts)
    ended = tuple(one for one in lines if len(one[1].words) == at)
    longer = [one for one in lines if len(one[1].words) > at]
    if ended:
        yield Pattern(parts, ended)
    if not longer:
        return
    if _is_free_text(parts, longer):
        yield Pattern((*parts, Value("text")), tuple((n, _cut(line, at)) for n, line in longer))
        return
    keys = longer[0][1].keys
    typed: list[tuple[int, DraftLine]] = []
    by_word: dict[str, list[tuple[int, DraftLine]]] = defaultdict(list)
    for one in longer:
        if at <= len(one[1].keys) or type_of([one[1].words[at]]) is not None:
            typed.append(one)
        else:
            by_word[one[1].words[at]].append(one)
    if by_word and _are_values(by_word, at, is_mixed=bool(ended)):
        typed, by_word = longer, {}
    for word, some in by_word.items():
        yield from _patterns((*parts, word), some)
    if not typed:
        return
    typed = [(n, _joined(line, at)) for n, line in typed]
    value = Value(
        _type_at(parts, [line.words[at] for _, line in typed]), keys[at - 1] if at <= len(keys) else ""
    )
    if _is_inline(typed, at):
        yield Pattern((*parts, value), tuple(typed))
    else:
        yield from _patterns((*parts, value), typed)


def _is_inline(lines: Sequence[tuple[int, DraftLine]], at: int) -> bool:
    """Whether one entry is several lines that begin alike and then say different things."""
    tails: dict[tuple[int, str], set[str]] = defaultdict(set)
    for instance, line in lines:
        if line.children or line.keys:
            return False
        if len(line.words) > at + 1:
            tails[instance, line.words[at]].add(line.words[at + 1])
    return any(len(some) > 1 and not any(type_of([word]) for word in some) for some in tails.values())


def _is_free_text(parts: Sequence[str | Value], lines: Sequence[tuple[int, DraftLine]]) -> bool:
    """Whether the rest of these lines is prose."""
    at = len(parts)
    if any(line.children or line.keys for _, line in lines):
        return False
    last = parts[-1]
    lengths = {len(line.words) for _, line in lines}
    return isinstance(last, str) and bool(FREE_TEXT.fullmatch(last)) and max(lengths) > at + 1


def _are_values(by_word: dict[str, list[tuple[int, DraftLine]]], at: int, *, is_mixed: bool) -> bool:
    """Whether plain words at one place are values, such as names, and not names of statements."""
    lines = list(chain.from_iterable(by_word.values()))
    is_last = all(len(line.words) == at + 1 for _, line in lines)
    if any(line.children for _, line in lines):
        return is_last and (len(by_word) > 1 or at > 0)
    if is_last:
        return not is_mixed
    if len(by_word) < 2:
        return False
    following = [
        {line.words[at + 1] if len(line.words) > at + 1 else "" for _, line in some}
        for some in by_word.values()
    ]
    return len({frozenset(some) for some in following}) == 1 and not any(
        type_of([word]) for word in following[0] if word
    )


def _cut(line: DraftLine, at: int) -> DraftLine:
    """All that is behind a place as one word."""
    return DraftLine(line.number, (*line.words[:at], " ".join(line.words[at:])), line.children)


def _type_at(parts: Sequence[str | Value], words: Sequence[str]) -> str:
    """The type of the values behind `parts`."""
    if set(words) <= {"true", "false"}:
        return "boolean"
    found = type_of(words) or "word"
    if isinstance(parts[-1], str) and "address" in parts[-1]:
        return found.replace("-prefix", "-address-and-length")  # Such as 192.0.2.1/32.
    return found


def _joined(line: DraftLine, at: int) -> DraftLine:
    """An address and its mask as one word."""
    if (
        len(line.words) <= at + 1
        or _kind_of(line.words[at]) != "ipv4-address"
        or not _is_mask(line.words[at + 1])
    ):
        return line
    return DraftLine(
        line.number,
        (*line.words[:at], " ".join(line.words[at : at + 2]), *line.words[at + 2 :]),
        line.children,
    )


# --- types
# ----------------------------------------------------------------------------------------------------


def type_of(words: Sequence[str]) -> str | None:
    """The narrowest type that holds all `words`; None where a single one may as well be a
    statement's name."""
    kinds = {_kind_of(word) for word in words}
    if len(kinds) == 1:
        return kinds.pop()
    if kinds <= {"number", "ranges"}:
        return "ranges"
    if kinds <= {"ipv4-address", "ipv6-address"}:
        return "ip-address"
    if kinds <= {"ipv4-prefix", "ipv6-prefix", "ip-prefix"}:
        return "ip-prefix"
    for version in ("ipv4", "ipv6"):
        if kinds <= {f"{version}-prefix", f"{version}-address-and-length"}:
            return f"{version}-address-and-length"
    if any(word.startswith('"') for word in words):
        return "text"
    return "name" if all(NAME.fullmatch(word) for word in words) else "word"


def _kind_of(word: str) -> str | None:
    if word.startswith('"'):
        return "text"
    if " " in word:
        return "ipv4-address-and-length"  # with its mask, see `_joined`
    if word.isascii() and word.isdecimal():
        return "number"
    if re.fullmatch(r"[0-9]+(?:[-,][0-9]+)+", word):
        return "ranges"
    try:
        return f"ipv{ipaddress.ip_address(word).version}-address"
    except ValueError:
        pass
    try:
        interface = ipaddress.ip_interface(word)
        is_prefix = interface.ip == interface.network.network_address
        return f"ipv{interface.version}-{'prefix' if is_prefix else 'address-and-length'}"
    except ValueError:
        pass
    if PROTOCOL.fullmatch(word) or not re.search(r"[0-9/:@$=+]", word):
        return None
    return "name" if NAME.fullmatch(word) else "word"


def _is_mask(word: str) -> bool:
    try:
        return word.startswith(("255.", "0.")) and ipaddress.ip_network(f"0.0.0.0/{word}") is not None
    except ValueError:
        return False


def _toml(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def _brace(word: str) -> str:
    return word.replace("{", "{{").replace("}", "}}")


def _line_numbers(numbers: Sequence[int]) -> str:
    shown = ", ".join(map(str, numbers[:3]))
    return f"{shown} and more" if len(numbers) > 3 else shown
