"""A platform definition made of YANG modules (RFC 7950), from a folder or as a device gave them; read by
pyang."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pyang import error as yang_errors
from pyang.context import Context
from pyang.repository import FileRepository

from oast.errors import EstateError
from oast.platforms.yang_types import Types, YangStatement, leafref_target
from oast.records import Place, Problem

KINDS = ("container", "list", "leaf", "leaf-list")
# What a server never shows (RFC 8341, section 7), and the hash of a password (RFC 7317).
DENIED = ("ietf-netconf-acm", "default-deny-all")
HASH = "iana-crypt-hash:crypt-hash"
# Modules do not mark all that is secret: what is called like that is rather hidden than shown.
SECRET = re.compile(
    r"(?:^|-)(?:password|passphrase|secret|key-string|private-key|pre-shared-key|auth-key)(?:$|-)"
)
MOST_TOLD = 20


@dataclass(frozen=True)
class ModuleText:
    """A module that a device implements: where its text is from, and the features it supports (None: all)."""

    name: str
    text: str
    origin: str
    features: tuple[str, ...] | None = None


@dataclass
class GeneratedPlatform:
    """A platform definition, and what of the modules has no place in it."""

    text: str
    modules: list[str]
    statements: int
    left_out: list[str] = field(default_factory=list)


def texts_in(folder: Path) -> list[ModuleText]:
    """The modules in a folder. Raises EstateError."""
    try:
        found = sorted(folder.glob("*.yang"))
        texts = [
            ModuleText(path.stem.partition("@")[0], path.read_text(encoding="utf-8"), str(path))
            for path in found
        ]
    except (OSError, UnicodeDecodeError) as error:
        raise EstateError(f"cannot read the modules in {folder}: {error}") from None
    if not texts:
        raise EstateError(
            f"no YANG modules in {folder}",
            hint="name the files NAME.yang or NAME@REVISION.yang",
        )
    return texts


def platform_of(name: str, texts: Sequence[ModuleText], folders: Iterable[Path] = ()) -> GeneratedPlatform:
    """The definition of a platform called `name` whose devices implement the modules `texts`.

    What they import is looked for in `folders` and among the modules that come with pyang. Raises EstateError
    with what is wrong in the modules.
    """
    context = _read(texts, folders)
    statements = [context.get_module(one.name) for one in texts]
    modules = [module for module in statements if module is not None and module.keyword == "module"]
    identities = [
        one
        for module in context.modules.values()
        if module is not None
        for one in module.search("identity")
        if not hasattr(one, "i_not_implemented")
    ]
    walk = _Walk(Types(identities))
    for module in modules:
        walk.below(module.i_children, "", None)
    if not walk.lines:
        raise EstateError(
            "these modules define nothing that can be configured", hint="give modules that define data nodes"
        )
    used = sorted({*walk.modules, *_identity_modules(walk.types)})
    known = {module.arg: module for module in context.modules.values() if module is not None}
    text = "".join(
        f"{line}\n" for line in _file(name, modules, [known[one] for one in used if one in known], walk)
    )
    return GeneratedPlatform(text, [module.arg for module in modules], len(walk.lines), walk.left_out)


def _read(texts: Sequence[ModuleText], folders: Iterable[Path]) -> Context:
    context = Context(
        FileRepository(os.pathsep.join(map(str, folders)) if folders else "/nonexistent", use_env=True)
    )
    context.canonical = False
    for one in texts:
        if one.features is not None:
            context.features[one.name] = list(one.features)
    try:
        for one in texts:
            context.add_module(one.origin, one.text)
        context.validate()
        # Statements under a feature that the device lacks are not supported by it.
        for module in list(context.modules.values()):
            if module is not None:
                module.prune()
    except Exception as error:  # whatever a parser does with what is no YANG
        raise EstateError(f"cannot read the modules: {type(error).__name__}: {error}") from None
    ours = {one.origin for one in texts}
    wrong = []
    for position, tag, arguments in context.errors:
        if yang_errors.is_error(yang_errors.err_level(tag)):
            text = yang_errors.err_to_str(tag, arguments)
            hint = "add it to the folder" if tag == "MODULE_NOT_FOUND" else None
            wrong.append(Problem(text, Place(str(position.ref), position.line), hint))
    mine = [problem for problem in wrong if problem.place is not None and problem.place.file in ours] or wrong
    if mine:
        raise EstateError.of(mine[:MOST_TOLD])
    return context


def _identity_modules(types: Types) -> Iterator[str]:
    for body in types.made.values():
        if body.startswith("identities = "):
            yield from (
                identity.partition(":")[0] for identity in json.loads(body.removeprefix("identities = "))
            )


@dataclass
class _Walk:
    """Goes through what can be configured, outer before inner."""

    types: Types
    lines: list[tuple[str, str]] = field(default_factory=list)
    modules: set[str] = field(default_factory=set)
    left_out: list[str] = field(default_factory=list)
    paths: dict[int, str] = field(default_factory=dict)
    """The path of each statement of the schema, for references."""
    references: list[tuple[int, YangStatement, str]] = field(default_factory=list)

    def below(
        self, children: Iterable[YangStatement], path: str, module: str | None, *, optional: bool = False
    ) -> None:
        """`optional`: what is mandatory there need not be there, as it stands in one case of a choice."""
        there = list(_data(children, optional=optional))
        names = [child.arg for child, _ in there]
        for child, in_case in there:
            own = child.i_module.i_modulename
            name = f"{own}:{child.arg}" if names.count(child.arg) > 1 else child.arg
            self._statement(child, f"{path}/{name}".lstrip("/"), module, in_case=in_case)

    def _statement(self, child: YangStatement, path: str, module: str | None, *, in_case: bool) -> None:
        own = child.i_module.i_modulename
        if child.keyword not in KINDS:
            self.left_out.append(f"{path} ({child.keyword} has no schema)")
            return
        parts = [f'kind = "{child.keyword}"']
        if own != module:
            parts.insert(0, f'module = "{own}"')
            self.modules.add(own)
        if child.keyword == "list" and not child.i_key:
            self.left_out.append(f"{path} (a list without keys)")
            return
        parts += self._parts(child, path, in_case=in_case)
        self.paths[id(child)] = path
        self.lines.append((path, ", ".join(parts)))
        if child.keyword in ("container", "list"):
            keys = list(child.i_key) if child.keyword == "list" else []
            for key in keys:
                self.paths[id(key)] = path
            inner = [one for one in child.i_children if not any(one is key for key in keys)]
            self.below(inner, path, own)

    def _parts(self, child: YangStatement, path: str, *, in_case: bool) -> list[str]:
        parts: list[str] = []
        if child.keyword == "list":
            words = [f"{key.arg}:{self.types.of(key) or 'text'}" for key in child.i_key]
            parts += [f'takes = "{" ".join(words)}"', f"keys = {len(words)}"]
            for key in child.i_key:
                self._reference(key, key.arg)
        elif child.keyword in ("leaf", "leaf-list"):
            kind = self.types.of(child)
            parts += [f'takes = "{kind}"'] if kind is not None else []
            default = _default(child)
            if child.keyword == "leaf" and default is not None and kind is not None:
                # An identity's prefix means something in its own module alone.
                identity = self.types.made.get(kind, "").startswith("identities")
                parts.append(
                    "default ="
                    f" {json.dumps(default.rpartition(':')[2] if identity else default, ensure_ascii=False)}"
                )
            self._reference(child, None)
            if _is_secret(child):
                parts.append("secret = true")
        if child.keyword == "container" and child.search_one("presence") is not None:
            parts.append("presence = true")
        ordered = child.search_one("ordered-by")
        if ordered is not None and ordered.arg == "user":
            parts.append('ordered-by = "user"')
        least = child.search_one("min-elements")
        mandatory = child.search_one("mandatory")
        most = child.search_one("max-elements")
        if most is not None and most.arg != "unbounded":
            parts.append(f"max-elements = {most.arg}")
        if least is not None and least.arg != "0":
            parts.append(f"min-elements = {least.arg}")
        elif mandatory is not None and mandatory.arg == "true" and not in_case and not _conditional(child):
            parts.append("min-elements = 1")
        return parts

    def _reference(self, leaf: YangStatement, key: str | None) -> None:
        kind = leaf.search_one("type")
        target = leafref_target(leaf)
        requires = kind.search_one("require-instance") if kind is not None else None
        if (
            target is not None
            and getattr(target, "i_is_key", False)
            and (requires is None or requires.arg == "true")
        ):
            self.references.append((len(self.lines), target, key or ""))

    def with_references(self) -> Iterator[tuple[str, str]]:
        """Every statement, with what it refers to: known only when all have their paths."""
        expected: dict[int, list[str]] = {}
        for number, target, key in self.references:
            path = self.paths.get(id(target))
            if path is None or ":" in path:
                continue
            several = len(target.parent.i_key) > 1
            said = f"{path}:{target.arg}" if several else path
            expected.setdefault(number, []).append(f'{key} = "{said}"' if key else f'"{said}"')
        for number, (path, parts) in enumerate(self.lines):
            found = expected.get(number, [])
            if not found:
                yield path, parts
            elif "=" in found[0]:
                yield path, f"{parts}, leafref = {{ {', '.join(found)} }}"
            else:
                yield path, f"{parts}, leafref = {found[0]}"


def _data(children: Iterable[YangStatement], *, optional: bool) -> Iterator[tuple[YangStatement, bool]]:
    """What can be configured, through choices and cases (RFC 7950, section 7.9), and whether it is one case
    of a choice."""
    for child in children:
        augment = getattr(child, "i_augment", None)
        if (
            getattr(child, "i_config", True) is False
            or hasattr(child, "i_not_implemented")
            or hasattr(augment, "i_not_implemented")
        ):
            continue
        if child.keyword in ("choice", "case"):
            yield from _data(child.i_children, optional=True)
        elif child.keyword not in ("rpc", "notification", "action"):
            yield child, optional


def _conditional(child: YangStatement) -> bool:
    """Whether it is there only under a condition, its own or of the augment that it comes by."""
    augment = getattr(child, "i_augment", None)
    return child.search_one("when") is not None or (
        augment is not None and augment.search_one("when") is not None
    )


def _default(leaf: YangStatement) -> str | None:
    """The leaf's own default, or that of its type (RFC 7950, section 7.6.1)."""
    own = leaf.search_one("default")
    if own is not None:
        return str(own.arg)
    kind = leaf.search_one("type")
    while kind is not None and getattr(kind, "i_typedef", None) is not None:
        default = kind.i_typedef.search_one("default")
        if default is not None:
            return str(default.arg)
        kind = kind.i_typedef.search_one("type")
    return None


