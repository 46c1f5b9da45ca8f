"""How large what a filter or a method of a text makes can become, told before it is made.

A sandbox bounds what an expression may reach, and not what it may make: a replacement, a join or a conversion
multiplies, and two of them fill a machine's memory.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import wraps
from itertools import chain
from typing import Any

from oast.estate.secret_text import STRUCTURAL
from oast.estate.template_limits import SIZE, STEPS, LimitExceeded

# Escaping and encoding make up to six characters of one.
EXPANDING = frozenset(
    ("e", "escape", "forceescape", "pprint", "string", "tojson", "urlencode", "urlize", "wordwrap", "xmlattr")
)
# Wrapping looks at the rest of a text for every line of it.
LONGEST_WRAPPED = 100_000
MOST_PARTS = 100_000
MOST_WORDS = 10_000


def too_much() -> LimitExceeded:
    """The error for an expression whose result is too long."""
    return LimitExceeded(f"the output is too long: a text or list longer than {SIZE:,}")


def size_of(value: Any, most: int = SIZE) -> int:
    """About how many characters `value` has as text. Raises LimitExceeded when that is more than `most`, or
    it has too many parts."""
    total = parts = 0
    waiting: list[Any] = [value]
    while waiting:
        one = waiting.pop()
        parts += 1
        if isinstance(one, str):
            total += str.__len__(one) + 2
        elif isinstance(one, Mapping):
            waiting.extend(chain.from_iterable(one.items()))
        elif isinstance(one, (list, tuple, set, frozenset)):
            waiting.extend(one)
        else:
            total += one.bit_length() // 3 + 2 if isinstance(one, int) else 20
        if total > most or parts + len(waiting) > STEPS:
            raise too_much()
    return total


def _need(size: int) -> None:
    if size > SIZE:
        raise too_much()


def _text(value: Any) -> str:
    return value if isinstance(value, str) else ""


def _replace(text: Any, old: Any = "", new: Any = "", *_: Any, **__: Any) -> None:
    text, old, new = _text(text), _text(old), _text(new)
    count = text.count(old) if old else len(text) + 1
    _need(len(text) + count * len(new))


def _translate(text: Any, table: Any = None, *_: Any) -> None:
    longest = (
        max((len(one) for one in table.values() if isinstance(one, str)), default=1)
        if isinstance(table, Mapping)
        else 1
    )
    _need(len(_text(text)) * max(1, longest))


def _indent(text: Any, width: Any = 4, *_: Any, **__: Any) -> None:
    margin = len(width) if isinstance(width, str) else width if isinstance(width, int) else 4
    _need(len(_text(text)) + (_text(text).count("\n") + 1) * margin)


def _format(text: Any, *arguments: Any, **named: Any) -> None:
    places = _text(text).count("%") + _text(text).count("{")
    given = (*arguments, *named.values())
    if len(given) == 1 and isinstance(given[0], (tuple, Mapping)):
        given = tuple(given[0].values()) if isinstance(given[0], Mapping) else given[0]
    _need(len(_text(text)) + places * max((size_of(one) for one in given), default=0))


def _batch(_value: Any, count: Any = 0, *_: Any, **__: Any) -> None:
    if isinstance(count, int) and count > MOST_PARTS:
        raise too_much()


def _wordwrap(text: Any, width: Any = 79, *more: Any, wrapstring: Any = None, **__: Any) -> None:
    joint = (
        wrapstring
        if isinstance(wrapstring, str)
        else next((one for one in more if isinstance(one, str)), "\n")
    )
    if len(_text(text)) > LONGEST_WRAPPED:
        raise too_much()
    _need(len(_text(text)) * (1 + len(joint)))


def _join(parts: Any, joint: Any = "", *_: Any, **__: Any) -> None:
    if isinstance(parts, (list, tuple, set, frozenset, dict)):
        _need(size_of(list(parts)) + len(parts) * len(_text(joint)))


CHECKS: Mapping[str, Callable[..., None]] = {
    "replace": _replace,
    "translate": _translate,
    "indent": _indent,
    "format": _format,
    "format_map": _format,
    "batch": _batch,
    "slice": _batch,
    "wordwrap": _wordwrap,
    "join": _join,
}


def check_method_size(name: str, owner: Any, arguments: Iterable[Any], named: Mapping[str, Any]) -> None:
    """Whether a method of a text makes too much. Raises LimitExceeded."""
    check = CHECKS.get(name)
    if check is None or not isinstance(owner, str):
        return
    if name == "join":
        _join(next(iter(arguments), ()), owner)
    else:
        check(owner, *arguments, **named)


def sized(name: str, function: Callable[..., Any]) -> Callable[..., Any]:
    """A filter that says that it would make too much, before it does."""
    own = 1 if hasattr(function, "jinja_pass_arg") else 0
    check = CHECKS.get(name)
    if name in STRUCTURAL and check is None:
        return function

    @wraps(function)
    def checked(*arguments: Any, **named: Any) -> Any:
        given = arguments[own:]
        if name == "join" and given:
            # A generator is counted while it is consumed.
            parts = given[0] if isinstance(given[0], (list, tuple, str, Mapping)) else list(given[0])
            arguments = (*arguments[:own], parts, *given[1:])
            given = arguments[own:]
        if name not in STRUCTURAL:
            size_of(given, SIZE // 10 if name in EXPANDING else SIZE)
        if check is not None:
            check(*given, **named)
        made = function(*arguments, **named)
        if isinstance(made, str):
            _need(str.__len__(made))
        return made

    return checked


def bounded_lipsum(lipsum: Callable[..., Any]) -> Callable[..., Any]:
    """Jinja's words to fill a page, a page of them at most."""

    @wraps(lipsum)
    def checked(n: int = 5, html: bool = True, min: int = 20, max: int = 100) -> Any:  # Jinja's own names
        if (
            not all(isinstance(one, int) for one in (n, min, max))
            or n * max > MOST_WORDS
            or n > MOST_WORDS
            or min > MOST_WORDS
        ):
            raise too_much()
        return lipsum(n, html, min, max)

    return checked
