"""What a difference must not take away: statements the grammar does not know, and what belongs to somebody
else."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from oast.config.edits import Edit
from oast.config.tree import Node, Path


@dataclass(frozen=True, slots=True)
class RetainedStatement:
    """A statement that intent does not have and that stays on the device all the same.

    `unknown`: the platform's grammar does not know it; otherwise it holds what belongs to other sections, or
    what is not known. `outer` are the nodes it stands below.
    """

    outer: tuple[Node, ...]
    node: Node
    unknown: bool

    @property
    def path(self) -> Path:
        return (*(node.identity for node in self.outer), self.node.identity)

    @property
    def number(self) -> int:
        """How many statements it is, with those below it."""
        return 1 + sum(1 for _ in self.node.walk()) if self.unknown else 1


def split_removals(
    edits: Iterable[Edit], *, remove_unknown: bool = False
) -> tuple[list[Edit], list[RetainedStatement]]:
    """`edits` without the removal of what must stay, and what that is.

    A statement that is to go and holds something that must stay is not removed: only what may go below it is.
    With `remove_unknown`, statements the grammar does not know may go.
    """
    kept: list[Edit] = []
    spared: list[RetainedStatement] = []
    for edit in edits:
        if edit.operation == "remove" and edit.old is not None:
            kept.extend(_removals(edit, edit.old, spared, remove_unknown=remove_unknown))
        else:
            kept.append(edit)
    return kept, spared


def _removals(
    edit: Edit, old: Node, spared: list[RetainedStatement], *, remove_unknown: bool
) -> Iterator[Edit]:
    if not old.statement.rule.known and not remove_unknown:
        spared.append(RetainedStatement(edit.outer, old, unknown=True))
        return
    if not _must_stay(old, remove_unknown=remove_unknown):
        yield edit
        return
    if old.owned and not old.statement.rule.vanishes:
        spared.append(RetainedStatement(edit.outer, old, unknown=False))
    for child in old.children.values():
        yield from _removals(
            Edit("remove", (*edit.outer, old), child, None), child, spared, remove_unknown=remove_unknown
        )


def _must_stay(node: Node, *, remove_unknown: bool) -> bool:
    """Whether a node, or something below it, is not to be removed."""
    own = not node.owned or node.partial or (not remove_unknown and not node.statement.rule.known)
    return own or any(_must_stay(child, remove_unknown=remove_unknown) for child in node.children.values())
