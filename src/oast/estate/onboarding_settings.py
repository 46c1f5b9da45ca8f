"""`[onboarding]` in oast.toml: how new devices are provisioned. See docs/onboarding.md."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from oast.records import Place
from oast.toml_text import Table

LISTEN = "127.0.0.1:8443"
CALL_HOME = "127.0.0.1:4334"
# Limit for one device: a device asks a few times and then reports its progress; one that asks more often must
# wait.
PER_MINUTE = 30
# Devices behind one translated address share it.
CONNECTIONS, PER_ADDRESS = 256, 64
_LISTEN = re.compile(r"(?P<host>[A-Za-z0-9.:_-]+):(?P<port>[0-9]{1,5})")


@dataclass(frozen=True, slots=True)
class OnboardingSettings:
    """`keys` is the folder of the owner's keys, outside of the estate. The bootstrap server listens at `host`
    and `port`, and has the host names `names`.

    `makers` are the authorities (PEM) of device certificates, `voucher_authorities` those that sign vouchers,
    and `vouchers` is the folder with one for each serial number. `first` are the sections of a device's first
    configuration; the others come with its first delivery. One device may ask `per_minute` times a minute;
    there may be `connections` connections, and `per_address` of them from one address. Where `call_home` is
    an address and a port, devices call there when they are up (RFC 8071), and Oast does not connect to them
    before.
    """

    keys: Path
    host: str
    port: int
    names: tuple[str, ...]
    makers: Path
    voucher_authorities: Path
    vouchers: Path
    first: tuple[str, ...]
    per_minute: int
    connections: int
    per_address: int
    call_home: tuple[str, int] | None
    place: Place


def read_onboarding_settings(table: Table | None, folder: Path) -> OnboardingSettings | None:
    """What is wrong is noted in the file."""
    if table is None:
        return None

    def path(key: str) -> Path:
        return (folder / Path(table.needed(key)).expanduser()).resolve()

    keys = path("keys")
    if keys.is_relative_to(folder.resolve()):
        table.wrong(
            "keys",
            "the keys must be outside the estate, and so outside its repository",
            f'such as keys = "../{folder.resolve().name}-keys"',
        )
    host, port = _where(table, "listen", LISTEN)
    names = table.texts("names")
    if not names:
        table.wrong(
            "names",
            "'names' is missing: the names by which devices reach the server",
            'such as names = ["bootstrap.larkwater.example"]',
        )
    first = table.texts("first")
    if not first:
        table.wrong(
            "first",
            "'first' is missing: the sections of a device's first configuration",
            'such as first = ["system", "users"]',
        )
    settings = OnboardingSettings(
        keys=keys,
        host=host,
        port=port,
        names=names,
        makers=path("makers"),
        voucher_authorities=path("voucher_authorities"),
        vouchers=path("vouchers"),
        first=first,
        call_home=_where(table, "call_home", CALL_HOME) if table.has("call_home") else None,
        per_minute=table.number("per_minute", PER_MINUTE, 1, 10_000),
        connections=table.number("connections", CONNECTIONS, 1, 10_000),
        per_address=table.number("connections_per_address", PER_ADDRESS, 1, 10_000),
        place=table.place(),
    )
    table.finish()
    return settings


def _where(table: Table, key: str, default: str) -> tuple[str, int]:
    written = table.text(key) or default
    match = _LISTEN.fullmatch(written)
    if match is None or int(match["port"]) > 65535:
        table.wrong(key, f"'{written}' is not ADDRESS:PORT", f"such as {default}")
        return "", 0
    return match["host"], int(match["port"])
