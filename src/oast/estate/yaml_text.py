"""YAML as the engineer wrote it: read safely, with the line of every key and item, and errors that say what to mend.

Scalars follow the core schema of YAML 1.2: only `true` and `false` are booleans, so `on`, `no` and `12:30` stay text.
"""

from __future__ import annotations

import re
from collections.abc import Hashable
from pathlib import Path
from typing import Any

import yaml

from oast.errors import EstateError
from oast.records import Place, Problem


class YamlMap(dict[str, Any]):
    """A mapping that knows the line of each key."""

    __slots__ = ("file", "lines")

    def __init__(self, file: str) -> None:
        super().__init__()
        self.file = file
        self.lines: dict[str, int] = {}

    def place(self, key: str | None = None) -> Place:
        """Where `key` stands; without one, where the mapping begins."""
        line = self.lines.get(key) if key is not None else min(self.lines.values(), default=None)
        return Place(self.file, line)


class YamlList(list[Any]):
    """A list that knows the line of each item."""

    __slots__ = ("file", "lines")

    def __init__(self, file: str) -> None:
        super().__init__()
        self.file = file
        self.lines: list[int] = []

    def place(self, index: int) -> Place:
        return Place(self.file, self.lines[index])


class _Loader(yaml.CSafeLoader):
    """The C parser with the scalars of YAML 1.2."""

    yaml_implicit_resolvers: dict[str, list[tuple[str, re.Pattern[str]]]] = {}  # noqa: RUF012


for _tag, _pattern, _first in (
    ("tag:yaml.org,2002:bool", r"true|True|TRUE|false|False|FALSE", "tTfF"),
    ("tag:yaml.org,2002:null", r"~|null|Null|NULL|", "~nN\0"),
    ("tag:yaml.org,2002:int", r"[-+]?(?:0|[1-9][0-9]*)|0x[0-9a-fA-F]+|0o[0-7]+", "-+0123456789"),
    ("tag:yaml.org,2002:float", r"[-+]?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][-+]?[0-9]+)?", "-+0123456789"),
):
    _Loader.add_implicit_resolver(_tag, re.compile(f"(?:{_pattern})$"), ["" if c == "\0" else c for c in _first])


def read(path: Path, shown: str) -> Any:
    """The content of the YAML file at `path`, called `shown` in errors: YamlMap, YamlList, text, numbers, true, false, None.

    Raises EstateError with the place, the line as written and a likely cause.
    """
    try:
        text = path.read_text(encoding="utf-8")
    except UnicodeDecodeError as error:
        raise EstateError(f"the file is not UTF-8 text (byte {error.start})", place=Place(shown)) from None
    except OSError as error:
        raise EstateError(f"the file cannot be read: {error.strerror}", place=Place(shown)) from None
    return parse(text, shown)


def read_map(path: Path, shown: str) -> YamlMap:
    """Like `read` for a file that has to hold a mapping; an empty file is an empty one."""
    data = read(path, shown)
    if data is None:
        return YamlMap(shown)
    if not isinstance(data, YamlMap):
        raise EstateError("the file has to hold 'name: value' lines", place=Place(shown, 1))
    return data


def parse(text: str, shown: str) -> Any:
    """Like `read`, for a text."""
    try:
        node = yaml.compose(text, Loader=_Loader)
    except yaml.MarkedYAMLError as error:
        raise _human(error, text, shown) from None
    except yaml.YAMLError as error:
        raise EstateError(f"the file is not valid YAML: {error}", place=Place(shown)) from None
    return None if node is None else _Converter(shown).convert(node)


