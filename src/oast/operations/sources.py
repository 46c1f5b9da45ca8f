"""Refreshing the inventory from a source: what would be added, changed and removed, and the file that Oast
writes."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from oast.errors import ApprovalError, OastError, StateError
from oast.estate import SourceSettings, inventory_text, read_sourced_devices, secrets_of
from oast.files import directory_lock, make_folder, write_whole
from oast.operations import config_folder as saved
from oast.readings import natural_sort_key
from oast.sources import Fetching, MappingResult, Page, map_records, next_page
from oast.watch import AlertFinding, AlertKey, JobFindings

WORKING = "sources"
# Notifications of a scheduled refresh are about these; a new device is not a problem.
SOURCE, NOTICE = "source", "notice"


@dataclass(frozen=True)
class RefreshPlan:
    """What a refresh would do. `kept` are devices whose records cannot be read now, which stay unchanged;
    `unchanged` the pages that were not sent again. Nothing is written yet."""

    source: SourceSettings
    before: Mapping[str, Mapping[str, Any]]
    after: Mapping[str, Mapping[str, Any]]
    records: Mapping[str, str]
    read: MappingResult
    kept: tuple[str, ...] = ()
    unchanged: int = 0

    @property
    def added(self) -> tuple[str, ...]:
        return tuple(name for name in self.after if name not in self.before)

    @property
    def removed(self) -> tuple[str, ...]:
        return tuple(name for name in self.before if name not in self.after)

    @property
    def changed(self) -> Mapping[str, Mapping[str, tuple[Any, Any]]]:
        """By device and attribute, what it was and what it would be; None for nothing."""
        found = {}
        for name, old in self.before.items():
            new = self.after.get(name)
            if new is not None and new != old:
                keys = [*old, *(key for key in new if key not in old)]
                found[name] = {
                    key: (old.get(key), new.get(key)) for key in keys if old.get(key) != new.get(key)
                }
        return found

    @property
    def is_empty(self) -> bool:
        """Return whether the refresh would change nothing."""
        return not (self.added or self.removed or self.changed)


async def plan_refresh(folder: Path, environment: Mapping[str, str], source: SourceSettings) -> RefreshPlan:
    """Read a source, and find what a refresh would do. Raises StateError when it cannot be read, or not as a
    whole; EstateError."""
    pages, unchanged = await pages_of(folder, environment, source)
    read = map_records(source, pages)
    before = owned(folder, source)
    after = dict(read.devices)
    # What cannot be read is not gone.
    unmonitored = {one.name for one in read.wrong}
    kept = [name for name in before if name not in after and (name in unmonitored or read.unnamed)]
    after.update({name: dict(before[name]) for name in kept})
    return RefreshPlan(
        source,
        before,
        dict(sorted(after.items(), key=lambda one: natural_sort_key(one[0]))),
        read.records,
        read,
        tuple(kept),
        unchanged,
    )


async def pages_of(
    folder: Path, environment: Mapping[str, str], source: SourceSettings
) -> tuple[list[Page], int]:
    """Return all that a source says now, and how many of its pages were not sent again. Raises StateError."""
    if source.folder is not None:
        try:
            return [
                Page(
                    str(source.folder),
                    json.dumps(await asyncio.to_thread(saved.config_folder_records, source.folder, folder)),
                    None,
                )
            ], 0
        except StateError as error:
            raise StateError(f"source '{source.name}': {error.message}") from None
    if source.file is not None:
        try:
            return [Page(str(source.file), source.file.read_text(encoding="utf-8-sig"), None)], 0
        except UnicodeDecodeError as error:
            raise StateError(
                f"source '{source.name}': {source.file} is not UTF-8 text (byte {error.start})"
            ) from None
        except OSError as error:
            raise StateError(f"source '{source.name}': cannot read {source.file}: {error.strerror}") from None
    token = None if source.token is None else secrets_of(folder, environment).get(source.token, source.place)
    fetching = Fetching(source, token, folder / ".oast" / WORKING / source.name)
    return await fetching.pages(lambda page: next_page(source, page)), fetching.unchanged


def owned(folder: Path, source: SourceSettings) -> dict[str, dict[str, Any]]:
    """Return the devices of the file that was written for a source; none without such a file. Raises
    EstateError."""
    path = folder / source.owned
    if not path.exists():
        return {}
    return {
        str(name): dict(attributes or {})
        for name, attributes in read_sourced_devices(path, source.owned).devices.items()
    }


def _counts_text(counts: Mapping[str, int], sources: int) -> str:
    failed = f", {counts['failed']} of {sources} sources could not be read" if counts["failed"] else ""
    words = (("added", "new"), ("changed", "changed"), ("missing", "missing"))
    what = ", ".join(f"{counts[name]} {word}" for name, word in words)
    return f"{counts['devices']} devices of {sources} sources: {what}{failed}"


async def refresh_all(
    folder: Path, environment: Mapping[str, str], sources: Sequence[SourceSettings]
) -> JobFindings:
    """Refresh every source without a question: new and changed devices are written; a device that a source no
    longer lists stays, and is reported. A source that cannot be read is reported, and the others are read all
    the same."""
    findings: list[AlertFinding] = []
    happened: list[AlertFinding] = []
    counts = {"devices": 0, "added": 0, "changed": 0, "missing": 0, "failed": 0}
    listed: set[str] = set()
    there: set[str] = set()
    for source in sources:
        try:
            found = await plan_refresh(folder, environment, source)
            stays = {name: found.before[name] for name in found.removed}
            kept = replace(
                found,
                after=dict(
                    sorted({**found.after, **stays}.items(), key=lambda one: natural_sort_key(one[0]))
                ),
            )
            if not kept.is_empty:
                write(folder, kept)
        except OastError as error:
            findings.append(
                AlertFinding(AlertKey(SOURCE, "", source.name), error.message, state=type(error).__name__)
            )
            counts["failed"] += 1
            with suppress(OastError):
                there |= owned(folder, source).keys()
            continue
        there |= kept.after.keys()
        listed |= found.after.keys() - set(found.kept)
        gone = (
            f"the source '{source.name}' no longer lists it; remove it with: oast source refresh "
            f"{source.name}"
        )
        findings += [AlertFinding(AlertKey(SOURCE, name), gone) for name in found.removed]
        findings += [
            AlertFinding(AlertKey(SOURCE, one.name or "", one.record), one.why, state=one.why)
            for one in found.read.wrong
        ]
        happened += [
            AlertFinding(AlertKey(SOURCE, name), f"new in the source '{source.name}'", NOTICE)
            for name in kept.added
        ]
        counts["devices"] += len(kept.after)
        counts["added"] += len(kept.added)
        counts["changed"] += len(kept.changed)
        counts["missing"] += len(found.removed)
    told = _counts_text(counts, len(sources))
    whole = () if counts["failed"] else (SOURCE,)
    return JobFindings(
        tuple(findings),
        frozenset(listed),
        counts,
        told,
        whole=whole,
        inventory=frozenset(there),
        happened=tuple(happened),
    )


def require_allowed(refresh: RefreshPlan) -> None:
    """Whether it takes away no more than the settings allow. Raises ApprovalError."""
    removed, before, source = len(refresh.removed), len(refresh.before), refresh.source
    if not removed:
        return
    if not refresh.after:
        what = "it no longer lists any device"
    elif removed > source.most_removed:
        what = f"{removed} of {before} devices would be removed (limit: {source.most_removed})"
    elif removed > source.most_share * before and removed > 1:
        what = f"{removed} of {before} devices would be removed (limit: a share of {source.most_share:g})"
    else:
        return
    hint = (
        "check that the source is complete; to remove them, add --allow-removals, or set limits = {"
        " removed = …, share = … }"
    )
    raise ApprovalError(f"source '{source.name}': {what}: nothing was changed", hint=hint)


def write(folder: Path, refresh: RefreshPlan) -> None:
    """Write the source's file. Raises StateError when that fails, or the file was edited in the meantime;
    EstateError."""
    try:
        _write(folder, refresh)
    except OSError as error:
        why = error.strerror or str(error)
        raise StateError(
            f"source '{refresh.source.name}': cannot write {refresh.source.owned}: {why}"
        ) from None


def _write(folder: Path, refresh: RefreshPlan) -> None:
    source = refresh.source
    path = folder / source.owned
    make_folder(path.parent)
    with directory_lock(path.parent):
        if owned(folder, source) != dict(refresh.before):
            raise StateError(
                f"{source.owned} was changed by another refresh at the same time; nothing was written",
                hint="refresh again",
            )
        records = (
            {name: refresh.records[name] for name in refresh.after if name in refresh.records}
            if source.record is not None
            else {}
        )
        paths = {
            name: mapped.path for name, mapped in source.attributes.items() if mapped.path and name != "name"
        }
        write_whole(path, inventory_text(source.name, paths, refresh.after, records))
