"""Trees and edits as plain data for JSON: what is kept on disk and what people are given. Secrets are
fingerprints in it.

The page: docs/formats.md.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from oast.config.edits import Edit
from oast.config.tree import Node
from oast.platforms import Grammar, Rule, Statement
from oast.records import Secret, Value


def edits_document(edits: Iterable[Edit]) -> list[dict[str, Any]]:
    """Edits to look at."""
    return [_edit(edit) for edit in edits]


def _edit(edit: Edit) -> dict[str, Any]:
    document: dict[str, Any] = {"operation": edit.operation, "path": [node.text for node in edit.outer]}
    if edit.old is not None:
        document["old"] = _shown(edit.old, whole=edit.operation == "remove")
    if edit.new is not None:
        document["new"] = _shown(edit.new, whole=edit.operation == "create")
    if edit.rule.user_ordered and edit.operation in ("create", "move"):
        document["before"] = edit.before.text if edit.before is not None else None
    return document


def _shown(node: Node, *, whole: bool) -> Mapping[str, Any]:
    document: dict[str, Any] = {"statement": node.text}
    if whole and node.children:
        document["below"] = [_shown(child, whole=True) for child in node.children.values()]
    return document


def tree_document(tree: Node, besides: Node | None = None) -> list[dict[str, Any]]:
    """Return `tree` as data for `tree_from_document`: rule, arguments, contents. Parts that equal a tree that
    is kept `besides` are only referred to."""
    found: list[dict[str, Any]] = []
    # By number: the identity of a statement may hold what is kept of a secret in another length.
    numbers = (
        {} if besides is None else {identity: number for number, identity in enumerate(besides.children)}
    )
    for identity, child in tree.children.items():
        if besides is not None and besides.children.get(identity) == child:
            found.append({"same": numbers[identity]})
            continue
        statement = child.statement
        entry: dict[str, Any] = {
            "is": statement.rule.path,
            "with": [_value(value) for value in statement.arguments],
        }
        if child.children:
            entry["below"] = tree_document(child)
        found.append(entry)
    return found


def tree_from_document(
    entries: Iterable[Any], grammar: Grammar, besides: Node | None = None
) -> dict[str, Node]:
    """Return the nodes of a document of `tree_document`, with the tree that was kept `besides` (its children
    in their stored order).

    Raises KeyError, IndexError, TypeError or ValueError for anything else.
    """
    rules = {rule.path: rule for rule in grammar.rules()}
    anything = grammar.root.children.get("")
    if anything is not None:
        rules["?"] = anything
    nodes: dict[str, Node] = {}
    same = [] if besides is None else list(besides.children.values())
    for entry in entries:
        if besides is not None and "same" in entry:
            node = same[int(entry["same"])]
            nodes[node.identity] = node
        else:
            _add(nodes, entry, rules, grammar)
    return nodes


def _children(entries: Iterable[Any], rules: Mapping[str, Rule], grammar: Grammar) -> dict[str, Node]:
    nodes: dict[str, Node] = {}
    for entry in entries:
        _add(nodes, entry, rules, grammar)
    return nodes


def _add(nodes: dict[str, Node], entry: Any, rules: Mapping[str, Rule], grammar: Grammar) -> None:
    rule = rules.get(entry["is"])
    values = tuple(_read(value, grammar) for value in entry["with"])
    if rule is not None and len(values) == len(rule.arguments):
        statement = Statement(rule, values)
    elif len(values) == 1 and isinstance(values[0], Secret):
        line = values[0]
        statement = grammar.withheld(line, sum(1 for n in nodes.values() if n.statement.arguments == (line,)))
    else:
        # A statement the grammar does not know, or has forgotten since, is kept by its words.
        words = " ".join(str(value) for value in values if value is not None)
        statement = grammar.opaque(
            words, sum(1 for n in nodes.values() if n.statement.value == words and not n.statement.rule.known)
        )
    nodes[statement.identity] = Node(statement, _children(entry.get("below", ()), rules, grammar))


def _value(value: Value | None) -> Any:
    return {"secret": value.forgotten().digest} if isinstance(value, Secret) else value


def _read(value: Any, grammar: Grammar) -> Value | None:
    if isinstance(value, dict):
        return grammar.fingerprints.kept(str(value["secret"]))
    return None if value is None else str(value)
