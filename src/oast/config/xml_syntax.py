"""XML: elements in the namespaces of YANG modules (RFC 7950, sections 7 and 9). Path statements are read,
too, and written as XML.

What the grammar does not know is kept as it is, whole, and never taken apart.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from xml.sax.saxutils import escape

from lxml import etree

from oast.answer_parsing import spend
from oast.config.indented_syntax import DEEPEST, IndentedSyntax, Parsed, TextProblem, opaque_text
from oast.config.line import Line
from oast.config.path_syntax import PathSyntax
from oast.config.tree import Node, Path, SiblingIndex, root_of
from oast.gc_tuning import gc_disabled
from oast.platforms import (
    NO_SECRETS,
    ODD,
    ArgumentSlot,
    Module,
    Platform,
    Rule,
    Statement,
    UnknownStatement,
    ValueType,
    converted,
    named_odd,
    with_secrets,
)
from oast.records import Secret, Value
from oast.safe_xml import Element, NotXml, safe_xml
from oast.spelling import spelling_hint

BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
# What a whole configuration may stand in (RFC 6241, sections 7.1 and 7.2).
AROUND = (f"{{{BASE}}}data", f"{{{BASE}}}config", "data", "config")


class XmlSyntax(IndentedSyntax):
    """Parses and prints the text of one platform that is XML."""

    def __init__(self, platform: Platform) -> None:
        super().__init__(platform)
        self.modules = {module.namespace: module for module in platform.modules.values()}
        self._by_name = platform.modules
        self._paths = PathSyntax(platform)
        self.below: dict[str, tuple[dict[str, Rule], dict[str, Rule]]] = {}

    def parse(self, text: str, marks: Mapping[str, Secret] = NO_SECRETS) -> Parsed:
        if not is_xml(text, self.comment):
            return self._paths.parse(text, marks)
        with gc_disabled():
            return self._read(text, marks)[0]

    def lines_of(self, text: str, marks: Mapping[str, Secret] = NO_SECRETS) -> Iterator[tuple[int, Path]]:
        if not is_xml(text, self.comment):
            yield from self._paths.lines_of(text, marks)
            return
        yield from self._read(text, marks)[1]

    def _read(self, text: str, marks: Mapping[str, Secret]) -> tuple[Parsed, list[tuple[int, Path]]]:
        root = root_of(self.grammar, {})
        text = text.replace("\r\n", "\n")
        try:
            elements = safe_xml(text)
        except NotXml as wrong:
            problem = TextProblem(
                wrong.line or 1,
                f"this is not valid XML: {wrong}",
                "",
                "close every element, and escape '&' and '<'",
            )
            return Parsed(root, (problem,), broken=f"line {wrong.line}: {wrong}"), []
        reader = _Reader(self, marks)
        reader.children(elements, root.statement.rule, root.children, ())
        problems = sorted(reader.problems, key=lambda problem: problem.line)
        found = Parsed(root, tuple(problems), reader.too_deep, sets_twice=reader.sets_twice)
        return found, reader.places

    def rules_below(self, rule: Rule) -> tuple[dict[str, Rule], dict[str, Rule]]:
        """The elements that an element may contain: by their whole name, and by their name without a
        namespace."""
        found = self.below.get(rule.path)
        if found is None:
            local: dict[str, Rule] = {}
            for child in rule.children.values():
                local.setdefault(child.local, child)
            found = self.below[rule.path] = {child.tag: child for child in rule.children.values()}, local
        return found

    def printed(self, tree: Node) -> Iterator[tuple[Line, Path]]:
        yield from self._elements(tree, (), None, 0)

    def _elements(
        self, node: Node, path: Path, around: Module | None, depth: int
    ) -> Iterator[tuple[Line, Path]]:
        margin = " " * (self.indent * depth)
        for identity, child in node.children.items():
            here, statement, rule = (*path, identity), child.statement, child.statement.rule
            if not rule.known:
                yield Line((margin, opaque_text(statement, _as_it_was))), here
                continue
            opening = (
                rule.local
                if rule.module in (None, around)
                else f'{rule.local} xmlns="{rule.module.namespace}"'
            )
            if not rule.holds_others:
                yield Line((margin, *self._leaf(statement, opening))), here
            elif not child.children and rule.kind == "container":
                yield Line((f"{margin}<{opening}/>",)), here
            else:
                yield Line((f"{margin}<{opening}>",)), here
                inner = margin + " " * self.indent
                for number in rule.keys:
                    value = statement.arguments[number]
                    if value is not None:
                        yield (
                            Line((inner, *self._valued(rule, number, rule.arguments[number].name, value))),
                            here,
                        )
                yield from self._elements(child, here, rule.module, depth + 1)
                yield Line((f"{margin}</{rule.local}>",)), here

    def _leaf(self, statement: Statement, opening: str) -> tuple[Value, ...]:
        value = statement.arguments[0] if statement.arguments else None
        if value is None:
            return (f"<{opening}/>",)
        return self._valued(statement.rule, 0, opening, value)

    def _valued(self, rule: Rule, number: int, opening: str, value: Value) -> tuple[Value, ...]:
        """An element with a value; the prefix of an identity is declared in it."""
        name = opening.split(" ")[0]
        if isinstance(value, Secret):
            return f"<{opening}>", value.spelt(escape), f"</{name}>"
        written, module = self.prefixed(rule, number, value)
        declared = f' xmlns:{module.prefix}="{module.namespace}"' if module is not None else ""
        return (f"<{opening}{declared}>{escape(written)}</{name}>",)

    def prefixed(self, rule: Rule, number: int, value: str) -> tuple[str, Module | None]:
        """A value as XML has it, and the module whose prefix stands in it."""
        kind = rule.arguments[number].type
        name, colon, local = value.partition(":")
        module = self._by_name.get(name) if kind is not None and kind.identity and colon else None
        return (f"{module.prefix}:{local}", module) if module is not None else (value, None)


def is_xml(text: str, comment: str) -> bool:
    """Whether a text is XML, by what it begins with but for comment lines."""
    for line in text.split("\n"):
        stripped = line.strip()
        if stripped and not stripped.startswith(comment):
            return stripped.startswith("<") or stripped.startswith("\ufeff")
    return False


@dataclass
class _Reader:
    """Reads elements into nodes, and notes what is wrong and where each statement stands."""

    syntax: XmlSyntax
    marks: Mapping[str, Secret]
    problems: list[TextProblem] = field(default_factory=list)
    places: list[tuple[int, Path]] = field(default_factory=list)
    too_deep: bool = False

    def __post_init__(self) -> None:
        self._grammar = self.syntax.grammar
        self._siblings = SiblingIndex(self._grammar)

    @property
    def sets_twice(self) -> bool:
        """Whether a leaf was set again with another value."""
        return self._siblings.sets_twice

    def children(
        self,
        element: Element,
        rule: Rule,
        siblings: dict[str, Node],
        path: Path,
        keys: frozenset[str] = frozenset(),
    ) -> None:
        """Parse the contents of `element` into `siblings`, except for the elements called `keys`."""
        stray = (element.text or "") + "".join(child.tail or "" for child in element)
        if stray.strip():
            word = stray.split()[0]
            message = f"unexpected text '{word}' between elements"
            self._wrong(
                element,
                message,
                word,
                "put it into an element; move path statements to another template",
            )
        for child in element:
            if not path and child.tag in AROUND:
                self.children(child, rule, siblings, path)
            elif child.tag not in keys:
                self._one(child, rule, siblings, path)

    def _one(self, element: Element, context: Rule, siblings: dict[str, Node], path: Path) -> None:
        rule = self._rule(element, context)
        if len(path) >= DEEPEST:
            self.too_deep = True
            self._wrong(
                element,
                f"more than {DEEPEST} levels of nesting",
                local(element),
                "reduce the nesting",
            )
            return
        made = self._statement(element, rule) if rule is not None else None
        is_known = made is not None
        spend(is_known, not is_known)
        if rule is None or made is None:
            node = Node(self._opaque(element), {})
            self._siblings.add(siblings, node)
            self.places.append((element.sourceline or 1, (*path, node.identity)))
            return
        here = (*path, made.identity)
        self.places.append((element.sourceline or 1, here))
        if not rule.holds_others:
            self._siblings.add(siblings, self.syntax.leaf(made))
            return
        below: dict[str, Node] = {}
        names = frozenset(tag for number in rule.keys for tag in _tags(rule, rule.arguments[number].name))
        self.children(element, rule, below, here, names)
        self._siblings.add(siblings, Node(made, below))

    def _rule(self, element: Element, context: Rule) -> Rule | None:
        exact, by_name = self.syntax.rules_below(context)
        rule = exact.get(element.tag)
        if rule is not None:
            return rule
        namespace, name = etree.QName(element).namespace, local(element)
        if namespace is None and name in by_name:
            return by_name[name]
        where = f"below '{context.local}'" if context.name else "at the top level"
        if name in by_name:
            module = by_name[name].module
            expected = f'xmlns="{module.namespace}"' if module is not None else "no namespace"
            self._wrong(
                element,
                f"'{name}' {where} has the namespace '{namespace}'",
                name,
                f"use the namespace {expected}",
            )
        else:
            self._wrong(element, f"'{name}' is not a statement {where}", name, spelling_hint(name, by_name))
        return None

    def _statement(self, element: Element, rule: Rule) -> Statement | None:
        """The statement of an element; None, with the reason noted, where its value or a key is wrong."""
        if rule.kind == "container":
            return self._grammar.made(rule, ())
        if rule.kind == "list":
            arguments: list[Value | None] = []
            for number in rule.keys:
                name = rule.arguments[number].name
                key = next((child for child in element if child.tag in _tags(rule, name)), None)
                if key is None:
                    self._wrong(
                        element,
                        f"'{rule.local}' has no key '{name}'",
                        rule.local,
                        f"add <{name}>…</{name}> as its first element",
                    )
                    return None
                arguments.append(self._value(key, rule, number))
            return None if None in arguments else self._grammar.made(rule, tuple(arguments))
        if len(element):
            self._wrong(
                element,
                f"'{rule.local}' is a {rule.kind} and cannot contain elements",
                local(element[0]),
                None,
            )
            return None
        if not rule.arguments:
            stray = (element.text or "").split()
            if stray:
                self._wrong(
                    element,
                    f"'{rule.local}' takes no value",
                    stray[0],
                    f"write <{rule.local}/>",
                )
                return None
            return self._grammar.made(rule, ())
        value = self._value(element, rule, 0)
        return None if value is None else self._grammar.made(rule, (value,))

    def _value(self, element: Element, rule: Rule, number: int) -> Value | None:
        written = element.text or ""
        argument = rule.arguments[number]
        if argument.type is not None and argument.type.name != "text":
            written = written.strip()
        if argument.type is not None and argument.type.identity:
            written = self._identity(element, written, argument.type)
        odd = ODD.search(written)
        if odd is not None:
            name = rule.arguments[number].name if rule.keys else rule.local
            message = f"'{name}' contains {named_odd(odd[0])}, which devices do not accept"
            self._wrong(element, message, odd[0], "use an ordinary space, or remove it")
        word: Value = with_secrets(written, self.marks) if self.marks else written
        try:
            value = converted(ArgumentSlot(rule, number), [word], 0)
        except UnknownStatement as wrong:
            self._wrong(element, wrong.message, wrong.word, wrong.hint)
            return None
        if argument.secret and isinstance(value, str):
            return self._grammar.fingerprints.secret("", value)
        return value

    def _identity(self, element: Element, written: str, kind: ValueType) -> str:
        """Return `prefix:name` as `module:name`; the element declares its prefixes (RFC 7950, section
        9.10.3).

        A bare name outside the element's own module is left to the type, which knows the modules.
        """
        prefix, colon, name = written.rpartition(":")
        namespace = element.nsmap.get(prefix if colon else None)
        module = self.syntax.modules.get(namespace)
        if module is not None and (colon or f"{module.name}:{name}" in kind.examples):
            return f"{module.name}:{name}"
        if module is not None:
            return name
        # Path statements and short templates name the module itself, or nothing.
        return written if namespace is None else f"{prefix}:{name}" if colon else name

    def _opaque(self, element: Element) -> Statement:
        """An element that the grammar does not know, in one form whatever its prefixes and spaces are."""
        copy = etree.fromstring(etree.tostring(element, with_tail=False))
        for inner in copy.iter():
            if len(inner) and not (inner.text or "").strip():
                inner.text = None
            if not (inner.tail or "").strip():
                inner.tail = None
        text = etree.tostring(copy, method="c14n2", strip_text=False).decode()
        text = text.replace("\n", "&#10;").replace("\t", "&#9;").replace("  ", " &#32;")
        masked = with_secrets(text, self.marks) if self.marks else text
        return self._grammar.opaque(f"{local(element)} {masked}")

    def _wrong(self, element: Element, message: str, word: str, hint: str | None) -> None:
        self.problems.append(TextProblem(element.sourceline or 1, message, word, hint))


def local(element: Element) -> str:
    """An element's name without its namespace."""
    return str(etree.QName(element).localname)


def _tags(rule: Rule, key: str) -> tuple[str, str]:
    """What the element of a key may be called."""
    return f"{{{rule.module.namespace}}}{key}" if rule.module is not None else key, key


def _as_it_was(line: str) -> str:
    """What was not known, as an element again."""
    rest = line.partition(" ")[2]
    return rest if rest.startswith("<") else f"<!-- {line.replace('--', '- -')} -->"
