"""A configuration as elements, and elements as changes to it (RFC 6241, section 7.2; RFC 7950, sections 7.7.9
and 7.8.6)."""

from __future__ import annotations

import re
from typing import Any

from lxml import etree

from oastsim.model import Data, Keys, Schema, Step, Tree, Wrong, ordered, steps_of
from oastsim.roundel.schema import MODULES, NAMESPACES, SCHEMA

Element = Any
BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
YANG = "urn:ietf:params:xml:ns:yang:1"
OPERATIONS = ("merge", "replace", "create", "delete", "remove")
PREFIXES = {
    "ietf-access-control-list": "acl",
    "ietf-interfaces": "if",
    "ietf-ip": "ip",
    "ietf-ipv4-unicast-routing": "v4ur",
    "ietf-ipv6-unicast-routing": "v6ur",
    "ietf-network-instance": "ni",
    "ietf-routing": "rt",
    "ietf-snmp": "snmp",
    "ietf-system": "sys",
    "roundel-bgp": "rbg",
    "roundel-ospf": "ros",
    "roundel-vlan": "rvl",
}


class RpcError(Exception):
    """An error as RFC 6241, section 4.3 and appendix A have it."""

    def __init__(
        self,
        tag: str,
        message: str,
        path: str = "",
        kind: str = "application",
        info: tuple[str, str] | None = None,
    ) -> None:
        super().__init__(message)
        self.tag = tag
        self.message = message
        self.path = path
        self.kind = kind
        self.info = info


def tag_of(schema: Schema) -> str:
    return f"{{{NAMESPACES[schema.module]}}}{schema.name}"


def path_of(steps: list[Step]) -> str:
    """An instance identifier with prefixes (RFC 7950, section 9.13)."""
    made = ""
    for step in steps:
        prefix = PREFIXES[step.schema.module]
        keys = "".join(
            f"[{prefix}:{name}={_quoted(value)}]"
            for name, value in zip(step.schema.keys, step.keys, strict=True)
        )
        made += f"/{prefix}:{step.schema.name}{keys}"
    return made


def _quoted(value: str) -> str:
    return f"'{value}'" if "'" not in value else f'"{value}"'


def error_of(wrong: Wrong) -> RpcError:
    """What holds between statements, told at its place (RFC 7950, section 15)."""
    try:
        path = path_of(steps_of(SCHEMA, wrong.path)[0]) if wrong.path.strip("/") else ""
    except Wrong:
        path = ""
    dangling = "does not exist" in wrong.message
    return RpcError("data-missing" if dangling else "operation-failed", wrong.message, path)


def parsed(message: bytes) -> Element:
    """Raises etree.XMLSyntaxError."""
    return etree.fromstring(message, etree.XMLParser(resolve_entities=False, no_network=True))


# --- printing
# ---------------------------------------------------------------------------------------------------------


def printed(tree: Tree, requested: set[str] | None = None) -> list[Element]:
    """Return the configuration, an element for each top node that is `requested` (None: all).

    Leaves come in no particular order, as on real devices.
    """
    holder = etree.Element("data")
    tops = {node.name for node in tree.schema.inner if requested is None or tag_of(node) in requested}
    _below(holder, tree.schema, {name: data for name, data in tree.data.items() if name in tops}, "")
    return list(holder)


def _below(outer: Element, schema: Schema, data: Data, module: str) -> None:
    leaves = [node for node in schema.inner if node.kind == "leaf"]
    others = [node for node in schema.inner if node.kind != "leaf"]
    for node in (*sorted(leaves, key=lambda one: one.name[::-1]), *others):
        found = data.get(node.name)
        if found is None:
            continue
        if node.kind == "leaf":
            value_element(outer, node, found)
        elif node.kind == "leaf-list":
            for value in ordered(node, found):
                value_element(outer, node, value)
        elif node.kind == "list":
            for keys in ordered(node, found):
                entry = _element(outer, node)
                for name, value in zip(node.keys, keys, strict=True):
                    value_element(entry, node.below[name], value)
                _below(entry, node, found[keys], node.module)
        else:
            _below(_element(outer, node), node, found, node.module)


def _element(outer: Element, node: Schema) -> Element:
    return etree.SubElement(outer, tag_of(node), nsmap={None: NAMESPACES[node.module]})


def value_element(outer: Element, node: Schema, value: str) -> Element:
    namespaces: dict[str | None, str] = {None: NAMESPACES[node.module]}
    if node.form == "identity":
        module, _, name = value.partition(":")
        # A prefix of its own, declared where it is used; an identity of the leaf's module needs none.
        if module == node.module:
            value = name
        else:
            namespaces["x"] = NAMESPACES[module]
            value = f"x:{name}"
    element = etree.SubElement(outer, tag_of(node), nsmap=namespaces)
    element.text = value
    return element


