"""No text is made of a secret in a template or expression: a secret stays an object, and what is captured
with one in it stays whole.

A secret that is put out is a mark in the text (`Secret.mark`). Text with marks, as a macro or a block gives
it back, can be put out, joined with other text and indented. Nothing else can be done with it, as half a mark
would reach the device.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import wraps
from itertools import chain
from typing import Any, NoReturn

from oast.records import MARK_BEGINS, Secret, SecretAsText

# What takes values, and gives them back as they are, or says how many there are.
STRUCTURAL = frozenset(
    (
        "attr",
        "batch",
        "count",
        "d",
        "default",
        "dictsort",
        "first",
        "groupby",
        "items",
        "last",
        "length",
        "list",
        "map",
        "password_hash",
        "pick",
        "reject",
        "rejectattr",
        "reverse",
        "select",
        "selectattr",
        "slice",
        "sort",
        "unique",
    )
)
# What keeps every mark of a text whole.
WHOLE = frozenset(("indent", "trim"))


def refuse(*_: object, **__: object) -> NoReturn:
    """Raises SecretAsText."""
    raise SecretAsText


class MarkedText(str):
    """Text with marks of secrets in it, as a macro or a block gives it back."""

    __slots__ = ()

    def __add__(self, other: object) -> str:
        return MarkedText(plain_text(self) + plain_text(other)) if isinstance(other, str) else refuse()

    def __radd__(self, other: object) -> str:
        return MarkedText(plain_text(other) + plain_text(self)) if isinstance(other, str) else refuse()

    def __bool__(self) -> bool:
        return True

    __str__ = __repr__ = __format__ = __len__ = __iter__ = __contains__ = __getitem__ = refuse
    __mod__ = __rmod__ = __mul__ = __rmul__ = refuse
    __eq__ = __ne__ = __lt__ = __le__ = __gt__ = __ge__ = __hash__ = refuse


for _name in dir(str):
    if not _name.startswith("__"):
        setattr(MarkedText, _name, refuse)


def plain_text(text: str) -> str:
    """The text itself, of which everything can be asked."""
    return str.__getitem__(text, slice(None))


def captured(text: str) -> str:
    """What a macro or a block gives back."""
    return MarkedText(text) if MARK_BEGINS in text else text


def holds_secret(value: Any) -> bool:
    """Whether a secret, or text with one in it, is `value` or stands in it, however deep."""
    waiting: list[Any] = [value]
    seen: set[int] = set()
    while waiting:
        one = waiting.pop()
        if isinstance(one, (Secret, MarkedText)):
            return True
        # What is held many times is looked at once.
        if isinstance(one, (str, int, float)) or id(one) in seen:
            continue
        seen.add(id(one))
        if isinstance(one, Mapping):
            waiting.extend(chain.from_iterable(one.items()))
        elif isinstance(one, (list, tuple, set, frozenset)):
            waiting.extend(one)
    return False


def guarded(name: str, function: Callable[..., Any]) -> Callable[..., Any]:
    """A filter that is given no secret, unless it gives back what it takes."""
    if name in STRUCTURAL:
        return function

    # Of some, the first argument is the machinery's own.
    own = 1 if hasattr(function, "jinja_pass_arg") else 0

    @wraps(function)
    def checked(*arguments: Any, **named: Any) -> Any:
        given = (*arguments[own:], *named.values())
        if name in WHOLE:
            is_marked = any(isinstance(one, MarkedText) for one in given)
            arguments = tuple(plain_text(one) if isinstance(one, MarkedText) else one for one in arguments)
            if is_marked and not any(holds_secret(one) for one in arguments):
                return captured(function(*arguments, **named))
        if any(holds_secret(one) for one in given):
            refuse()
        return function(*arguments, **named)

    return checked


def check_secret_method(owner: Any, arguments: Iterable[Any]) -> None:
    """Whether a method of a text may be called: not with a secret among what it is given. Raises
    SecretAsText."""
    if isinstance(owner, str) and any(holds_secret(one) for one in arguments):
        refuse()