def _is_secret(leaf: YangStatement) -> bool:
    kind = leaf.search_one("type")
    typedef = getattr(kind, "i_typedef", None)
    if SECRET.search(str(leaf.arg)) or (
        typedef is not None and f"{typedef.i_module.arg}:{typedef.arg}" == HASH
    ):
        return True
    outer = leaf
    while outer is not None:
        if any(sub.keyword == DENIED for sub in outer.substmts):
            return True
        outer = outer.parent
    return False


# What the modules of the IETF are for checks and safety rules, where they are there.
ROLES: Mapping[str, str] = {
    "interface": "interfaces/interface",
    "enabled": "interfaces/interface/enabled",
    "network_instance": "interfaces/interface/bind-ni-name",
    "ipv4_address": "interfaces/interface/ipv4/address",
    "ipv4_prefix_length": "interfaces/interface/ipv4/address/prefix-length",
    "ipv6_address": "interfaces/interface/ipv6/address",
    "ipv6_prefix_length": "interfaces/interface/ipv6/address/prefix-length",
    "static_route": "routing/control-plane-protocols/control-plane-protocol/static-routes/ipv4/route",
    "access_list": "acls/acl",
    "user": "system/authentication/user",
    "community": "snmp/community/text-name",
}


def _file(
    name: str, modules: Sequence[YangStatement], used: Sequence[YangStatement], walk: _Walk
) -> Iterator[str]:
    yield f"# {name}: generated by 'oast platform from-yang' from the YANG modules"
    for module in modules:
        revision = module.search_one("revision")
        yield f"#   {module.arg}{f' of {revision.arg}' if revision is not None else ''}"
    yield "# format: docs/platforms.md"
    yield from (
        "",
        "format = 2",
        "",
        "[platform]",
        f"name = {json.dumps(name)}",
        'syntax = "xml"',
        'transport = "netconf"',
        'comment = "#"',
    )
    yield from (
        "",
        "[netconf]",
        "validate = true",
        "poll_s = 1.0",
        "",
        "# Every statement belongs to one of these.",
        "[modules]",
    )
    for module in used:
        namespace, prefix = module.search_one("namespace").arg, module.search_one("prefix").arg
        yield f"{module.arg} = {{ namespace = {json.dumps(namespace)}, prefix = {json.dumps(prefix)} }}"
    paths = {path for path, _ in walk.lines}
    roles = {role: path for role, path in ROLES.items() if path in paths}
    yield from _roles(roles)
    yield from _readings(paths, {module.arg for module in used})
    if walk.types.made:
        yield from ("", "[types]")
        yield from (f"{_key(called)} = {{ {body} }}" for called, body in walk.types.made.items())
    yield from ("", "[statements]")
    for path, parts in walk.with_references():
        if "/" not in path:
            yield ""
        yield f'"{path}" = {{ {parts} }}'


