"""Path statements: `/list[key=value]/leaf = value`, a statement a line, after instance identifiers (RFC 7950,
section 9.13)."""

from __future__ import annotations

import re
from collections.abc import Iterator

from oast.config.brace_syntax import BraceParser, BraceSyntaxBase
from oast.config.indented_syntax import TextProblem, opaque_text
from oast.config.line import Line
from oast.config.tree import Node, Path
from oast.platforms import Grammar, Rule, Statement
from oast.records import Secret, Value

_NAME = re.compile(r"/(?P<name>[^/\[\]=\s]+)")
_KEY = re.compile(
    r"\[(?P<key>[^=\[\]\s]+)\s*=\s*(?:'(?P<single>[^']*)'|\"(?P<double>[^\"]*)\"|(?P<bare>[^\]'\"]*))\]"
)
_VALUE = re.compile(r"\s*=\s?(?P<value>.*)\Z")
# What a key may be written without quotes.
_BARE = re.compile(r"[A-Za-z0-9\ue100\ue101._:/*-]+")


class PathSyntax(BraceSyntaxBase):
    """Parses and prints the text of one platform whose every line is a path, with a value for a leaf."""

    def unfold(self, text: str) -> BraceParser:
        lines: list[str] = []
        numbers: list[int] = []
        problems: list[TextProblem] = []
        structural = any(rule.structural for rule in self.grammar.root.children.values())
        for number, written in enumerate(text.split("\n"), 1):
            line = written.strip(" \t\r")
            if not line or line.startswith(self.comment):
                continue
            made = [line] if structural else self._levels(line, number, problems)
            lines += [f"{' ' * (self.indent * depth)}{level}" for depth, level in enumerate(made)]
            numbers += [number] * len(made)
        return BraceParser("".join(f"{line}\n" for line in lines), tuple(numbers), tuple(problems))

    def _levels(self, line: str, number: int, problems: list[TextProblem]) -> list[str]:
        """The line as one statement for each level. From the first name on that the grammar does not know, it
        is one."""
        levels: list[str] = []
        rule, at = self.grammar.root, 0
        while at < len(line):
            begun = at
            name = _NAME.match(line, at)
            if name is None:
                break
            at = name.end()
            keys: dict[str, str] = {}
            while (key := _KEY.match(line, at)) is not None:
                keys[key["key"]] = next(
                    value for value in (key["single"], key["double"], key["bare"]) if value is not None
                )
                at = key.end()
            child = rule.children.get(name["name"]) or _without_module(rule, name["name"])
            if child is None:
                return [*levels, _unknown_line(line[begun + 1 :])]
            rule = child
            level = self._level(rule, keys, number, problems)
            value = _VALUE.match(line, at)
            if value is not None:
                return [*levels, f"{level} {value['value'].strip()}".rstrip()]
            levels.append(level)
        if at < len(line):
            hint = "write /NAME/LIST[KEY=VALUE]/LEAF = VALUE"
            problems.append(
                TextProblem(number, f"this is not a path: '{line[at:]}'", line[at:].split(" ")[0], hint)
            )
        return levels

    def _level(self, rule: Rule, keys: dict[str, str], number: int, problems: list[TextProblem]) -> str:
        expected = [rule.arguments[n].name for n in rule.keys] if rule.kind == "list" else []
        for name in keys:
            if name not in expected:
                hint = f"its keys are {', '.join(expected)}" if expected else "it has no keys"
                problems.append(TextProblem(number, f"'{rule.name}' has no key '{name}'", name, hint))
        missing = [name for name in expected if name not in keys]
        if missing:
            hint = f"write {rule.name}[{missing[0]}=VALUE]"
            problems.append(TextProblem(number, f"'{rule.name}' has no key '{missing[0]}'", rule.name, hint))
        return " ".join([rule.name, *(self.grammar.quote(keys[name]) for name in expected if name in keys)])

    def printed(self, tree: Node) -> Iterator[tuple[Line, Path]]:
        yield from _printed(self.grammar, tree, (), ())


def _printed(
    grammar: Grammar, node: Node, path: Path, before: tuple[Value, ...]
) -> Iterator[tuple[Line, Path]]:
    for identity, child in node.children.items():
        here = (*path, identity)
        parts = (*before, *step(grammar, child.statement))
        if not child.children or child.statement.rule.presence:
            yield Line((*parts, *assigned(grammar, child.statement))), here
        yield from _printed(grammar, child, here, parts)


def step(grammar: Grammar, statement: Statement) -> tuple[Value, ...]:
    """One level of a path: the name, and for an entry its keys."""
    rule = statement.rule
    if not rule.known:
        return (opaque_text(statement, lambda line: "/" + _known_again(line)),)
    if rule.structural:
        return (statement.value,)
    parts: list[Value] = [f"/{rule.name}"]
    if rule.kind == "list":
        for number in rule.keys:
            value = statement.arguments[number]
            if value is not None:
                parts += (f"[{rule.arguments[number].name}=", _as_key(value), "]")
    return tuple(parts)


def assigned(grammar: Grammar, statement: Statement) -> tuple[Value, ...]:
    """Return the text after the path of a leaf: ` = ` and the value."""
    rule = statement.rule
    if rule.kind not in ("leaf", "leaf-list") or not rule.known or rule.structural:
        return ()
    value = statement.arguments[0]
    if value is None:
        return ()
    return (" = ", value.spelt(grammar.quote) if isinstance(value, Secret) else grammar.quote(value))


def _without_module(rule: Rule, name: str) -> Rule | None:
    """The statement that an instance identifier means by `module:name`, or by a name that stands in one
    module only."""
    module, colon, bare = name.rpartition(":")
    found = [child for child in rule.children.values() if child.local == bare and child.module is not None]
    if colon:
        found = [
            child
            for child in found
            if child.module is not None and module in (child.module.name, child.module.prefix)
        ]
    return found[0] if len(found) == 1 else None


def _as_key(value: Value) -> Value:
    return value.spelt(_quoted_key) if isinstance(value, Secret) else _quoted_key(value)


def _quoted_key(text: str) -> str:
    """Quote a key as in RFC 7950. There is no escape, so a value with both kinds of quotes cannot be
    written."""
    if _BARE.fullmatch(text):
        return text
    return f"'{text}'" if "'" not in text else f'"{text}"'


def _unknown_line(rest: str) -> str:
    """What the grammar does not know, its name as the first word: `name /more = value`."""
    name = re.match(r"[^/\[\]=\s]+", rest)
    return rest if name is None else f"{name[0]} {rest[name.end() :].strip()}".strip()


def _known_again(line: str) -> str:
    name, _, rest = line.partition(" ")
    return f"{name}{rest}" if rest[:1] in ("/", "[") else f"{name} {rest}".rstrip()
