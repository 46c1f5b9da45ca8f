"""How to reach devices: [connection] in oast.toml, its rules and its jump hosts. The page:
docs/connections.md."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from pathlib import Path
from typing import Any

from oast.errors import ErrorCollector, EstateError
from oast.estate import selectors
from oast.estate.inventory import DEVICE_NAME, Device
from oast.estate.selectors import Selector
from oast.records import Place
from oast.spelling import spelling_hint
from oast.toml_text import Table

NOT_BY_RULE = ("known_hosts", "parallel", "simulated")


@dataclass(frozen=True, slots=True)
class ConnectionSettings:
    """How to reach a device. Secrets are names, not values.

    `command_timeout_s` is how long a device may be silent. One answer may take `max_answer_s` seconds in all
    and have `max_answer_bytes`, `max_answer_lines` and, in XML, `max_answer_elements`. Reading a device may
    take `device_timeout_s` seconds from its first packet to the last. `agent` is the socket of an agent that
    holds keys, "" for the one that the environment names. `via` is the jump host of the session. Without an
    answer, `retries` more attempts follow, the first after `retry_wait_s` seconds, each later one after twice
    as long. `ssh_config` is a file of OpenSSH's client that is read as well; none is read by default.
    """

    username: str | None = None
    password_secret: str | None = None
    privilege_password_secret: str | None = None
    key_file: Path | None = None
    agent: str | None = None
    via: str | None = None
    connect_timeout_s: float = 15.0
    command_timeout_s: float = 20.0
    device_timeout_s: float = 900.0
    keep_alive_s: float = 30.0
    retries: int = 1
    retry_wait_s: float = 1.0
    max_answer_s: float = 300.0
    max_answer_bytes: int = 16_000_000
    max_answer_lines: int = 50_000
    max_answer_elements: int = 50_000
    ssh_config: Path | None = None
    known_hosts: Path = Path("known_hosts")
    parallel: int = 50
    simulated: bool = False

    @property
    def login_secrets(self) -> frozenset[str]:
        """The names of the secrets with which Oast comes into devices."""
        return frozenset(
            name for name in (self.password_secret, self.privilege_password_secret) if name is not None
        )


@dataclass(frozen=True, slots=True)
class JumpHost:
    """A host through which sessions go; `via` is the one before it."""

    name: str
    address: str
    port: int
    username: str | None
    password_secret: str | None
    key_file: Path | None
    agent: str | None
    via: str | None
    place: Place


@dataclass(frozen=True, slots=True)
class ConnectionRule:
    """What `given` says holds for the devices that `on` picks; `places` are where each stands."""

    on: Selector
    given: Mapping[str, Any]
    places: Mapping[str, Place]


@dataclass(frozen=True, slots=True)
class SettingOrigin:
    """The origin of a setting: the line of oast.toml, and the selector of its rule; None and None for a
    default."""

    place: Place | None = None
    on: str | None = None


@dataclass(frozen=True)
class Connections:
    """The settings for all devices, the rules that change them in their order, the jump hosts by name."""

    everywhere: ConnectionSettings = ConnectionSettings()
    places: Mapping[str, Place] = field(default_factory=dict)
    rules: tuple[ConnectionRule, ...] = ()
    jumps: Mapping[str, JumpHost] = field(default_factory=dict)

    def of(self, device: Device) -> ConnectionSettings:
        """What holds for `device`: of several rules for one setting, the last."""
        given: dict[str, Any] = {}
        for rule in self.rules:
            if rule.on.matches(device.known_by):
                given.update(rule.given)
        return replace(self.everywhere, **given) if given else self.everywhere

    def origins(self, device: Device) -> dict[str, SettingOrigin]:
        """Who decided each setting for `device`."""
        found = {name: SettingOrigin(place) for name, place in self.places.items()}
        for rule in self.rules:
            if rule.on.matches(device.known_by):
                found.update(
                    {name: SettingOrigin(place, rule.on.text) for name, place in rule.places.items()}
                )
        return found

    def every(self) -> Iterable[ConnectionSettings]:
        """The settings of [connection], and with those of each rule by itself."""
        yield self.everywhere
        for rule in self.rules:
            yield replace(self.everywhere, **rule.given)

    @property
    def login_secrets(self) -> frozenset[str]:
        """The names of all secrets with which Oast comes into devices or jump hosts."""
        of_jumps = frozenset(
            jump.password_secret for jump in self.jumps.values() if jump.password_secret is not None
        )
        return of_jumps.union(*(settings.login_secrets for settings in self.every()))

    def through(self, name: str | None) -> tuple[JumpHost, ...]:
        """The jump hosts on the way to a device whose `via` is `name`, the first one first."""
        found: list[JumpHost] = []
        while name is not None:
            found.append(self.jumps[name])
            name = found[-1].via
        return tuple(reversed(found))

    def check(self, devices: Mapping[str, Device], mistakes: ErrorCollector) -> None:
        """Note what is wrong between rules, jump hosts and the inventory."""
        for rule in self.rules:
            with mistakes.collected():
                rule.on.pick({name: device.known_by for name, device in devices.items()})
        for jump in self.jumps.values():
            with mistakes.collected():
                if jump.name in devices:
                    hint = "give the jump host another name, because known_hosts lists keys by name"
                    raise EstateError(
                        f"'{jump.name}' is also the name of a device", place=jump.place, hint=hint
                    )


def read_connections(table: Table | None, folder: Path) -> Connections:
    """[connection] of oast.toml in `folder`; what is wrong goes to the file's mistakes."""
    if table is None:
        return Connections()
    given = _given(table, folder)
    default = ConnectionSettings()
    everywhere = replace(
        default,
        **given,
        known_hosts=_path(table, "known_hosts", folder) or folder / default.known_hosts,
        parallel=int(table.positive("parallel", default.parallel)),
        simulated=table.flag("simulated"),
    )
    places = {name: table.place(key) for name, key in _keys().items() if key in table.data}
    jumps = dict(_jumps(table, folder))
    rules = [rule for one in table.array("rules") if (rule := _rule(one, folder)) is not None]
    table.finish()
    _check_jumps(table, everywhere, rules, jumps)
    return Connections(everywhere, places, tuple(rules), jumps)


