"""XML from outside: read without entities, without a network, and with the line of what is wrong."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from lxml import etree

# lxml gives no types.
Element = Any
"""An lxml element."""

SEPARATOR = ", "
"""Between several values of one field."""

_DECLARATION = re.compile(r"\A\ufeff?\s*<\?xml[^>]*\?>")


class NotXml(ValueError):
    """A text that is no XML; `line` counts from 1, 0 where it is not known."""

    def __init__(self, message: str, line: int = 0) -> None:
        super().__init__(message)
        self.line = line


def parser() -> Any:
    """A parser that fetches nothing, expands nothing, and keeps neither comments nor instructions."""
    return etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        remove_comments=True,
        remove_pis=True,
        huge_tree=False,
    )


def safe_xml(text: str) -> Element:
    """The elements of `text`, however many there are at the top, in one element around them.
    Raises NotXml."""
    declaration = _DECLARATION.match(text)
    kept = "\n" * declaration[0].count("\n") + text[declaration.end() :] if declaration is not None else text
    if "<!DOCTYPE" in kept or "<!ENTITY" in kept:
        line = kept[: kept.index("<!")].count("\n") + 1
        raise NotXml("it declares a document type or entities, which are not allowed", line)
    try:
        # On one line with the first, so that every element keeps its line.
        return etree.fromstring(f"<all>{kept}</all>".encode("utf-8", "surrogatepass"), parser())
    except etree.XMLSyntaxError as wrong:
        message, line = _told(
            wrong.msg or "it is not well-formed", min(wrong.lineno or 0, kept.count("\n") + 1)
        )
        raise NotXml(message, line) from None


def xpath(path: str, namespaces: Mapping[str, str]) -> Callable[[Element], Any]:
    """An XPath (1.0), compiled. `each(NODES, "XPATH")` is what a path gives of each of some nodes, where that
    is several values.

    Raises lxml's XPathError.
    """

    def each(context: Any, nodes: Sequence[Element], inner: str) -> str:
        found = etree.XPath(inner, namespaces=dict(namespaces))
        return SEPARATOR.join(str(found(node)) for node in nodes)

    made: Callable[[Element], Any] = etree.XPath(
        path, namespaces=dict(namespaces), extensions={(None, "each"): each}
    )
    return made


_MISMATCH = re.compile(r"tag mismatch: (\S+) line ([0-9]+) and (\S+)")


def _told(message: str, line: int) -> tuple[str, int]:
    """libxml2's words and the line of the cause, for a person."""
    message = re.sub(r", line [0-9]+, column [0-9]+.*", "", message.strip().split("\n")[0])
    match = _MISMATCH.search(message)
    if match is not None:
        opened, begun, closed = match[1], int(match[2]), match[3]
        if opened == "all":
            return f"'</{closed}>' has no opening tag", line
        ends = "not closed" if closed == "all" else f"closed as '{closed}' in line {line}"
        return f"'<{opened}>' is {ends}", begun
    if "EntityRef" in message:
        return "write a single '&' as '&amp;'", line
    if "Namespace prefix" in message:
        return (
            message.replace("Namespace prefix", "the prefix").replace("is not defined", "is not declared"),
            line,
        )
    return message, line
