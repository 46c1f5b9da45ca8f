"""YAML as the engineer wrote it: read safely, with the line of every key and item, and errors that say what
to mend.

Scalars follow the core schema of YAML 1.2: only `true` and `false` are booleans, so `on`, `no` and `12:30`
stay text.
"""

from __future__ import annotations

import math
import re
from collections.abc import Hashable
from pathlib import Path
from typing import Any

import yaml

from oast.errors import EstateError
from oast.estate import yaml_errors as yaml_mistakes
from oast.records import Place, Problem
from oast.text_file import read_text_file

YAML_SUFFIXES = (".yaml", ".yml")
DEEPEST = 60
# With every alias in place of what it stands for.
LARGEST = 2_000_000
# Of a value, so much is quoted in an error.
SHOWN = 40
LONGEST_NUMBER = 40
_DEEP = re.compile(rf"^[ \t]{{{DEEPEST},}}|(?:[-?:][ \t]+){{{DEEPEST // 2},}}", re.MULTILINE)
_BRACKET = re.compile(r"[\[{}\]]")


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


# How each kind of plain value is written (YAML 1.2, section 10.3.2), and with which characters it begins.
WORDS = {
    "bool": (r"true|True|TRUE|false|False|FALSE", "tTfF"),
    "null": (r"~|null|Null|NULL|", "~nN\0"),
    "int": (r"[-+]?(?:0|[1-9][0-9]*)|0x[0-9a-fA-F]+|0o[0-7]+", "-+0123456789"),
    "float": (r"[-+]?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][-+]?[0-9]+)?", "-+0123456789"),
}
for _kind, (_pattern, _first) in WORDS.items():
    _begins = ["" if c == "\0" else c for c in _first]
    _Loader.add_implicit_resolver(f"tag:yaml.org,2002:{_kind}", re.compile(f"(?:{_pattern})$"), _begins)


def read_yaml(path: Path, file: str) -> Any:
    """The content of the YAML file at `path`, called `file` in errors: YamlMap, YamlList, text, numbers,
    true, false, None.

    Raises EstateError with the place, the line as written and a likely cause.
    """
    try:
        text = read_text_file(path, file)
    except FileNotFoundError as error:
        raise EstateError(f"cannot read the file: {error.strerror}", place=Place(file)) from None
    return parse_yaml(text, file)


def yaml_files(folder: Path) -> list[Path]:
    """The YAML files in `folder` by name, `.yaml` or `.yml`, without hidden files."""
    try:
        return sorted(
            path
            for path in folder.iterdir()
            if path.suffix in YAML_SUFFIXES and not path.name.startswith(".")
        )
    except (FileNotFoundError, NotADirectoryError):
        return []


def yaml_file(path: Path) -> Path:
    """The file at `path` or, where that does not exist, the file of the same name with the suffix `.yml`.

    Raises EstateError when there are both.
    """
    other = path.with_suffix(".yml")
    if not other.exists():
        return path
    if path.exists():
        raise EstateError(
            f"there is {path.name} and {other.name}", place=Place(other.name), hint="remove one of the two"
        )
    return other


def read_yaml_map(path: Path, file: str) -> YamlMap:
    """Like `read` for a file that has to hold a mapping; an empty file is an empty one."""
    data = read_yaml(path, file)
    if data is None:
        return YamlMap(file)
    if not isinstance(data, YamlMap):
        raise EstateError(
            "the file must contain 'name: value' lines",
            place=Place(file, 1),
            hint=yaml_mistakes.lacks_space(data),
        )
    return data


def parse_yaml(text: str, file: str) -> Any:
    """Like `read`, for a text."""
    try:
        _need_shallow(text, file)
        node = yaml.compose(text, Loader=_Loader)
    except yaml.YAMLError as error:
        raise yaml_mistakes.describe_yaml_error(error, text, file) from None
    return None if node is None else _Converter(file, text).convert(node)


def _need_shallow(text: str, file: str) -> None:
    """Whether the text is as deep as any file of an estate is; what is deeper ends the parser. Raises
    EstateError, YAMLError."""
    if not _may_be_deep(text):
        return
    depth = 0
    for event in yaml.parse(text, Loader=_Loader):
        depth += isinstance(event, yaml.CollectionStartEvent) - isinstance(event, yaml.CollectionEndEvent)
        if depth > DEEPEST:
            place = Place(file, event.start_mark.line + 1 if event.start_mark else None)
            raise EstateError(
                f"more than {DEEPEST} levels of nesting",
                place=place,
                hint="check the brackets and the indentation",
            )


def _may_be_deep(text: str) -> bool:
    """Whether a text could be too deep: most are shown not to be without reading them twice."""
    if max((len(line) for line in text.split("\n")), default=0) > DEEPEST and _DEEP.search(text):
        return True
    depth = 0
    for match in _BRACKET.finditer(text):
        depth = depth + 1 if match[0] in "[{" else max(0, depth - 1)
        if depth > DEEPEST:
            return True
    return False


