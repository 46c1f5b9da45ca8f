"""Filters and tests for expressions: address arithmetic, ranges, and picking out of nested data. The page:
docs/filters.md.

Each raises ValueError with a sentence for a person; the template's line is added where it is used.
"""

from __future__ import annotations

import base64
import hashlib
import ipaddress
import re
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any

import jinja2
import jmespath

from oast.records import Secret

MOST_ROUNDS = 1_000_000
_NOTHING: Any = object()


def _interface(value: Any) -> ipaddress.IPv4Interface | ipaddress.IPv6Interface:
    try:
        if isinstance(value, str) and "/" in value:
            return ipaddress.ip_interface(value)
    except ValueError:
        pass
    _defined(value)
    raise ValueError(f"'{value}' is not an address or prefix with a length, such as 192.0.2.1/24")


def _network(value: Any) -> ipaddress.IPv4Network | ipaddress.IPv6Network:
    return _interface(value).network


def _defined(value: Any) -> None:
    """Raises MissingError for what is not defined."""
    if isinstance(value, jinja2.Undefined):
        str(value)


def network_of(value: str) -> str:
    """The prefix that an address is in."""
    return str(_network(value))


def address_of(value: str) -> str:
    """The address without its length."""
    return str(_interface(value).ip)


def length_of(value: str) -> int:
    """The prefix length; also of a mask."""
    if isinstance(value, str) and "/" not in value:
        try:
            return ipaddress.IPv4Network(f"0.0.0.0/{value}").prefixlen
        except ValueError:
            raise ValueError(f"'{value}' is neither a prefix nor a mask") from None
    return _network(value).prefixlen


def mask_of(value: str) -> str:
    """The mask of an IPv4 prefix, address with length, or length."""
    text = f"0.0.0.0/{value}" if isinstance(value, int) else value
    return str(_network(text).netmask)


def wildcard_of(value: str) -> str:
    """The inverted mask, as access lists of some devices want it."""
    text = f"0.0.0.0/{value}" if isinstance(value, int) else value
    return str(_network(text).hostmask)


def nth_host(value: str, number: int) -> str:
    """The host `number` of a prefix, counted from 1; negative numbers count from the end (RFC
    3021 for /31)."""
    network = _network(value)
    whole = network.num_addresses
    edges = 1 if network.version == 4 and network.prefixlen < 31 else 0
    first, last = edges, whole - 1 - edges
    if network.version == 6 and network.prefixlen < 127:
        first = 1  # the first is the subnet-router anycast address (RFC 4291, section 2.6.1)
    index = first + number - 1 if number > 0 else last + number + 1
    if number == 0 or not first <= index <= last:
        raise ValueError(f"{network} has no host number {number}")
    return str(network[index])


def peer_address(value: str) -> str:
    """The other end of a link: the other address of a /31, /30, /127 or /126."""
    interface = _interface(value)
    network = interface.network
    if network.max_prefixlen - network.prefixlen not in (1, 2):
        raise ValueError(
            f"'{value}' is not on a point-to-point link; its prefix length must be 31 or 30 (127 or 126)"
        )
    hosts = [address for address in network.hosts() if address != interface.ip]
    if len(hosts) != 1:
        raise ValueError(f"'{value}' is not one of the two host addresses of its link")
    return f"{hosts[0]}/{network.prefixlen}"


def numbers_in(value: Any) -> list[int]:
    """The numbers of a list of ranges."""
    found: list[int] = []
    for part in str(value).replace(" ", "").split(","):
        match = re.fullmatch(r"([0-9]+)(?:-([0-9]+))?", part)
        low, high = (int(match[1]), int(match[2] or match[1])) if match else (1, 0)
        if low > high or high - low > 65535:
            raise ValueError(f"'{part}' is not a number or a range such as 1-8")
        found.extend(range(low, high + 1))
    return found


