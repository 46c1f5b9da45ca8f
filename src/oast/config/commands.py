"""From edits to the lines a device is sent: their safe order, and how each is spelt on an indented command line."""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from oast.config.difference import Edit
from oast.config.indented import INDENT
from oast.config.tree import Node, Path
from oast.platforms.grammar import Statement
from oast.platforms.load import Spelling
from oast.records import Fingerprints


@dataclass(frozen=True, slots=True)
class Command:
    """A line for the device; `shown` is the line with secrets masked, `path` the statement it is about.

    `hides` is the secret in the line with its fingerprint, should the device quote it in its answer.
    """

    line: str
    shown: str
    path: Path
    hides: tuple[str, str] | None = None


def in_safe_order(edits: Sequence[Edit], goes_last: Callable[[Edit], bool] = lambda edit: False) -> list[Edit]:
    """`edits` in an order in which every state in between is allowed and keeps the session alive as long as it can.

    What is referred to is created before and removed after what refers to it; a value that must be unique is given up
    before it is taken again; a user's order is kept. Among what these leave open, edits for which `goes_last` holds come
    last, otherwise the grammar's order decides, additions before removals. Should the references form a circle, the
    grammar's order alone decides inside it.
    """
    constraints = _constraints(edits)
    waiting = [0] * len(edits)
    for followers in constraints:
        for follower in followers:
            waiting[follower] += 1
    last = _carried_along([goes_last(edit) for edit in edits], constraints)
    priority = [(last[number], _grammar_order(edit), number) for number, edit in enumerate(edits)]
    ready = [priority[number] for number in range(len(edits)) if waiting[number] == 0]
    heapq.heapify(ready)
    order: list[Edit] = []
    done = [False] * len(edits)
    while len(order) < len(edits):
        if not ready:
            ready.append(min(priority[number] for number in range(len(edits)) if not done[number]))
        number = heapq.heappop(ready)[-1]
        if done[number]:
            continue
        done[number] = True
        order.append(edits[number])
        for follower in constraints[number]:
            waiting[follower] -= 1
            if waiting[follower] == 0 and not done[follower]:
                heapq.heappush(ready, priority[follower])
    return order


def _carried_along(last: list[bool], constraints: Sequence[Sequence[int]]) -> list[bool]:
    """What has to follow something that goes last goes last too."""
    spread = list(last)
    queue = [number for number, is_last in enumerate(last) if is_last]
    while queue:
        for follower in constraints[queue.pop()]:
            if not spread[follower]:
                spread[follower] = True
                queue.append(follower)
    return spread


def _grammar_order(edit: Edit) -> tuple[tuple[tuple[int, tuple[str | int, ...]], ...], bool]:
    levels = tuple(node.statement.sort_key for node in (*edit.outer, edit.node))
    # Siblings of one kind: additions first, then removals, then by name; see the last level.
    order, name = levels[-1]
    removal = edit.operation == "remove"
    return (*levels[:-1], (order, (("1" if removal else "0"), *name))), removal


def _constraints(edits: Sequence[Edit]) -> list[list[int]]:
    """For each edit, the edits that have to come after it."""
    creates: dict[tuple[str, str], int] = {}
    removes: dict[tuple[str, str], int] = {}
    frees: dict[str, int] = {}
    ordered: dict[tuple[Path, str], int] = {}
    after: list[list[int]] = [[] for _ in edits]
    for number, edit in enumerate(edits):
        if edit.operation == "create":
            for statement in _statements(edit.node):
                creates[statement.rule.path, statement.identity] = number
        if edit.operation == "remove":
            for statement in _statements(edit.node):
                removes[statement.rule.path, statement.identity] = number
                if statement.rule.unique:
                    frees[statement.text] = number
    for number, edit in enumerate(edits):
        if edit.rule.user_ordered:
            group = (edit.path[:-1], edit.rule.path)
            if group in ordered:
                after[ordered[group]].append(number)
            ordered[group] = number
        for statement in _statements(edit.new) if edit.new is not None and edit.operation != "move" else ():
            for earlier in (_referred(statement, creates), frees.get(statement.text)):
                if earlier is not None and earlier != number:
                    after[earlier].append(number)
        for statement in _statements(edit.old) if edit.old is not None and edit.operation != "move" else ():
            later = _referred(statement, removes)
            if later is not None and later != number:
                after[number].append(later)
    return after


def _statements(node: Node) -> Iterator[Statement]:
    yield node.statement
    for _, below in node.walk():
        yield below.statement


def _referred(statement: Statement, targets: dict[tuple[str, str], int]) -> int | None:
    if statement.rule.refers is None:
        return None
    rule_path = statement.rule.refers
    name = statement.target.split(" ", 1)[0]
    return targets.get((rule_path, f"{rule_path.rpartition('/')[2]} {name}"))


def indented_commands(edits: Sequence[Edit], spelling: Spelling, fingerprints: Fingerprints) -> list[Command]:
    """The lines for `edits` in their order: a statement is entered once for all consecutive edits below it."""
    commands: list[Command] = []
    open_path: Path = ()

    def say(statement: Statement, line: str, path: Path) -> None:
        margin = " " * (INDENT * (len(path) - 1))
        hides = (statement.target, fingerprints.of(statement.target)) if statement.rule.secret and statement.target else None
        shown = line.replace(*hides) if hides else line
        commands.append(Command(margin + line, margin + shown, path, hides))

    for edit in edits:
        outer = edit.path[:-1]
        shared = 0
        while shared < min(len(outer), len(open_path)) and outer[shared] == open_path[shared]:
            shared += 1
        for depth in range(shared, len(outer)):
            node = edit.outer[depth]
            say(node.statement, node.text, outer[: depth + 1])
        statement = edit.node.statement
        say(statement, _spelt(edit, spelling), edit.path)
        open_path = outer
        if edit.operation == "create":
            for path, below in edit.node.walk(edit.path):
                say(below.statement, below.text, path)
            open_path = (*outer, edit.node.identity)
        elif edit.operation == "replace" and statement.rule.holds_others:
            open_path = (*outer, edit.node.identity)
    return commands


def _spelt(edit: Edit, spelling: Spelling) -> str:
    statement = edit.node.statement
    if edit.operation == "remove":
        return spelling.remove.format(identity=statement.identity)
    if edit.before is not None:
        return spelling.insert_before.format(statement=statement.text, other=edit.before)
    if edit.operation == "move":
        return spelling.insert_last.format(statement=statement.text)
    return statement.text
