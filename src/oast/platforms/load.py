"""Platform definitions: TOML files, the shipped ones in this folder, the engineer's own in the estate."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from oast.errors import EstateError
from oast.nearest import suggestion
from oast.platforms.grammar import Argument, Grammar, Rule, UnknownStatement, arguments_of
from oast.platforms.types import BUILT_IN, ValueType, declared
from oast.records import Place

FORMAT = 1
SHIPPED = Path(__file__).parent


@dataclass(frozen=True, slots=True)
class Dialect:
    """How a session on the command line goes: patterns are whole-line regular expressions, commands are templates."""

    prompts: Mapping[str, str]
    errors: tuple[str, ...]
    prepare: tuple[str, ...]
    pager_prompt: str | None
    pager_answer: str
    raise_command: str | None
    raise_password: str | None
    leave: str
    running: str
    startup: str
    enter: str
    leave_edit: str
    arm: str | None
    confirm: str | None
    revert: str | None
    save: str | None


@dataclass(frozen=True, slots=True)
class Spelling:
    """How one edit is written for this platform."""

    comment: str
    remove: str
    insert_before: str
    insert_last: str


@dataclass(frozen=True, slots=True)
class ReadingDefinition:
    """A command whose answer is a table: heading of a column to name of a field."""

    command: str
    columns: Mapping[str, str]


@dataclass(frozen=True, slots=True)
class Platform:
    """Everything Oast knows of a kind of device."""

    name: str
    grammar: Grammar
    spelling: Spelling
    dialect: Dialect
    readings: Mapping[str, ReadingDefinition]
    roles: Mapping[str, str]


@cache
def shipped(name: str) -> Platform:
    """The shipped platform `name`. Raises EstateError when there is none."""
    path = SHIPPED / f"{name}.toml"
    if not path.is_file():
        raise EstateError(f"there is no platform '{name}'", hint=suggestion(name, (p.stem for p in SHIPPED.glob("*.toml"))))
    return load(path)


@cache
def available(name: str, folder: Path) -> Platform:
    """The platform `name` that the estate in `folder` brings in platforms/, or else the shipped one. Raises EstateError."""
    own = {path.stem: path for path in (folder / "platforms").glob("*.toml")}
    if name in own:
        return load(own[name], f"platforms/{name}.toml")
    known = {*own, *(path.stem for path in SHIPPED.glob("*.toml"))}
    if name not in known:
        raise EstateError(f"there is no platform '{name}'", hint=suggestion(name, known))
    return shipped(name)


def load(path: Path, shown: str | None = None) -> Platform:
    """The platform defined in `path`, called `shown` in errors. Raises EstateError that says what is missing or wrong in it."""
    place = Place(shown or str(path))
    try:
        data = tomllib.loads(path.read_text(encoding="utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, OSError) as error:
        line = re.search(r"line ([0-9]+)", str(error))
        place = Place(place.file, int(line[1]) if line else None)
        raise EstateError(f"the platform definition is not valid TOML: {error}", place=place) from None
    try:
        return _platform(data)
    except KeyError as missing:
        raise EstateError(f"the platform definition lacks {missing}", place=place) from None
    except UnknownStatement as wrong:
        raise EstateError(f"a default in the platform definition is wrong: {wrong}", place=place) from None
    except (ValueError, TypeError, AttributeError, re.error) as wrong:
        raise EstateError(f"the platform definition is wrong: {wrong}", place=place) from None


def _platform(data: Mapping[str, Any]) -> Platform:
    if data["format"] != FORMAT:
        raise ValueError(f"format {data['format']} is not known (this Oast knows {FORMAT})")
    platform = data["platform"]
    types = dict(BUILT_IN)
    for name, declaration in data.get("types", {}).items():
        types[name] = declared(name, declaration)
    grammar = Grammar(platform["name"], _rules(data["statements"], types))
    for pattern in (*data["session"]["prompts"].values(), *data["session"]["errors"]):
        re.compile(pattern)
    _check_roles(data.get("roles", {}), {rule.path for rule in grammar.rules()})
    return Platform(
        name=platform["name"],
        grammar=grammar,
        spelling=Spelling(platform["comment"], platform["remove"], platform["insert_before"], platform["insert_last"]),
        dialect=_dialect(data["session"], data["edit"]),
        readings={name: ReadingDefinition(r["command"], dict(r["columns"])) for name, r in data.get("readings", {}).items()},
        roles=dict(data.get("roles", {})),
    )


# What the checks derived from one role need to know besides.
_COMPANIONS = {"interface": ("enabled",), "ospf_interface": ("interface", "ipv4_address", "ospf_passive")}


def _check_roles(roles: Mapping[str, str], statements: Collection[str]) -> None:
    for role, path in roles.items():
        if path not in statements:
            raise ValueError(f"the role '{role}' is '{path}', which is no statement; {suggestion(path, statements)}")
        for needed in _COMPANIONS.get(role, ()):
            if needed not in roles:
                raise ValueError(f"the role '{role}' needs the role '{needed}' beside it")


def _dialect(session: Mapping[str, Any], edit: Mapping[str, Any]) -> Dialect:
    pager = session.get("pager", {})
    privilege = session.get("raise", {})
    return Dialect(
        prompts=dict(session["prompts"]),
        errors=tuple(session["errors"]),
        prepare=tuple(session.get("prepare", ())),
        pager_prompt=pager.get("prompt"),
        pager_answer=pager.get("answer", " "),
        raise_command=privilege.get("command"),
        raise_password=privilege.get("password"),
        leave=session["leave"],
        running=edit["running"],
        startup=edit["startup"],
        enter=edit["enter"],
        leave_edit=edit["leave"],
        arm=edit.get("arm"),
        confirm=edit.get("confirm"),
        revert=edit.get("revert"),
        save=edit.get("save"),
    )


def _rules(statements: Mapping[str, Mapping[str, Any]], types: Mapping[str, ValueType]) -> Rule:
    root = Rule(word="", path="", kind="container")
    by_path = {"": root}
    for order, (path, declaration) in enumerate(statements.items()):
        outer, _, word = path.rpartition("/")
        if outer not in by_path:
            raise ValueError(f"'{path}' stands before '{outer}', or '{outer}' is missing")
        rule = _rule(path, word, order, declaration, types)
        by_path[outer].children[word] = by_path[path] = rule
    for path, rule in by_path.items():
        if rule.refers is not None and rule.refers not in by_path:
            raise ValueError(f"'{path}' refers to '{rule.refers}', which is no statement; {suggestion(rule.refers, by_path)}")
    return root


_FIELDS = {"kind", "takes", "keys", "default", "ordered-by", "presence", "secret", "volatile", "unique", "refers", "needs"}


def _rule(path: str, word: str, order: int, declaration: Mapping[str, Any], types: Mapping[str, ValueType]) -> Rule:
    for name in declaration:
        if name not in _FIELDS:
            raise ValueError(f"'{path}': '{name}' is not known; {suggestion(name, _FIELDS)}")
    if declaration["kind"] not in ("container", "list", "leaf", "leaf-list"):
        raise ValueError(f"'{path}': kind '{declaration['kind']}' is not container, list, leaf or leaf-list")
    rule = Rule(
        word=word,
        path=path,
        kind=declaration["kind"],
        order=order,
        arguments=_arguments(path, declaration.get("takes", ""), types),
        keys=declaration.get("keys", 0),
        user_ordered=declaration.get("ordered-by") == "user",
        presence=declaration.get("presence", False),
        secret=declaration.get("secret", False),
        volatile=declaration.get("volatile", False),
        unique=declaration.get("unique", False),
        refers=declaration.get("refers"),
        needs=declaration.get("needs"),
    )
    if "default" in declaration:
        rule.default = " ".join(arguments_of(rule, str(declaration["default"]).split()))
    return rule


def _arguments(path: str, takes: str, types: Mapping[str, ValueType]) -> tuple[Argument, ...]:
    arguments = []
    for optional, plain in re.findall(r"\[([^\]]+)\]|(\S+)", takes):
        keyword, _, type_name = optional.partition(" ") if optional else (None, "", plain)
        if type_name and type_name not in types:
            raise ValueError(f"'{path}': there is no type '{type_name}'; {suggestion(type_name, types)}")
        arguments.append(Argument(types[type_name] if type_name else None, keyword))
    return tuple(arguments)
