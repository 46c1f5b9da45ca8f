"""The [statements] of a platform definition as the rules of a grammar."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from oast.platforms.grammar import own_tokens
from oast.platforms.matching import ArgumentSlot as TokenPlace, converted
from oast.platforms.statements import (
    Argument,
    Kind,
    Leafref,
    Module,
    Option,
    Rule,
    Spelling,
    UnknownStatement,
)
from oast.platforms.types import BUILT_IN, ValueType
from oast.spelling import spelling_hint
from oast.toml_text import Table, TomlFile

KINDS: Mapping[str, Kind] = {
    "container": "container",
    "list": "list",
    "leaf": "leaf",
    "leaf-list": "leaf-list",
}
_ARGUMENT = re.compile(r"(?:(?P<name>[A-Za-z][\w-]*):)?(?P<type>[A-Za-z][\w-]*)(?:=(?P<default>\S+))?")


# How a section is entered and left, and how one statement is sent: where lines name whole paths, nothing of
# that exists.
ENTERED = ("set", "change", "remove", "end", "delimiters")
SPELT = ("line", "lines", "inline")


@dataclass
class Rules:
    """Reads [statements] into rules below one root. What is wrong is noted, and the statement left out."""

    file: TomlFile
    types: Mapping[str, ValueType]
    insertable: bool
    syntax: str = "indented"
    modules: Mapping[str, Module] = field(default_factory=dict)
    broken: set[str] = field(default_factory=set)

    def read(self) -> Rule:
        """The root. Without [statements] every line is a node known by its words."""
        root = Rule(name="", path="", kind="container")
        table = self.file.table("statements")
        if table is None:
            anything = Rule(
                name="",
                path="?",
                kind="list",
                arguments=(Argument("line", BUILT_IN["text"], key=True),),
                structural=True,
            )
            root.children[""] = anything.children[""] = anything
            return root
        by_path = {"": root}
        for order, (path, declaration) in enumerate(table.tables()):
            rule = self._rule(path, order, declaration, by_path)
            declaration.finish()
            if rule is not None and rule.outer is not None:
                rule.outer.children[rule.name] = by_path[path] = rule
        for path, rule in by_path.items():
            if path:
                self._leafrefs(rule, Table(self.file, ("statements", path), table.data[path]), by_path)
        return root

    def _rule(self, path: str, order: int, table: Table, by_path: Mapping[str, Rule]) -> Rule | None:
        outer_path, _, name = path.rpartition("/")
        outer = by_path.get(outer_path)
        kind = KINDS[table.choice("kind", KINDS)]
        for key in _KEYS:
            table.has(key)
        if outer is None or not self._fits(path, name, outer, table):
            if outer is None:
                known = [known for known in by_path if known]
                message = f"'{path}' must come after '{outer_path}', which is missing before it"
                table.wrong(None, message, spelling_hint(outer_path, known))
            return None
        taken = self._arguments(path, kind, table)
        arguments, options = taken or ((), {})
        rule = Rule(
            name=name,
            path=path,
            kind=kind,
            order=order,
            arguments=arguments,
            options=options,
            user_ordered=table.choice("ordered-by", ("user", "system"), "system") == "user",
            appended_only=not self.insertable,
            presence=table.flag("presence"),
            volatile=table.flag("volatile"),
            unique=table.flag("unique"),
            inline=table.flag("inline"),
            end=table.text("end"),
            delimiters=table.texts("delimiters"),
            min_elements=table.number("min-elements", 0, 0, 1_000_000),
            max_elements=table.number("max-elements", 0, 1, 1_000_000) or None,
            outer=outer,
            written=table.text("line"),
            lines=table.mapping(
                "lines", 'a line for each value: { true = "enabled", false = "not enabled" }'
            ),
            module=self._module(path, outer, table),
        )
        if taken is None:
            self.broken.add(path)
            # Told already; what follows from it is not told again.
            rule.written, rule.lines, rule.delimiters = None, {}, ()
            table.finish()
            return rule
        rule.spelling = self._spelling(rule, table)
        self._check(rule, table)
        if table.has("default"):
            rule.default = self._default(rule, table)
        return rule

    @staticmethod
    def _fits(path: str, name: str, outer: Rule, table: Table) -> bool:
        """Whether a statement of that name may stand in `outer`; notes it when it may not."""
        if not re.fullmatch(r"[^\s/{}\"]+(?: [^\s/{}\"]+)*", name):
            hint = "separate words with single spaces, and levels with '/'"
            table.wrong(None, f"'{path}' is not a valid statement path", hint)
            return False
        if not outer.holds_others:
            message = f"'{path}' cannot be below '{outer.path}', which is a {outer.kind}"
            table.wrong(None, message)
            return False
        return True

    def _module(self, path: str, outer: Rule, table: Table) -> Module | None:
        """Where the name belongs in XML: said here, or as what it stands in."""
        name = table.text("module")
        if name is not None and name not in self.modules:
            table.wrong(
                "module", f"unknown module '{name}'; add it to [modules]", spelling_hint(name, self.modules)
            )
        module = self.modules.get(name) if name is not None else outer.module
        if module is None and name is None and self.syntax == "xml":
            table.wrong(None, f"'{path}' has no module", 'add its YANG module: module = "NAME"')
        return module

    def _arguments(
        self, path: str, kind: Kind, table: Table
    ) -> tuple[tuple[Argument, ...], dict[str, Option]] | None:
        takes = table.text("takes") or ""
        names: list[str] = []
        found: list[tuple[str, ValueType | None]] = []
        options: dict[str, Option] = {}
        for group, single in re.findall(r"\[([^\]]*)\]|(\S+)", takes):
            words = group.split() if group else [single]
            keyword = words.pop(0) if group else None
            parts = [self._argument(path, word, table) for word in words]
            made = [part for part in parts if part is not None]
            if len(made) < len(parts) or (group == "" and not single):
                return None
            first = len(found)
            for name, kind_of_value, _ in made:
                names.append(name)
                found.append((name, kind_of_value))
            if keyword is not None:
                if not words:
                    names.append(keyword)
                    found.append((keyword, None))
                if keyword in options:
                    table.wrong("takes", f"duplicate option '{keyword}' in '{path}'")
                defaults = tuple(default for _, _, default in made)
                whole = defaults if defaults and None not in defaults else None
                options[keyword] = Option(keyword, tuple(range(first, len(found))), whole)
            elif made[0][2] is not None:
                table.wrong(
                    "takes",
                    f"'{path}': only an option in [ ] can have a default",
                    "give the statement itself a 'default'",
                )
        for name in {name for name in names if names.count(name) > 1}:
            table.wrong(
                "takes",
                f"'{path}' has two arguments with the name '{name}'",
                (f"name them, such as one:{name} other:{name}"),
            )
            return None
        keys = self._chosen("keys", names, table) if kind == "list" else set()
        secret = set(names) if table.value("secret") is True else self._chosen("secret", names, table)
        return tuple(Argument(name, type_, name in keys, name in secret) for name, type_ in found), options

    def _argument(
        self, path: str, written: str, table: Table
    ) -> tuple[str, ValueType | None, str | None] | None:
        match = _ARGUMENT.fullmatch(written)
        if match is None:
            table.wrong(
                "takes", f"'{path}': '{written}' is not TYPE, NAME:TYPE or, in an option, TYPE=DEFAULT"
            )
            return None
        value_type = self.types.get(match["type"])
        if value_type is None:
            table.wrong(
                "takes",
                f"'{path}': unknown type '{match['type']}'",
                spelling_hint(match["type"], self.types),
            )
            return None
        default = match["default"]
        if default is not None:
            try:
                default = value_type.convert([default])
            except ValueError:
                table.wrong("takes", f"'{path}': the default '{default}' is not {value_type.help}")
                return None
        return match["name"] or match["type"], value_type, default

    def _chosen(self, key: str, names: list[str], table: Table) -> set[str]:
        """Arguments by number from the front, or by their names."""
        value = table.value(key)
        if value is None or value is False:
            return set()
        if isinstance(value, int) and not isinstance(value, bool):
            if not 0 < value <= len(names):
                table.wrong(key, f"'{key}' is {value}, but there are {len(names)} arguments")
                return set()
            return set(names[:value])
        chosen = [value] if isinstance(value, str) else value
        if not isinstance(chosen, list) or not all(isinstance(name, str) for name in chosen):
            table.wrong(key, f"'{key}' must be a number of arguments, or their names")
            return set()
        for name in chosen:
            if name not in names:
                table.wrong(key, f"unknown argument '{name}'", spelling_hint(name, names))
        return set(chosen) & set(names)

    def _check(self, rule: Rule, table: Table) -> None:
        """What does not go together."""
        path = rule.path
        if rule.kind == "list" and not rule.keys:
            table.wrong(
                "keys",
                f"the list '{path}' has no keys",
                "give the number of arguments that identify an entry, such as keys = 1",
            )
        if rule.kind == "list" and any(n not in rule.positional for n in rule.keys):
            table.wrong("keys", f"a key of '{path}' is an option", "make it a required argument")
        if rule.kind == "container" and rule.arguments:
            table.wrong("takes", f"the container '{path}' takes arguments", "make it a list with keys")
        if rule.kind == "leaf-list" and not rule.arguments:
            table.wrong("takes", f"the leaf-list '{path}' needs a value")
        if rule.inline and (not rule.holds_others or len(rule.keys) < len(rule.arguments)):
            table.wrong(
                "inline",
                f"'{path}' cannot be inline: only a container, or a list of which every argument is a"
                " key, can",
            )
        if not rule.holds_others and (rule.presence or rule.end):
            table.wrong(
                "end" if rule.end else "presence", f"'{path}' is a {rule.kind} and cannot contain statements"
            )
        if rule.user_ordered and rule.kind not in ("list", "leaf-list"):
            table.wrong("ordered-by", f"'{path}' is a {rule.kind}; only lists have an order")
        if rule.lines and (rule.kind != "leaf" or len(rule.arguments) != 1 or not rule.positional):
            table.wrong(
                "lines", (f"'lines' can only be used for a leaf with one argument; '{path}' is not one")
            )
            rule.lines = {}
        for value in rule.lines:
            self._value(rule, value, "lines", table)
        text = rule.arguments[0].type if len(rule.arguments) == 1 else None
        if rule.delimiters and (rule.kind != "leaf" or text is None or text.name != "text" or rule.written):
            table.wrong(
                "delimiters", f"'delimiters' can only be used for a leaf with one text; '{path}' is not one"
            )
            rule.delimiters = ()
        self._fits_syntax(rule, table)
        try:
            own_tokens(rule, _inline_above(rule))
        except ValueError as wrong:
            table.wrong("line", str(wrong))
            rule.written = None

    def _fits_syntax(self, rule: Rule, table: Table) -> None:
        """What only some syntaxes have a way to write."""
        if self.syntax == "indented":
            return
        by_path = self.syntax in ("paths", "xml")
        for key in (*ENTERED, *(SPELT if by_path else ())):
            if table.has(key) and table.data.get(key):
                table.wrong(
                    key,
                    f"'{key}' cannot be used with the syntax '{self.syntax}'",
                    "it is for the indented syntax",
                )
        if not by_path:
            return
        if rule.kind == "list" and len(rule.keys) < len(rule.arguments):
            table.wrong(
                "takes",
                f"'{rule.path}' has other arguments than its keys, which a path cannot contain",
                "describe the other arguments as leaves",
            )
        # An empty leaf (RFC 7950, section 9.11) has no value; a path statement would lack what it sets.
        most = (
            1 if rule.kind == "leaf" and self.syntax == "xml" and not rule.arguments else len(rule.arguments)
        )
        if not rule.holds_others and (most != 1 or (rule.arguments and not rule.positional)):
            table.wrong("takes", f"'{rule.path}' must take exactly one value, the one after '='")
        if " " in rule.name:
            table.wrong(None, f"'{rule.path}' has several words, which a path cannot contain")

    def _value(self, rule: Rule, value: str, key: str, table: Table) -> Any:
        try:
            return converted(TokenPlace(rule, rule.positional[0]), [value], 0)
        except UnknownStatement as wrong:
            table.wrong(key, f"'{rule.path}': {wrong.message}")
            return None

    def _default(self, rule: Rule, table: Table) -> tuple[Any, ...] | None:
        value = table.value("default")
        text = str(value).lower() if isinstance(value, bool) else str(value)
        words = text.split()
        if rule.kind != "leaf" or not rule.positional:
            table.wrong("default", f"'{rule.path}' cannot have a default: only a leaf with a value can")
            return None
        if len(rule.positional) == 1:
            words = [text]
        if len(words) != len(rule.positional):
            table.wrong("default", f"the default of '{rule.path}' needs {len(rule.positional)} values")
            return None
        found: list[Any] = [None] * len(rule.arguments)
        for number, word in zip(rule.positional, words, strict=True):
            try:
                found[number] = converted(TokenPlace(rule, number), [word], 0)
            except UnknownStatement as wrong:
                table.wrong("default", f"the default of '{rule.path}' is invalid: {wrong.message}")
                return None
        return tuple(found)

    def _spelling(self, rule: Rule, table: Table) -> Spelling:
        own = [argument.name for argument in rule.arguments]
        around = [f"{other.name}.{a.name}" for other in _inline_above(rule) for a in other.arguments]
        fields = {"set": (), "change": (f"old.{name}" for name in own), "remove": ()}
        found: dict[str, tuple[str, ...]] = {}
        for key, more in fields.items():
            known = ["line", "identity", *own, *around, *more]
            found[key] = tuple(text for text in table.texts(key) if table.fits(key, text, known))
        return Spelling(found["set"], found["change"], found["remove"])

    def _leafrefs(self, rule: Rule, table: Table, by_path: Mapping[str, Rule]) -> None:
        value = table.value("leafref")
        if value is None:
            return
        written = {rule.arguments[0].name: value} if isinstance(value, str) and rule.arguments else value
        if not isinstance(written, dict) or not all(isinstance(target, str) for target in written.values()):
            table.wrong("leafref", "'leafref' must be the path of a statement, or { ARGUMENT = PATH }")
            return
        found = []
        for name, target in written.items():
            path, _, argument = target.partition(":")
            number, other = rule.argument(name), by_path.get(path)
            if rule.path in self.broken or path in self.broken:
                continue
            if number is None:
                known = [a.name for a in rule.arguments]
                table.wrong("leafref", f"'{rule.path}' has no argument '{name}'", spelling_hint(name, known))
            elif other is None or not path:
                hint = spelling_hint(path, [p for p in by_path if p])
                table.wrong("leafref", f"'{rule.path}' refers to '{path}', which is not a statement", hint)
            elif (
                at := other.argument(argument) if argument else next(iter(other.keys), 0)
            ) is None or not other.arguments:
                hint = spelling_hint(argument, [a.name for a in other.arguments])
                table.wrong(
                    "leafref",
                    f"'{rule.path}' refers to the argument '{argument}', which '{path}' does not have",
                    hint,
                )
            else:
                found.append(Leafref(number, path, at))
        rule.leafrefs = tuple(found)


_KEYS = ("takes", "keys", "default", "secret", "leafref")


def _inline_above(rule: Rule) -> list[Rule]:
    """The statements on whose line this one may stand, outermost first."""
    found: list[Rule] = []
    outer = rule.outer
    while outer is not None and outer.inline:
        found.insert(0, outer)
        outer = outer.outer
    return found
