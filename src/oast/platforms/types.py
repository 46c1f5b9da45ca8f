"""Types of the arguments of configuration statements: what is allowed, and the one canonical form of each
value.

The names follow the typedefs of RFC 6991 where it has one. A type turns the words a person or a device wrote
into one value, so that `198.51.100.1 255.255.255.254` and `198.51.100.1/31` are the same. How a value is
quoted is not a matter of its type: see `quoted` and the platform's own rules.
"""

from __future__ import annotations

import base64
import ipaddress
import re
import socket
import unicodedata
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from oast.spelling import closest_match


class WrongValue(ValueError):
    """A word that the type does not allow; the message completes "'word' is not ..."."""

    def __init__(self, message: str, hint: str | None = None) -> None:
        super().__init__(message)
        self.hint = hint


@dataclass(frozen=True, slots=True)
class ValueType:
    """`convert` takes the words of one value and returns the canonical value; it raises WrongValue.

    `most` is how many words one value may take (None: all that are left); `examples` are valid values as
    written, the first canonical. `numeric` values are numbers, or lists of numbers; an `identity` is written
    with its module before it (RFC 7950, section 9.10).
    """

    name: str
    help: str
    convert: Callable[[Sequence[str]], str]
    examples: tuple[str, ...]
    most: int | None = 1
    numeric: bool = False
    identity: bool = False


# What looks like a space or like nothing and is neither: a device may drop it, or take it for the end of a
# line.
ODD = re.compile(
    "[\x00-\x08\x0b-\x0c\x0e-\x1f\x7f-\xa0\u1680\u2000-\u200f\u2028-\u202f\u205f-\u2069\u3000\ufeff\ufff9-\ufffb]"
)


def named_odd(character: str) -> str:
    """`U+00A0 (no-break space)`."""
    called = {"\t": "a tab", "\n": "a line break", "\r": "a carriage return", "\x00": "a NUL"}
    return (
        f"U+{ord(character):04X}"
        f" ({called.get(character) or unicodedata.name(character, 'a control character').lower()})"
    )


def check_secret(name: str, value: str, *, several_lines: bool = False) -> None:
    """Whether `value`, the secret called `name`, can be typed in one line, or in lines. Raises WrongValue,
    which does not show it."""
    wrong = ODD.search(value) or re.search(r"[\t\r]" if several_lines else r"[\t\r\n]", value)
    if wrong is not None:
        raise WrongValue(
            f"the secret '{name}' contains {named_odd(wrong[0])}, which devices do not accept",
            f"oast secret set {name}",
        )


def quoted(text: str) -> str:
    """`text` as one word: in double quotes where it needs them."""
    if text and not re.search(r'[\s"\\#]', text):
        return text
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def _one(convert: Callable[[str], str], what: str) -> Callable[[Sequence[str]], str]:
    def converted(words: Sequence[str]) -> str:
        try:
            return convert(words[0])
        except WrongValue:
            raise
        except ValueError:
            raise WrongValue(what) from None

    return converted


def _matching(
    patterns: str | Sequence[str], what: str, *, lower: bool = False, length: tuple[int, int] | None = None
) -> Callable[[Sequence[str]], str]:
    expressions = [re.compile(pattern) for pattern in ([patterns] if isinstance(patterns, str) else patterns)]

    def converted(words: Sequence[str]) -> str:
        word = " ".join(words)
        word = word.lower() if lower else word
        if length is not None and not length[0] <= len(word) <= length[1]:
            raise WrongValue(f"{what}: it must have {length[0]} to {length[1]} characters")
        if not all(expression.fullmatch(word) for expression in expressions):
            raise WrongValue(what)
        return word

    return converted


def _choices(choices: Sequence[str]) -> Callable[[Sequence[str]], str]:
    exact = frozenset(choices)
    listed = ", ".join(choices[:-1]) + f" or {choices[-1]}" if len(choices) > 1 else choices[0]

    def converted(words: Sequence[str]) -> str:
        word = words[0]
        if word in exact:
            return word
        starting = [choice for choice in choices if choice.startswith(word)]
        if len(starting) == 1:
            return starting[0]
        near = closest_match(word, choices)
        raise WrongValue(listed, f"did you mean '{near}'?" if near else None)

    return converted


