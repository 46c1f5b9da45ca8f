"""oast.toml: the settings of one estate. The page: docs/estate.md."""

from __future__ import annotations

import re
from dataclasses import dataclass, fields, replace
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
from oast.estate.yaml_text import yaml_file
from oast.records import Place
from oast.text_file import LARGE_FILES
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


# Without any of these a device cannot be reached, or forwards nothing. Platforms name their lists so.
LAST_OF = ("user", "neighbor", "static-route", "route")


@dataclass(frozen=True, slots=True)
class BatchSize:
    """The size of a wave: a number, or a percentage of all devices; without either, all that are left."""

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
    """How to deliver: [delivery] of oast.toml, with what a command line or a caller overrides."""

    revert_timer_s: float = 120
    """Seconds until a device rolls back unless the change is confirmed."""
    verify_timeout_s: float = 30.0
    """Seconds within which the checks must pass."""
    stable_for_s: float = 0.0
    """Seconds for which every check must stay passed, at least."""
    mask_backups: bool = False
    """Whether backups made before a delivery hide secrets."""
    parallel: int = 50
    """Devices worked on at the same time: `parallel` of [connection]."""
    waves: tuple[Selector | BatchSize, ...] = ()
    """Which devices come first, second and so on; the others come last."""
    one_wave: bool = False
    """Whether all devices are in one wave, whatever `waves` and `apart` say."""
    apart: AntiAffinity | None = None
    """Which devices must not be in the same wave."""
    split_waves: bool = False
    """Whether a wave that would not fit into the revert timer is delivered in several."""
    soak_s: float = 0.0
    """Seconds for which the checks of a wave must stay passed before the next wave starts."""
    neighbor_hops: int = 1
    """Neighbors up to this many links away must keep what they had."""
    max_failures: int = 0
    """After a wave with more failed or rolled-back devices, no further wave starts."""
    on_failure: str = STOP
    """What else is rolled back then: nothing (stop), the wave, or the whole change."""
    limits: LimitSettings = LimitSettings(last_of=LAST_OF)
    """How much a change may remove without a separate permission."""
    approval: bool = False
    """Whether only changes are delivered that another person has approved."""
    allowed_signers: Path | None = None
    """A file as ssh-keygen(1) has it: with it, approvals must be signed."""
    sign_with: Path | None = None
    """The SSH key that signs every entry of the ledger."""

    def resolved(self, overrides: object) -> DeliverySettings:
        """Replace what the dataclass `overrides` gives: its fields of the same names that are not None."""
        given = {one.name: getattr(overrides, one.name, None) for one in fields(self)}
        return replace(self, **{name: value for name, value in given.items() if value is not None})


@dataclass(frozen=True, slots=True)
class SecretSettings:
    """Where secrets are looked up, after the environment. `command` prints the secret whose name replaces
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
        raise EstateError(f"the file must begin with 'format = {FORMAT}'", place=file.place("format"))
    name = file.value("name")
    if name is not None and (not isinstance(name, str) or not name):
        file.wrong("'name' must be text in quotes", file.place("name"))
        name = None
    simulator = file.table("simulator")
    network = _path(simulator, "network", folder) if simulator is not None else None
    if simulator is not None:
        simulator.finish()
    connection = connections.read_connections(file.table("connection"), folder)
    large = file.value(LARGE_FILES)
    if large is not None and not (isinstance(large, list) and all(isinstance(one, str) for one in large)):
        file.wrong(f"'{LARGE_FILES}' must be a list of file names in quotes", file.place(LARGE_FILES))
    settings = Settings(
        name=name or folder.resolve().name,
        connections=connection,
        delivery=replace(_delivery(file.table("delivery"), folder), parallel=connection.everywhere.parallel),
        secrets=_secrets(file.table("secrets"), folder),
        archive=_archive(file.table("archive")),
        watch=watching.read_schedule_settings(file.table("watch"), folder),
        sources=sources.read_source_settings(file, folder),
        in_service=_in_service(file.table("inventory"), mistakes),
        onboarding=onboarding.read_onboarding_settings(file.table("onboarding"), folder),
        network_file=network or yaml_file(folder / "network.yaml"),
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
        table.wrong("command", "'command' must be a list of texts", 'such as ["program", "{name}"]')
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
        revert_timer_s=int(table.positive("revert_timer_s", int(default.revert_timer_s))),
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
            "'waves' must be a list of selectors and sizes",
            'such as ["1", "site=dunlin", "10%", "rest"]',
        )
        return ()
    if not all(isinstance(wave, str) for wave in written):
        table.wrong("waves", 'a wave must be a selector or a size in quotes, such as "role=edge" or "10%"')
        return ()
    found: list[Selector | BatchSize] = []
    for number, wave in enumerate(written, 1):
        with table.file.mistakes.collected():
            portion = _portion(wave.strip(), table.place("waves"))
            if portion == BatchSize() and number < len(written):
                raise EstateError("'rest' must be the last wave", place=table.place("waves"))
            found.append(portion or selectors.parse_selector(wave, table.place("waves")))
    return tuple(found)


def _portion(wave: str, place: Place) -> BatchSize | None:
    """Parse a size; None for a selector. Raises EstateError for an invalid size."""
    if wave == "rest":
        return BatchSize()
    match = re.fullmatch(r"(\d{1,9})(?:\.(\d+))?\s*(%)?", wave)
    if match is None:
        return None
    number = float(f"{match[1]}.{match[2] or 0}")
    if number == 0 or (match[3] and number > 100) or (match[2] and not match[3]):
        raise EstateError(
            f"'{wave}' is not a valid wave size",
            place=place,
            hint="give a number of devices, or a percentage up to 100%",
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
            "'apart' must be an attribute of devices, such as \"site\"",
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