def _key(name: str) -> str:
    return name if name.replace("-", "").replace("_", "").isalnum() else json.dumps(name)


def _roles(roles: Mapping[str, str]) -> Iterator[str]:
    if "interface" in roles and "enabled" in roles:
        yield from (
            "",
            "# Roles: the statements that derived checks and safety rules need to know.",
            "[roles]",
        )
        yield from (f'{role} = "{path}"' for role, path in roles.items())


def _readings(paths: set[str], modules: set[str]) -> Iterator[str]:
    """The readings that the modules of the IETF give (RFC 8343, RFC 8344, RFC 7407)."""
    if "snmp/community/text-name" in paths:
        yield from (
            "",
            "[readings.communities]",
            'statements = "snmp/community"',
            'leaves = { community = "text-name" }',
        )
    if "interfaces/interface" not in paths:
        return
    at = "ietf-interfaces:"
    fields: dict[str, Any] = {
        "name": f"{at}name",
        "admin-status": f"{at}admin-status",
        "oper-status": f"{at}oper-status",
    }
    for family in ("ipv4", "ipv6"):
        if "ietf-ip" in modules:
            address = f"ietf-ip:{family}/ietf-ip:address"
            fields[f"{family}-address"] = (
                f"each({address}, \"concat(ietf-ip:ip, '/', ietf-ip:prefix-length)\")"
            )
    yield from (
        "",
        "# --- readings: the path to read, and the XPath of each field in it",
        "[readings.interfaces]",
    )
    yield f'command = "/{at}interfaces"'
    yield f'elements = "{at}interface"'
    yield f"xpaths = {{ {', '.join(f'{name} = {json.dumps(path)}' for name, path in fields.items())} }}"
