"""The types of YANG (RFC 7950, section 9) as types of a platform definition."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

# Statements of the parser, which has no types of its own.
YangStatement = Any

# Typedefs of RFC 6991 whose values Oast knows, and writes in one form.
KNOWN: Mapping[str, str] = {
    "ietf-inet-types:ip-address": "ip-address",
    "ietf-inet-types:ip-address-no-zone": "ip-address",
    "ietf-inet-types:ipv4-address": "ipv4-address",
    "ietf-inet-types:ipv4-address-no-zone": "ipv4-address",
    "ietf-inet-types:ipv6-address": "ipv6-address",
    "ietf-inet-types:ipv6-address-no-zone": "ipv6-address",
    "ietf-inet-types:ip-prefix": "ip-prefix",
    "ietf-inet-types:ipv4-prefix": "ipv4-prefix",
    "ietf-inet-types:ipv6-prefix": "ipv6-prefix",
    "ietf-inet-types:domain-name": "domain-name",
    "ietf-yang-types:dotted-quad": "dotted-quad",
}
INTEGERS: Mapping[str, tuple[int, int]] = {
    **{f"int{bits}": (-(2 ** (bits - 1)), 2 ** (bits - 1) - 1) for bits in (8, 16, 32, 64)},
    **{f"uint{bits}": (0, 2**bits - 1) for bits in (8, 16, 32, 64)},
}


@dataclass
class Types:
    """Collects the types that leaves need, each once. `identities` are all that the modules define."""

    identities: Sequence[YangStatement]
    made: dict[str, str] = field(default_factory=dict)
    """Name to the table's text, in the order in which they may stand."""
    _leaf: YangStatement | None = None

    def of(self, leaf: YangStatement) -> str | None:
        """The name of the type of a leaf or leaf-list; None for an empty one (RFC 7950, section 9.11)."""
        outer = leaf.parent
        while outer is not None and outer.keyword in ("choice", "case"):
            outer = outer.parent
        around, self._leaf = self._leaf, leaf
        try:
            return self._of(
                leaf.search_one("type"), f"{outer.arg}-{leaf.arg}" if outer is not None else str(leaf.arg)
            )
        finally:
            self._leaf = around

    def _of(self, kind: YangStatement, context: str) -> str | None:
        typedef = getattr(kind, "i_typedef", None)
        restricted = any(sub.keyword in ("range", "length", "pattern") for sub in kind.substmts)
        if typedef is not None and not restricted:
            whole = f"{typedef.i_module.arg}:{typedef.arg}"
            if whole in KNOWN:
                return KNOWN[whole]
            return self._of_base(kind, str(typedef.arg))
        return self._of_base(kind, context)

    def _of_base(self, kind: YangStatement, name: str) -> str | None:
        base, chain = _chain(kind)
        if base == "empty":
            return None
        if base in ("boolean", "binary"):
            return base
        if base in INTEGERS:
            ranges = _narrowest(chain, "i_ranges", INTEGERS[base])
            if ranges == [list(INTEGERS[base])]:
                name = base
            return self._add(name, f"range = {_numbers(ranges)}")
        if base == "decimal64":
            digits = next(
                int(sub.arg) for one in chain for sub in one.substmts if sub.keyword == "fraction-digits"
            )
            most = 2**63 / 10**digits
            ranges = [
                [_scaled(low), _scaled(high)] for low, high in _narrowest(chain, "i_ranges", (-most, most))
            ]
            return self._add(name, f"range = {_numbers(ranges)}, fraction-digits = {digits}")
        if base == "enumeration":
            return self._add(
                name,
                f"choices = {json.dumps([sub.arg for sub in _first(chain, 'enum')], ensure_ascii=False)}",
            )
        if base == "bits":
            return self._add(name, f"bits = {json.dumps([sub.arg for sub in _first(chain, 'bit')])}")
        if base == "identityref":
            return self._identities(_first(chain, "base"), name)
        if base == "union":
            members = [
                self._of(sub, f"{name}-{number}") or "text"
                for number, sub in enumerate(_first(chain, "type"), 1)
            ]
            return self._union(name, members)
        if base == "leafref":
            target = None if self._leaf is None else leafref_target(self._leaf)
            return self.of(target) if target is not None else "text"
        return self._string(chain, name) if base == "string" else "text"

    def _union(self, name: str, members: Sequence[str]) -> str:
        different = list(dict.fromkeys(members))
        return different[0] if len(different) == 1 else self._add(name, f"union = {json.dumps(different)}")

    def _identities(self, bases: Sequence[YangStatement], name: str) -> str:
        """All that are derived from the base, directly or not (RFC 7950, section 7.18.2)."""
        expected = [base.i_identity for base in bases if base.i_identity is not None]
        found = [
            f"{one.i_module.arg}:{one.arg}"
            for one in self.identities
            if all(_derived(one, base) for base in expected)
        ]
        if not found:
            return "text"
        return self._add(name, f"identities = {json.dumps(sorted(found))}")

    def _string(self, chain: Sequence[YangStatement], name: str) -> str:
        patterns = []
        for one in chain:
            for sub in one.substmts:
                inverted = any(inner.keyword == "modifier" for inner in sub.substmts)
                if (
                    sub.keyword == "pattern"
                    and not inverted
                    and (translated := python_pattern(sub.arg)) is not None
                ):
                    patterns.append(translated)
        lengths = _narrowest(chain, "i_lengths", (0, 2**31))
        length = [lengths[0][0], lengths[-1][1]]
        parts = [f"patterns = [{', '.join(_quoted(p) for p in patterns)}]"] if patterns else []
        parts += [f"length = {_numbers([length])}"] if length != [0, 2**31] else []
        if not parts:
            return "text"
        what = f"of the type {name}" if patterns else f"a text of {length[0]} to {length[1]} characters"
        return self._add(name, ", ".join([*parts, f"help = {json.dumps(what)}"]))

    def _add(self, name: str, body: str) -> str:
        """The name under which the type is known: its own, or with a number where another has that."""
        number, called = 1, name
        while self.made.get(called, body) != body or called in ("text", "word", "name", "number", "ranges"):
            number += 1
            called = f"{name}-{number}"
        self.made[called] = body
        return called


