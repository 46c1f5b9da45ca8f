"""Management access: the addresses by which Oast reaches a device, as the inventory states them."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from oast.errors import EstateError
from oast.records import Place

# What `alternate_interface` says of an alternate address that is on no interface of the device, such as a
# console server.
OUT_OF_BAND = "out-of-band"
_HOST = re.compile(r"(?![0-9.]+$)[A-Za-z0-9]([A-Za-z0-9._-]*[A-Za-z0-9])?")


@dataclass(frozen=True)
class AlternateAddress:
    """A second address of the device: an IP address or host name, the SSH port (None: the usual one) and the
    device's interface."""

    host: str
    port: int | None
    interface: str | None

    @property
    def is_out_of_band(self) -> bool:
        """Whether the address is on no interface of the device, as that of a console server is not."""
        return self.interface == OUT_OF_BAND


@dataclass(frozen=True)
class ManagementAccess:
    """How Oast reaches one device.

    `address` is where the device is reached, or will be once the change that gives it this address is
    delivered; until then it answers at `previous`. `interface` is the interface that has the address, where
    the inventory names it. `is_out_of_band` means that the address is on no interface of the device.
    """

    address: str
    previous: str | None = None
    alternate: AlternateAddress | None = None
    interface: str | None = None
    is_out_of_band: bool = False


def management_access(
    address: str, port: int | None, attributes: Mapping[str, Any], places: Mapping[str, Place]
) -> ManagementAccess:
    """What the inventory's attributes of a device say. Raises EstateError with the place of what is wrong."""
    previous = _previous(address, attributes, places)
    interface = _text(attributes, places, "management_interface", "an interface name")
    is_out_of_band = _flag(attributes, places, "out_of_band")
    if is_out_of_band and interface is not None:
        raise EstateError(
            "'management_interface' and 'out_of_band: true' contradict each other",
            place=places["management_interface"],
            hint="remove 'out_of_band' if Oast reaches the device through this interface",
        )
    alternate = _alternate(attributes, places)
    if (
        alternate is not None
        and alternate.host == address
        and alternate.port in (None, port)
        and not alternate.is_out_of_band
    ):
        raise EstateError(
            f"'alternate_address' is the device's own address {address}",
            place=places["alternate_address"],
            hint="choose an address on another interface of the device",
        )
    if alternate is not None and interface is not None and alternate.interface == interface:
        raise EstateError(
            f"'alternate_interface' and 'management_interface' are both {interface}",
            place=places["alternate_interface"],
            hint="choose an address on another interface",
        )
    return ManagementAccess(address, previous, alternate, interface, is_out_of_band)


def _text(attributes: Mapping[str, Any], places: Mapping[str, Place], key: str, what: str) -> str | None:
    value = attributes.get(key)
    if value is None:
        return None
    if not isinstance(value, str) or not value.strip():
        raise EstateError(
            f"'{key}' must be {what}", place=places[key], hint=f"write {key}: VALUE, or remove the line"
        )
    return value


def _flag(attributes: Mapping[str, Any], places: Mapping[str, Place], key: str) -> bool:
    value = attributes.get(key, False)
    if isinstance(value, str) and value.lower() in ("true", "false"):  # a cell of a CSV file
        return value.lower() == "true"
    if not isinstance(value, bool):
        raise EstateError(f"'{key}' must be true or false", place=places[key], hint=f"write {key}: true")
    return value


def _previous(address: str, attributes: Mapping[str, Any], places: Mapping[str, Place]) -> str | None:
    written = _text(attributes, places, "previous_address", "an IP address or host name")
    if written is None:
        return None
    place = places["previous_address"]
    host = _host(written, "previous_address", place)
    if host == address:
        raise EstateError(
            f"'previous_address' is the device's address {address}", place=place, hint="remove this line"
        )
    return host


def _alternate(attributes: Mapping[str, Any], places: Mapping[str, Place]) -> AlternateAddress | None:
    for former, new in (("second_way", "alternate_address"), ("second_way_interface", "alternate_interface")):
        if former in attributes:
            raise EstateError(f"'{former}' was renamed", place=places[former], hint=f"write '{new}'")
    written = attributes.get("alternate_address")
    interface = _text(attributes, places, "alternate_interface", f"an interface name, or {OUT_OF_BAND}")
    if written is None:
        if interface is not None:
            raise EstateError(
                "'alternate_interface' has no 'alternate_address'",
                place=places["alternate_interface"],
                hint="add alternate_address: ADDRESS",
            )
        return None
    place = places["alternate_address"]
    host, port = str(written), ""
    if host.startswith("["):
        host, _, port = host[1:].partition("]")
        port = port.removeprefix(":")
    elif host.count(":") == 1:
        host, _, port = host.partition(":")
    if port and not (port.isdecimal() and 0 < int(port) < 65536):
        raise EstateError(
            f"'{port}' is not a port", place=place, hint="write alternate_address: ADDRESS or ADDRESS:PORT"
        )
    return AlternateAddress(_host(host, "alternate_address", place), int(port) if port else None, interface)


def _host(text: str, key: str, place: Place) -> str:
    try:
        return str(ipaddress.ip_address(text))
    except ValueError:
        if not _HOST.fullmatch(text):
            raise EstateError(
                f"'{text}' is not an address", place=place, hint=f"write {key}: ADDRESS"
            ) from None
        return text
