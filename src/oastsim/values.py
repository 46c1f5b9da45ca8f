"""What a word of a configuration may be, and how a device stores it. Each checker returns the stored word or
raises ValueError."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable

Check = Callable[[str], str]


def is_number(word: str) -> bool:
    """Digits as a keyboard has them, and no more of them than a number may have."""
    return re.fullmatch("[0-9]{1,40}", word) is not None


def number(low: int, high: int) -> Check:
    def check(word: str) -> str:
        if not is_number(word) or not low <= int(word) <= high:
            raise ValueError(f"a number between {low} and {high} is needed")
        return str(int(word))

    return check


def one_of(*choices: str) -> Check:
    def check(word: str) -> str:
        meant = [c for c in choices if c == word] or [c for c in choices if c.startswith(word)]
        if len(meant) != 1:
            raise ValueError("one of these is needed: " + " ".join(choices))
        return meant[0]

    return check


def exactly(*choices: str) -> Check:
    """For systems that take no abbreviations."""

    def check(word: str) -> str:
        if word not in choices:
            raise ValueError("one of these is needed: " + " ".join(choices))
        return word

    return check


def shaped(pattern: str, needed: str, *, fold: bool = False) -> Check:
    def check(word: str) -> str:
        word = word.lower() if fold else word
        if not re.fullmatch(pattern, word):
            raise ValueError(f"{needed} is needed")
        return word

    return check


def address(word: str) -> str:
    try:
        return str(ipaddress.ip_address(word))
    except ValueError:
        raise ValueError("an address is needed") from None


def ipv4(word: str) -> str:
    try:
        return str(ipaddress.IPv4Address(word))
    except ValueError:
        raise ValueError("an IPv4 address is needed") from None


def ipv6(word: str) -> str:
    try:
        return str(ipaddress.IPv6Address(word))
    except ValueError:
        raise ValueError("an IPv6 address is needed") from None


def area(word: str) -> str:
    try:
        return str(ipaddress.IPv4Address(int(word) if is_number(word) else word))
    except ValueError:
        raise ValueError("an area such as 0.0.0.0 is needed") from None


def prefix(word: str) -> str:
    try:
        if "/" in word:
            return str(ipaddress.ip_network(word))
    except ValueError:
        pass
    raise ValueError("a prefix such as 192.0.2.0/24 is needed")


def prefix_or_any(word: str) -> str:
    return word if word == "any" else prefix(word)


def with_length(version: int) -> Check:
    def check(word: str) -> str:
        try:
            if "/" in word:
                made = ipaddress.ip_interface(word)
                if made.version == version:
                    return str(made)
        except ValueError:
            pass
        raise ValueError(f"an IPv{version} address with its length is needed")

    return check


def ports(word: str) -> str:
    low, _, high = word.partition("-")
    if is_number(low) and (not high or is_number(high)) and int(low) <= int(high or low) <= 65535:
        return str(int(low)) if int(low) == int(high or low) else f"{int(low)}-{int(high)}"
    raise ValueError("a port or a range of ports is needed")


name = shaped(r"[A-Za-z0-9][A-Za-z0-9_.-]{0,63}", "a name")
domain = shaped(r"[a-z0-9-]+(\.[a-z0-9-]+)*\.?", "a domain name", fold=True)
interface = shaped(r"(port|loop|manage)[0-9]+(\.[0-9]+)?", "an interface name", fold=True)
boolean = one_of("true", "false")
hashed = shaped(r"\$[a-z0-9-]+\$\S+", "a password hash")
zone = shaped(r"[A-Za-z_]+(/[A-Za-z0-9_+-]+)*", "a time zone")
key_data = shaped(r"[A-Za-z0-9+/]{16,}={0,2}", "a public key in base64")
key_method = one_of("ssh-ed25519", "ssh-rsa", "ecdsa-sha2-nistp256")


def any_word(word: str) -> str:
    return word