def _integer(*ranges: tuple[int, int]) -> Callable[[Sequence[str]], str]:
    def converted(words: Sequence[str]) -> str:
        number = int(words[0]) if _NUMBER.fullmatch(words[0]) else ranges[0][0] - 1
        if not any(low <= number <= high for low, high in ranges):
            raise WrongValue(f"a whole number {_spans(ranges)}")
        return str(number)

    return converted


# More digits than any number of a configuration has; turning millions of them into a number would take
# minutes.
_NUMBER = re.compile(r"-?[0-9]{1,40}")


def _text(words: Sequence[str]) -> str:
    return " ".join(words)


def _ranges(words: Sequence[str]) -> str:
    """Numbers and ranges as the shortest list: `1,2,3,7` is `1-3,7`."""
    numbers: set[int] = set()
    for part in words[0].split(","):
        match = re.fullmatch(r"([0-9]{1,9})(?:-([0-9]{1,9}))?", part)
        low, high = (int(match[1]), int(match[2] or match[1])) if match else (1, 0)
        if low > high or high - low > 100_000:
            raise WrongValue("a list of numbers and ranges such as 1-3,7")
        numbers.update(range(low, high + 1))
    return ",".join(_runs(sorted(numbers)))


def _runs(numbers: Sequence[int]) -> Iterator[str]:
    first = last = numbers[0]
    for number in (*numbers[1:], None):
        if number is not None and number == last + 1:
            last = number
            continue
        yield str(first) if first == last else f"{first}-{last}"
        if number is not None:
            first = last = number


def _prefix(version: int | None) -> Callable[[str], str]:
    def converted(word: str) -> str:
        if "/" not in word:
            raise WrongValue("a prefix such as 192.0.2.0/24", "add the prefix length")
        network = ipaddress.ip_network(word, strict=False)
        if version and network.version != version:
            raise WrongValue(f"an IPv{version} prefix")
        if ipaddress.ip_interface(word).ip != network.network_address:
            raise WrongValue("a prefix: bits after its length are set", f"did you mean {network}?")
        return str(network)

    return converted


def _is_canonical(address: str, version: int) -> bool:
    """Whether an address is spelt as it should be (RFC 5952 for IPv6); ten times faster to find out than to
    parse it."""
    if version == 4:
        return _DOTTED.fullmatch(address) is not None
    try:
        return (
            "." not in address
            and socket.inet_ntop(socket.AF_INET6, socket.inet_pton(socket.AF_INET6, address)) == address
        )
    except OSError:
        return False


def _interface_address(version: int) -> Callable[[Sequence[str]], str]:
    example = "192.0.2.1/24" if version == 4 else "2001:db8::1/64"
    longest = 32 if version == 4 else 128

    def converted(words: Sequence[str]) -> str:
        word = "/".join(words) if len(words) == 2 and version == 4 else words[0]
        bare, _, length = word.partition("/")
        if length in _LENGTHS and int(length) <= longest and _is_canonical(bare, version):
            return word
        try:
            if "/" not in word:
                raise ValueError
            address = ipaddress.ip_interface(word)
        except ValueError:
            raise WrongValue(f"an IPv{version} address with its prefix length, such as {example}") from None
        if address.version != version:
            raise WrongValue(f"an IPv{version} address with its prefix length, such as {example}")
        return str(address)

    return converted


_OCTET = r"(?:25[0-5]|2[0-4][0-9]|1[0-9][0-9]|[1-9]?[0-9])"
_DOTTED = re.compile(rf"{_OCTET}(?:\.{_OCTET}){{3}}")
_LENGTHS = frozenset(str(length) for length in range(129))


def _dotted_quad(word: str) -> str:
    return str(ipaddress.IPv4Address(int(word) if _NUMBER.fullmatch(word) else word))


def _port_range(words: Sequence[str]) -> str:
    match = re.fullmatch(r"([0-9]{1,5})(?:-([0-9]{1,5}))?", words[0])
    low, high = (int(match[1]), int(match[2] or match[1])) if match else (1, 0)
    if not low <= high <= 65535:
        raise WrongValue("a port or a range of ports such as 1024-65535")
    return str(low) if low == high else f"{low}-{high}"


