"""The tables [readings.NAME] of a platform's file."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import replace

import jmespath
from jmespath.exceptions import JMESPathError
from lxml import etree

from oast.platforms.definition import DerivedField, ReadingDefinition
from oast.platforms.netconf_tables import steps
from oast.platforms.reading_schema import READINGS, TEXT
from oast.platforms.statements import Module
from oast.safe_xml import xpath
from oast.spelling import spelling_hint
from oast.toml_text import Table, TomlFile

FORMS = ("columns", "picks", "patterns", "xpaths", "leaves")


def readings_of(
    file: TomlFile, paths: Collection[str], modules: Mapping[str, Module], *, netconf: bool = False
) -> Mapping[str, ReadingDefinition]:
    """The readings of a platform; `paths` are its statements. What is wrong is noted in the file."""
    namespaces = {name: module.namespace for name, module in modules.items()}
    readings = file.table("readings")
    found: dict[str, ReadingDefinition] = {}
    for name, table in readings.tables() if readings is not None else ():
        found[name] = _with_types(name, _reading(name, table, paths, namespaces, netconf=netconf), table)
        if netconf and found[name].statements is None:
            try:
                levels = steps(found[name].command, modules)
                if (
                    name in READINGS
                    and READINGS[name].asks is not None
                    and [len(one) for one in levels] != [1]
                ):
                    raise ValueError(f"'{found[name].command}' is not an operation such as /MODULE:NAME")
            except ValueError as wrong:
                table.wrong("command", f"{wrong}", "over NETCONF, the command of a reading is a path")
        table.finish()
    return found


def _need_one_form(name: str, table: Table) -> None:
    forms = [form for form in FORMS if table.has(form)]
    if not forms:
        hint = (
            "a table has 'columns', JSON has 'picks', blocks of lines have 'patterns', XML has 'xpaths',"
            " statements have 'leaves'"
        )
        table.wrong(None, f"the reading '{name}' has no 'columns'", hint)
    if len(forms) > 1:
        message = f"the reading '{name}' has both '{forms[0]}' and '{forms[1]}'"
        table.wrong(
            forms[1],
            message,
            ("keep one: an answer is a table, JSON, XML, or blocks of lines"),
        )


def _reading(
    name: str, table: Table, paths: Collection[str], namespaces: Mapping[str, str], *, netconf: bool
) -> ReadingDefinition:
    known = READINGS.get(name)
    asks = known.asks if known is not None else None
    statements = table.text("statements")
    command = table.needed("command") if statements is None else ""
    if asks is not None and not netconf:
        command = table.template("command", (asks,), required=(asks,)) or command
    _need_one_form(name, table)
    intervals = table.texts("intervals")
    for path in intervals:
        if path not in paths:
            table.wrong("intervals", f"'{path}' is not a statement", spelling_hint(path, paths))
    columns = table.mapping("columns", "a field for each heading: { HEADING = 'field' }")
    right = table.texts("right")
    for heading in right:
        if heading not in columns:
            table.wrong(
                "right", f"'{heading}' is not a heading in 'columns'", spelling_hint(heading, columns)
            )
    picks = table.mapping("picks", "a JMESPath for each field: { field = 'PATH' }")
    records = table.text("records")
    for path in (*picks.values(), *(() if records is None else (records,))):
        _need_path(table, path)
    patterns = table.mapping("patterns", "a pattern for each field: { field = 'PATTERN' }")
    xpaths, elements = (
        table.mapping("xpaths", "an XPath for each field: { field = 'XPATH' }"),
        table.text("elements"),
    )
    if (elements is None) != (not xpaths):
        table.wrong(
            "elements" if xpaths else "xpaths", f"the reading '{name}' needs both 'elements' and 'xpaths'"
        )
    for path in (*xpaths.values(), *(() if elements is None else (elements,))):
        _need_xpath(table, path, namespaces)
    leaves = _leaves(table, statements, paths)
    made = ReadingDefinition(
        command=command,
        columns=columns,
        intervals=intervals,
        right=frozenset(right),
        skip=tuple(pattern for pattern in table.texts("skip") if table.compiles("skip", pattern)),
        continues=table.flag("continues"),
        records=records,
        key=table.text("key"),
        picks=picks,
        begins=table.pattern("begins"),
        patterns={
            field: pattern
            for field, pattern in patterns.items()
            if table.compiles("patterns", pattern) and _has_group(table, pattern)
        },
    )
    made = replace(
        made, elements=elements, xpaths=xpaths, namespaces=namespaces, statements=statements, leaves=leaves
    )
    return _with_derived(made, table)


def _leaves(table: Table, statements: str | None, paths: Collection[str]) -> Mapping[str, str]:
    """What is read from the running configuration."""
    leaves = table.mapping(
        "leaves", "a leaf below the statement for each field: { field = 'access' }, or '' for its own value"
    )
    if (statements is None) != (not leaves):
        table.wrong(
            "statements" if leaves else "leaves",
            "a reading from the configuration needs both 'statements' and 'leaves'",
        )
    if statements is not None and statements not in paths:
        table.wrong("statements", f"'{statements}' is not a statement", spelling_hint(statements, paths))
        return leaves
    if statements is None:
        return leaves
    for leaf in leaves.values():
        if leaf and f"{statements}/{leaf}" not in paths:
            below = [
                path.removeprefix(f"{statements}/") for path in paths if path.startswith(f"{statements}/")
            ]
            table.wrong("leaves", f"'{statements}/{leaf}' is not a statement", spelling_hint(leaf, below))
    return leaves


def _with_types(name: str, reading: ReadingDefinition, table: Table) -> ReadingDefinition:
    """A reading that is the same everywhere has its own fields and types; of another, every field
    is a text."""
    known = READINGS.get(name)
    if known is None:
        return replace(reading, types=dict.fromkeys(reading.fields, TEXT))
    for field in reading.fields:
        if field not in known.fields:
            form = next((form for form in FORMS if table.has(form)), None)
            table.wrong(
                form, f"the reading '{name}' has no field '{field}'", spelling_hint(field, known.fields)
            )
    return replace(reading, types=known.fields)


def _with_derived(reading: ReadingDefinition, table: Table) -> ReadingDefinition:
    inner = table.table("fields", "tables: [readings.NAME.fields.FIELD]")
    derived: dict[str, DerivedField] = {}
    for name, made in inner.tables() if inner is not None else ():
        source, pattern = made.text("from") or name, made.pattern("pattern")
        if source not in (*reading.fields, *derived):
            made.wrong(
                "from", f"'{source}' is not a field of this reading", spelling_hint(source, reading.fields)
            )
        if pattern is not None:
            _has_group(made, pattern)
        derived[name] = DerivedField(
            source, pattern, made.mapping("values", "a value for each: { 'Full/-' = 'full' }")
        )
        made.finish()
    return replace(reading, derived=derived)


def _need_path(table: Table, path: str) -> None:
    try:
        jmespath.compile(path)
    except JMESPathError as wrong:
        table.wrong("picks", f"'{path}' is not a valid JMESPath expression: {str(wrong).splitlines()[0]}")


def _need_xpath(table: Table, path: str, namespaces: Mapping[str, str]) -> None:
    """Whether a path is one (XPath 1.0), and its prefixes are modules."""
    try:
        xpath(path, namespaces)(etree.Element("none"))
    except etree.XPathError as wrong:
        prefix = next((p for p in re.findall(r"([A-Za-z][\w.-]*):(?!:)", path) if p not in namespaces), None)
        hint = (
            f"unknown module '{prefix}'; add it to [modules]"
            if prefix is not None and "prefix" in str(wrong).lower()
            else None
        )
        table.wrong("xpaths", f"'{path}' is not a valid XPath expression: {wrong}", hint)


def _has_group(table: Table, pattern: str) -> bool:
    if re.compile(pattern).groups:
        return True
    table.wrong(
        "patterns" if table.has("patterns") else "pattern",
        f"'{pattern}' has no group",
        "put the value in parentheses",
    )
    return False
