"""oast.toml: the settings of one estate. The page: docs/estate.md."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from oast.errors import ErrorCollector, EstateError
from oast.estate import (
    connections,
    onboarding_settings as onboarding,
    schedule_settings as watching,
    selectors,
    source_settings as sources,
)
from oast.estate.connections import Connections, ConnectionSettings
from oast.estate.onboarding_settings import OnboardingSettings
from oast.estate.schedule_settings import WatchSettings
from oast.estate.selectors import Selector
from oast.estate.source_settings import SourceSettings
from oast.records import Place
from oast.toml_text import Table, TomlFile

SETTINGS_FILE = "oast.toml"
FORMAT = 1


@dataclass(frozen=True, slots=True)
class LimitSettings:
    """What one change may take away from a device without a word of permission: `removals` statements at
    most, and of what one section owns the `share` (0 to 1) at most. The last entry of a list called as one of
    `last_of` may not go either.
    """

    removals: int = 100
    share: float = 0.5
    last_of: tuple[str, ...] = ()
    place: Place | None = None


# Without any of these nobody comes in, or nothing comes through. The name of a list where a platform has it.
LAST_OF = ("user", "neighbor", "static-route", "route")


@dataclass(frozen=True, slots=True)
class BatchSize:
    """So many of the devices that no wave before has: a number, or a percentage of all; without either, the
    rest."""

    number: int | None = None
    percent: float | None = None


@dataclass(frozen=True, slots=True)
class AntiAffinity:
    """At most `at_most` devices with the same value of the attribute `by` are in one wave: a redundant pair
    never is."""

    by: str
    at_most: int = 1
    place: Place | None = None


# What is done after a wave with too many failures.
STOP, WAVE, CHANGE = "stop", "wave", "change"


@dataclass(frozen=True, slots=True)
class DeliverySettings:
    """How a delivery goes: how long until a device goes back by itself, and how long checks may take to come
    true.

    `waves` pick the devices that come first, second and so on; the others come last. After each, its checks
    have to stay true for `soak_s` seconds before the next begins. After a wave in which more than
    `max_failures` devices failed or were reverted, no further begins, and `on_failure` says what is taken
    back besides. Checks have to stay true for `stable_for_s` seconds at least. Devices up to `neighbor_hops`
    cables away from those of a change have to keep what they had. With `approval`, nothing is delivered that
    nobody else has approved; with `allowed_signers`, a file as ssh-keygen(1) has it, approvals have to be
    signed; with `sign_with`, an SSH key, every entry of the ledger is. With `split_waves`, a wave that would
    not fit into the revert timer is delivered in several.
    """

    revert_timer_s: int = 120
    verify_timeout_s: float = 30.0
    mask_backups: bool = False
    waves: tuple[Selector | BatchSize, ...] = ()
    apart: AntiAffinity | None = None
    soak_s: float = 0.0
    neighbor_hops: int = 1
    on_failure: str = STOP
    max_failures: int = 0
    stable_for_s: float = 0.0
    limits: LimitSettings = LimitSettings(last_of=LAST_OF)
    approval: bool = False
    allowed_signers: Path | None = None
    sign_with: Path | None = None
    split_waves: bool = False


@dataclass(frozen=True, slots=True)
class SecretSettings:
    """Where secrets are looked up, besides the environment. `command` prints the secret whose name replaces
    {name}."""

    file: Path | None = None
    encrypted_file: Path | None = None
    key_file: Path | None = None
    command: tuple[str, ...] = ()
    prompt: bool = False


# How secrets stand in the archive: as the devices list them, as fingerprints, or every file encrypted with
# the estate's key.
KEPT, MASKED, ENCRYPTED = "kept", "masked", "encrypted"


@dataclass(frozen=True, slots=True)
class ArchiveSettings:
    """How backups are kept: `secrets` is kept, masked or encrypted; to `remote`, what Git takes for one,
    every commit is pushed."""

    secrets: str = KEPT
    remote: str | None = None


@dataclass(frozen=True, slots=True)
class Settings:
    """Everything in oast.toml."""

    name: str
    connections: Connections
    delivery: DeliverySettings
    secrets: SecretSettings
    archive: ArchiveSettings
    watch: WatchSettings
    sources: tuple[SourceSettings, ...]
    in_service: Selector | None
    onboarding: OnboardingSettings | None
    network_file: Path

    @property
    def connection(self) -> ConnectionSettings:
        """What holds for devices of which no rule says otherwise."""
        return self.connections.everywhere


def read_settings(folder: Path) -> Settings:
    """The settings of the estate in `folder`. Raises EstateError with everything that is wrong in them."""
    mistakes = ErrorCollector()
    file = TomlFile(folder / SETTINGS_FILE, SETTINGS_FILE, mistakes)
    if file.value("format") != FORMAT:
        raise EstateError(f"the file has to begin with 'format = {FORMAT}'", place=file.place("format"))
    name = file.value("name")
    if name is not None and (not isinstance(name, str) or not name):
        file.wrong("'name' has to be text in quotes", file.place("name"))
        name = None
    simulator = file.table("simulator")
    network = _path(simulator, "network", folder) if simulator is not None else None
    if simulator is not None:
        simulator.finish()
    settings = Settings(
        name=name or folder.resolve().name,
        connections=connections.read_connections(file.table("connection"), folder),
        delivery=_delivery(file.table("delivery"), folder),
        secrets=_secrets(file.table("secrets"), folder),
        archive=_archive(file.table("archive")),
        watch=watching.read_schedule_settings(file.table("watch"), folder),
        sources=sources.read_source_settings(file, folder),
        in_service=_in_service(file.table("inventory"), mistakes),
        onboarding=onboarding.read_onboarding_settings(file.table("onboarding"), folder),
        network_file=network or folder / "network.yaml",
    )
    file.finish("in the settings")
    mistakes.raise_any()
    return settings


def _in_service(table: Table | None, mistakes: ErrorCollector) -> Selector | None:
    """Which devices are in service; without a word, all are."""
    if table is None:
        return None
    written = table.text("in_service")
    table.finish()
    if written is not None:
        with mistakes.collected():
            return selectors.parse_selector(written, table.place("in_service"))
    return None


def _secrets(table: Table | None, folder: Path) -> SecretSettings:
    if table is None:
        return SecretSettings()
    command = table.value("command")
    if command is not None and (
        not isinstance(command, list) or not all(isinstance(word, str) for word in command)
    ):
        table.wrong("command", "'command' has to be a list of texts", 'such as ["program", "{name}"]')
        command = None
    settings = SecretSettings(
        file=_path(table, "file", folder),
        encrypted_file=_path(table, "encrypted_file", folder),
        key_file=_path(table, "key_file", folder),
        command=tuple(command or ()),
        prompt=table.flag("prompt"),
    )
    table.finish()
    return settings


def _archive(table: Table | None) -> ArchiveSettings:
    if table is None:
        return ArchiveSettings()
    settings = ArchiveSettings(table.choice("secrets", (KEPT, MASKED, ENCRYPTED), KEPT), table.text("remote"))
    table.finish()
    return settings


def _delivery(table: Table | None, folder: Path) -> DeliverySettings:
    if table is None:
        return DeliverySettings()
    default = DeliverySettings()
    settings = DeliverySettings(
        revert_timer_s=int(table.positive("revert_timer_s", default.revert_timer_s)),
        verify_timeout_s=table.positive("verify_timeout_s", default.verify_timeout_s),
        mask_backups=table.flag("mask_backups"),
        waves=_waves(table),
        apart=_apart(table),
        soak_s=table.count("soak_s", 0),
        neighbor_hops=int(table.count("neighbor_hops", default.neighbor_hops)),
        on_failure=table.choice("on_failure", (STOP, WAVE, CHANGE), STOP),
        max_failures=int(table.count("max_failures", default.max_failures)),
        stable_for_s=table.count("stable_for_s", 0),
        limits=_limits(table.table("limits")),
        approval=table.flag("approval"),
        allowed_signers=_path(table, "allowed_signers", folder),
        sign_with=_path(table, "sign_with", folder),
        split_waves=table.flag("split_waves"),
    )
    table.finish()
    return settings


def _limits(table: Table | None) -> LimitSettings:
    default = LimitSettings(last_of=LAST_OF)
    if table is None:
        return default
    settings = LimitSettings(
        removals=int(table.count("removals", default.removals)),
        share=table.fraction("share", default.share),
        last_of=table.texts("last_of") if table.has("last_of") else default.last_of,
        place=table.place("last_of") if table.has("last_of") else None,
    )
    table.finish()
    return settings


def _waves(table: Table) -> tuple[Selector | BatchSize, ...]:
    written = table.value("waves")
    if written is None:
        return ()
    if not isinstance(written, list):
        table.wrong(
            "waves",
            "'waves' has to be a list of selectors and sizes",
            'such as ["1", "site=dunlin", "10%", "rest"]',
        )
        return ()
    if not all(isinstance(wave, str) for wave in written):
        table.wrong("waves", 'a wave has to be a selector or a size in quotes, such as "role=edge" or "10%"')
        return ()
    found: list[Selector | BatchSize] = []
    for number, wave in enumerate(written, 1):
        with table.file.mistakes.collected():
            portion = _portion(wave.strip(), table.place("waves"))
            if portion == BatchSize() and number < len(written):
                raise EstateError(
                    "'rest' is the last wave: the others would be empty", place=table.place("waves")
                )
            found.append(portion or selectors.parse_selector(wave, table.place("waves")))
    return tuple(found)


def _portion(wave: str, place: Place) -> BatchSize | None:
    """A size; None for a selector. Raises EstateError for a size that is none."""
    if wave == "rest":
        return BatchSize()
    match = re.fullmatch(r"(\d{1,9})(?:\.(\d+))?\s*(%)?", wave)
    if match is None:
        return None
    number = float(f"{match[1]}.{match[2] or 0}")
    if number == 0 or (match[3] and number > 100) or (match[2] and not match[3]):
        raise EstateError(
            f"a wave of '{wave}' makes no sense",
            place=place,
            hint="a number of devices, or a percentage up to 100%",
        )
    return BatchSize(percent=number) if match[3] else BatchSize(number=int(number))


def _apart(table: Table) -> AntiAffinity | None:
    """`"site"`, or `{ by = "site", at_most = 2 }`."""
    written = table.value("apart")
    if written is None or isinstance(written, str):
        return AntiAffinity(written, place=table.place("apart")) if written else None
    if not isinstance(written, dict):
        table.wrong(
            "apart",
            "'apart' has to be an attribute of devices, such as \"site\"",
            'or { by = "site", at_most = 2 }',
        )
        return None
    inner = table.table("apart")
    if inner is None:
        return None
    found = AntiAffinity(inner.needed("by"), inner.number("at_most", 1, 1, 1_000_000), table.place("apart"))
    inner.finish()
    return found if found.by else None


def _path(table: Table, key: str, folder: Path) -> Path | None:
    value = table.text(key)
    return None if value is None else (folder / Path(value).expanduser()).resolve()
