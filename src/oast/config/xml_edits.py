"""Edits as the `config` element of an edit-config (RFC 6241, section 7.2), placed in a user's order (RFC
7950, section 7.8.6)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from xml.sax.saxutils import escape

from lxml import etree

from oast.config.edits import Edit, secrets_in
from oast.config.secret_fingerprints import require_known_secrets
from oast.config.tree import Node, Path
from oast.config.xml_syntax import BASE, XmlSyntax
from oast.platforms import Rule, Statement
from oast.records import Secret, Value, revealed
from oast.safe_xml import Element

YANG = "urn:ietf:params:xml:ns:yang:1"
_OPERATION = f"{{{BASE}}}operation"


@dataclass
class ConfigPart:
    """Edits for one edit-config: as they are sent, as they may be looked at, and the secrets in it with their
    spelling there."""

    sent: Element
    shown: Element
    secrets: list[tuple[Secret, str]]


def config_parts(edits: Sequence[Edit], syntax: XmlSyntax) -> list[ConfigPart]:
    """The edits in their order, in as few parts as that allows: within one, an element stands for one edit
    only.

    Raises DeviceError when one holds a secret of which no more than the fingerprint was kept.
    """
    require_known_secrets(secrets_in(edits))
    declared = _prefixes(edits, syntax)
    sent, shown = [_Writing(syntax, declared, reveal=True)], [_Writing(syntax, declared, reveal=False)]
    # What the grammar does not know has no spelling of its own: it stays.
    for edit in (one for one in edits if one.rule.known):
        if not sent[-1].takes(edit):
            sent.append(_Writing(syntax, declared, reveal=True))
            shown.append(_Writing(syntax, declared, reveal=False))
        sent[-1].add(edit)
        shown[-1].add(edit)
    return [
        ConfigPart(one.config, other.config, one.secrets)
        for one, other in zip(sent, shown, strict=True)
        if len(one.config)
    ]


@dataclass(frozen=True)
class WholeConfig:
    """A whole `config`: its text as it is sent, the element as it may be looked at, and the secrets in it
    with their spelling there."""

    sent: str
    shown: Element
    secrets: list[tuple[Secret, str]]


def whole_config(tree: Node, syntax: XmlSyntax, besides: Sequence[Element] = ()) -> WholeConfig:
    """Return a whole configuration, to be copied (RFC 6241, section 7.3); the elements `besides` are copied
    unchanged, and are not shown.

    Raises DeviceError when a secret is only known by its fingerprint.
    """
    secrets: list[tuple[Secret, str]] = []
    sent, shown = [], []
    for line, _ in syntax.printed(tree):
        found = list(line.secrets)
        require_known_secrets(found)
        secrets.extend((secret, secret.reveal()) for secret in found)
        sent.append(line.written())
        shown.append("".join(escape(str(part)) if isinstance(part, Secret) else part for part in line.parts))
    sent.extend(etree.tostring(element, encoding="unicode", with_tail=False) for element in besides)
    if besides:
        shown.append(f"<!-- {len(besides)} more, unchanged -->")
    opening = f'<config xmlns="{BASE}">'
    return WholeConfig(
        "\n".join((opening, *sent, "</config>")),
        etree.fromstring("".join((opening, *shown, "</config>"))),
        secrets,
    )


def _prefixes(edits: Sequence[Edit], syntax: XmlSyntax) -> dict[str, str]:
    """The prefixes that stand in values and in predicates; an identity of the leaf's own module
    needs none."""
    found: dict[str, str] = {}
    for edit in edits:
        if edit.before is not None and edit.rule.module is not None:
            found[edit.rule.module.prefix] = edit.rule.module.namespace
        nodes = [
            edit.node,
            *(node for _, node in edit.node.walk()),
            *edit.outer,
            *((edit.before,) if edit.before is not None else ()),
        ]
        for statement in (node.statement for node in nodes):
            for number, value in enumerate(statement.arguments):
                module = syntax.prefixed(statement.rule, number, value)[1] if isinstance(value, str) else None
                if module is not None and (module is not statement.rule.module or edit.before is not None):
                    found[module.prefix] = module.namespace
    return found


@dataclass
class _Writing:
    """One config element that grows. `_held` are the elements that lead to others, `_done` those that are
    edited themselves."""

    syntax: XmlSyntax
    declared: dict[str, str]
    reveal: bool
    secrets: list[tuple[Secret, str]] = field(default_factory=list)
    _held: dict[Path, Element] = field(default_factory=dict)
    _done: set[Path] = field(default_factory=set)

    def __post_init__(self) -> None:
        # Prefixes are declared here: one that is declared for a namespace that has no prefix around it would
        # get lost.
        namespaces: dict[str | None, str] = {None: BASE, "nc": BASE, "yang": YANG}
        namespaces.update(self.declared)
        self.config = etree.Element(f"{{{BASE}}}config", nsmap=namespaces)

    def takes(self, edit: Edit) -> bool:
        """Whether the edit does not meet another of this part."""
        path = edit.path
        return path not in self._held and not any(
            path[:length] in self._done for length in range(1, len(path) + 1)
        )

    def add(self, edit: Edit) -> None:
        """The edit, with what leads to it."""
        outer = self.config
        for number, node in enumerate(edit.outer, 1):
            path = edit.path[:number]
            inner = self._held.get(path)
            if inner is None:
                inner = self._held[path] = self._made(outer, node.statement)
            outer = inner
        self._done.add(edit.path)
        element = self._made(outer, edit.node.statement)
        if edit.operation in ("remove", "replace"):
            element.set(_OPERATION, edit.operation)
        elif edit.operation == "create":
            self._below(element, edit.node)
        if edit.rule.user_ordered and (edit.before is not None or edit.operation == "move"):
            self._placed(element, edit)

    def _below(self, element: Element, node: Node) -> None:
        for child in node.children.values():
            self._below(self._made(element, child.statement), child)

    def _made(self, outer: Element, statement: Statement) -> Element:
        """An element with its keys, or with its value."""
        rule = statement.rule
        namespace = rule.module.namespace if rule.module is not None else None
        values = [(number, value) for number, value in enumerate(statement.arguments) if value is not None]
        if rule.kind == "list":
            element = etree.SubElement(outer, rule.tag, nsmap={None: namespace})
            for number, value in values:
                self._valued(element, f"{{{namespace}}}{rule.arguments[number].name}", rule, number, value)
            return element
        if not values:
            return etree.SubElement(outer, rule.tag, nsmap={None: namespace})
        return self._valued(outer, rule.tag, rule, 0, values[0][1])

    def _valued(self, outer: Element, tag: str, rule: Rule, number: int, value: Value) -> Element:
        element = etree.SubElement(
            outer, tag, nsmap={None: rule.module.namespace if rule.module is not None else None}
        )
        if isinstance(value, Secret):
            self.secrets.append((value, escape(value.reveal())))
            element.text = value.reveal() if self.reveal else str(value)
            return element
        written, module = self.syntax.prefixed(rule, number, value)
        # Without a prefix it is of the element's own namespace (RFC 7950, section 9.10.3), which has one
        # where predicates need it.
        own = module is not None and module is rule.module and module.prefix not in self.declared
        element.text = written.rpartition(":")[2] if own else written
        return element

    def _placed(self, element: Element, edit: Edit) -> None:
        if edit.before is None:
            element.set(f"{{{YANG}}}insert", "last")
            return
        element.set(f"{{{YANG}}}insert", "before")
        if edit.rule.kind == "leaf-list":
            value = edit.before.statement.arguments[0] or ""
            element.set(f"{{{YANG}}}value", revealed(value) if self.reveal else str(value))
        else:
            element.set(f"{{{YANG}}}key", "".join(self._predicates(edit.before.statement)))

    def _predicates(self, statement: Statement) -> Iterable[str]:
        rule = statement.rule
        prefix = f"{rule.module.prefix}:" if rule.module is not None else ""
        for number in rule.keys:
            value = statement.arguments[number] or ""
            written = self.syntax.prefixed(rule, number, value)[0] if isinstance(value, str) else value
            text = revealed(written) if self.reveal else str(written)
            quote = '"' if "'" in text else "'"
            yield f"[{prefix}{rule.arguments[number].name}={quote}{text}{quote}]"
