"""The estate: the folder that describes one network, opened and read."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

from oast.errors import ErrorCollector, EstateError, StateError, UsageError
from oast.estate import inventory, schedule_settings as watching, selectors, settings, values
from oast.estate.inventory import Device, Link
from oast.estate.network import Network, values_of
from oast.estate.onboarded_file import is_expected
from oast.estate.secrets import KEY_BYTES, Ask, Secrets, fingerprints_of
from oast.estate.selectors import Selector
from oast.estate.settings import Settings
from oast.estate.unused_values import require_used, words_used
from oast.estate.values import ValueLayers, Values
from oast.records import OF_DEVICES, Fingerprints, Place, Problem, Secret
from oast.spelling import spelling_hint


@dataclass(frozen=True)
class Estate:
    """What the engineer wrote, but for templates and checks."""

    folder: Path
    settings: Settings
    devices: Mapping[str, Device]
    links: tuple[Link, ...]
    layers: ValueLayers
    secrets: Secrets
    fingerprints: Fingerprints
    environment: Mapping[str, str] = field(default_factory=dict, repr=False)
    warnings: tuple[Problem, ...] = ()
    """Problems of the files that stop nothing."""
    is_inventory_whole: bool = True
    """Whether every file of the inventory could be read."""

    @property
    def working(self) -> Path:
        """Working data of this estate; never committed."""
        return self.folder / ".oast"

    def pick(self, selector: str | None, *, everything: bool = False) -> list[Device]:
        """Return the devices that `selector` matches and that are in service (`everything`: all that match);
        all without a selector. Raises EstateError when there are none."""
        if selector is None:
            if not self.devices:
                raise EstateError(
                    "the inventory has no devices", hint="add devices to inventory/devices.yaml"
                )
            picked = list(self.devices.values())
        else:
            parsed = selectors.parse_selector(selector)
            picked = [
                self.devices[name] for name in parsed.pick({n: d.known_by for n, d in self.devices.items()})
            ]
        serving = picked if everything else [device for device in picked if self.serves(device)]
        if not serving:
            raise EstateError(
                f"all selected devices are out of service ({picked[0].name} and others)",
                place=self._service_place,
                hint=(
                    "it is a new device that is expected (see: oast onboard status)"
                    if is_expected(picked[0])
                    else "see [inventory] in oast.toml"
                ),
            )
        return serving

    def serves(self, device: Device) -> bool:
        """Whether the device is in service: nothing is done to one that is not."""
        managed = self.settings.in_service
        if is_expected(device):
            return False
        return managed is None or managed.matches(device.known_by)

    @property
    def _service_place(self) -> Place | None:
        return self.settings.in_service.place if self.settings.in_service is not None else None

    def not_in_service(self, selector: str | None) -> list[Device]:
        """What `selector` picks and is left out of everything. Raises EstateError."""
        return (
            [device for device in self.pick(selector, everything=True) if not self.serves(device)]
            if self.devices
            else []
        )

    def device(self, name: str) -> Device:
        """The device called `name`. Raises EstateError with the nearest name."""
        if name not in self.devices:
            raise EstateError(f"unknown device '{name}'", hint=spelling_hint(name, self.devices))
        return self.devices[name]

    def values_of(self, device: Device) -> Values:
        """Return all values of `device`, with their expressions evaluated. Raises EstateError."""
        return values_of(self.network, device)

    @cached_property
    def network(self) -> Network:
        """The network as templates see it."""
        return Network(self.devices, self.links, self.layers)

    def secret(self, name: str | None) -> Secret | None:
        """The secret that a setting names, if it names one."""
        return None if name is None else self.secrets.get(name)


def find(start: Path) -> Path:
    """The estate's folder: `start` or the nearest above it with oast.toml. Raises UsageError when there is
    none."""
    for folder in (start, *start.parents):
        if (folder / settings.SETTINGS_FILE).is_file():
            return folder
    raise UsageError(
        f"no {settings.SETTINGS_FILE} in {start} or any folder above",
        hint="change into the folder of an estate, or give it with --estate",
    )


def secrets_of(folder: Path, environment: Mapping[str, str], ask: Ask | None = None) -> Secrets:
    """The secrets of the estate in `folder`, whatever state the rest of it is in. Raises EstateError."""
    return Secrets(
        environment,
        settings.read_settings(folder).secrets,
        fingerprints_of(folder / ".oast", environment),
        ask,
        folder,
    )


NOTHING: Mapping[str, str] = {}


def load_estate(
    folder: Path,
    environment: Mapping[str, str],
    given: Sequence[tuple[str, Any]] = (),
    ask: Ask | None = None,
    given_secrets: Mapping[str, str] = NOTHING,
    besides: Sequence[Device] = (),
) -> Estate:
    """Read the estate in `folder`. `given` are values from the command line; `ask` asks for a secret;
    `besides` are devices that are added to the inventory, or replace entries of it.

    Raises EstateError with all mistakes.
    """
    estate, mistakes = read_estate(folder, environment, given, ask, given_secrets, besides)
    mistakes.raise_any()
    return estate


def read_estate(
    folder: Path,
    environment: Mapping[str, str],
    given: Sequence[tuple[str, Any]] = (),
    ask: Ask | None = None,
    given_secrets: Mapping[str, str] = NOTHING,
    besides: Sequence[Device] = (),
    *,
    untrusted: bool = False,
) -> tuple[Estate, ErrorCollector]:
    """The same as far as it can be understood, with what is wrong. Of an `untrusted` estate no secret is
    looked up, and nothing outside of its folder is read. Raises EstateError when the settings are wrong."""
    mistakes = ErrorCollector()
    read = settings.read_settings(folder)
    fingerprints = (
        Fingerprints(os.urandom(KEY_BYTES), withheld=True)
        if untrusted
        else fingerprints_of(folder / ".oast", environment)
    )
    secrets = Secrets(environment, read.secrets, fingerprints, ask, folder)
    for name, value in given_secrets.items():
        secrets.give(name, value)
    known = inventory.read_inventory(folder, mistakes)
    known.devices.update({device.name: device for device in besides})
    links = inventory.read_links(folder, known, mistakes)
    _check_selectors(read, known, mistakes)
    layers = values.read_values(folder, known, secrets.get, given, mistakes)
    if given:
        with mistakes.collected():
            require_used(given, words_used(folder, layers), layers)
    estate = Estate(
        folder,
        read,
        known.devices,
        links,
        layers,
        secrets,
        fingerprints,
        environment,
        tuple(mistakes.warnings),
        known.is_whole,
    )
    if not known.is_whole:
        # Names of devices cannot be judged by an inventory that was not read completely.
        mistakes.found[:] = [one for one in mistakes.found if one.subject != OF_DEVICES]
    return estate, mistakes


def _check_selectors(read: Settings, known: inventory.Inventory, mistakes: ErrorCollector) -> None:
    """Check that the inventory has what the selectors of the settings name."""
    for wave in read.delivery.waves:
        if isinstance(wave, Selector):
            with mistakes.collected():
                wave.pick({name: device.known_by for name, device in known.devices.items()})
    apart = read.delivery.apart
    attributes = {name for device in known.devices.values() for name in device.attributes}
    if apart is not None and known.devices and apart.by not in attributes:
        with mistakes.collected():
            hint = spelling_hint(apart.by, attributes)
            raise EstateError(
                f"no device has the attribute '{apart.by}' of 'apart'",
                place=apart.place,
                hint=hint,
            )
    read.connections.check(known.devices, mistakes)
    if read.in_service is not None and known.devices:
        with mistakes.collected():
            read.in_service.check(known.known_by)
    watching.check(read.watch, {name: device.known_by for name, device in known.devices.items()}, mistakes)


@dataclass(frozen=True)
class Simulated:
    """Where the simulator listens for one device: `ports` by management address, and the first of them."""

    host: str
    port: int
    ports: Mapping[str, int]


def simulated_at(estate: Estate) -> Mapping[str, Simulated]:
    """Where the running simulator's devices listen, by name. Raises StateError when it is not running."""
    path = estate.working / "sim" / "listening.json"
    try:
        data = json.loads(path.read_text(encoding="utf-8"))
        return {
            name: Simulated(
                str(where["host"]),
                int(where["port"]),
                {str(a): int(port) for a, port in where.get("addresses", {}).items()},
            )
            for name, where in data["devices"].items()
        }
    except FileNotFoundError:
        raise StateError(
            "the simulated network is not running", hint="start it with: oast sim start"
        ) from None
    except (OSError, ValueError, KeyError, TypeError):
        raise StateError(f"cannot read {path}", hint="restart the simulator") from None
