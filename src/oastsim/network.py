"""network.yaml: which devices there are, what hardware they have, and which ports are linked. The format:
docs/simulator.md."""

from __future__ import annotations

import difflib
import os
import re
import string
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import yaml

from oastsim import outside

FORMAT = 1
SYSTEMS = ("bine", "cowl", "roundel")
NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]{0,62}")
# What a device of NETCONF can be without.
OPTIONAL = (
    "base:1.1",
    "candidate",
    "confirmed-commit",
    "rollback-on-error",
    "startup",
    "validate",
    "writable-running",
)


class NetworkError(Exception):
    """network.yaml, or a file it names, is not right; the message says where."""


@dataclass(frozen=True)
class Account:
    """A login that a device has when it starts for the first time."""

    name: str
    role: str
    password: str


@dataclass(frozen=True)
class DevicePlan:
    """A device before it starts. `management` is the address that sessions come to; `without` are
    capabilities that it lacks; `station` is the host that in-band sessions come from, None with a management
    network of their own; `serial` is its serial number, if it matters; `alternate` is another address for
    sessions, in addition to `management` and whatever is configured on `manage0`."""

    name: str
    system: str
    ports: frozenset[str]
    attached: frozenset[str]
    management: str
    startup: str
    without: frozenset[str] = frozenset()
    station: str | None = None
    serial: str | None = None
    alternate: str | None = None


@dataclass(frozen=True)
class NetworkPlan:
    """The whole network. A link is two (device, port) ends; `convergence_s` is how long an adjacency takes to
    form."""

    devices: tuple[DevicePlan, ...]
    links: tuple[tuple[tuple[str, str], tuple[str, str]], ...]
    accounts: tuple[Account, ...]
    privilege_password: str
    convergence_s: float
    outside: tuple[outside.Host, ...] = ()


def load(path: Path) -> NetworkPlan:
    """Read network.yaml and what it names. Raises NetworkError."""
    try:
        data = yaml.load(path.read_text(encoding="utf-8"), Loader=yaml.CSafeLoader)
    except OSError as error:
        raise NetworkError(f"{path}: {error.strerror}") from None
    except yaml.YAMLError as error:
        raise NetworkError(f"{path}: {error}") from None
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise NetworkError(f"{path}: the file has to begin with 'format: {FORMAT}'")
    try:
        return _plan(data, path)
    except KeyError as missing:
        raise NetworkError(f"{path}: {missing} is missing") from None
    except (TypeError, ValueError, AttributeError) as wrong:
        raise NetworkError(f"{path}: {wrong}") from None


_KINDS: Mapping[str, tuple[type, str]] = {
    "secrets": (str, "a file's path"),
    "defaults": (dict, "'name: value' lines"),
    "devices": (dict, "'NAME: {management: ADDRESS, ...}' lines"),
    "outside": (dict, "'NAME: {at: DEVICE PORT, addresses: [ADDRESS/LENGTH]}' lines"),
    "links": (list, "a list of '[DEVICE PORT, DEVICE PORT]'"),
    "accounts": (list, "a list of '{name: NAME, password: SECRET}'"),
}


_TOP = (
    "format",
    "secrets",
    "accounts",
    "privilege-password",
    "convergence",
    "defaults",
    "devices",
    "outside",
    "links",
)
_OF_DEVICE = ("system", "startup", "ports", "attached", "management", "alternate", "without", "station")
_OF_ACCOUNT = ("name", "role", "password")


def _need_known(found: Mapping[Any, Any], known: Sequence[str], where: str) -> None:
    """A key that is misspelt would be one that is not there. Raises ValueError."""
    for key in found:
        if key not in known:
            near = difflib.get_close_matches(str(key), known, 1)
            raise ValueError(
                f"{where} has '{key}', which is not known"
                + (f"; did you mean '{near[0]}'?" if near else f"; known: {', '.join(known)}")
            )