class _Converter:
    """Nodes to values. A node that several aliases name is converted once, so that aliases of aliases cannot
    fill memory."""

    def __init__(self, file: str, text: str) -> None:
        self._file = file
        self._text = text
        self._made: dict[yaml.Node, Any] = {}
        self._sizes: dict[yaml.Node, int] = {}
        self._size = 0

    def convert(self, node: yaml.Node) -> Any:
        if isinstance(node, yaml.ScalarNode):
            self._size += 1
            return _scalar(node, self._file)
        if node not in self._made:
            before = self._size
            kind = "map" if isinstance(node, yaml.MappingNode) else "seq"
            if node.tag != f"tag:yaml.org,2002:{kind}":
                raise _tag_error(node, self._file)
            self._made[node] = None
            self._made[node] = self._mapping(node) if isinstance(node, yaml.MappingNode) else self._list(node)
            self._sizes[node] = self._size - before
        elif self._made[node] is None:
            raise EstateError(
                "a value cannot contain itself", place=Place(self._file, node.start_mark.line + 1)
            )
        else:
            self._size += self._sizes[node]
        if self._size > LARGEST:
            place = Place(self._file, node.start_mark.line + 1)
            message = f"the YAML aliases of this file expand to more than {LARGEST:,} values"
            raise EstateError(message, place=place, hint="write the values without nested aliases")
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
            key = self._key(key_node, made)
            value = self.convert(value_node)
            line = key_node.start_mark.line + 1
            if value is None and ":" in key:
                self._look_at_name(node, key_node)
            elif (
                isinstance(value, str)
                and (value[:1] == "-" or ":" in value)
                and value_node.start_mark.line >= line
            ):
                self._look_at_text(value_node)
            made[key] = value
            made.lines[key] = line
        return made

    def _look_at_name(self, outer: yaml.Node, node: yaml.ScalarNode) -> None:
        if getattr(outer, "flow_style", False) and not node.style:
            self._complain(yaml_mistakes.lacks_space(node.value), node)

    def _look_at_text(self, node: yaml.Node) -> None:
        """Plain text that begins on the line below its name is hardly ever meant."""
        if not getattr(node, "style", None):
            self._complain(yaml_mistakes.lacks_space(node.value), node)
            dash = re.match(r"-[^\s-]", str(node.value))
            self._complain(
                "a space is missing after the '-'; write '- ' before each item" if dash else None, node
            )

    def _key(self, node: yaml.Node, made: YamlMap) -> str:
        place = Place(self._file, node.start_mark.line + 1)
        if not isinstance(node, yaml.ScalarNode):
            quoted = yaml_mistakes.expression_in(self._line(node))
            if quoted is not None:
                self._complain(
                    f"a value cannot begin with '{{{{' or '{{%' in YAML: that opens a mapping; {quoted}", node
                )
            raise EstateError(
                "the name before ':' must be plain text", place=place, hint="put text in braces in quotes"
            )
        key = str(node.value)
        if key in made:
            message = f"duplicate key '{key}', first in line {made.lines[key]}"
            self._complain(f"{message}; remove one of them, or check the indentation", node)
        return key

    def _complain(self, told: str | None, node: yaml.Node) -> None:
        if told is not None:
            message, _, hint = told.partition("; ")
            place = Place(self._file, node.start_mark.line + 1)
            raise EstateError.of([Problem(message, place, hint, excerpt=self._line(node).rstrip())])

    def _line(self, node: yaml.Node) -> str:
        return yaml_mistakes.yaml_lines(self._text)[node.start_mark.line]


def _tag_error(node: yaml.Node, file: str) -> EstateError:
    hint = (
        "put the text in quotes" if node.tag.startswith("!") else "write plain text, lists and mappings only"
    )
    return EstateError(
        f"the YAML tag '{node.tag}' is not allowed here",
        place=Place(file, node.start_mark.line + 1),
        hint=hint,
    )


def _scalar(node: yaml.Node, file: str) -> Hashable:
    value, kind = str(node.value), node.tag.rpartition(":")[2]
    if kind == "str":
        return value
    # A tag says what a value is to be; whether it is that shows in the value.
    if kind in WORDS and not re.fullmatch(WORDS[kind][0], value):
        place = Place(file, node.start_mark.line + 1)
        shown = value if len(value) <= SHOWN else f"{value[:SHOWN]}..."
        raise EstateError(
            f"'{shown}' is not a value of the YAML tag '!!{kind}'", place=place, hint="remove the tag"
        )
    if kind == "bool":
        return value.lower() == "true"
    if kind == "null":
        return None
    if kind in ("int", "float") and len(value) > LONGEST_NUMBER:
        place = Place(file, node.start_mark.line + 1)
        raise EstateError(
            f"this is a number of {len(value)} digits", place=place, hint="put it in quotes if it is a text"
        )
    if kind == "int":
        return int(value, 0) if value.lstrip("+-")[:2] in ("0x", "0o") else int(value)
    if kind == "float":
        number = float(value)
        if not math.isfinite(number):
            raise EstateError(
                "this number is too large",
                place=Place(file, node.start_mark.line + 1),
                hint="put it in quotes if it is a text",
            )
        return number
    raise _tag_error(node, file)
