"""Values of readings: what a device has listed, as numbers, addresses, durations; and back as one text,
whatever the platform."""

from __future__ import annotations

import ipaddress
import re
import socket
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any

from oast.platforms import FieldType, ValueKind

Address = ipaddress.IPv4Address | ipaddress.IPv6Address
InterfaceAddress = ipaddress.IPv4Interface | ipaddress.IPv6Interface
Prefix = ipaddress.IPv4Network | ipaddress.IPv6Network
Value = str | int | float | bool | Address | Prefix | tuple[str, ...] | tuple[InterfaceAddress, ...] | None
"""What a field of a record holds; None is nothing. Durations are seconds."""

KEPT = 20_000
_LENGTHS = {str(length): length for length in range(33)}
_NUMBER = re.compile(r"[+-]?[0-9]{1,20}(?:,[0-9]{3})*")
_SEPARATOR = re.compile(r"[,\s]+")
# What a value outside a closed list becomes.
OTHER = "other"
_MAC = re.compile(r"[0-9a-f]{12}")
_SPAN = re.compile(r"([0-9]+(?:\.[0-9]+)?)\s*([a-z]+)?")
_CLOCK = re.compile(r"(?:([0-9]+)\s*d(?:ays?)?,?\s*)?([0-9]{1,3}):([0-9]{2})(?::([0-9]{2})(?:\.[0-9]+)?)?")
_UNITS = {
    **dict.fromkeys(("s", "sec", "secs", "second", "seconds"), 1),
    **dict.fromkeys(("m", "min", "mins", "minute", "minutes"), 60),
    **dict.fromkeys(("h", "hr", "hrs", "hour", "hours"), 3600),
    **dict.fromkeys(("d", "day", "days"), 86_400),
    **dict.fromkeys(("w", "wk", "wks", "week", "weeks"), 604_800),
    **dict.fromkeys(("y", "yr", "year", "years"), 31_536_000),
}
_SCALES = {"": 1, "k": 1_000, "m": 1_000_000, "g": 1_000_000_000, "t": 1_000_000_000_000}
_SPEED = re.compile(r"([0-9]+(?:\.[0-9]+)?)\s*([kmgt]?)(?:bit|bits|b)?(?:/s|ps)?", re.IGNORECASE)
_YES = {
    "true": True,
    "yes": True,
    "on": True,
    "1": True,
    "false": False,
    "no": False,
    "off": False,
    "0": False,
}


def convert(field: FieldType, text: str) -> Value:
    """What `text` means in `field`. Raises ValueError, whose message completes "'text' is …"."""
    return _CONVERTERS[field.kind](text, field)


def _number(text: str, field: FieldType) -> int:
    if field.unit == "bit/s":
        match = _SPEED.fullmatch(text.strip())
        if match is not None:
            return round(float(match[1]) * _SCALES[match[2].lower()])
    if not _NUMBER.fullmatch(text):
        raise ValueError("not a whole number")
    return int(text.replace(",", ""))


def _decimal(text: str, field: FieldType) -> float:
    try:
        found = float(text)
    except ValueError:
        raise ValueError("no number") from None
    if found != found or abs(found) == float("inf"):
        raise ValueError("no number")
    return found


def _boolean(text: str, field: FieldType) -> bool:
    found = _YES.get(text.lower())
    if found is None:
        raise ValueError("neither true nor false")
    return found


class OtherValue(str):
    """`other`: a value outside a field's closed list. `listed` is the device's own word for it."""

    __slots__ = ("listed",)

    listed: str

    def __new__(cls, listed: str) -> OtherValue:
        made = super().__new__(cls, OTHER)
        made.listed = listed
        return made


def _choice(text: str, field: FieldType) -> str:
    if text in field.choices:
        return text
    lower = text.lower()
    # A device may know more values than the standard: the other records are still useful.
    return lower if lower in (*field.choices, OTHER) else OtherValue(text)


def _packed(text: str) -> bytes | None:
    """A plain IPv4 address as four bytes: a fifth of the time that `ipaddress` takes for its text. None for
    anything else."""
    try:
        return socket.inet_pton(socket.AF_INET, text)
    except OSError:
        return None


@lru_cache(KEPT)
def _address(text: str) -> Address:
    packed = _packed(text)
    if packed is not None:
        return ipaddress.IPv4Address(packed)
    try:
        return ipaddress.ip_address(text.partition("%")[0])
    except ValueError:
        raise ValueError("no address") from None