class _Converter:
    """Nodes to values. A node that several aliases name is converted once, so that aliases of aliases cannot fill memory."""

    def __init__(self, file: str) -> None:
        self._file = file
        self._made: dict[yaml.Node, Any] = {}

    def convert(self, node: yaml.Node) -> Any:
        if isinstance(node, yaml.ScalarNode):
            return _scalar(node, self._file)
        if node not in self._made:
            kind = "map" if isinstance(node, yaml.MappingNode) else "seq"
            if node.tag != f"tag:yaml.org,2002:{kind}":
                raise _tag_error(node, self._file)
            self._made[node] = None
            self._made[node] = self._mapping(node) if isinstance(node, yaml.MappingNode) else self._list(node)
        elif self._made[node] is None:
            raise EstateError("a value cannot hold itself", place=Place(self._file, node.start_mark.line + 1))
        return self._made[node]

    def _list(self, node: yaml.Node) -> YamlList:
        items = YamlList(self._file)
        for item in node.value:
            items.append(self.convert(item))
            items.lines.append(item.start_mark.line + 1)
        return items

    def _mapping(self, node: yaml.Node) -> YamlMap:
        made = YamlMap(self._file)
        for key_node, value_node in node.value:
            key = _key(key_node, made, self._file)
            made[key] = self.convert(value_node)
            made.lines[key] = key_node.start_mark.line + 1
        return made


def _key(node: yaml.Node, made: YamlMap, file: str) -> str:
    place = Place(file, node.start_mark.line + 1)
    if not isinstance(node, yaml.ScalarNode):
        raise EstateError("a name before ':' has to be plain text", place=place, hint="text in braces needs quotes")
    key = str(node.value)
    if key in made:
        message = f"'{key}' stands twice in the same place, first in line {made.lines[key]}"
        raise EstateError(message, place=place, hint="remove one of them, or look at its indentation")
    return key


def _tag_error(node: yaml.Node, file: str) -> EstateError:
    return EstateError(f"the YAML tag '{node.tag}' is not allowed here", place=Place(file, node.start_mark.line + 1))


def _scalar(node: yaml.Node, file: str) -> Hashable:
    value, kind = str(node.value), node.tag.rpartition(":")[2]
    if kind == "str":
        return value
    if kind == "bool":
        return value.lower() == "true"
    if kind == "null":
        return None
    if kind == "int":
        return int(value, 0) if value.lstrip("+-")[:2] in ("0x", "0o") else int(value)
    if kind == "float":
        return float(value)
    raise _tag_error(node, file)


def _human(error: yaml.MarkedYAMLError, text: str, shown: str) -> EstateError:
    mark = error.problem_mark or error.context_mark
    line = mark.line + 1 if mark else None
    lines = text.splitlines()
    written = lines[line - 1] if line and line <= len(lines) else ""
    before = lines[line - 2] if line and 2 <= line <= len(lines) + 1 else ""
    message, hint = _cause(error, written, before)
    return EstateError.of([Problem(message, Place(shown, line), hint, excerpt=written.rstrip() or None)])


def _cause(error: yaml.MarkedYAMLError, written: str, before: str) -> tuple[str, str]:
    problem = error.problem or ""
    if "\t" in written[: len(written) - len(written.lstrip())] or "'\\t'" in problem:
        return "a tab stands in the indentation", "use spaces: YAML does not allow tabs there"
    if "mapping values are not allowed" in problem:
        if re.search(r":\s.*:\s", written):
            return "a second ':' stands in this line", "put the text after the first ':' in quotes"
        return "this line is indented as if it belonged to the text above it", "align it with its neighbours, or complete the line above"
    if "could not find expected ':'" in problem or "simple key" in problem:
        return "a name without ':' stands here", "write 'name: value', with a space behind the colon"
    if "expected <block end>" in problem or "did not find expected key" in problem or "expected '<document start>'" in problem:
        return "the indentation does not fit the lines above", "align this line with the lines it belongs to"
    if "flow" in (error.context or "") or "expected ',' or" in problem:
        return "a '[' or '{' is not closed, or text that begins with one is not in quotes", "close it, or put the text in quotes"
    if "quoted scalar" in (error.context or "") or "unexpected end of stream" in problem:
        return "a quote is not closed", "add the closing quote"
    if "alias" in problem or "anchor" in problem:
        return f"'*' or '&' begins a reference here: {problem}", "put the text in quotes"
    return f"this is not valid YAML: {problem}", f"look at the line above as well: {before.strip()}" if before else "look at this line"
