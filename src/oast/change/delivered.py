"""What devices ran when Oast last delivered to them, and what has changed on them since: their drift.

Kept are the statements of the whole canonical configuration with fingerprints in place of secrets. That is enough to tell that a
secret was changed, and nobody can read one out of it.
"""

from __future__ import annotations

import datetime
import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from oast.config.difference import Edit, difference
from oast.config.ownership import Scope
from oast.config.tree import Node, canonical, joined, masked, root_of
from oast.errors import StateError
from oast.files import write_whole
from oast.platforms.grammar import Grammar, Rule, Statement
from oast.records import Fingerprints

FORMAT = "oast.delivered/1"


class _AlreadyMasked(Fingerprints):
    """For showing statements whose secrets are fingerprints already."""

    def of(self, secret: str) -> str:
        return secret


ALREADY_MASKED: Fingerprints = _AlreadyMasked(b"")


@dataclass(frozen=True)
class Delivered:
    """One device's whole configuration, canonical and with secrets masked, as the delivery of `run` left it `at` (UTC)."""

    run: str
    at: datetime.datetime
    tree: Node


@dataclass(frozen=True)
class Drift:
    """What has changed on a device since `since`; without it, nothing was ever delivered, and it is compared with its intent."""

    name: str
    since: Delivered | None
    edits: tuple[Edit, ...]


def path_of(working: Path, device: str) -> Path:
    """Where the last delivery to `device` is kept, below the estate's working folder."""
    return working / "delivered" / f"{device}.json"


def keep(path: Path, now: Delivered, scope: Scope, grammar: Grammar) -> None:
    """Keep what a device runs after a delivery inside `scope`. Raises OSError.

    Outside of it, what was kept before stays: what somebody changed there was not delivered by this run either.
    """
    try:
        before = load(path, grammar)
    except StateError:
        before = None
    tree = now.tree if before is None else _replaced(before.tree, now.tree, scope, grammar)
    content = {"format": FORMAT, "run": now.run, "at": now.at.isoformat(timespec="seconds"), "statements": _below(tree)}
    write_whole(path, json.dumps(content) + "\n", mode=0o600)


def _replaced(before: Node, now: Node, scope: Scope, grammar: Grammar) -> Node:
    """`before` with what is inside `scope` taken from `now`."""
    outside = Scope((("*",),), scope.includes).within(before)
    taken_out = Scope(scope.excludes).within(before)
    return canonical(joined((outside, taken_out, scope.within(now)), grammar))


def load(path: Path, grammar: Grammar) -> Delivered | None:
    """What was kept; None when nothing was ever delivered. Raises StateError."""
    try:
        content = json.loads(path.read_text(encoding="utf-8"))
        if content["format"] != FORMAT:
            raise StateError(f"{path} has the format {content['format']}, known is {FORMAT}", hint="use a newer Oast")
        rules = {rule.path: rule for rule in grammar.rules()}
        children = _nodes(content["statements"], rules, grammar)
        at = datetime.datetime.fromisoformat(content["at"])
        return Delivered(str(content["run"]), at, canonical(root_of(grammar, children)))
    except FileNotFoundError:
        return None
    except (OSError, ValueError, KeyError, TypeError):
        raise StateError(f"{path} cannot be read", hint="remove it; the next push makes it anew") from None


def since_delivered(name: str, delivered: Delivered, running: Node, fingerprints: Fingerprints) -> Drift:
    """What is different on the device `name`, which runs the canonical tree `running`, from what was delivered."""
    return Drift(name, delivered, tuple(difference(delivered.tree, masked_tree(running, fingerprints))))


def masked_tree(node: Node, fingerprints: Fingerprints) -> Node:
    """The canonical tree with fingerprints in place of secrets."""
    return canonical(_masked(node, fingerprints))


def _masked(node: Node, fingerprints: Fingerprints) -> Node:
    below = {child.identity: child for child in (_masked(child, fingerprints) for child in node.children.values())}
    statement = node.statement
    if statement.rule.secret:
        text = masked(statement, fingerprints)
        # What is known by its word alone stays known by it.
        statement = Statement(statement.rule, statement.identity if statement.identity == statement.rule.word else text, text)
    return Node(statement, below)


def _below(node: Node) -> list[dict[str, Any]]:
    found = []
    for child in node.children.values():
        entry: dict[str, Any] = {"is": child.statement.rule.path, "known": child.identity, "text": child.text}
        if child.children:
            entry["below"] = _below(child)
        found.append(entry)
    return found


def _nodes(entries: list[Any], rules: Mapping[str, Rule], grammar: Grammar) -> dict[str, Node]:
    nodes: dict[str, Node] = {}
    for entry in entries:
        rule = rules.get(entry["is"])
        text = str(entry["text"])
        # A statement the grammar has forgotten since is kept by its words.
        statement = grammar.opaque(text) if rule is None else Statement(rule, str(entry["known"]), text)
        nodes[statement.identity] = Node(statement, _nodes(entry.get("below", []), rules, grammar))
    return nodes
