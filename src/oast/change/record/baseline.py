"""What devices ran after Oast last delivered to them, and their drift: what has changed since.

A baseline holds all statements of the canonical configuration, with fingerprints in place of secrets. A
changed secret is noticed, and no secret can be read from it.
"""

from __future__ import annotations

import datetime
import json
from dataclasses import dataclass
from pathlib import Path

from oast.config import (
    Edit,
    IndentedSyntax,
    Node,
    Scope,
    canonical,
    difference,
    join_trees,
    masked_lines,
    root_of,
    strip_secrets,
    tree_as_listed,
    tree_document,
    tree_from_document,
)
from oast.errors import DeviceError, StateError
from oast.files import write_whole
from oast.platforms import Grammar

FORMAT = "oast.delivered/2"


@dataclass(frozen=True)
class Baseline:
    """One device's whole configuration, canonical and with secrets forgotten, as the delivery of `run` left
    it `at` (UTC)."""

    run: str
    at: datetime.datetime
    tree: Node


@dataclass(frozen=True)
class Drift:
    """What has changed on a device since `since`; without it, nothing was ever delivered, and it is compared
    with its intent."""

    name: str
    since: Baseline | None
    edits: tuple[Edit, ...]


def baseline_path(working: Path, device: str) -> Path:
    """Where the last delivery to `device` is kept, below the estate's working folder."""
    return working / "delivered" / f"{device}.json"


def save_baseline(path: Path, now: Baseline, scope: Scope, grammar: Grammar) -> None:
    """Store what a device runs after a delivery inside `scope`. Raises OSError.

    Outside of `scope` the former baseline stays: changes there were not delivered by this run.
    """
    try:
        before = load_baseline(path, grammar)
    except StateError:
        before = None
    tree = now.tree if before is None else _replaced(strip_secrets(before.tree), now.tree, scope, grammar)
    content = {
        "format": FORMAT,
        "run": now.run,
        "at": now.at.isoformat(timespec="seconds"),
        "statements": tree_document(tree),
    }
    write_whole(path, json.dumps(content) + "\n", mode=0o600)


def _replaced(before: Node, now: Node, scope: Scope, grammar: Grammar) -> Node:
    """`before` with what is inside `scope` taken from `now`."""
    return canonical(join_trees((scope.outside().within(before), scope.within(now)), grammar))


def load_baseline(path: Path, grammar: Grammar) -> Baseline | None:
    """What was kept; None when nothing was ever delivered. Raises StateError."""
    try:
        content = json.loads(path.read_text(encoding="utf-8"))
        if content["format"] != FORMAT:
            message = f"{path} has the format {content['format']}; this version of Oast reads {FORMAT}"
            raise StateError(message, hint="remove it; the next push writes a new one")
        at = datetime.datetime.fromisoformat(content["at"])
        return Baseline(
            str(content["run"]),
            at,
            canonical(root_of(grammar, tree_from_document(content["statements"], grammar))),
        )
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError):
        raise StateError(f"cannot read {path}", hint="remove it; the next push writes a new one") from None


def drift_from_baseline(name: str, delivered: Baseline, running: Node) -> Drift:
    """What is different on the device `name`, which runs the canonical tree `running`, from what was
    delivered."""
    return Drift(name, delivered, tuple(difference(strip_secrets(delivered.tree), strip_secrets(running))))


NOTE = "secrets are masked, so this backup cannot be restored unchanged"


@dataclass(frozen=True)
class Backup:
    """One device's backup of one run. `mask` hides secrets; without it, the backup is what the device said,
    for the owner alone."""

    path: Path
    syntax: IndentedSyntax
    mask: bool

    def write(self, running: str) -> None:
        """Keep `running`, whole or not at all. Raises DeviceError."""
        text = running
        if self.mask:
            text = (
                f"{self.syntax.comment}"
                f" {NOTE}\n{self.syntax.masked(masked_lines(tree_as_listed(self.syntax, running)))}"
            )
        try:
            write_whole(self.path, text, mode=0o600)
        except OSError as error:
            raise DeviceError(
                f"cannot write its backup ({error.strerror}); nothing was sent to the device"
            ) from None


def kept_text(path: Path) -> str | None:
    """What a device ran before, as it listed it; None where that was not kept, or with its secrets masked."""
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return None
    return None if NOTE in text.partition("\n")[0] else text
