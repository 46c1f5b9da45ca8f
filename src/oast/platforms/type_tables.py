"""The table [types] of a platform definition: the types of values that are not built in."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from oast.platforms import types
from oast.platforms.types import BUILT_IN, ValueType
from oast.toml_text import Table, TomlFile

FORMS = ("choices", "range", "pattern", "patterns", "length", "identities", "bits", "union")


def types_of(file: TomlFile) -> Mapping[str, ValueType]:
    """The built-in types, and those of the definition."""
    known = dict(BUILT_IN)
    declared = file.table("types")
    for name, table in declared.tables() if declared is not None else ():
        made = _type(name, table, known)
        if made is not None:
            known[name] = made
        table.finish()
    return known


def _type(name: str, table: Table, known: Mapping[str, ValueType]) -> ValueType | None:
    given = [key for key in FORMS if table.has(key)]
    # How long a text may be is said beside what it looks like, or alone.
    forms = [key for key in given if key != "length"] or given
    if len(forms) != 1 or ("length" in given and forms[0] not in ("length", "pattern", "patterns")):
        table.wrong(None, f"the type '{name}' needs one of {', '.join(FORMS[:-1])} and {FORMS[-1]}")
        return None
    if forms[0] in ("choices", "identities", "bits"):
        return _words(name, table, forms[0])
    if forms[0] == "range":
        return _range(name, table)
    return _union(name, table, known) if forms[0] == "union" else _text(name, table)


def _words(name: str, table: Table, form: str) -> ValueType | None:
    words = table.texts(form)
    if not words or any(not word.strip() or word != word.strip() for word in words):
        table.wrong(form, f"the {form} of '{name}' must be at least one word")
        return None
    if form == "bits":
        return types.bits_type(name, words)
    if form == "choices":
        return types.one_of(name, words)
    for word in words:
        if word.count(":") != 1 or word.startswith(":") or word.endswith(":"):
            table.wrong(
                "identities", f"the identity '{word}' of '{name}' has no module", "write MODULE:IDENTITY"
            )
            return None
    return types.identity_type(name, words)


def _range(name: str, table: Table) -> ValueType | None:
    """`[low, high]`, or several of these; with `fraction-digits` of decimal numbers (RFC 7950, sections 9.2
    and 9.3)."""
    limits, digits = table.value("range"), table.number("fraction-digits", 0, 0, 18)
    pairs: Any = (
        [limits] if isinstance(limits, list) and limits and not isinstance(limits[0], list) else limits
    )
    if not isinstance(pairs, list) or not pairs or not all(_is_pair(pair, digits) for pair in pairs):
        table.wrong(
            "range", (f"the range of '{name}' must be two whole numbers, the lower first, such as [1, 4094]")
        )
        return None
    if digits:
        return types.decimal_in(name, digits, [(float(low), float(high)) for low, high in pairs])
    return types.number_in(name, *((low, high) for low, high in pairs))


def _is_pair(pair: Any, digits: int) -> bool:
    kinds: tuple[type, ...] = (int, float) if digits else (int,)
    numbers = (
        isinstance(pair, list)
        and len(pair) == 2
        and all(isinstance(n, kinds) and not isinstance(n, bool) for n in pair)
    )
    return numbers and pair[0] <= pair[1] and pair[0] >= -(2**63) and pair[1] < 2**64


def _text(name: str, table: Table) -> ValueType | None:
    single, several, help_text = table.pattern("pattern"), table.texts("patterns"), table.text("help") or name
    lower, examples, length = table.flag("lower"), table.texts("examples"), table.value("length")
    patterns = [
        *((single,) if single is not None else ()),
        *(one for one in several if table.compiles("patterns", one)),
    ]
    if (table.has("pattern") and single is None) or len(patterns) - (single is not None) < len(several):
        return None
    if length is not None and not (_is_pair(length, 0) and length[0] >= 0):
        table.wrong(
            "length", (f"the length of '{name}' must be two whole numbers, the lower first, such as [1, 64]")
        )
        return None
    made = types.pattern_type(
        name,
        patterns,
        help_text,
        lower=lower,
        examples=examples,
        length=None if length is None else tuple(length),
    )
    for example in examples:
        try:
            made.convert([example])
        except ValueError:
            table.wrong("examples", f"the example '{example}' of '{name}' does not match its pattern")
    return made


def _union(name: str, table: Table, known: Mapping[str, ValueType]) -> ValueType | None:
    members: Sequence[str] = table.texts("union")
    missing = next((member for member in members if member not in known), None)
    if missing is not None or not members:
        table.wrong("union", f"the union '{name}' uses the type '{missing}', which is not defined before it")
        return None
    return types.union_type(name, [known[member] for member in members])
