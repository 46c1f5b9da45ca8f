"""Configurations as data trees in the sense of YANG (RFC 7950): a schema of containers, lists, leaves and
leaf-lists, and the data.

A container's data is a mapping of names, a list's a mapping of key values to entries, a leaf's a text, a
leaf-list's a list of texts.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from oastsim.values import Check

Kind = Literal["container", "list", "leaf", "leaf-list"]
Data = dict[str, Any]
Keys = tuple[str, ...]


class Wrong(Exception):
    """Something that the schema, or a rule between nodes, does not allow; `path` is where."""

    def __init__(self, message: str, path: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.path = path


@dataclass(frozen=True, eq=False)
class Schema:
    """A node of the schema. `by_user`: the order of entries has a meaning (RFC 7950, section 7.7.7). `refers`
    is the path of the list whose entries a leaf names. `least` is the minimum number of entries. `form` is
    the JSON form of a value; `module` is where the name belongs in XML. Of nodes with one `choice`, only
    those of one `case` can exist (section 7.9)."""

    name: str
    kind: Kind
    below: Mapping[str, Schema] = field(default_factory=dict)
    keys: Keys = ()
    check: Check | None = None
    default: str | None = None
    by_user: bool = False
    presence: bool = False
    refers: str | None = None
    least: int = 0
    form: Literal["text", "number", "boolean", "identity"] = "text"
    module: str = ""
    choice: str | None = None
    case: str | None = None

    @property
    def inner(self) -> Iterator[Schema]:
        """Its contents, without the keys."""
        return (node for name, node in self.below.items() if name not in self.keys)


@dataclass(frozen=True)
class Step:
    """One level of a path: a node, and for an entry of a list its keys."""

    schema: Schema
    keys: Keys = ()


_STEP = re.compile(r"/(?P<name>[A-Za-z][\w.-]*)")
_KEY = re.compile(
    r"\[\s*(?P<key>[\w.-]+)\s*=\s*(?:'(?P<single>[^']*)'|\"(?P<double>[^\"]*)\"|(?P<bare>[^\]'\"]*?))\s*\]"
)
_BARE_KEY = re.compile(r"[A-Za-z0-9._:/*-]+")
_BARE_VALUE = re.compile(r"[^\s\"\\#]+")


def steps_of(root: Schema, text: str) -> tuple[list[Step], str | None]:
    """A path (after RFC 7950, section 9.13) and the value behind it. Raises Wrong."""
    found: list[Step] = []
    here, at = root, 0
    while (match := _STEP.match(text, at)) is not None:
        at = match.end()
        child = here.below.get(match["name"])
        if child is None or match["name"] in here.keys:
            known = " ".join(node.name for node in here.inner)
            raise Wrong(
                f"{match['name']} is not known below {here.name or 'the root'}; known: {known or 'nothing'}",
                text[:at],
            )
        given: dict[str, str] = {}
        while (key := _KEY.match(text, at)) is not None:
            given[key["key"]] = next(
                value for value in (key["single"], key["double"], key["bare"]) if value is not None
            )
            at = key.end()
        found.append(Step(child, _keys(child, given, text[:at])))
        here = child
    rest = text[at:].strip()
    if not found or (rest and not rest.startswith("=")):
        raise Wrong("a path is needed: /NAME/LIST[KEY=VALUE]/LEAF = VALUE", text)
    return found, _unquoted(rest[1:].strip(), text) if rest else None


def _keys(schema: Schema, given: Mapping[str, str], path: str) -> Keys:
    if set(given) != set(schema.keys):
        needed = "".join(f"[{name}=…]" for name in schema.keys) or "no keys"
        raise Wrong(f"{schema.name} takes {needed}", path)
    return tuple(_checked(schema.below[name], given[name], path) for name in schema.keys)


def _checked(schema: Schema, value: str, path: str) -> str:
    try:
        return schema.check(value) if schema.check is not None else value
    except ValueError as wrong:
        raise Wrong(f'"{value}" for {schema.name}: {wrong}', path) from None


def _unquoted(text: str, path: str) -> str:
    if not text.startswith('"'):
        return text
    match = re.fullmatch(r'"((?:[^"\\]|\\.)*)"', text)
    if match is None:
        raise Wrong("the quote is not closed", path)
    return re.sub(r"\\(.)", r"\1", match[1])


def quoted(value: str) -> str:
    """A value as written after a path."""
    return (
        value if _BARE_VALUE.fullmatch(value) else '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'
    )


def _shown_key(value: str) -> str:
    if _BARE_KEY.fullmatch(value):
        return value
    return f"'{value}'" if "'" not in value else f'"{value}"'


def step_text(step: Step) -> str:
    """One level as it is written."""
    keys = "".join(
        f"[{name}={_shown_key(value)}]" for name, value in zip(step.schema.keys, step.keys, strict=True)
    )
    return f"/{step.schema.name}{keys}"


class Tree:
    """The data of one configuration."""

    def __init__(self, schema: Schema, data: Data | None = None) -> None:
        self.schema = schema
        self.data: Data = {} if data is None else data

    def copy(self) -> Tree:
        return Tree(self.schema, _copied(self.data))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Tree) and self.text() == other.text()

    # --- reading
    # --------------------------------------------------------------------------------------------------

    def at(self, *path: str | Keys) -> Any:
        """Return the data at a path of names and keys; None without any."""
        found: Any = self.data
        for part in path:
            found = found.get(part) if isinstance(found, dict) else None
        return found

    def text(self) -> str:
        """Return every leaf with its path, and nodes without contents; a statement a line."""
        return "".join(f"{line}\n" for line in self.lines())

    def lines(self, under: str = "") -> Iterator[str]:
        """The lines, of those only that begin with the path `under`."""
        for line in _lines(self.schema, self.data, ""):
            if not under or line == under or line.startswith((f"{under}/", f"{under}[", f"{under} = ")):
                yield line

    def json(self, module: str) -> dict[str, Any]:
        """The data after RFC 7951; names at the top have their module's name."""
        return {f"{module}:{name}": value for name, value in _json(self.schema, self.data).items()}

    # --- changing
    # -------------------------------------------------------------------------------------------------

    def load(self, text: str) -> None:
        """Set every line of `text`. Raises Wrong at the first that is not right."""
        for line in text.split("\n"):
            if line.strip() and not line.strip().startswith("#"):
                self.set(*steps_of(self.schema, line.strip()))

    def set(self, steps: Sequence[Step], value: str | None) -> None:
        """Make what a path names, and what it stands in. Raises Wrong."""
        *outer, last = steps
        path = "".join(map(step_text, steps))
        holder = self._holder(outer, make=True)
        schema = last.schema
        if schema.kind in ("leaf", "leaf-list"):
            if value is None:
                raise Wrong(f"{schema.name} needs a value", path)
            stored = _checked(schema, value, path)
            if schema.kind == "leaf":
                holder[schema.name] = stored
            elif stored not in holder.setdefault(schema.name, []):
                holder[schema.name].append(stored)
            return
        if value is not None:
            raise Wrong(f"{schema.name} takes no value", path)
        if schema.kind == "list":
            holder.setdefault(schema.name, {}).setdefault(last.keys, {})
        elif schema.presence:
            holder.setdefault(schema.name, {})
        else:
            raise Wrong(f"{schema.name} means nothing by itself", path)

    def unset(self, steps: Sequence[Step], value: str | None) -> None:
        """Take away what a path names, with everything below. Raises Wrong when it is not there."""
        path = "".join(map(step_text, steps)) + (f" = {value}" if value is not None else "")
        *outer, last = steps
        holder = self._holder(outer, make=False)
        present = holder.get(last.schema.name) if holder is not None else None
        if last.schema.kind == "leaf-list" and value is not None and present is not None and value in present:
            present.remove(value)
        elif last.schema.kind == "list" and present is not None and last.keys in present:
            del present[last.keys]
        elif (
            last.schema.kind != "list"
            and present is not None
            and (value is None or (last.schema.kind == "leaf" and present == value))
        ):
            del holder[last.schema.name]
        else:
            raise Wrong("that is not configured", path)
        if last.schema.kind in ("list", "leaf-list") and not present:
            holder.pop(last.schema.name, None)
        self._swept(self.schema, self.data)

    def place(
        self, steps: Sequence[Step], value: str | None, other: Sequence[Step] | None, other_value: str | None
    ) -> None:
        """Move an entry of a user's order before `other`, or to the end. Raises Wrong."""
        *outer, last = steps
        path = "".join(map(step_text, steps))
        if not last.schema.by_user:
            raise Wrong(f"{last.schema.name} has no order", path)
        holder = self._holder(outer, make=False)
        present = holder.get(last.schema.name) if holder is not None else None
        mine = last.keys if last.schema.kind == "list" else value
        if present is None or mine not in present:
            raise Wrong("that is not configured", path)
        before: Any = None
        if other is not None:
            before = other[-1].keys if last.schema.kind == "list" else other_value
            if other[:-1] != outer or before not in present or before == mine:
                raise Wrong("that is not there to stand before", "".join(map(step_text, other)))
        order = [one for one in present if one != mine]
        order.insert(len(order) if before is None else order.index(before), mine)
        holder[last.schema.name] = (
            {key: present[key] for key in order} if isinstance(present, dict) else order
        )

    def _holder(self, outer: Sequence[Step], *, make: bool) -> Any:
        found: Any = self.data
        for step in outer:
            inner = found.get(step.schema.name)
            if inner is None and make:
                inner = found[step.schema.name] = {}
            if step.schema.kind == "list" and inner is not None:
                entry = inner.get(step.keys)
                if entry is None and make:
                    entry = inner[step.keys] = {}
                inner = entry
            if inner is None:
                return None
            found = inner
        return found

    def _swept(self, schema: Schema, data: Data) -> None:
        """Containers without presence mean nothing when they are empty."""
        for node in schema.inner:
            inner = data.get(node.name)
            if inner is None or node.kind in ("leaf", "leaf-list"):
                continue
            for one in inner.values() if node.kind == "list" else (inner,):
                self._swept(node, one)
            if not inner and not node.presence:
                del data[node.name]

    # --- rules between nodes
    # ----------------------------------------------------------------------------------------

    def problems(self) -> Iterator[Wrong]:
        """References to what is not there, and what lacks something (RFC 7950, sections 9.9 and 7.7.5)."""
        yield from self._problems(self.schema, self.data, "")

    def _problems(self, schema: Schema, data: Data, path: str) -> Iterator[Wrong]:
        for node in schema.inner:
            found = data.get(node.name)
            here = f"{path}/{node.name}"
            if node.least > len(found or ()):
                yield Wrong(
                    f"{node.name}: {node.least} at least {'is' if node.least == 1 else 'are'} needed",
                    path or "/",
                )
            if found is None:
                continue
            if node.kind == "list":
                for keys, entry in found.items():
                    where = path + step_text(Step(node, keys))
                    for name, value in zip(node.keys, keys, strict=True):
                        yield from self._dangling(node.below[name], value, where)
                    yield from self._problems(node, entry, where)
            elif node.kind == "container":
                yield from self._problems(node, found, here)
            else:
                for value in found if node.kind == "leaf-list" else (found,):
                    yield from self._dangling(node, value, here)

    def _dangling(self, node: Schema, value: str, path: str) -> Iterator[Wrong]:
        if (
            node.refers is not None
            and (self.at(*node.refers.strip("/").split("/")) or {}).get((value,)) is None
        ):
            yield Wrong(f"{node.refers.rpartition('/')[2]} {value} does not exist", path)


