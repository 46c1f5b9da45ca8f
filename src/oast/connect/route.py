"""How Oast comes in to a device, as far as the inventory and the session tell."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

Address = ipaddress.IPv4Address | ipaddress.IPv6Address


@dataclass(frozen=True)
class Route:
    """The addresses that are the device's and ours; who logs in."""

    device: frozenset[Address]
    ours: frozenset[Address]
    user: str

    @classmethod
    def of(cls, texts: Iterable[str], ours: Iterable[str], user: str) -> Route:
        """What of the texts is an address; a host name is known from the session alone."""
        return cls(frozenset(_addresses(texts)), frozenset(_addresses(ours)), user)


def _addresses(texts: Iterable[str]) -> Iterator[Address]:
    for text in texts:
        try:
            yield ipaddress.ip_address(text.partition("%")[0])
        except ValueError:
            continue
