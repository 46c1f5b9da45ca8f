"""The tables [modules] and [netconf] of a platform definition."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping

from oast.platforms.definition import Netconf
from oast.platforms.statements import Module
from oast.spelling import spelling_hint
from oast.toml_text import TomlFile

_NAME = re.compile(r"[A-Za-z_][\w.-]*")
# What else a definition may say is for a command line.
COMMAND_LINE = ("session", "edit", "timer", "candidate", "file", "scheduled")


def modules_of(file: TomlFile) -> Mapping[str, Module]:
    """The YANG modules that names belong to: `NAME = { namespace = "URI", prefix = "PREFIX" }`."""
    table = file.table("modules")
    found: dict[str, Module] = {}
    by_namespace: dict[str, str] = {}
    for name, inner in table.tables() if table is not None else ():
        namespace, prefix = inner.needed("namespace"), inner.text("prefix")
        inner.finish()
        if not namespace:
            continue
        other = by_namespace.setdefault(namespace, name)
        if other != name:
            inner.wrong(
                "namespace",
                f"the modules '{other}' and '{name}' have the same namespace",
                "give each module its own namespace",
            )
        found[name] = Module(name, namespace, prefix or name)
    return found


def steps(command: str, modules: Mapping[str, Module]) -> list[list[tuple[str, str]]]:
    """What a reading of a NETCONF platform reads: `/MODULE:NAME/NAME…`, several with spaces between, as
    namespaces and names.

    A name without a module is in that of the name before it. Raises ValueError, for a person.
    """
    found = []
    for path in command.split():
        levels: list[tuple[str, str]] = []
        for level in path.strip("/").split("/"):
            prefix, colon, name = level.rpartition(":")
            if not _NAME.fullmatch(name) or not path.startswith("/"):
                raise ValueError(f"'{path}' is not a path such as /MODULE:NAME/NAME")
            if colon and prefix not in modules:
                raise ValueError(f"unknown module '{prefix}'; add it to [modules]")
            if not colon and not levels:
                raise ValueError(f"the module of '{name}' is missing in '{path}'")
            levels.append((modules[prefix].namespace if colon else levels[-1][0], name))
        found.append(levels)
    return found


def netconf_of(file: TomlFile, syntax: str, tops: Collection[str]) -> Netconf:
    """How the device is spoken to; `tops` are the statements at the top of the grammar."""
    for name in COMMAND_LINE:
        table = file.table(name)
        if table is not None:
            table.wrong(None, f"[{name}] cannot be used with the transport 'netconf'", "remove it")
            for key in table.data:
                table.has(key)
    if syntax != "xml" or not any(tops):
        hint = "generate them with: oast platform from-yang"
        message = "NETCONF needs the syntax 'xml', and [statements] with a module for each statement"
        file.wrong(message, file.place("platform", "transport"), hint)
    table = file.table("netconf")
    if table is None:
        return Netconf(tuple(tops))
    read = table.texts("read")
    for name in read:
        if name not in tops:
            table.wrong("read", f"'{name}' is not a top-level statement", spelling_hint(name, tops))
    made = Netconf(
        read or tuple(tops),
        table.texts("needs"),
        table.flag("validate", True),
        table.positive("poll_s", 1.0),
        table.flag("replies_without_id", False),
    )
    table.finish()
    return made
