"""What an expression or a template may cost: steps of loops, and the size of what it makes. More is an error
at its line.

Steps are counted and not seconds, so that the same template fails on every machine or on none.
"""

from __future__ import annotations

import math
import re
import threading
from collections.abc import Generator, Iterable, Iterator
from contextlib import contextmanager
from itertools import islice
from typing import Any

from jinja2 import nodes

from oast.records import secrets_stay_objects

STEPS = 500_000
SIZE = 10_000_000
POWER = 256
WIDTH = 100_000
# This many pieces are joined before their size is checked.
BLOCK = 64

_WIDE = re.compile(r"[0-9]{6,}")
# Methods and filters that make a text as wide as their argument says.
WIDENING = frozenset(
    ("center", "ljust", "rjust", "zfill", "expandtabs", "indent", "wordwrap", "format", "format_map")
)


class LimitExceeded(Exception):
    """A template or an expression goes beyond what any configuration needs."""


class _Steps(threading.local):
    taken = 0


_STEPS = _Steps()


@contextmanager
def rendering() -> Iterator[None]:
    """One rendering: its steps are counted by themselves, also within another one's."""
    before, _STEPS.taken = _STEPS.taken, 0
    try:
        with secrets_stay_objects():
            yield
    finally:
        _STEPS.taken = before


def count_steps(items: Iterable[Any]) -> Iterable[Any]:
    """What a loop goes through. Raises LimitExceeded, at once where it is known how much it is."""
    if isinstance(items, (list, tuple, dict, range, str)):
        _STEPS.taken += len(items)
        _need_few()
        return items
    return _one_by_one(items)


def _one_by_one(items: Iterable[Any]) -> Iterator[Any]:
    for item in items:
        _STEPS.taken += 1
        _need_few()
        yield item


def _need_few() -> None:
    if _STEPS.taken > STEPS:
        raise LimitExceeded(f"the template's loops ran more than {STEPS:,} times")


def join_limited(pieces: Iterable[str]) -> str:
    """The pieces as one text. Raises LimitExceeded."""
    kept: list[str] = []
    size = 0
    remaining = iter(pieces)
    while block := list(islice(remaining, BLOCK)):
        text = "".join(block)
        size += len(text)
        kept.append(text)
        if size > SIZE:
            too_much = LimitExceeded(f"the template creates a text longer than {SIZE:,} characters")
            if isinstance(pieces, Generator):
                pieces.throw(too_much)  # where in the template it was is known there
            raise too_much
    return "".join(kept)


def concatenate_limited(*parts: Any) -> str:
    """What `~` gives."""
    return join_limited(str(part) for part in parts)


def check_operation(operator: str, left: Any, right: Any) -> None:
    """Whether an operation stays within bounds. Raises LimitExceeded."""
    if (
        operator == "**"
        and isinstance(right, (int, float))
        and (abs(right) > POWER or _digits(left) * abs(right) > WIDTH)
    ):
        raise LimitExceeded(f"a power above {POWER}")
    if operator == "*":
        for one, other in ((left, right), (right, left)):
            if (
                isinstance(one, (str, bytes, list, tuple))
                and isinstance(other, int)
                and len(one) * other > SIZE
            ):
                raise LimitExceeded(f"the expression creates a text or list longer than {SIZE:,}")
        if isinstance(left, int) and isinstance(right, int) and _digits(left) + _digits(right) > WIDTH:
            raise LimitExceeded("a number of that many digits")
    if (
        operator == "+"
        and isinstance(left, (str, list))
        and isinstance(right, (str, list))
        and _size(left) + _size(right) > SIZE
    ):
        raise LimitExceeded(f"the expression creates a text or list longer than {SIZE:,}")
    if operator == "%" and isinstance(left, str) and _WIDE.search(left):
        raise LimitExceeded("a width of that many characters")


def check_finite(value: float) -> None:
    """Raises LimitExceeded for infinity and NaN."""
    if not math.isfinite(value):
        raise LimitExceeded("the result is not a finite number")


def _size(value: str | list[Any]) -> int:
    # Text with marks of secrets does not say how long it is.
    return str.__len__(value) if isinstance(value, str) else len(value)


def _digits(value: Any) -> int:
    return value.bit_length() // 3 if isinstance(value, int) else 0


def check_call(name: str, owner: Any, arguments: Iterable[Any]) -> None:
    """Whether a method or filter that widens a text stays within bounds. Raises LimitExceeded."""
    if name not in WIDENING:
        return
    if isinstance(owner, str) and _WIDE.search(owner) and name.startswith("format"):
        raise LimitExceeded("a width of that many characters")
    if any(isinstance(argument, int) and argument > WIDTH for argument in arguments):
        raise LimitExceeded("a width of that many characters")


def bounded(tree: nodes.Template) -> nodes.Template:
    """The same template, with every turn of a loop counted and every `~` measured."""
    for loop in tree.find_all(nodes.For):
        loop.iter = nodes.Call(
            nodes.ImportedName(f"{__name__}.count_steps"), [loop.iter], [], None, None
        ).set_lineno(loop.lineno)
    _measure(tree)
    return tree


def _measure(node: nodes.Node) -> None:
    for name, value in node.iter_fields():
        if isinstance(value, list):
            for number, item in enumerate(value):
                if isinstance(item, nodes.Node):
                    _measure(item)
                    value[number] = _call(item)
        elif isinstance(value, nodes.Node):
            _measure(value)
            setattr(node, name, _call(value))


def _call(node: nodes.Node) -> nodes.Node:
    if not isinstance(node, nodes.Concat):
        return node
    call = nodes.Call(nodes.ImportedName(f"{__name__}.concatenate_limited"), node.nodes, [], None, None)
    return call.set_lineno(node.lineno)
