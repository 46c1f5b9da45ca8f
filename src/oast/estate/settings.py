"""oast.toml: the settings of one estate. The page: docs/estate.md."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oast.errors import EstateError
from oast.estate import selectors
from oast.estate.selectors import Selector
from oast.nearest import suggestion
from oast.records import Place

FILE = "oast.toml"
FORMAT = 1


@dataclass(frozen=True, slots=True)
class ConnectionSettings:
    """How to reach devices. Secrets are names, not values.

    `command_timeout_s` is how long a device may be silent; one answer may take `answer_at_most_s` seconds in all and be
    `answer_at_most_bytes` and `answer_at_most_lines` long. `ssh_config` is a file of OpenSSH's client that is read besides; none
    is read by default.
    """

    username: str | None = None
    password_secret: str | None = None
    privilege_password_secret: str | None = None
    key_file: Path | None = None
    known_hosts: Path = Path("known_hosts")
    connect_timeout_s: float = 15.0
    command_timeout_s: float = 20.0
    at_once: int = 50
    answer_at_most_s: float = 300.0
    answer_at_most_bytes: int = 64_000_000
    answer_at_most_lines: int = 1_000_000
    ssh_config: Path | None = None
    simulated: bool = False

    @property
    def login_secrets(self) -> frozenset[str]:
        """The names of the secrets with which Oast comes into devices."""
        return frozenset(name for name in (self.password_secret, self.privilege_password_secret) if name is not None)


@dataclass(frozen=True, slots=True)
class DeliverySettings:
    """How a delivery goes: how long until a device goes back by itself, and how long checks may take to come true.

    `waves` pick the devices that come first, second and so on; the others come last. After a wave in which more than
    `most_failures` devices failed or were reverted, no further begins. Checks have to stay true for `hold_s` seconds at least.
    """

    revert_timer_s: int = 120
    verify_timeout_s: float = 30.0
    mask_backups: bool = False
    waves: tuple[Selector, ...] = ()
    most_failures: int = 0
    hold_s: float = 0.0


@dataclass(frozen=True, slots=True)
class SecretSettings:
    """Where secrets are looked up, besides the environment. `command` prints the secret whose name replaces {name}."""

    file: Path | None = None
    encrypted_file: Path | None = None
    key_file: Path | None = None
    command: tuple[str, ...] = ()
    prompt: bool = False


@dataclass(frozen=True, slots=True)
class Settings:
    """Everything in oast.toml."""

    name: str
    connection: ConnectionSettings
    delivery: DeliverySettings
    secrets: SecretSettings
    network_file: Path


def read(folder: Path) -> Settings:
    """The settings of the estate in `folder`. Raises EstateError."""
    path = folder / FILE
    try:
        text = path.read_text(encoding="utf-8")
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        line = re.search(r"line ([0-9]+)", str(error))
        raise EstateError(f"this is not valid TOML: {error}", place=Place(FILE, int(line[1]) if line else None)) from None
    except (OSError, UnicodeDecodeError) as error:
        raise EstateError(f"the settings cannot be read: {error}", place=Place(FILE)) from None
    return _Reader(data, text, folder).settings()


class _Reader:
    """Turns the TOML data into settings; finds the line of a wrong key again by its name."""

    def __init__(self, data: Mapping[str, Any], text: str, folder: Path) -> None:
        self._data = data
        self._lines = text.splitlines()
        self._folder = folder

    def settings(self) -> Settings:
        self._known("", self._data, {"format", "name", "connection", "delivery", "secrets", "simulator"})
        if self._data.get("format") != FORMAT:
            raise self._error("format", f"the file has to begin with 'format = {FORMAT}'")
        simulator = self._table("simulator", {"network"})
        return Settings(
            name=self._text(self._data, "name") or self._folder.resolve().name,
            connection=self._connection(),
            delivery=self._delivery(),
            secrets=self._secrets(),
            network_file=self._path(simulator, "network") or self._folder / "network.yaml",
        )

    def _connection(self) -> ConnectionSettings:
        names = {"username", "password", "privilege_password", "key_file", "known_hosts"}
        names |= {"connect_timeout_s", "command_timeout_s", "at_once", "simulated"}
        names |= {"answer_at_most_s", "answer_at_most_bytes", "answer_at_most_lines", "ssh_config"}
        table = self._table("connection", names)
        default = ConnectionSettings()
        return ConnectionSettings(
            username=self._text(table, "username"),
            password_secret=self._secret(table, "password"),
            privilege_password_secret=self._secret(table, "privilege_password"),
            key_file=self._path(table, "key_file"),
            known_hosts=self._path(table, "known_hosts") or self._folder / default.known_hosts,
            connect_timeout_s=self._number(table, "connect_timeout_s", default.connect_timeout_s),
            command_timeout_s=self._number(table, "command_timeout_s", default.command_timeout_s),
            at_once=int(self._number(table, "at_once", default.at_once)),
            answer_at_most_s=self._number(table, "answer_at_most_s", default.answer_at_most_s),
            answer_at_most_bytes=int(self._number(table, "answer_at_most_bytes", default.answer_at_most_bytes)),
            answer_at_most_lines=int(self._number(table, "answer_at_most_lines", default.answer_at_most_lines)),
            ssh_config=self._path(table, "ssh_config"),
            simulated=self._of(table, "simulated", bool, "true or false") or False,
        )

    def _secrets(self) -> SecretSettings:
        table = self._table("secrets", {"file", "encrypted_file", "key_file", "command", "prompt"})
        command = self._of(table, "command", list, 'a list of texts: ["program", "{name}"]') or []
        if not all(isinstance(word, str) for word in command):
            raise self._error("command", "'command' has to be a list of texts")
        return SecretSettings(
            file=self._path(table, "file"),
            encrypted_file=self._path(table, "encrypted_file"),
            key_file=self._path(table, "key_file"),
            command=tuple(command),
            prompt=self._of(table, "prompt", bool, "true or false") or False,
        )

    def _delivery(self) -> DeliverySettings:
        table = self._table("delivery", {"revert_timer_s", "verify_timeout_s", "mask_backups", "waves", "most_failures", "hold_s"})
        default = DeliverySettings()
        return DeliverySettings(
            revert_timer_s=int(self._number(table, "revert_timer_s", default.revert_timer_s)),
            verify_timeout_s=self._number(table, "verify_timeout_s", default.verify_timeout_s),
            mask_backups=self._of(table, "mask_backups", bool, "true or false") or False,
            waves=self._waves(table),
            most_failures=self._count(table, "most_failures", default.most_failures),
            hold_s=float(self._count(table, "hold_s", 0)),
        )

    def _waves(self, table: Mapping[str, Any]) -> tuple[Selector, ...]:
        written = self._of(table, "waves", list, 'a list of selectors: ["site=dunlin", "role=edge"]') or []
        if not all(isinstance(wave, str) for wave in written):
            raise self._error("waves", 'a wave has to be a selector in quotes, such as "role=edge"')
        return tuple(selectors.parse(wave, self._place("waves")) for wave in written)

    def _table(self, name: str, known: set[str]) -> Mapping[str, Any]:
        table = self._data.get(name, {})
        if not isinstance(table, dict):
            raise self._error(name, f"'{name}' has to be a table: [{name}]")
        self._known(name, table, known)
        return table

    def _known(self, table_name: str, table: Mapping[str, Any], known: set[str]) -> None:
        for key in table:
            if key not in known:
                where = f" in [{table_name}]" if table_name else ""
                raise self._error(key, f"the setting '{key}' is not known{where}", suggestion(key, known))

    def _of(self, table: Mapping[str, Any], key: str, kind: type, needed: str) -> Any:
        value = table.get(key)
        if value is not None and (not isinstance(value, kind) or (isinstance(value, bool) and kind is not bool)):
            raise self._error(key, f"'{key}' has to be {needed}")
        return value

    def _text(self, table: Mapping[str, Any], key: str) -> str | None:
        value: str | None = self._of(table, key, str, "text in quotes")
        return value

    def _path(self, table: Mapping[str, Any], key: str) -> Path | None:
        value = self._text(table, key)
        return None if value is None else (self._folder / Path(value).expanduser()).resolve()

    def _number(self, table: Mapping[str, Any], key: str, default: float) -> float:
        value = table.get(key, default)
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not value > 0:
            raise self._error(key, f"'{key}' has to be a number above 0")
        return float(value)

    def _count(self, table: Mapping[str, Any], key: str, default: int) -> int:
        value = table.get(key, default)
        if isinstance(value, bool) or not isinstance(value, int) or value < 0:
            raise self._error(key, f"'{key}' has to be a whole number, 0 or more")
        return value

    def _secret(self, table: Mapping[str, Any], key: str) -> str | None:
        value = table.get(key)
        if value is None:
            return None
        if not isinstance(value, dict) or set(value) != {"secret"} or not isinstance(value["secret"], str):
            message = f"'{key}' has to name a secret, never hold one"
            raise self._error(key, message, f'write {key} = {{ secret = "NAME" }} and set OAST_SECRET_NAME')
        return value["secret"]

    def _error(self, key: str, message: str, hint: str | None = None) -> EstateError:
        return EstateError(message, place=self._place(key), hint=hint)

    def _place(self, key: str) -> Place:
        is_key: Callable[[str], bool] = lambda line: re.match(rf"\s*\[?{re.escape(key)}\b", line) is not None  # noqa: E731
        line = next((number for number, text in enumerate(self._lines, 1) if is_key(text)), None)
        return Place(FILE, line)