def _copied(data: Any) -> Any:
    if isinstance(data, dict):
        return {key: _copied(value) for key, value in data.items()}
    return list(data) if isinstance(data, list) else data


def natural(text: str) -> list[tuple[int, int | str]]:
    """Sorts port2 before port10."""
    return [
        (0, int(part)) if re.fullmatch("[0-9]{1,40}", part) else (1, part)
        for part in re.split(r"([0-9]{1,40})", text)
    ]


def ordered(node: Schema, found: Any) -> list[Any]:
    """The keys of a list's entries, or the values of a leaf-list, as they are listed."""
    if node.by_user:
        return list(found)
    return sorted(found, key=lambda one: natural(" ".join(one) if isinstance(one, tuple) else one))


def _lines(schema: Schema, data: Data, path: str) -> Iterator[str]:
    for node in schema.inner:
        found = data.get(node.name)
        if found is None:
            continue
        if node.kind == "leaf":
            yield f"{path}/{node.name} = {quoted(found)}"
        elif node.kind == "leaf-list":
            yield from (f"{path}/{node.name} = {quoted(value)}" for value in ordered(node, found))
        elif node.kind == "list":
            for keys in ordered(node, found):
                here = path + step_text(Step(node, keys))
                yield from [here] if not found[keys] else _lines(node, found[keys], here)
        else:
            if node.presence and not found:
                yield f"{path}/{node.name}"
            yield from _lines(node, found, f"{path}/{node.name}")


def _json(schema: Schema, data: Data) -> dict[str, Any]:
    made: dict[str, Any] = {}
    for node in schema.inner:
        found = data.get(node.name)
        if found is None:
            continue
        if node.kind == "leaf":
            made[node.name] = _value(node, found)
        elif node.kind == "leaf-list":
            made[node.name] = [_value(node, value) for value in ordered(node, found)]
        elif node.kind == "list":
            made[node.name] = [
                {
                    **{
                        name: _value(node.below[name], value)
                        for name, value in zip(node.keys, keys, strict=True)
                    },
                    **_json(node, found[keys]),
                }
                for keys in ordered(node, found)
            ]
        else:
            made[node.name] = _json(node, found)
    return made


def _value(node: Schema, value: str) -> str | int | bool:
    """RFC 7951, section 6: booleans and numbers of up to 32 bits are themselves, all else is text."""
    if node.form == "boolean":
        return value == "true"
    return int(value) if node.form == "number" else value