def _base64(word: str) -> str:
    return base64.b64encode(base64.b64decode("".join(word.split()), validate=True)).decode()


def _any_or_prefix(word: str) -> str:
    return "any" if word == "any" else _prefix(None)(word)


NAME = r"[A-Za-z0-9][A-Za-z0-9_.-]{0,63}"
_LABEL = r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?"

BUILT_IN: Mapping[str, ValueType] = {
    t.name: t
    for t in (
        ValueType("text", "text; in quotes when it has spaces", _text, ('"ferry pier north"',), most=None),
        ValueType("word", "one word without spaces", lambda words: words[0], ("k3F9x",)),
        ValueType(
            "name",
            "a name: letters, digits, _ . -",
            _matching(NAME, "a name (letters, digits, _ . -)"),
            ("quay-in",),
        ),
        ValueType(
            "domain-name",
            "a domain name (RFC 6991)",
            _matching(rf"{_LABEL}(?:\.{_LABEL})*\.?", "a domain name", lower=True),
            ("larkwater.example", "Larkwater.Example"),
        ),
        ValueType("number", "a whole number", _integer((0, 2**64 - 1)), ("7", "007"), numeric=True),
        ValueType(
            "ranges",
            "a list of numbers and ranges such as 1-3,7",
            _ranges,
            ("1-3,7", "1,2,3,7"),
            numeric=True,
        ),
        ValueType("boolean", "true or false", _choices(("true", "false")), ("true", "false")),
        ValueType(
            "ip-address",
            "an IPv4 or IPv6 address",
            _one(lambda w: str(ipaddress.ip_address(w)), "an IPv4 or IPv6 address"),
            ("192.0.2.7", "2001:DB8:0::7"),
        ),
        ValueType(
            "ipv4-address",
            "an IPv4 address",
            _one(lambda w: str(ipaddress.IPv4Address(w)), "an IPv4 address"),
            ("192.0.2.7",),
        ),
        ValueType(
            "ipv6-address",
            "an IPv6 address",
            _one(lambda w: str(ipaddress.IPv6Address(w)), "an IPv6 address"),
            ("2001:db8::7",),
        ),
        ValueType(
            "ip-prefix",
            "an IPv4 or IPv6 prefix",
            _one(_prefix(None), "a prefix such as 192.0.2.0/24"),
            ("203.0.113.0/24", "2001:DB8::/32"),
        ),
        ValueType(
            "ipv4-prefix",
            "an IPv4 prefix",
            _one(_prefix(4), "an IPv4 prefix such as 192.0.2.0/24"),
            ("203.0.113.0/24",),
        ),
        ValueType(
            "ipv6-prefix",
            "an IPv6 prefix",
            _one(_prefix(6), "an IPv6 prefix such as 2001:db8::/32"),
            ("2001:DB8::/32",),
        ),
        ValueType(
            "any-or-prefix",
            "any, or a prefix",
            _one(_any_or_prefix, "any, or a prefix such as 192.0.2.0/24"),
            ("192.0.2.0/24", "any"),
        ),
        ValueType(
            "ipv4-address-and-length",
            "an IPv4 address with its prefix length or mask",
            _interface_address(4),
            ("192.0.2.1/24", "192.0.2.1 255.255.255.0"),
            most=2,
        ),
        ValueType(
            "ipv6-address-and-length",
            "an IPv6 address with its prefix length",
            _interface_address(6),
            ("2001:db8::1/64",),
        ),
        ValueType(
            "dotted-quad",
            "four numbers with dots, or one number (RFC 6991)",
            _one(_dotted_quad, "four numbers with dots, such as 0.0.0.0"),
            ("0.0.0.1", "1"),
        ),
        ValueType(
            "binary", "data in base64 (RFC 4648, section 4)", _one(_base64, "data in base64"), ("b2FzdA==",)
        ),
        ValueType("port-range", "a port, or a range of ports", _port_range, ("1024-65535", "0123")),
    )
}


