"""The safe order of edits: in every state in between, everything that is referred to is there."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from oast.config.block_scheduler import BlockScheduler
from oast.config.edits import Edit
from oast.config.tree import Node, Path
from oast.platforms import Statement
from oast.records import Value

Target = tuple[str, int, Value | None]
"""The path of a rule, the number of an argument, and its value: what a leafref points at."""

Bound = Mapping[Path, Collection[Target]]
"""The entries that edits change, and the filters that they are bound to before, after and at every moment."""


class NoDependencyOrder(Exception):
    """Statements refer to each other in such a way that no order exists in which each state is allowed."""

    def __init__(self, edits: Sequence[Edit]) -> None:
        named = "; ".join(" / ".join((*(n.text for n in edit.outer), edit.node.text)) for edit in edits[:4])
        super().__init__(f"no order of these edits is safe at every step: {named}")
        self.edits = tuple(edits)


def in_dependency_order(
    edits: Sequence[Edit], goes_last: Callable[[Edit], bool] = lambda edit: False, running: Node | None = None
) -> list[Edit]:
    """Order `edits` so that every intermediate state is valid and the session survives as long as possible.

    An entry is created before a reference to it and removed after; a unique value is released before it is
    used again; a user's order is kept. Within these rules, edits for which `goes_last` holds come last;
    otherwise the grammar's order decides, additions before removals. Edits that wait for each other in a
    circle are split: an entry is created first and its references follow, a value is removed before another
    replaces it. `running` is the configuration before the edits: what is referenced there, and stays so, must
    exist at every moment.

    A filter applies at every moment as before or as intended: an access list is bound before anything else
    changes on its interface and unbound after it, released before it is changed and bound again after; an
    interface is shut before and opened after all its other edits. Raises NoDependencyOrder when there is no
    such order.
    """
    steps = list(edits)
    standing, bound = _standing(running, edits), _still_bound(running, edits)
    while True:
        order, stuck = _sorted(steps, goes_last, standing, bound)
        if not stuck:
            return order
        finer = [
            part
            for edit in steps
            for part in (_parts(edit) if any(edit is other for other in stuck) else (edit,))
        ]
        if finer == steps:
            raise NoDependencyOrder(_circle(stuck, standing, bound))
        steps = finer


def _sorted(
    edits: Sequence[Edit], goes_last: Callable[[Edit], bool], standing: Collection[Target], bound: Bound
) -> tuple[list[Edit], list[Edit]]:
    """The edits that can be put in order, and those that wait for each other."""
    follow = constraints(edits, standing, bound)
    waiting = [0] * len(edits)
    for followers in follow:
        for follower in followers:
            waiting[follower] += 1
    last = _carried_along([goes_last(edit) for edit in edits], follow)
    sections = BlockScheduler(
        [(is_last, edit.path[:1]) for is_last, edit in zip(last, edits, strict=True)], follow
    )
    priority = [(last[number], _grammar_order(edit), number) for number, edit in enumerate(edits)]
    for number in range(len(edits)):
        if waiting[number] == 0:
            sections.put(priority[number])
    order: list[Edit] = []
    while (taken := sections.take()) is not None:
        order.append(edits[taken])
        for follower in follow[taken]:
            waiting[follower] -= 1
            if waiting[follower] == 0:
                sections.put(priority[follower])
    return order, [edit for number, edit in enumerate(edits) if waiting[number] > 0]


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


def _parts(edit: Edit) -> tuple[Edit, ...]:
    """The same in smaller steps, so that others can come between them; the edit itself when there are none.

    Only children that concern others are taken apart: those that refer, are referred to, or must be unique.
    """
    node = edit.node
    if edit.operation == "replace":
        if edit.rule.filters:
            return (edit,)  # between the two nothing would be filtered
        old = Edit("remove", edit.outer, edit.old, None)
        return (
            (old, Edit("create", edit.outer, None, edit.new))
            if not node.children and not node.statement.rule.user_ordered
            else (edit,)
        )
    if edit.operation == "move":
        return (edit,)
    own = [child for child in node.children.values() if child.statement.rule.concerns_others]
    if not own:
        return (edit,)
    rest = node.with_children(
        {i: c for i, c in node.children.items() if not c.statement.rule.concerns_others}
    )
    outer = (*edit.outer, rest)
    # A container without a meaning of its own is created and removed with its contents.
    alone = not rest.children and node.statement.rule.vanishes
    if edit.operation == "create":
        return (
            *(() if alone else (replace(edit, new=rest),)),
            *(Edit("create", outer, None, child) for child in own),
        )
    return (
        *(Edit("remove", outer, child, None) for child in own),
        *(() if alone else (replace(edit, old=rest),)),
    )


def _circle(stuck: Sequence[Edit], standing: Collection[Target], bound: Bound) -> list[Edit]:
    """Those of the `stuck` edits that wait for each other, without those that only wait for them."""
    numbers = set(range(len(stuck)))
    follow = constraints(stuck, standing, bound)
    while True:
        leading = {n for n in numbers if any(f in numbers for f in follow[n])}
        if leading == numbers:
            return [stuck[n] for n in sorted(numbers)]
        numbers = leading


def _grammar_order(edit: Edit) -> tuple[tuple[tuple[int, tuple[str | int, ...]], ...], bool]:
    levels = tuple(node.statement.sort_key for node in (*edit.outer, edit.node))
    # Siblings of one kind: additions first, then removals, then by name; see the last level.
    order, name = levels[-1]
    removal = edit.operation == "remove"
    # Without a grammar it is unknown whether a line replaces another: removed after it was set, both would be
    # gone.
    later = removal != edit.rule.structural
    return (*levels[:-1], (order, (("1" if later else "0"), *name))), later


NOTHING_BOUND: Bound = {}


def constraints(
    edits: Sequence[Edit], standing: Collection[Target], bound: Bound = NOTHING_BOUND
) -> list[list[int]]:
    """For each edit, the edits that have to come after it."""
    creates: dict[Target, int] = {}
    removes: dict[Target, int] = {}
    frees: dict[tuple[str, Value | None], int] = {}
    made: dict[Path, int] = {}
    gone: dict[Path, int] = {}
    ordered: dict[tuple[Path, str], int] = {}
    after: list[set[int]] = [set() for _ in edits]
    for number, edit in enumerate(edits):
        if edit.operation in ("create", "replace") and edit.new is not None:
            for statement in _statements(edit.new, whole=edit.operation == "create"):
                creates.update(
                    {(statement.rule.path, n, value): number for n, value in enumerate(statement.arguments)}
                )
        if edit.operation in ("remove", "replace") and edit.old is not None:
            for statement in _statements(edit.old, whole=edit.operation == "remove"):
                removes.update(
                    {(statement.rule.path, n, value): number for n, value in enumerate(statement.arguments)}
                )
                if statement.rule.unique:
                    frees[statement.rule.path, statement.arguments[0]] = number
        if edit.operation == "create":
            made[edit.path] = number
        elif edit.operation == "remove":
            gone[edit.path] = number
    for number, edit in enumerate(edits):
        if edit.rule.user_ordered:
            group = (edit.path[:-1], edit.rule.path)
            if group in ordered:
                after[ordered[group]].add(number)
            ordered[group] = number
        for earlier in _before(edit, creates, frees, made, gone):
            after[earlier].add(number)
        after[number].update(_later(edit, removes, gone))
    for earlier, later in (*_filtered(edits, bound), *_limited(edits)):
        after[earlier].add(later)
    for target in standing:
        # Something goes on referring to it while it passes from one statement to another.
        if target in creates and target in removes:
            after[creates[target]].add(removes[target])
    for number, followers in enumerate(after):
        followers.discard(number)
    return [sorted(followers) for followers in after]


def _limited(edits: Sequence[Edit]) -> Iterator[tuple[int, int]]:
    """Where the number of entries is limited, one is removed before another is created (RFC 7950, section
    7.7.6)."""
    removed: dict[tuple[Path, str], list[int]] = {}
    for number, edit in enumerate(edits):
        if edit.operation == "remove" and edit.rule.max_elements is not None:
            removed.setdefault((edit.path[:-1], edit.rule.path), []).append(number)
    for number, edit in enumerate(edits):
        if edit.operation == "create" and edit.rule.max_elements is not None:
            for earlier in removed.get((edit.path[:-1], edit.rule.path), ()):
                yield earlier, number


def _filtered(edits: Sequence[Edit], bound: Bound) -> Iterator[tuple[int, int]]:
    """Pairs of edits, the earlier first, so that what is filtered is never open in between."""
    inside: dict[Target, list[int]] = {}
    below: dict[Path, list[int]] = {}
    if not bound and not any(references_filter(edit.node) or edit.rule.gate for edit in edits):
        return
    for number, edit in enumerate(edits):
        for depth, node in enumerate(edit.outer):
            below.setdefault(edit.path[: depth + 1], []).append(number)
            for n, value in enumerate(node.statement.arguments):
                inside.setdefault((node.statement.rule.path, n, value), []).append(number)
    for entry_path, targets in bound.items():
        changes = [number for target in targets for number in inside.get(target, ())]
        for other in below.get(entry_path, ()) if changes else ():
            # Removals happen while the filter is as before, additions when it is as intended.
            gate, operation = edits[other].rule.gate, edits[other].operation
            closes = not _opens(edits[other]) if gate else operation == "remove"
            opens = _opens(edits[other]) if gate else operation == "create"
            if closes and not edits[other].rule.filters:
                yield from ((other, change) for change in changes)
            elif opens and not edits[other].rule.filters:
                yield from ((change, other) for change in changes)
    for number, edit in enumerate(edits):
        if edit.rule.gate:
            yield from _gated(number, edit, below.get(edit.path[:-1], ()))
        if not references_filter(edit.node):
            continue
        if edit.old is not None and edit.operation != "move":
            yield from ((number, other) for target in _bound(edit.old) for other in inside.get(target, ()))
        if edit.new is not None and edit.operation != "move":
            yield from ((other, number) for target in _bound(edit.new) for other in inside.get(target, ()))
        if edit.rule.filters:
            entry = max(
                (d for d, node in enumerate(edit.outer) if node.statement.rule.kind == "list"), default=None
            )
            others = below[edit.path[: entry + 1]] if entry is not None else []
            for other in (other for other in others if not _first_or_last(edits[other])):
                # What closes comes before a filter is let go of, what opens comes when it is there; nothing
                # else matters.
                if edits[other].operation == "remove" and edit.operation != "create":
                    yield other, number
                elif edits[other].operation != "remove" and edit.operation != "remove":
                    yield number, other


def _first_or_last(edit: Edit) -> bool:
    return edit.rule.filters or edit.rule.gate


def _gated(number: int, edit: Edit, beside: Sequence[int]) -> Iterator[tuple[int, int]]:
    """What is to be open is opened when all else is done to it, and what is to be shut is shut before."""
    opens = _opens(edit)
    yield from ((other, number) if opens else (number, other) for other in beside)


def _opens(edit: Edit) -> bool:
    new = edit.new.statement.arguments if edit.new is not None else edit.rule.default
    return new is None or new[0] == "true"


def references_filter(node: Node) -> bool:
    """Whether a statement, or one below it, binds something to a filter."""
    rule = node.statement.rule
    return rule.filters or (
        rule.concerns_others and any(references_filter(child) for child in node.children.values())
    )


def _bound(node: Node) -> Iterator[Target]:
    for statement in _statements(node, whole=True):
        if statement.rule.filters:
            yield from _targets(statement)


def _before(
    edit: Edit,
    creates: dict[Target, int],
    frees: dict[tuple[str, Value | None], int],
    made: dict[Path, int],
    gone: dict[Path, int],
) -> Iterator[int]:
    """Return what must be done before `edit`."""
    path = edit.path
    yield from (made[path[:length]] for length in range(1, len(path)) if path[:length] in made)
    if edit.operation == "create" and path in gone:
        yield gone[path]
    if edit.new is None or edit.operation == "move":
        return
    # What only leads to it comes with it, and may refer to what is made, too.
    leading = [outer.statement for outer in edit.outer if not outer.owned]
    for statement in (*leading, *_statements(edit.new, whole=edit.operation == "create")):
        for target in _targets(statement):
            if target in creates:
                yield creates[target]
        if statement.rule.unique and (statement.rule.path, statement.arguments[0]) in frees:
            yield frees[statement.rule.path, statement.arguments[0]]


def _later(edit: Edit, removes: dict[Target, int], gone: dict[Path, int]) -> Iterator[int]:
    """Return what must be done after `edit`."""
    path = edit.path
    yield from (gone[path[:length]] for length in range(1, len(path)) if path[:length] in gone)
    if edit.old is None or edit.operation == "move":
        return
    for statement in _statements(edit.old, whole=edit.operation == "remove"):
        for target in _targets(statement):
            if target in removes:
                yield removes[target]


def _standing(running: Node | None, edits: Sequence[Edit]) -> Collection[Target]:
    """What is referred to before and after `edits`, where one of them takes the value it is known by to
    another statement."""
    if running is None or not any(
        edit.operation == "replace" and edit.rule.concerns_others for edit in edits
    ):
        return ()
    gone = {edit.path for edit in edits if edit.operation == "remove"}
    restated = {edit.path for edit in edits if edit.operation == "replace"}
    return {
        target
        for path, node in running.walk()
        if node.statement.rule.leafrefs
        and path not in restated
        and not any(path[:n] in gone for n in range(1, len(path) + 1))
        for target in _targets(node.statement)
    }


def _still_bound(running: Node | None, edits: Sequence[Edit]) -> Bound:
    """Return the entries in which `edits` change something, with the filters that stay bound."""
    if running is None:
        return NOTHING_BOUND
    touched = {edit.path for edit in edits}
    found: dict[Path, set[Target]] = {}
    for edit in edits:
        for depth, outer in enumerate(edit.outer):
            path = edit.path[: depth + 1]
            if (
                outer.statement.rule.kind != "list"
                or path in found
                or not outer.statement.rule.concerns_others
            ):
                continue
            node = running.at(path)
            below = node.walk() if node is not None else ()
            found[path] = {
                t
                for inner, one in below
                if one.statement.rule.filters and (*path, *inner) not in touched
                for t in _targets(one.statement)
            }
    return {path: targets for path, targets in found.items() if targets}


def _statements(node: Node, *, whole: bool) -> Iterator[Statement]:
    yield node.statement
    if whole:
        for _, below in node.walk():
            yield below.statement


def _targets(statement: Statement) -> Iterable[Target]:
    for leafref in statement.rule.leafrefs:
        value = statement.arguments[leafref.number]
        if value is not None:
            yield leafref.target, leafref.target_argument, value