def leafref_target(leaf: YangStatement) -> YangStatement | None:
    """The leaf that a leafref refers to (RFC 7950, section 9.9), however many typedefs are in between."""
    pointer = getattr(leaf, "i_leafref_ptr", None)
    kind = leaf.search_one("type")
    while pointer is None and kind is not None and getattr(kind, "i_typedef", None) is not None:
        pointer = getattr(kind.i_typedef, "i_leafref_ptr", None)
        kind = kind.i_typedef.search_one("type")
    return pointer[0] if pointer is not None else None


def _chain(kind: YangStatement) -> tuple[str, list[YangStatement]]:
    """The built-in type at the bottom, and the type statements from the leaf's own down to it."""
    chain = [kind]
    while getattr(chain[-1], "i_typedef", None) is not None:
        chain.append(chain[-1].i_typedef.search_one("type"))
    return str(chain[-1].arg).rpartition(":")[2], chain


def _first(chain: Sequence[YangStatement], keyword: str) -> list[YangStatement]:
    """The substatements of the nearest type that has any: what is restricted later counts."""
    return next((found for one in chain if (found := one.search(keyword))), [])


def _narrowest(chain: Iterable[YangStatement], attribute: str, widest: tuple[Any, Any]) -> list[list[Any]]:
    for one in chain:
        ranges = getattr(one, attribute, None)
        if ranges:
            pairs = [(low, low if high is None else high) for low, high in ranges]
            return [
                [widest[0] if low == "min" else low, widest[1] if high == "max" else high]
                for low, high in pairs
            ]
    return [list(widest)]


def _scaled(value: Any) -> float:
    """The parser keeps decimal numbers with their scale."""
    return float(str(value))


def _numbers(ranges: Sequence[Sequence[Any]]) -> str:
    pairs = [f"[{low}, {high}]" for low, high in ranges]
    return pairs[0] if len(pairs) == 1 else f"[{', '.join(pairs)}]"


def _derived(one: YangStatement, base: YangStatement) -> bool:
    waiting: list[YangStatement] = [one]
    seen: set[int] = set()
    while waiting:
        bases = [
            sub.i_identity
            for sub in waiting.pop().search("base")
            if getattr(sub, "i_identity", None) is not None
        ]
        if base in bases:
            return True
        waiting += [other for other in bases if id(other) not in seen]
        seen.update(map(id, bases))
    return False


def _quoted(text: str) -> str:
    return f"'{text}'" if "'" not in text and "\n" not in text else json.dumps(text, ensure_ascii=False)


def python_pattern(pattern: str) -> str | None:
    """A pattern of XML Schema (part 2, appendix F) as one of Python's; None where Python has
    nothing like it."""
    if re.search(r"\\[pPiIcC]|-\[", pattern):
        return None
    # These two are ordinary characters there: a pattern always has to match the whole.
    outside = re.sub(
        r"\\.|\[(?:\\.|[^\]\\])*\]|[$^]",
        lambda match: f"\\{match[0]}" if match[0] in "$^" else match[0],
        pattern,
    )
    joined = "".join(line.strip() for line in outside.split("\n"))
    try:
        re.compile(joined)
    except re.error:
        return None
    return joined