def _keys() -> dict[str, str]:
    """The key in oast.toml of each setting."""
    return {field.name: field.name.removesuffix("_secret") for field in fields(ConnectionSettings)}


def _given(table: Table, folder: Path) -> dict[str, Any]:
    """Every setting that `table` names and that may differ from device to device."""
    default = ConnectionSettings()
    found: dict[str, Any] = {
        "username": table.text("username"),
        "password_secret": _secret(table, "password"),
        "privilege_password_secret": _secret(table, "privilege_password"),
        "key_file": _path(table, "key_file", folder),
        "agent": _agent(table),
        "via": table.text("via"),
        "ssh_config": _path(table, "ssh_config", folder),
        "keep_alive_s": table.count("keep_alive_s", default.keep_alive_s),
        "retries": table.number("retries", default.retries, 0, 100),
        "max_answer_bytes": int(table.positive("max_answer_bytes", default.max_answer_bytes)),
        "max_answer_lines": int(table.positive("max_answer_lines", default.max_answer_lines)),
        "max_answer_elements": int(table.positive("max_answer_elements", default.max_answer_elements)),
    }
    for name in (
        "connect_timeout_s",
        "command_timeout_s",
        "device_timeout_s",
        "retry_wait_s",
        "max_answer_s",
    ):
        found[name] = table.positive(name, getattr(default, name))
    keys = _keys()
    return {name: value for name, value in found.items() if keys[name] in table.data}


def _rule(table: Table, folder: Path) -> ConnectionRule | None:
    written = table.needed("on")
    given = _given(table, folder)
    for key in NOT_BY_RULE:
        if table.has(key):
            table.wrong(key, f"'{key}' cannot differ between devices", "move it to [connection]")
    table.finish()
    if not given and not table.data.keys() - {"on"}:
        table.wrong("on", "the rule sets nothing", "add a setting, such as username or command_timeout_s")
    if not written:
        return None
    keys = _keys()
    with table.file.mistakes.collected():
        return ConnectionRule(
            selectors.parse_selector(written, table.place("on")),
            given,
            {name: table.place(keys[name]) for name in given},
        )
    return None


def _jumps(table: Table, folder: Path) -> Iterable[tuple[str, JumpHost]]:
    all_jumps = table.table("jumps", "tables, [connection.jumps.NAME]")
    for name, one in all_jumps.tables() if all_jumps is not None else ():
        jump = JumpHost(
            name,
            one.needed("address"),
            one.number("port", 22, 1, 65535),
            one.text("username"),
            _secret(one, "password"),
            _path(one, "key_file", folder),
            _agent(one),
            one.text("via"),
            one.place(),
        )
        one.finish()
        if DEVICE_NAME.fullmatch(name):
            yield name, jump
        else:
            one.wrong(None, f"'{name}' is not a valid name for a jump host", "use letters, digits, - and _")


def _check_jumps(
    table: Table,
    everywhere: ConnectionSettings,
    rules: Sequence[ConnectionRule],
    jumps: Mapping[str, JumpHost],
) -> None:
    asked = [(everywhere.via, table.place("via"))]
    asked += [(rule.given.get("via"), rule.places["via"]) for rule in rules if "via" in rule.given]
    asked += [(jump.via, table.file.place(*table.path, "jumps", jump.name, "via")) for jump in jumps.values()]
    for name, place in asked:
        if name is not None and name not in jumps:
            hint = spelling_hint(name, jumps) if jumps else f"write [connection.jumps.{name}]"
            table.file.wrong(f"unknown jump host '{name}'", place, hint)
    for jump in jumps.values():
        seen: list[str] = []
        behind: str | None = jump.name
        while behind is not None and behind in jumps and behind not in seen:
            seen.append(behind)
            behind = jumps[behind].via
        if behind in seen:
            table.file.wrong(
                f"jump hosts refer to each other in a loop: {' via '.join([*seen, str(behind)])}",
                jump.place,
            )
            # Links in it are not followed.
            raise EstateError.of(table.file.mistakes.found)


def _path(table: Table, key: str, folder: Path) -> Path | None:
    value = table.text(key)
    return None if value is None else (folder / Path(value).expanduser()).resolve()


def _secret(table: Table, key: str) -> str | None:
    value = table.value(key)
    if value is None:
        return None
    if not isinstance(value, dict) or set(value) != {"secret"} or not isinstance(value["secret"], str):
        hint = f'write {key} = {{ secret = "NAME" }} and set OAST_SECRET_NAME'
        table.wrong(key, f"'{key}' must name a secret, not contain it", hint)
        return None
    return value["secret"]


def _agent(table: Table) -> str | None:
    value = table.value("agent")
    if value is None or value is False:
        return None
    if value is True:
        return ""
    if not isinstance(value, str) or not value:
        table.wrong("agent", "'agent' must be true, or the path of the agent's socket")
        return None
    return value