# --- changing
# ---------------------------------------------------------------------------------------------------------


def edit(tree: Tree, config: Element, default: str) -> None:
    """Change `tree` as a config element says; `default` is what is done where it says nothing. Raises
    RpcError, or Wrong."""
    if default not in ("merge", "replace", "none"):
        raise RpcError("invalid-value", f"there is no default-operation {default}", kind="protocol")
    if default == "replace":
        tree.data.clear()
        default = "merge"
    _Editing().children(tree.schema, tree.data, config, default, [])
    tree._swept(tree.schema, tree.data)


class _Editing:
    """Walks through a config element and the data together."""

    def __init__(self) -> None:
        self._around = [SCHEMA]

    def children(self, schema: Schema, data: Data, element: Element, inherited: str, at: list[Step]) -> None:
        for child in element:
            if not isinstance(child.tag, str):
                continue
            node = self._node(schema, child, at)
            if schema.kind == "list" and node.name in schema.keys:
                continue
            operation = child.get(f"{{{BASE}}}operation", inherited)
            if operation not in (*OPERATIONS, "none"):
                raise RpcError(
                    "bad-attribute",
                    f"there is no operation {operation}",
                    path_of(at),
                    "protocol",
                    ("bad-attribute", "operation"),
                )
            getattr(self, f"_{node.kind.replace('-', '_')}")(node, data, child, operation, at)

    def _node(self, schema: Schema, element: Element, at: list[Step]) -> Schema:
        name, module = etree.QName(element).localname, MODULES.get(etree.QName(element).namespace or "")
        node = schema.below.get(name)
        if module is None:
            raise RpcError(
                "unknown-namespace",
                f"{name} is in no namespace that is known",
                path_of(at),
                info=("bad-element", name),
            )
        if node is None or node.module != module:
            raise RpcError(
                "unknown-element", f"{name} is not known here", path_of(at), info=("bad-element", name)
            )
        return node

    def _value(self, node: Schema, element: Element, at: list[Step]) -> str:
        written = element.text or ""
        if len(element):
            raise RpcError("unknown-element", f"{node.name} holds no elements", path_of([*at, Step(node)]))
        if node.form != "text":
            written = written.strip()
        if node.form == "identity":
            prefix, _, name = written.rpartition(":")
            namespace = element.nsmap.get(prefix or None)
            written = f"{MODULES.get(namespace, '?')}:{name}"
        try:
            return node.check(written) if node.check is not None else written
        except ValueError as wrong:
            raise RpcError(
                "invalid-value", f'"{element.text}" for {node.name}: {wrong}', path_of([*at, Step(node)])
            ) from None

    def _needed(self, operation: str, present: bool, at: list[Step]) -> bool:
        """Whether there is something to do about what is to be made or taken away. Raises RpcError."""
        if operation == "create" and present:
            raise RpcError("data-exists", "it exists", path_of(at))
        if operation in ("delete", "none") and not present:
            raise RpcError("data-missing", "it does not exist", path_of(at))
        return operation != "none"

    def _one_case(self, node: Schema, data: Data) -> None:
        """What is made takes the place of all other cases (RFC 7950, section 7.9)."""
        if node.choice is not None:
            schema = self._around[-1]
            for other in schema.inner:
                if other.choice == node.choice and other.case != node.case:
                    data.pop(other.name, None)

    def _within(self, node: Schema, data: Data, element: Element, operation: str, at: list[Step]) -> None:
        self._around.append(node)
        self.children(node, data, element, "merge" if operation in ("create", "replace") else operation, at)
        self._around.pop()

    def _leaf(self, node: Schema, data: Data, element: Element, operation: str, at: list[Step]) -> None:
        here = [*at, Step(node)]
        if not self._needed(operation, node.name in data, here):
            return
        if operation in ("delete", "remove"):
            data.pop(node.name, None)
        else:
            value = self._value(node, element, at)
            self._one_case(node, data)
            data[node.name] = value

    def _leaf_list(self, node: Schema, data: Data, element: Element, operation: str, at: list[Step]) -> None:
        value = self._value(node, element, at)
        present = data.setdefault(node.name, [])
        here = [*at, Step(node)]
        try:
            if not self._needed(operation, value in present, here):
                return
            if operation in ("delete", "remove"):
                if value in present:
                    present.remove(value)
                return
            if value not in present:
                present.append(value)
            if node.by_user:
                data[node.name] = self._placed(present, value, element, element.get(f"{{{YANG}}}value"), here)
        finally:
            if not data[node.name]:
                del data[node.name]

    def _container(self, node: Schema, data: Data, element: Element, operation: str, at: list[Step]) -> None:
        here = [*at, Step(node)]
        present = node.name in data
        if operation == "none":
            # A container without presence is always there.
            if not present and node.presence:
                self._needed(operation, present, here)
        elif not self._needed(operation, present, here):
            return
        if operation in ("delete", "remove"):
            data.pop(node.name, None)
            return
        if operation == "replace":
            data.pop(node.name, None)
        if operation != "none":
            self._one_case(node, data)
        self._within(node, data.setdefault(node.name, {}), element, operation, here)

    def _list(self, node: Schema, data: Data, element: Element, operation: str, at: list[Step]) -> None:
        keys = self._keys(node, element, at)
        here = [*at, Step(node, keys)]
        entries = data.setdefault(node.name, {})
        try:
            present = keys in entries
            if operation == "none":
                self._needed(operation, present, here)
            elif not self._needed(operation, present, here):
                return
            if operation in ("delete", "remove"):
                entries.pop(keys, None)
                return
            if operation == "replace":
                entries[keys] = {}
            self._within(node, entries.setdefault(keys, {}), element, operation, here)
            if node.by_user:
                other = element.get(f"{{{YANG}}}key")
                order = self._placed(
                    list(entries),
                    keys,
                    element,
                    None if other is None else self._named(node, other, element),
                    here,
                )
                data[node.name] = {key: entries[key] for key in order}
        finally:
            if not data.get(node.name):
                data.pop(node.name, None)

    def _keys(self, node: Schema, element: Element, at: list[Step]) -> Keys:
        found = []
        for name in node.keys:
            key = element.find(f"{{{NAMESPACES[node.module]}}}{name}")
            if key is None:
                raise RpcError(
                    "missing-element", f"{node.name} lacks its key", path_of(at), info=("bad-element", name)
                )
            found.append(self._value(node.below[name], key, at))
        return tuple(found)

    def _named(self, node: Schema, predicates: str, element: Element) -> Keys:
        """The keys in `[p:name='value']`, each prefix as the element declares it (RFC 7950,
        section 7.8.6)."""
        given: dict[str, str] = {}
        for match in re.finditer(
            r"\[\s*(?:([\w.-]+):)?([\w.-]+)\s*=\s*(?:'([^']*)'|\"([^\"]*)\")\s*\]", predicates
        ):
            if match[1] is None or element.nsmap.get(match[1]) == NAMESPACES[node.module]:
                given[match[2]] = match[3] if match[3] is not None else match[4]
        return tuple(given.get(name, "") for name in node.keys)

    def _placed(
        self, present: list[Any], mine: Any, element: Element, other: Any, at: list[Step]
    ) -> list[Any]:
        """The order with what was made or named at its place."""
        where = element.get(f"{{{YANG}}}insert")
        if where is None:
            return present
        order = [one for one in present if one != mine]
        if where in ("before", "after"):
            if other not in order:
                raise RpcError(
                    "bad-attribute",
                    "there is nothing of that name to stand beside",
                    path_of(at),
                    info=("bad-attribute", where),
                )
            order.insert(order.index(other) + (where == "after"), mine)
        else:
            order.insert(0 if where == "first" else len(order), mine)
        return order


