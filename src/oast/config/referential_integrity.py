"""What a device would not take as a whole: a reference to what is not there, one value on two statements (RFC
7950, 9.9 and 7.8.3)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from oast.config.edits import Edit, apply_edits
from oast.config.tree import Node, Path
from oast.platforms import Rule, Statement
from oast.records import Value

Target = tuple[str, int, Value]


@dataclass(frozen=True)
class IntegrityError:
    """What would be wrong after some edits and is not wrong before them, and what helps."""

    message: str
    hint: str


def integrity_errors(edits: Sequence[Edit], running: Node) -> list[IntegrityError]:
    """What would be wrong on a device that runs `running` after `edits` and is not wrong now."""
    if not edits or not any(_concerns(edit) for edit in edits):
        return []
    after = apply_edits(edits, running)
    return [*_dangling(running, after), *_twice(running, after), *_too_many(running, after)]


def missing_parts(edits: Sequence[Edit], running: Node) -> Iterator[IntegrityError]:
    """Entries that are made without what they must not lack (RFC 7950, sections 7.6.5 and 7.7.5)."""
    after = apply_edits(edits, running)
    for edit in edits:
        if edit.operation != "create" or edit.new is None:
            continue
        for path, node in (
            (edit.path, edit.new),
            *(((*edit.path, *below), inner) for below, inner in edit.new.walk()),
        ):
            made = after.at(path)
            for needed in node.statement.rule.least:
                number = (
                    sum(1 for child in made.children.values() if child.statement.rule is needed)
                    if made is not None
                    else 0
                )
                if number < needed.min_elements:
                    message = f"'{' / '.join((*path[:-1], node.text))}' would have no '{needed.name}'"
                    yield IntegrityError(message, f"give it at least {needed.min_elements} '{needed.name}'")


def _too_many(running: Node, after: Node) -> Iterator[IntegrityError]:
    """More entries than there may be (RFC 7950, section 7.7.6), where there were not before."""
    before = _numbers(running)
    for (path, rule), number in _numbers(after).items():
        most = rule.max_elements or number
        if number > most and before.get((path, rule), 0) <= most:
            where = f" in '{' / '.join(path)}'" if path else ""
            message = f"at most {most} '{rule.name}' are allowed{where}, and there would be {number}"
            yield IntegrityError(
                message, "let the section own all of them, or remove one first; --mode merge removes none"
            )


def _numbers(tree: Node) -> dict[tuple[Path, Rule], int]:
    """How many there are of what is limited, by where they are."""
    found: dict[tuple[Path, Rule], int] = {}
    for path, node in tree.walk():
        if node.statement.rule.max_elements is not None:
            key = path[:-1], node.statement.rule
            found[key] = found.get(key, 0) + 1
    return found


def _concerns(edit: Edit) -> bool:
    """Whether an edit, or what is made to lead to it, can make a reference dangle or a value stand twice."""
    nodes = [*edit.outer, edit.node, *(node for _, node in edit.node.walk())]
    return any(node.statement.rule.concerns_others or node.statement.rule.holds_others for node in nodes)


def _dangling(running: Node, after: Node) -> Iterator[IntegrityError]:
    there, present = set(_targets_made(running)), set(_targets_made(after))
    before = {(path, target) for path, target, _ in _references(running)}
    for path, target, node in _references(after):
        if target in present or ((path, target) in before and target not in there):
            continue
        place = " / ".join((*path[:-1], node.text))
        if target in there:
            message = f"'{place}' refers to '{_words(target)}', which would be removed"
            yield IntegrityError(
                message,
                "deliver it together with the section that owns the reference, or do not remove it",
            )
        else:
            message = f"'{place}' refers to '{_words(target)}', which does not exist"
            yield IntegrityError(message, "deliver it together with the section that creates it")


def _twice(running: Node, after: Node) -> Iterator[IntegrityError]:
    before = _unique(running)
    for key, places in _unique(after).items():
        if len(places) > 1 and len(before.get(key, ())) < len(places):
            one, other = (" / ".join(place) for place in places[:2])
            message = f"'{one}' and '{other}' would exist at the same time"
            yield IntegrityError(
                message,
                "--mode merge removes nothing; deliver without it, or remove the old one first",
            )


def _references(tree: Node) -> Iterator[tuple[Path, Target, Node]]:
    for path, node in tree.walk():
        for leafref in node.statement.rule.leafrefs:
            value = node.statement.arguments[leafref.number]
            if value is not None:
                yield path, (leafref.target, leafref.target_argument, value), node


def _targets_made(tree: Node) -> Iterator[Target]:
    for _, node in tree.walk():
        statement: Statement = node.statement
        for number, value in enumerate(statement.arguments):
            if value is not None:
                yield statement.rule.path, number, value


def _unique(tree: Node) -> dict[tuple[str, Value | None], list[Path]]:
    found: dict[tuple[str, Value | None], list[Path]] = {}
    for path, node in tree.walk():
        if node.statement.rule.unique:
            found.setdefault((node.statement.rule.path, node.statement.arguments[0]), []).append(path)
    return found


def _words(target: Target) -> str:
    return f"{target[0].rpartition('/')[2]} {target[2]}"
