"""Platform definitions: TOML files, the shipped ones in this folder, the engineer's own in the estate. The
page: docs/platforms.md."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path

from oast.errors import ErrorCollector, EstateError
from oast.platforms.definition import CliDialect, EditSpelling, ErrorPattern, Platform, PromptAnswer
from oast.platforms.grammar import Grammar
from oast.platforms.netconf_tables import modules_of, netconf_of
from oast.platforms.reading_tables import readings_of
from oast.platforms.rollback_tables import RollbackTables
from oast.platforms.rules import Rules
from oast.platforms.secret_words import SECRET_WORDS
from oast.platforms.statements import Rule
from oast.platforms.type_tables import types_of
from oast.records import Fingerprints
from oast.spelling import spelling_hint
from oast.toml_text import Table, TomlFile

FORMAT = 2
# It is the name of a folder of templates, too.
NAME = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,62}")
SHIPPED = Path(__file__).parent
SYNTAXES = ("indented", "braces", "paths", "xml")
TRANSPORTS = ("ssh", "netconf")
# The statements that checks and safety rules need to find, and which others each of them needs beside it.
ROLES: Mapping[str, tuple[str, ...]] = {
    "interface": ("enabled",),
    "enabled": (),
    "network_instance": ("interface",),
    "ipv4_address": (),
    "ipv4_prefix_length": ("ipv4_address",),
    "ipv6_address": (),
    "ipv6_prefix_length": ("ipv6_address",),
    "static_route": (),
    "static_route_ipv6": (),
    "hostname": (),
    "ntp_server": (),
    "bgp_neighbor": (),
    "bgp_peer_as": ("bgp_neighbor",),
    "bgp_enabled": ("bgp_neighbor",),
    "vlan": (),
    "access_vlan": ("interface",),
    "trunk_vlan": ("interface",),
    "aggregate": ("interface",),
    "pair_partner": (),
    "virtual_router": ("interface", "virtual_router_address"),
    "virtual_router_address": (),
    "virtual_router_priority": (),
    "virtual_router_ipv6": ("interface", "virtual_router_ipv6_address"),
    "virtual_router_ipv6_address": (),
    "virtual_router_ipv6_priority": (),
    "access_list": (),
    "user": (),
    "community": (),
    "privilege_password": (),
    "ospf_router_id": (),
    "ospf_area": (),
    "ospf_interface": ("interface", "ipv4_address", "ospf_passive"),
    "ospf_network": ("interface", "ipv4_address"),
    "ospf_passive": (),
}


class Platforms:
    """The platforms that an estate can use: those in its platforms/ folder, and the shipped ones. Each is
    read once.

    `fingerprints` make secrets of what devices list.
    """

    def __init__(self, folder: Path | None, fingerprints: Fingerprints) -> None:
        self._own = (
            {path.stem: path for path in sorted((folder / "platforms").glob("*.toml"))}
            if folder is not None
            else {}
        )
        self._fingerprints = fingerprints
        self._loaded: dict[str, Platform | EstateError] = {}

    def get(self, name: str) -> Platform:
        """The platform `name`. Raises EstateError with everything that is wrong in its definition."""
        if name not in self._loaded:
            try:
                self._loaded[name] = self._load(name)
            except EstateError as error:
                self._loaded[name] = error
        found = self._loaded[name]
        if isinstance(found, EstateError):
            raise EstateError(found.message, place=found.place, hint=found.hint, problems=found.problems())
        return found

    def names(self) -> list[str]:
        """All that there are, also those that are wrong."""
        return sorted({*self._own, *(path.stem for path in SHIPPED.glob("*.toml"))})

    def _load(self, name: str) -> Platform:
        shipped = {path.stem: path for path in SHIPPED.glob("*.toml")}
        if name in self._own:
            return load_platform(self._own[name], self._fingerprints, f"platforms/{name}.toml")
        if name not in shipped:
            raise EstateError(f"unknown platform '{name}'", hint=spelling_hint(name, {*shipped, *self._own}))
        return load_platform(shipped[name], self._fingerprints)


def transport_of(folder: Path | None, name: str) -> str:
    """How devices of a platform are spoken to, without reading all of its file; "ssh" where the file does not
    say."""
    own = folder / "platforms" / f"{name}.toml" if folder is not None else None
    path = own if own is not None and own.exists() else SHIPPED / f"{name}.toml"
    try:
        said = tomllib.loads(path.read_text(encoding="utf-8"))["platform"]["transport"]
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return TRANSPORTS[0]
    return said if said in TRANSPORTS else TRANSPORTS[0]


def load_platform(path: Path, fingerprints: Fingerprints, called: str | None = None) -> Platform:
    """The platform defined in `path`, which errors name as `called`. Raises EstateError with everything that
    is wrong in it."""
    mistakes = ErrorCollector()
    file = TomlFile(path, called or path.name, mistakes)
    found = file.value("format")
    if found != FORMAT:
        message = f"the platform file must begin with 'format = {FORMAT}'"
        raise EstateError(
            message, place=file.place("format"), hint=f"it says {found!r}" if found is not None else None
        )
    platform = _platform(file, fingerprints)
    file.finish("in a platform definition")
    mistakes.raise_any()
    return platform


def _platform(file: TomlFile, fingerprints: Fingerprints) -> Platform:
    table = _needed(file, "platform")
    name = table.needed("name") or "unnamed"
    if not NAME.fullmatch(name):
        file.wrong(
            f"'{name}' is not a valid platform name",
            file.place("name"),
            "use up to 63 letters, digits, - and _",
        )
        name = "unnamed"
    syntax, transport = (
        table.choice("syntax", SYNTAXES, "indented"),
        table.choice("transport", TRANSPORTS, "ssh"),
    )
    quotes, abbreviations = table.flag("quotes", True), table.flag("abbreviations", False)
    secret_words = (*SECRET_WORDS, *(table.texts("secret_words") if table.has("secret_words") else ()))
    spelling = _edit_spelling(table)
    table.finish()
    modules = modules_of(file)
    insertable = spelling.insert_before is not None or transport == "netconf"
    root = Rules(file, types_of(file), insertable, syntax, modules).read()
    try:
        grammar = Grammar(
            name, root, fingerprints, abbreviations=abbreviations, quotes=quotes, secret_words=secret_words
        )
    except ValueError as wrong:
        file.wrong(str(wrong), file.place("statements"), "give one of them another 'line'")
        grammar = Grammar(name, Rule(name="", path="", kind="container"), fingerprints)
    paths = [rule.path for rule in grammar.rules()]
    way = RollbackTables(file)
    roles = _roles(file, paths)
    for rule in grammar.rules():
        rule.gate = rule.path == roles.get("enabled")
    return Platform(
        name=name,
        syntax=syntax,
        transport=transport,
        grammar=grammar,
        spelling=spelling,
        dialect=_dialect(file) if transport == "ssh" else CliDialect({}, ""),
        timer=way.timer(),
        candidate=way.candidate(),
        file=way.file_commands(),
        scheduled=way.scheduled(),
        netconf=netconf_of(file, syntax, list(root.children)) if transport == "netconf" else None,
        modules=modules,
        readings=readings_of(file, paths, modules, netconf=transport == "netconf"),
        roles=roles,
    )


def _needed(file: TomlFile, name: str) -> Table:
    table = file.table(name)
    if table is None:
        file.wrong(f"[{name}] is missing in the platform file", file.place("format"))
        return Table(file, (name,), {}, missing=True)
    return table


def _edit_spelling(table: Table) -> EditSpelling:
    remove = table.template("remove", ("identity", "line"))
    before = table.template("insert_before", ("statement", "other"), required=("statement", "other"))
    last = table.template("insert_last", ("statement",), required=("statement",))
    unknown = table.template("remove_unknown", ("line",), required=("line",))
    if (before is None) != (last is None):
        table.wrong(
            "insert_before" if before else "insert_last", "'insert_before' and 'insert_last' need each other"
        )
    made = table.template("set", ("identity", "line"))
    if made is not None and table.text("syntax") in (None, "indented"):
        table.wrong(
            "set",
            "'set' can only be used with a syntax whose lines contain the whole path",
            "remove it: in an indented syntax the line itself sets the statement",
        )
    return EditSpelling(
        comment=table.text("comment") or "#",
        indent=table.number("indent", 2, 1, 16),
        remove=remove or "remove {identity}",
        insert_before=before,
        insert_last=last,
        remove_unknown=unknown,
        set=made or "{line}",
        ignore=tuple(pattern for pattern in table.texts("ignore") if table.compiles("ignore", pattern)),
    )


def _patterns(session: Table, key: str) -> tuple[str, ...]:
    return tuple(pattern for pattern in session.texts(key) if session.compiles(key, pattern))


def _pager(session: Table) -> tuple[str | None, str | None]:
    """The prompt of the pager, and the key that answers it."""
    table = session.table("pager", "{ prompt = 'PATTERN', answer = 'KEY' }")
    if table is None:
        return None, None
    found = table.pattern("prompt"), table.text("answer")
    table.finish()
    return found


def _privilege(session: Table) -> tuple[str | None, str | None]:
    """The command that raises the privilege, and the prompt for its password."""
    table = session.table("privilege", "{ command = 'COMMAND', password = 'PATTERN' }")
    if table is None:
        return None, None
    found = table.needed("command"), table.pattern("password")
    table.finish()
    return found


def _dialect(file: TomlFile) -> CliDialect:
    session = _needed(file, "session")
    if session.flag("one_shot", False):
        return _one_shot(file, session)
    prompts = dict(session.mapping("prompts", "a pattern for each level: { view = 'PATTERN' }"))
    if not session.has("prompts"):
        hint = "they tell Oast when an answer is complete"
        session.wrong(None, "'prompts' is missing in [session]", hint)
    prompts = {level: pattern for level, pattern in prompts.items() if session.compiles("prompts", pattern)}
    privileged = session.texts("privileged")
    _levels(session, "privileged", privileged, prompts)
    errors = _patterns(session, "errors")
    prepare, leave, read_only = session.texts("prepare"), session.text("leave"), _read_only(session)
    in_flight = session.number("in_flight", 1, 1, 1000)
    pagers = _asked(session, "pagers", " ")
    questions = _asked(session, "questions", None)
    if in_flight > 1 and any(question.command is None for question in questions):
        message = (
            "a question can follow any line, but with 'in_flight' Oast sends more lines before it answers"
        )
        session.wrong("questions", message, "add 'command' to the question")
    warnings = _patterns(session, "warnings")
    refusals = _refusals(session)
    pager_prompt, pager_answer = _pager(session)
    command, password = _privilege(session)
    session.finish()
    edit = _needed(file, "edit")
    levels = edit.texts("level")
    _levels(edit, "level", levels, prompts)
    dialect = CliDialect(
        prompts=prompts,
        running=edit.needed("running"),
        privileged=frozenset(privileged) or frozenset(prompts),
        errors=errors,
        prepare=prepare,
        pagers=(
            *((PromptAnswer(pager_prompt, pager_answer or " "),) if pager_prompt is not None else ()),
            *pagers,
        ),
        questions=questions,
        warnings=warnings,
        refusals=refusals,
        privilege_command=command,
        raise_password=password,
        leave=leave,
        startup=edit.text("startup"),
        write_startup=_writes_startup(edit),
        save=edit.text("save"),
        enter=edit.texts("enter"),
        leave_edit=edit.texts("leave"),
        edit_levels=frozenset(levels),
        lock=edit.text("lock"),
        unlock=edit.text("unlock"),
        in_flight=in_flight,
        read_only=read_only,
    )
    if levels and not dialect.leave_edit:
        edit.wrong("level", "'level' needs 'leave', the command that ends editing")
    edit.finish()
    return dialect


# What a session has, and a command that is run by itself has not.
OF_SESSIONS = (
    "prompts",
    "privileged",
    "prepare",
    "pager",
    "pagers",
    "questions",
    "privilege",
    "leave",
    "in_flight",
)
OF_EDITING = ("enter", "leave", "level", "lock", "unlock")


def _one_shot(file: TomlFile, session: Table) -> CliDialect:
    """How changes are sent to a device that takes one command at a time."""
    files = file.table("file")
    if files is not None and files.has("reload") and file.table("edit") is None:
        return _reloading(session, files)
    edit = _needed(file, "edit")
    for table, keys in ((session, OF_SESSIONS), (edit, OF_EDITING)):
        for key in keys:
            if table.has(key):
                table.wrong(
                    key,
                    f"'{key}' and 'one_shot' exclude each other",
                    "remove it: each command runs separately, without an open session",
                )
                table.text(key)
    platform = file.table("platform")
    if platform is not None and platform.text("syntax") in (None, "indented") and file.table("file") is None:
        session.wrong(
            "one_shot",
            "'one_shot' needs a syntax whose lines contain the whole path, or [file]",
            "without a session no level can be entered",
        )
    dialect = CliDialect(
        prompts={},
        running=edit.needed("running"),
        errors=tuple(pattern for pattern in session.texts("errors") if session.compiles("errors", pattern)),
        warnings=tuple(
            pattern for pattern in session.texts("warnings") if session.compiles("warnings", pattern)
        ),
        refusals=_refusals(session),
        startup=edit.text("startup"),
        write_startup=_writes_startup(edit),
        save=edit.text("save"),
        one_shot=True,
        read_only=_read_only(session),
    )
    session.finish()
    edit.finish()
    return dialect


def _reloading(session: Table, files: Table) -> CliDialect:
    """A host whose daemon reads one file: what that holds is its configuration."""
    dialect = CliDialect(
        prompts={},
        running=f"cat {files.data.get('path', '')}",
        errors=tuple(pattern for pattern in session.texts("errors") if session.compiles("errors", pattern)),
        warnings=tuple(
            pattern for pattern in session.texts("warnings") if session.compiles("warnings", pattern)
        ),
        refusals=_refusals(session),
        one_shot=True,
        read_only=_read_only(session),
    )
    session.finish()
    return dialect


def _asked(session: Table, key: str, default: str | None) -> tuple[PromptAnswer, ...]:
    """Read the questions or pagers of a session, each a table of its own. Each question needs an answer."""
    found: list[PromptAnswer] = []
    for _, table in _entries(session, key):
        prompt, command = table.pattern("prompt"), table.pattern("command")
        answer = table.text("answer")
        if not table.has("prompt"):
            table.wrong(None, f"'prompt' is missing in [{'.'.join(table.path)}]")
        if answer is None and default is None:
            table.wrong(None, f"'answer' is missing in [{'.'.join(table.path)}]", "give the text to type")
        table.finish()
        if prompt is not None:
            found.append(PromptAnswer(prompt, answer if answer is not None else default or "", command))
    return tuple(found)


def _refusals(session: Table) -> tuple[ErrorPattern, ...]:
    found: list[ErrorPattern] = []
    for _, table in _entries(session, "errors_of"):
        command = table.pattern("command")
        patterns = tuple(pattern for pattern in table.texts("errors") if table.compiles("errors", pattern))
        if not table.has("command") or not patterns:
            table.wrong(None, f"[{'.'.join(table.path)}] needs 'command' and 'errors'")
        table.finish()
        if command is not None:
            found.append(ErrorPattern(command, patterns))
    return tuple(found)


def _entries(session: Table, key: str) -> Iterable[tuple[str, Table]]:
    table = session.table(key, f"tables: [session.{key}.NAME]")
    return table.tables() if table is not None else ()


def _read_only(session: Table) -> tuple[str, ...]:
    return tuple(pattern for pattern in session.texts("read_only") if session.compiles("read_only", pattern))


def _writes_startup(edit: Table) -> str | None:
    put = edit.template("write_startup", ("text", "end"), required=("text",))
    if put is not None and not edit.has("startup"):
        edit.wrong("write_startup", "'write_startup' needs 'startup'", "Oast reads back what it wrote")
    return put


def _levels(table: Table, key: str, levels: Sequence[str], prompts: Collection[str]) -> None:
    for level in levels:
        if level not in prompts:
            table.wrong(key, f"no prompt has the level '{level}'", spelling_hint(level, prompts))


def _roles(file: TomlFile, paths: Collection[str]) -> Mapping[str, str]:
    table = file.table("roles")
    found: dict[str, str] = {}
    for role in table.data if table is not None else ():
        path = table.text(role) if table is not None else None
        if table is None or path is None:
            continue
        if role not in ROLES:
            table.wrong(role, f"unknown role '{role}'", spelling_hint(role, ROLES))
        elif path not in paths:
            table.wrong(
                role,
                f"the role '{role}' refers to '{path}', which is not a statement",
                spelling_hint(path, paths),
            )
        else:
            found[role] = path
    for role in found:
        for needed in ROLES[role]:
            if needed not in found and table is not None and needed not in table.data:
                table.wrong(role, f"the role '{role}' needs the role '{needed}'")
    return found