@lru_cache(KEPT)
def _prefix(text: str) -> Prefix:
    address, _, length = text.partition("/")
    packed = _packed(address)
    if packed is not None and length in _LENGTHS:
        return ipaddress.IPv4Network((packed, _LENGTHS[length]), strict=False)
    try:
        return ipaddress.ip_network(
            "0.0.0.0/0" if text == "default" else text.replace(" ", "/"), strict=False
        )
    except ValueError:
        raise ValueError("no prefix") from None


def _mac(text: str, field: FieldType) -> str:
    digits = re.sub(r"[:.\-]", "", text.lower())
    if not _MAC.fullmatch(digits):
        raise ValueError("not a MAC address")
    return ":".join(digits[n : n + 2] for n in range(0, 12, 2))


def _duration(text: str, field: FieldType) -> float:
    """Seconds, from `93784`, `1d 2h 3m 4s`, `1 day, 02:03:04`, `02:03:04`."""
    lower = text.strip().lower()
    clock = _CLOCK.fullmatch(lower)
    if clock is not None:
        days, hours, minutes, seconds = (int(part or 0) for part in clock.groups())
        return float(days * 86_400 + hours * 3600 + minutes * 60 + seconds)
    parts = [part for part in re.split(r"[,\s]+and\s+|,\s*", lower) if part]
    total = 0.0
    for part in parts:
        position = 0
        while position < len(part):
            match = _SPAN.match(part, position)
            if match is None or (match[2] is not None and match[2] not in _UNITS):
                raise ValueError("not a duration")
            total += float(match[1]) * (_UNITS[match[2]] if match[2] else 1)
            position = match.end()
            position += len(part[position:]) - len(part[position:].lstrip())
    if not parts:
        raise ValueError("not a duration")
    return total


def _names(text: str, field: FieldType) -> tuple[str, ...]:
    return tuple(sorted(filter(None, _SEPARATOR.split(text)), key=natural_sort_key))


@lru_cache(KEPT)
def _interface_addresses(text: str) -> tuple[InterfaceAddress, ...]:
    found: list[InterfaceAddress] = []
    for one in filter(None, _SEPARATOR.split(text)):
        address, _, length = one.partition("/")
        packed = _packed(address)
        if packed is not None and length in _LENGTHS:
            found.append(ipaddress.IPv4Interface((packed, _LENGTHS[length])))
            continue
        try:
            found.append(ipaddress.ip_interface(one))
        except ValueError:
            raise ValueError(f"not an address with a prefix length ({one})") from None
    if len(found) == 1 and found[0].version == 4:
        return (found[0],)
    kept = [one for one in found if one.version == 4 or not one.is_link_local]
    return tuple(sorted(kept, key=lambda one: (one.version, int(one.ip), one.network.prefixlen)))


_CONVERTERS: Mapping[ValueKind, Callable[[str, FieldType], Value]] = {
    ValueKind.TEXT: lambda text, field: text,
    ValueKind.FINGERPRINT: lambda text, field: text,
    ValueKind.NUMBER: _number,
    ValueKind.DECIMAL: _decimal,
    ValueKind.BOOLEAN: _boolean,
    ValueKind.CHOICE: _choice,
    ValueKind.ADDRESS: lambda text, field: _address(text),
    ValueKind.PREFIX: lambda text, field: _prefix(text),
    ValueKind.MAC: _mac,
    ValueKind.DURATION: _duration,
    ValueKind.NAMES: _names,
    ValueKind.INTERFACE_ADDRESSES: lambda text, field: _interface_addresses(text),
}


def to_text(value: Value) -> str:
    """The one text of a value: equal values have equal texts. "" for nothing."""
    if isinstance(value, str):
        return value
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return f"{value:g}" if abs(value) < 1e15 else repr(value)
    return ",".join(map(str, value)) if isinstance(value, tuple) else str(value)


def show_value(value: Value) -> str:
    """Return a value as text for a person: with the device's own word where it is not one of the known
    ones."""
    return f"{value} ({value.listed})" if isinstance(value, OtherValue) else to_text(value)


def to_json(value: Value) -> Any:
    """A value as JSON has it: numbers and lists stay what they are, addresses are texts."""
    if isinstance(value, tuple):
        return [str(one) for one in value]
    if isinstance(value, OtherValue):
        return str(value)
    if value is None or isinstance(value, bool | int | float | str):
        return value
    return str(value)


_DIGITS = re.compile(r"([0-9]+)")


@lru_cache(KEPT)
def natural_sort_key(text: str) -> tuple[tuple[int, int, str], ...]:
    """Sorts names as people do: port2 before port10."""
    return tuple(
        (1, int(part), "") if part.isdigit() and part.isascii() else (0, 0, part)
        for part in _DIGITS.split(text)
        if part
    )
