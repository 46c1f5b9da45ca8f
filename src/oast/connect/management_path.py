"""How Oast comes in to a device, as far as the inventory and the session tell."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

Address = ipaddress.IPv4Address | ipaddress.IPv6Address


@dataclass(frozen=True)
class SessionAddresses:
    """How Oast reaches a device."""

    device: frozenset[Address]
    """The device's addresses that the session may be using."""
    ours: frozenset[Address]
    """Oast's own."""
    user: str
    """Who logs in."""
    interface: str | None = None
    """The device's interface that the session uses, where the inventory or a reading says so."""
    is_out_of_band: bool = False
    """Whether the session uses no interface of the device, as through a console server."""

    @classmethod
    def of(
        cls,
        texts: Iterable[str],
        ours: Iterable[str],
        user: str,
        *,
        interface: str | None = None,
        is_out_of_band: bool = False,
    ) -> SessionAddresses:
        """What of the texts is an address; a host name is known from the session alone."""
        return cls(frozenset(_addresses(texts)), frozenset(_addresses(ours)), user, interface, is_out_of_band)


def _addresses(texts: Iterable[str]) -> Iterator[Address]:
    for text in texts:
        try:
            yield ipaddress.ip_address(text.partition("%")[0])
        except ValueError:
            continue
