"""A restore, as a change to deliver: a point in time, or what devices run or start with now."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from oast.archive import RUNNING, STARTUP, Backups
from oast.change.plan import Datastore
from oast.config import IndentedSyntax, Node, Scope, restore_secrets, secrets_by_fingerprint, tree_of_device
from oast.errors import DeviceError, UsageError
from oast.estate import Estate
from oast.fleet import OnEvent, ignore_event
from oast.intent import Intent
from oast.operations.backups import list_backups
from oast.operations.intent_context import IntentContext, prepare_intents
from oast.operations.proposals import with_intents

EVERYTHING = (("*",),)
# What every device has now, and no label may be called.
NOW = (RUNNING, STARTUP)


@dataclass(frozen=True)
class Restore:
    """A restore that is ready to be delivered `into` what devices run or start with.

    `origin` describes its source. For the devices in `missing` nothing was stored at that time; for those in
    `as_running` no startup, so their running configuration is taken. `failed` could not be read.
    """

    preparation: IntentContext
    into: Datastore
    origin: str
    missing: tuple[str, ...] = ()
    as_running: tuple[str, ...] = ()
    failed: Mapping[str, DeviceError] | None = None


def restored(
    estate: Estate, label: str, on: str | None, sections: Sequence[str], into: Datastore = RUNNING
) -> Restore:
    """What was kept under `label`: all of it, or what `sections` own. Raises EstateError, UsageError,
    StateError."""
    backups = Backups(estate)
    point = backups.archive.point(label)
    whole = prepare_intents(estate, on, sections)
    names = [intent.device.name for intent in whole.intents]
    texts = backups.texts(point, names)
    as_running: tuple[str, ...] = ()
    if into == STARTUP:
        started = backups.texts(point, names, STARTUP)
        as_running = tuple(name for name in names if name in texts and name not in started)
        texts |= started
    known = secrets_by_fingerprint(intent.tree for intent in whole.network)
    trees = {
        intent.device.name: restore_secrets(
            backups.tree(whole.syntax_of(intent), texts[intent.device.name]), known
        )
        for intent in whole.intents
        if intent.device.name in texts
    }
    intents = _intents(whole, trees, sections)
    if not intents:
        raise UsageError(
            f"the backup '{label}' has none of these devices",
            hint=("list the backups with: oast backup list"),
        )
    missing = tuple(name for name in names if name not in texts)
    return Restore(
        with_intents(whole, intents), into, f"restore {point.label or point.commit[:12]}", missing, as_running
    )


async def copied(
    estate: Estate,
    source: Datastore,
    on: str | None,
    sections: Sequence[str],
    into: Datastore,
    *,
    parallel: int | None = None,
    timeout_s: float | None = None,
    on_event: OnEvent = ignore_event,
) -> Restore:
    """What devices have in `source` now, for the other datastore: what they run is saved, or they run again
    what they start with.

    Raises EstateError, UsageError, and DeviceError when none of the devices can be read, or has such a
    datastore.
    """
    if source == into:
        raise UsageError(
            f"{source} to {into} changes nothing", hint=("choose another --to: startup or running")
        )
    whole = prepare_intents(estate, on, sections)
    devices = [intent.device for intent in whole.intents]
    listings, failed = await list_backups(
        estate, devices, (source,), parallel=parallel, timeout_s=timeout_s, on_event=on_event
    )
    syntax_of: Callable[[Intent], IndentedSyntax] = whole.syntax_of
    trees = {
        i.device.name: tree_of_device(syntax_of(i), one.text)
        for i in whole.intents
        for one in listings.get(i.device.name, ())
    }
    missing = tuple(
        device.name for device in devices if device.name not in trees and device.name not in failed
    )
    intents = _intents(whole, trees, sections)
    if not intents:
        raise (
            next(iter(failed.values()))
            if failed
            else UsageError(f"none of these devices has a separate {source} configuration")
        )
    # What they run, whole: what every push does when it saves, and every device can that has a startup.
    saves = into == STARTUP and not sections
    return Restore(
        with_intents(whole, intents),
        RUNNING if saves else into,
        f"{source} to {into}",
        missing,
        failed=failed,
    )


def _intents(whole: IntentContext, trees: Mapping[str, Node], sections: Sequence[str]) -> list[Intent]:
    """Return all of `trees`, or what `sections` own of it."""
    found = []
    for intent in whole.intents:
        tree = trees.get(intent.device.name)
        if tree is not None:
            scope, owners = (
                (intent.scope, intent.owners) if sections else (Scope(EVERYTHING), {"everything": EVERYTHING})
            )
            found.append(Intent.of_record(intent.device, intent.platform, scope.within(tree), scope, owners))
    return found