# --- filtering
# --------------------------------------------------------------------------------------------------------


def filtered(elements: list[Element], requested: Element) -> list[Element]:
    """What a subtree filter selects (RFC 6241, section 6)."""
    return [
        found
        for element in elements
        if (found := _selected(element, [one for one in requested if _names(one, element)])) is not None
    ]


def _names(requested: Element, element: Element) -> bool:
    namespace = etree.QName(requested).namespace
    return bool(
        etree.QName(requested).localname == etree.QName(element).localname
        and namespace in (None, etree.QName(element).namespace)
    )


def _selected(element: Element, filters: list[Element]) -> Element | None:
    """The parts of an element that any of the filters selects."""
    if any(len(one) == 0 and not (one.text or "").strip() for one in filters):
        return element
    kept: Element | None = None
    for one in filters:
        match = [inner for inner in one if len(inner) == 0 and (inner.text or "").strip()]
        if not all(
            any(_names(inner, child) and (child.text or "") == inner.text.strip() for child in element)
            for inner in match
        ):
            continue
        more = [inner for inner in one if inner not in match]
        if not more:
            return element
        kept = etree.Element(element.tag, nsmap=element.nsmap) if kept is None else kept
        for child in list(element):
            # What it was selected by is shown with it.
            selecting = [inner for inner in (*more, *match) if _names(inner, child)]
            found = child if any(inner in match for inner in selecting) else _selected(child, selecting)
            if found is not None:
                kept.append(_copy(found))
    return kept if kept is not None and len(kept) else None


def _copy(element: Element) -> Element:
    return etree.fromstring(etree.tostring(element, with_tail=False))