def one_of(name: str, choices: Sequence[str]) -> ValueType:
    """A type that allows `choices`, and beginnings that can only mean one of them."""
    return ValueType(name, f"one of {', '.join(choices)}", _choices(tuple(choices)), tuple(choices))


def number_in(name: str, *ranges: tuple[int, int]) -> ValueType:
    """A type for whole numbers in one of `ranges`, each the lowest and the highest (RFC 7950,
    section 9.2)."""
    return ValueType(
        name, f"a whole number {_spans(ranges)}", _integer(*ranges), (str(ranges[-1][1]),), numeric=True
    )


def decimal_in(name: str, digits: int, ranges: Sequence[tuple[float, float]]) -> ValueType:
    """A type for numbers with up to `digits` behind the point (RFC 7950, section 9.3)."""
    what = f"a number {_spans(ranges)} with at most {digits} decimal places"

    def converted(word: str) -> str:
        match = re.fullmatch(rf"([+-]?)0*([0-9]{{1,19}})(?:\.([0-9]{{1,{digits}}}?)0*)?", word)
        if match is None or not any(low <= float(word) <= high for low, high in ranges):
            raise WrongValue(what)
        sign = "-" if match[1] == "-" and float(word) else ""
        return f"{sign}{match[2]}.{match[3] or '0'}"

    return ValueType(name, what, _one(converted, what), (f"{ranges[-1][1]:.1f}",), numeric=True)


def pattern_type(
    name: str,
    patterns: Sequence[str],
    help_text: str,
    *,
    lower: bool = False,
    examples: Sequence[str] = (),
    length: tuple[int, int] | None = None,
) -> ValueType:
    """Return a type for values that all of `patterns` match completely, with limits of length. Raises
    re.error."""
    convert = _matching(patterns, help_text, lower=lower, length=length)
    return ValueType(name, help_text, convert, tuple(examples), most=1 if patterns else None)


def identity_type(name: str, identities: Sequence[str]) -> ValueType:
    """A type for `identities`, each `MODULE:NAME` (RFC 7951, section 6.8); the module may be left out where
    one has the name."""
    exact = frozenset(identities)
    bare: dict[str, str] = {}
    for one in identities:
        local = one.partition(":")[2]
        bare[local] = "" if local in bare else one

    def converted(words: Sequence[str]) -> str:
        word = words[0]
        found = word if word in exact else bare.get(word)
        if not found:
            near = closest_match(word, (*bare, *exact))
            listed = ", ".join((*identities[:8], *(("…",) if len(identities) > 8 else ())))
            raise WrongValue(f"one of {listed}", f"did you mean '{near}'?" if near else None)
        return found

    return ValueType(
        name, f"an identity such as {identities[0]}", converted, tuple(identities), identity=True
    )


def bits_type(name: str, words: Sequence[str]) -> ValueType:
    """A type for any of `words`, with spaces between them; canonical in the order given here (RFC 7950,
    section 9.7)."""

    def converted(written: Sequence[str]) -> str:
        given = " ".join(written).split()
        for word in given:
            if word not in words:
                near = closest_match(word, words)
                raise WrongValue(f"made of {', '.join(words)}", f"did you mean '{near}'?" if near else None)
        return " ".join(word for word in words if word in given)

    return ValueType(name, f"any of {', '.join(words)}", converted, (" ".join(words), words[0]), most=None)


def union_type(name: str, members: Sequence[ValueType]) -> ValueType:
    """A type for what one of `members` allows; the first that does decides (RFC 7950, section 9.12)."""
    what = " or ".join(dict.fromkeys(member.help for member in members))

    def converted(words: Sequence[str]) -> str:
        for member in members:
            if member.most is not None and len(words) > member.most:
                continue
            try:
                return member.convert(words)
            except ValueError:
                continue
        raise WrongValue(what)

    examples = tuple(example for member in members for example in member.examples[:1])
    most = (
        None
        if any(member.most is None for member in members)
        else max(member.most or 1 for member in members)
    )
    return ValueType(
        name, what, converted, examples, most, identity=any(member.identity for member in members)
    )


def _spans(ranges: Sequence[tuple[float, float]]) -> str:
    return " or ".join(f"from {low} to {high}" for low, high in ranges)