def _plan(data: Mapping[str, Any], path: Path) -> NetworkPlan:
    for key, (kind, needed) in _KINDS.items():
        if key in data and not isinstance(data[key], kind):
            raise ValueError(f"'{key}' has to be {needed}")
    for key, entry_kind in (("links", list), ("accounts", dict)):
        if not all(isinstance(entry, entry_kind) for entry in data.get(key, ())):
            raise ValueError(f"'{key}' has to be {_KINDS[key][1]}")
    for name, plan in data["devices"].items():
        if not isinstance(name, str) or not isinstance(plan, dict | None):
            raise ValueError(f"the device '{name}' has to be 'NAME: {{management: ADDRESS, ...}}'")
    _need_known(data, _TOP, "the file")
    _need_known(data.get("defaults", {}), _OF_DEVICE, "'defaults'")
    for name, plan in data["devices"].items():
        _need_known(plan or {}, _OF_DEVICE, f"the device {name}")
    for number, account in enumerate(data.get("accounts", ()), 1):
        _need_known(account, _OF_ACCOUNT, f"account {number}")
    secrets = _secrets(path.parent / data["secrets"]) if "secrets" in data else {}
    defaults = data.get("defaults", {})
    devices = tuple(
        _device(name, {**defaults, **(plan or {})}, path.parent) for name, plan in data["devices"].items()
    )
    plans = {device.name: device for device in devices}
    hosts = tuple(outside.read(name, host) for name, host in data.get("outside", {}).items())
    links = _links(data.get("links", ()), plans, hosts)
    for device in devices:
        if device.station is not None and device.station not in {host.name for host in hosts}:
            raise ValueError(f"{device.name}: the station '{device.station}' is not one of 'outside'")
    accounts = tuple(
        Account(a["name"], a.get("role", "administrator"), _secret(a["password"], secrets))
        for a in data.get("accounts", ())
    )
    privilege = _secret(data["privilege-password"], secrets)
    return NetworkPlan(devices, tuple(links), accounts, privilege, float(data.get("convergence", 0.5)), hosts)


_Link = tuple[tuple[str, str], tuple[str, str]]


def _links(
    written: Iterable[Iterable[str]], plans: Mapping[str, DevicePlan], hosts: tuple[outside.Host, ...]
) -> list[_Link]:
    """The cables between devices, and those to what is outside."""
    links: list[_Link] = []
    used: set[tuple[str, str]] = set()

    def end(text: str) -> tuple[str, str]:
        found = _end(text, plans)
        if found in used:
            raise ValueError(f"the port {found[0]} {found[1]} is linked twice")
        used.add(found)
        return found

    for texts in written:
        one, other = (end(text) for text in texts)
        links.append((one, other))
    for host in hosts:
        if host.name in plans:
            raise ValueError(f"outside: {host.name} is the name of a device")
        if host.at is not None:
            links.append((end(" ".join(host.at)), (host.name, host.port)))
    return links


def _device(name: str, plan: Mapping[str, Any], folder: Path) -> DevicePlan:
    if not NAME.fullmatch(name):
        raise ValueError(f"'{name}' is not a device's name")
    if plan["system"] not in SYSTEMS:
        raise ValueError(f"{name}: there is no system '{plan['system']}'")
    facts = {"name": name, "management": str(plan["management"])}
    startup = ""
    if "startup" in plan:
        path = folder / string.Template(plan["startup"]).substitute(facts)
        try:
            startup = string.Template(path.read_text(encoding="utf-8")).safe_substitute(facts)
        except OSError as error:
            raise NetworkError(f"{path}: {error.strerror}") from None
    without = frozenset(plan.get("without", ()))
    for one in without:
        if one not in OPTIONAL or plan["system"] != "roundel":
            raise ValueError(
                f"{name}: 'without' names {one!r}; a roundel can be without {', '.join(OPTIONAL)}"
            )
    ports, attached = frozenset(plan["ports"]), frozenset(plan.get("attached", ()))
    station = str(plan["station"]) if plan.get("station") is not None else None
    alternate = str(plan["alternate"]) if plan.get("alternate") is not None else None
    return DevicePlan(
        name,
        plan["system"],
        ports,
        attached,
        str(plan["management"]),
        startup,
        without,
        station,
        alternate=alternate,
    )


def _end(text: str, plans: Mapping[str, DevicePlan]) -> tuple[str, str]:
    name, _, port = str(text).partition(" ")
    if name not in plans:
        raise ValueError(f"a link names the device '{name}', which is not there")
    if port not in plans[name].ports:
        raise ValueError(f"a link names '{port}', which {name} does not have")
    return name, port


def _secrets(path: Path) -> Mapping[str, str]:
    try:
        return {name: str(value) for name, value in tomllib.loads(path.read_text(encoding="utf-8")).items()}
    except OSError:
        return {}


def _secret(name: str, secrets: Mapping[str, str]) -> str:
    variable = "OAST_SECRET_" + name.upper().replace("-", "_")
    value = os.environ.get(variable) or secrets.get(name)
    if value is None:
        raise ValueError(
            f"the secret '{name}' is neither in the environment ({variable}) nor in the secrets file"
        )
    return value
