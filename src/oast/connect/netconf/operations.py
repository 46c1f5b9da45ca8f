"""The operations of NETCONF as elements, each after the section that defines it."""

from __future__ import annotations

import math
from collections.abc import Iterable

from lxml import etree

from oast.connect.netconf.messages import BASE, base
from oast.safe_xml import Element

MONITORING = "urn:ietf:params:xml:ns:yang:ietf-netconf-monitoring"


def _operation(name: str, *inner: Element) -> Element:
    made = etree.Element(base(name), nsmap={None: BASE})
    made.extend(inner)
    return made


def _leaf(name: str, value: str) -> Element:
    made = etree.Element(base(name), nsmap={None: BASE})
    made.text = value
    return made


def _datastore(role: str, name: str) -> Element:
    """`<source><running/></source>`, or as a target."""
    return _operation(role, _operation(name))


def subtree(elements: Iterable[Element]) -> Element:
    """A filter by subtrees (RFC 6241, section 6)."""
    made = etree.Element(base("filter"), {"type": "subtree"}, nsmap={None: BASE})
    made.extend(elements)
    return made


def get_config(source: str, filter_: Element | None = None) -> Element:
    """What a datastore holds (RFC 6241, section 7.1)."""
    return _operation("get-config", _datastore("source", source), *(() if filter_ is None else (filter_,)))


def get(filter_: Element | None = None) -> Element:
    """What runs, and its state (RFC 6241, section 7.7)."""
    return _operation("get", *(() if filter_ is None else (filter_,)))


def edit_config(target: str, config: Element, *, rollback_on_error: bool) -> Element:
    """Change a datastore (RFC 6241, section 7.2). What has no operation of its own is merged."""
    option = (_leaf("error-option", "rollback-on-error"),) if rollback_on_error else ()
    return _operation(
        "edit-config", _datastore("target", target), _leaf("default-operation", "merge"), *option, config
    )


def copy_config(source: str, target: str) -> Element:
    """Make one datastore as another (RFC 6241, section 7.3); running to startup is what saves
    (section 8.7)."""
    return _operation("copy-config", _datastore("target", target), _datastore("source", source))


def copy_inline(target: str, config: Element | None = None) -> Element:
    """Make a datastore what `config` holds (RFC 6241, section 7.3); without one, there is room for it."""
    return _operation(
        "copy-config",
        _datastore("target", target),
        _operation("source", _operation("config") if config is None else config),
    )


def lock(target: str) -> Element:
    """Keep others from changing a datastore (RFC 6241, section 7.5)."""
    return _operation("lock", _datastore("target", target))


def unlock(target: str) -> Element:
    """RFC 6241, section 7.6."""
    return _operation("unlock", _datastore("target", target))


def validate(source: str) -> Element:
    """Have a datastore checked as a whole (RFC 6241, section 8.6.4.1)."""
    return _operation("validate", _datastore("source", source))


def commit(
    timeout_s: float | None = None, persist: str | None = None, persist_id: str | None = None
) -> Element:
    """Make the candidate what runs (RFC 6241, section 8.3.4.1); with `timeout_s`, for so long only unless it
    is confirmed.

    With `persist` it outlives the session, and is confirmed by the session that gives the same word. With
    `persist_id` it follows up the commit of that word, and restarts its timer (section 8.4.5.1).
    """
    if timeout_s is None:
        return _operation("commit")
    given = (("persist", persist), ("persist-id", persist_id))
    named = tuple(_leaf(name, value) for name, value in given if value is not None)
    return _operation(
        "commit", _operation("confirmed"), _leaf("confirm-timeout", str(math.ceil(timeout_s))), *named
    )


def confirm(persist_id: str | None = None) -> Element:
    """The commit that confirms one (RFC 6241, section 8.4.5.1)."""
    return _operation("commit", *(() if persist_id is None else (_leaf("persist-id", persist_id),)))


def cancel_commit(persist_id: str | None = None) -> Element:
    """Roll back a commit that is not confirmed (RFC 6241, section 8.4.4.1)."""
    return _operation("cancel-commit", *(() if persist_id is None else (_leaf("persist-id", persist_id),)))


def discard_changes() -> Element:
    """Make the candidate what runs (RFC 6241, section 8.3.4.2)."""
    return _operation("discard-changes")


def close_session() -> Element:
    """RFC 6241, section 7.8."""
    return _operation("close-session")


def kill_session(session_id: str) -> Element:
    """End another session and release its locks (RFC 6241, section 7.9)."""
    return _operation("kill-session", _leaf("session-id", session_id))


def get_schema(identifier: str, version: str | None = None) -> Element:
    """The text of a YANG module that the server knows (RFC 6022, section 3.1)."""
    made = etree.Element(f"{{{MONITORING}}}get-schema", nsmap={None: MONITORING})
    for name, value in (("identifier", identifier), ("version", version), ("format", "yang")):
        if value is not None:
            etree.SubElement(made, f"{{{MONITORING}}}{name}").text = value
    return made
