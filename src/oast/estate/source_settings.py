"""`[[sources]]` in oast.toml: sources of devices, in addition to the engineer's own files. See
docs/sources.md."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import SplitResult, urlsplit

import jmespath
from jmespath.exceptions import JMESPathError

from oast.estate import publish_settings as publishing
from oast.estate.publish_settings import PublishSettings
from oast.records import Place
from oast.toml_text import Table, TomlFile

JSON, CSV, ZONE = "json", "csv", "zone"
ENDINGS = {"csv": CSV, "zone": ZONE}
NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,31}")
NEEDED = ("name", "address", "platform")
# A refresh that would remove more than this is refused.
MOST_REMOVED = 10
MOST_SHARE = 0.1
# Of all pages together.
MOST_RECORDS, MOST_BYTES = 200_000, 256_000_000

Search = Callable[[Any], Any]


@dataclass(frozen=True, slots=True)
class Mapped:
    """Where an attribute stands in a record: at the JMESPath `path`; what it says there becomes what `values`
    has for it; `default` stands for nothing."""

    path: str
    search: Search = field(compare=False, repr=False)
    values: Mapping[str, str] = field(default_factory=dict)
    default: Any = None
    place: Place | None = None


@dataclass(frozen=True, slots=True)
class SourceSettings:
    """One source. It is a `url`, a `file`, or a `folder` of saved configurations; its `format` is json, csv,
    or zone, which is a DNS zone in a master file (RFC 1035) whose name is `origin`.

    In JSON, the list of records is at `records`, the address of the next page at `following`, and the total
    number at `count` (JMESPath; None: the whole document, the Link header, and unknown). Only records for
    which `which` is true are taken. `token` names the secret that is sent as a bearer token (RFC 6750); TLS
    is verified, with `authority` in place of the system's. `record` is where a record has its name in the
    source (JMESPath). A refresh removes at most `most_removed` devices, and at most `most_share` (0 to 1) of
    them; at most `most_records` and `most_bytes` of all pages together are taken.
    """

    name: str
    url: SplitResult | None
    file: Path | None
    folder: Path | None
    format: str
    origin: str | None
    token: str | None
    authority: Path | None
    records: str | None
    following: str | None
    count: str | None
    which: str | None
    record: str | None
    attributes: Mapping[str, Mapped]
    most_removed: int
    most_share: float
    most_records: int
    most_bytes: int
    timeout_s: float
    place: Place
    publish: PublishSettings | None = None

    @property
    def owned(self) -> str:
        """The inventory file that Oast writes for it."""
        return f"inventory/{self.name}.source.yaml"


def read_source_settings(file: TomlFile, folder: Path) -> tuple[SourceSettings, ...]:
    """What is wrong is noted in the file."""
    found: list[SourceSettings] = []
    for table in file.array("sources"):
        source = _source(table, folder)
        if any(other.name == source.name for other in found):
            table.wrong("name", f"two sources have the name '{source.name}'")
        found.append(source)
    return tuple(found)


def _source(table: Table, folder: Path) -> SourceSettings:
    name = _name(table)
    url, path, saved = _url(table), table.text("file"), table.text("folder")
    if (path is not None) + (saved is not None) + table.has("url") != 1:
        table.wrong(None, "a source needs one of 'url', 'file' and 'folder'")
    ending = (url.path if url is not None else path or "").rpartition(".")[2].lower()
    form = table.choice("format", (JSON, CSV, ZONE), ENDINGS.get(ending, JSON))
    for key in ("records", "next", "count"):
        if (form != JSON or saved is not None) and table.has(key):
            table.wrong(
                key,
                f"'{key}' can only be used with JSON",
                "remove it: this format is already a list of records",
            )
    if form != ZONE and table.has("origin"):
        table.wrong(
            "origin", "'origin' can only be used with a DNS zone", 'set format = "zone", or remove it'
        )
    if saved is not None and table.has("format"):
        table.wrong("format", "'format' cannot be used with a folder of saved configurations")
    if url is None and table.has("token"):
        table.wrong("token", "'token' needs 'url'")
    token = _token(table)
    if token is not None and url is not None and url.scheme == "http" and not _is_here(url.hostname or ""):
        table.wrong("url", "a token can only be sent over TLS", f"write https://{url.netloc}")
    authority = table.text("authority")
    limits = table.table("limits")
    settings = SourceSettings(
        name=name,
        url=url,
        file=None if path is None else (folder / Path(path).expanduser()).resolve(),
        folder=None if saved is None else (folder / Path(saved).expanduser()).resolve(),
        format=form,
        origin=table.text("origin"),
        token=token,
        authority=None if authority is None else (folder / Path(authority).expanduser()).resolve(),
        records=_path(table, "records"),
        following=_path(table, "next"),
        count=_path(table, "count"),
        which=_path(table, "which"),
        record=_path(table, "record"),
        attributes=_attributes(table),
        most_removed=int(limits.count("removed", MOST_REMOVED)) if limits is not None else MOST_REMOVED,
        most_share=limits.fraction("share", MOST_SHARE) if limits is not None else MOST_SHARE,
        most_records=int(limits.count("records", MOST_RECORDS)) if limits is not None else MOST_RECORDS,
        most_bytes=int(limits.count("bytes", MOST_BYTES)) if limits is not None else MOST_BYTES,
        timeout_s=table.positive("timeout_s", 30.0),
        place=table.place(),
        publish=publishing.read_publish_settings(table, url, table.text("record")),
    )
    if limits is not None:
        limits.finish()
    table.finish()
    return settings


def _name(table: Table) -> str:
    name = table.needed("name")
    if name and not NAME.fullmatch(name):
        table.wrong(
            "name",
            f"'{name}' is not a valid name for a source",
            "use lowercase letters, digits and -, because it becomes a file name",
        )
    if name == "onboarded":
        table.wrong("name", "'onboarded' is reserved for devices that were onboarded", "choose another name")
    return name


def _url(table: Table) -> SplitResult | None:
    written = table.text("url")
    if written is None:
        return None
    try:
        url = urlsplit(written)
        port = url.port
    except ValueError:
        url, port = urlsplit(""), None
    if (
        url.scheme not in ("https", "http")
        or not url.hostname
        or port == 0
        or any(c.isspace() for c in written)
    ):
        table.wrong(
            "url",
            "'url' must be https://… or http://…",
            "such as https://inventory.larkwater.example/devices",
        )
        return None
    if url.username is not None or url.password is not None:
        table.wrong(
            "url",
            "it contains a secret, which must not be in a file of the estate",
            ("name a secret: token = { secret = 'NAME' }"),
        )
        return None
    return url


def _is_here(host: str) -> bool:
    """Return whether the connection cannot be overheard."""
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


def _token(table: Table) -> str | None:
    inner = table.table("token", "{ secret = 'NAME' }, which names a secret")
    if inner is None:
        return None
    name = inner.needed("secret")
    inner.finish()
    return name or None


def _path(table: Table, key: str) -> str | None:
    written = table.text(key)
    return written if written is not None and _search(table, key, written) is not None else None


def _search(table: Table, key: str, path: str) -> Search | None:
    try:
        search: Search = jmespath.compile(path).search
    except JMESPathError as wrong:
        table.wrong(key, f"'{path}' is not a valid JMESPath expression: {str(wrong).splitlines()[0]}")
        return None
    return search


def _attributes(table: Table) -> Mapping[str, Mapped]:
    inner = table.table("attributes", "a JMESPath for each attribute: { name = 'hostname' }")
    found: dict[str, Mapped] = {}
    for name in inner.data if inner is not None else ():
        if inner is None:
            break
        value = inner.value(name)
        if isinstance(value, dict):
            one = inner.table(name)
            assert one is not None  # noqa: S101  # it is a mapping
            path, values, default = (
                one.text("path"),
                one.mapping("values", "a value for each: { 'QX-4' = 'bine' }"),
                one.value("default"),
            )
            if path is None and default is None:
                one.wrong(None, f"'{name}' needs a 'path', a 'default', or both")
            if default is not None and not _is_plain(default):
                one.wrong("default", "'default' must be a value or a list of values")
            one.finish()
        elif isinstance(value, str):
            path, values, default = value, {}, None
        else:
            inner.wrong(name, f"'{name}' must be a JMESPath expression", f"such as {name} = 'hostname'")
            continue
        search = _search(inner, name, path) if path else (lambda record: None)
        if search is not None:
            found[name] = Mapped(path or "", search, values, default, inner.place(name))
    for name in NEEDED:
        if inner is None or name not in inner.data:
            key = "attributes" if inner is not None else None
            table.wrong(
                key,
                f"'{name}' is missing in [sources.attributes]",
                (f"add {name} = 'PATH' below [sources.attributes]"),
            )
    return found


def _is_plain(value: Any) -> bool:
    values = value if isinstance(value, list) else [value]
    return all(isinstance(one, str | int | float | bool) for one in values)
