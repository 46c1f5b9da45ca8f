"""The values behind a rendered line: which names its template line uses, and where their values
were written."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from jinja2 import nodes

from oast.errors import EstateError
from oast.estate import Estate, describe_value, explain
from oast.intent.intent import IntentBuilder
from oast.records import Problem


def value_origins(estate: Estate, builder: IntentBuilder, problem: Problem) -> Iterator[str]:
    """`name = value  file:line` for each value that the template line of `problem` uses, for the first of its
    devices."""
    place = problem.place
    if place is None or place.line is None or not place.file.endswith(".j2") or not problem.devices:
        return
    device = estate.devices[problem.devices[0]]
    template = next((t for t in builder.templates_of(device) if t.file == place.file), None)
    if template is None:
        return
    tree = template.compiled.environment.parse(template.source)
    for name in sorted(set(_names_on(tree, place.line, {}))):
        try:
            explained = explain(estate, device, name)
        except EstateError:
            continue
        for one in explained[:4]:
            value = describe_value(one.value)
            yield f"{one.key} = {value if len(value) <= 60 else value[:57] + '...'}  {one.origins[-1].place}"


def _within(node: nodes.Node) -> list[nodes.Name]:
    return [node] if isinstance(node, nodes.Name) else list(node.find_all(nodes.Name))


def _names_on(node: nodes.Node, line: int, loops: Mapping[str, set[str]]) -> Iterator[str]:
    """The top names used on `line`; the variable of a loop stands for what the loop runs over."""
    if isinstance(node, nodes.For):
        source = {name for used in _within(node.iter) for name in loops.get(used.name, {used.name})}
        loops = {**loops, **{target.name: source for target in _within(node.target)}}
    if (
        isinstance(node, nodes.Getattr)
        and isinstance(node.node, nodes.Name)
        and node.node.name == "device"
        and node.lineno == line
    ):
        yield f"device.{node.attr}"
    elif isinstance(node, nodes.Name) and node.lineno == line and node.ctx == "load":
        yield from loops.get(node.name, {node.name})
    for child in node.iter_child_nodes():
        yield from _names_on(child, line, loops)