def names_in(value: Any) -> list[str]:
    """The names of a list of names with ranges at their end."""
    found: list[str] = []
    for part in str(value).replace(" ", "").split(","):
        match = re.fullmatch(r"(.*?)([0-9]+)-([0-9]+)", part)
        if match is None:
            found.append(part)
        else:
            found.extend(f"{match[1]}{number}" for number in numbers_in(f"{match[2]}-{match[3]}"))
    return found


def picked(value: Any, expression: str, default: Any = _NOTHING) -> Any:
    """What a JMESPath expression finds in `value`; `default` when that is nothing."""
    if isinstance(value, jinja2.Undefined):
        value = None
    try:
        found = jmespath.search(expression, value)
    except jmespath.exceptions.JMESPathError as error:
        raise ValueError(f"'{expression}' is not a valid JMESPath expression: {error}") from None
    if found is None and default is _NOTHING:
        raise ValueError(f"'{expression}' matches nothing; add a default: pick('{expression}', ...)")
    return default if found is None else found


def is_ipv4(value: Any) -> bool:
    """Whether a value is an IPv4 address or prefix."""
    return _version(value) == 4


def is_ipv6(value: Any) -> bool:
    """Whether a value is an IPv6 address or prefix."""
    return _version(value) == 6


def _version(value: Any) -> int | None:
    try:
        return ipaddress.ip_interface(value).version if isinstance(value, str) else None
    except ValueError:
        return None


def is_within(value: str, prefix: str) -> bool:
    """Whether an address or prefix lies in a prefix."""
    inner, outer = (ipaddress.ip_interface(text).network for text in (value, prefix))
    return inner.version == outer.version and inner.subnet_of(outer)  # type: ignore[arg-type]


def password_hash(value: Secret, salt: str, rounds: int = 20_000) -> Secret:
    """The secret as a device keeps it to check a password: `$pbkdf2-sha256$ROUNDS$SALT$HASH` (PBKDF2, RFC
    8018, section 5.2).

    The same salt gives the same hash, so that a second run changes nothing: give one that differs from device
    to device.
    """
    if not isinstance(value, Secret):
        _defined(value)
        raise ValueError("'password_hash' takes a secret, not plain text")
    if not isinstance(salt, str) or not salt:
        raise ValueError("'password_hash' needs a salt, such as device.name")
    if isinstance(rounds, bool) or not isinstance(rounds, int) or not 1 <= rounds <= MOST_ROUNDS:
        raise ValueError(f"the rounds of 'password_hash' must be 1 to {MOST_ROUNDS}")
    salted = hashlib.sha256(f"oast {salt}".encode()).digest()[:12]
    digest = _pbkdf2(value.reveal().encode(), salted, rounds)
    texts = (base64.b64encode(data).decode().rstrip("=") for data in (salted, digest))
    return value.become("$".join(("", "pbkdf2-sha256", str(rounds), *texts)))


# A hash takes 20 ms on purpose, and the same ones are needed each time an intent is rendered.
@lru_cache(maxsize=20_000)
def _pbkdf2(password: bytes, salt: bytes, rounds: int) -> bytes:
    return hashlib.pbkdf2_hmac("sha256", password, salt, rounds)


# Around what the filter `raw` has printed, until the text is rendered.
RAW_BEGINS, RAW_ENDS = "\ue002", "\ue003"


def raw(value: Any) -> Any:
    """A value as it is."""
    return value


def printed_raw(value: Any) -> Any:
    """Print a value as it is, whatever statements its text adds: the filter `raw` of templates."""
    return f"{RAW_BEGINS}{value}{RAW_ENDS}" if isinstance(value, str) else value


FILTERS: Mapping[str, Callable[..., Any]] = {
    "network_of": network_of,
    "address_of": address_of,
    "length_of": length_of,
    "mask_of": mask_of,
    "wildcard_of": wildcard_of,
    "nth_host": nth_host,
    "peer_address": peer_address,
    "numbers_in": numbers_in,
    "names_in": names_in,
    "pick": picked,
    "password_hash": password_hash,
    "raw": raw,
}
TESTS: Mapping[str, Callable[..., bool]] = {"ipv4": is_ipv4, "ipv6": is_ipv6, "within": is_within}
