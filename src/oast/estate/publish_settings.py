"""`[sources.publish]` in oast.toml: what of a source's records Oast owns, and writes."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import SplitResult, quote

import jmespath
from jmespath.exceptions import JMESPathError

from oast.records import Place
from oast.toml_text import Table

HERE = "{record}"
FIELD = re.compile(r"[A-Za-z_][A-Za-z0-9_-]*(?:\.[A-Za-z_][A-Za-z0-9_-]*)*")
# What is known of a device in addition to its readings.
BESIDES = ("last_change", "last_backup", "drift")


@dataclass(frozen=True, slots=True)
class Published:
    """A field of a record, by the names that lead to it, and the JMESPath expression that computes it from
    what is known of the device."""

    at: tuple[str, ...]
    path: str
    place: Place

    def of(self, known: Mapping[str, Any]) -> Any:
        """Return the field's value; None when it is unknown. Raises ValueError."""
        try:
            return jmespath.search(self.path, known)
        except (JMESPathError, TypeError, ValueError) as wrong:
            raise ValueError(
                f"'{self.path}' does not match the records: {str(wrong).splitlines()[0]}"
            ) from None

    @property
    def names(self) -> frozenset[str]:
        """The fields that the path speaks of: among them the readings that it needs."""
        return frozenset(_fields(jmespath.compile(self.path).parsed))


@dataclass(frozen=True, slots=True)
class PublishSettings:
    """Where a record is written (RFC 6570, level 1: `{record}` is what the source calls it), and the fields
    that are."""

    at: str
    fields: tuple[Published, ...]

    def url(self, record: str) -> str:
        """The address of a record."""
        return self.at.replace(HERE, quote(record, safe=""))


def _fields(node: Any) -> Iterator[str]:
    if isinstance(node, dict):
        if node.get("type") == "field":
            yield str(node["value"])
        for one in node.get("children", ()):
            yield from _fields(one)


def read_publish_settings(
    table: Table, url: SplitResult | None, record: str | None
) -> PublishSettings | None:
    """What is wrong is noted in the file."""
    inner = table.table("publish")
    if inner is None:
        return None
    if url is None:
        inner.wrong(None, "publishing needs a source over HTTP", "the source has no 'url'")
    if record is None:
        inner.wrong(
            None,
            "'record' is missing: the field that identifies a record in the source",
            "add record = 'PATH' below [[sources]]",
        )
    at = inner.text("at") or (
        f"{url._replace(query='', fragment='').geturl().rstrip('/')}/{HERE}" if url is not None else HERE
    )
    if HERE not in at or (url is not None and not at.startswith(f"{url.scheme}://{url.netloc}/")):
        inner.wrong("at", f"'at' must be a URL of the same service that contains {HERE}")
    fields: list[Published] = []
    for name, path in inner.mapping(
        "fields", "a JMESPath for each field of a record: { 'seen.serial' = 'system.\"serial-num\"' }"
    ).items():
        place = inner.place("fields")
        if not FIELD.fullmatch(name):
            inner.wrong(
                "fields",
                f"'{name}' is not a field name",
                ("write names with dots between them, such as seen.serial"),
            )
            continue
        try:
            jmespath.compile(path)
        except JMESPathError as wrong:
            inner.wrong(
                "fields", (f"'{path}' is not a valid JMESPath expression: {str(wrong).splitlines()[0]}")
            )
            continue
        fields.append(Published(tuple(name.split(".")), path, place))
    for one in fields:
        if any(one is not other and other.at[: len(one.at)] == one.at for other in fields):
            inner.wrong("fields", f"'{'.'.join(one.at)}' and a field inside it cannot both be published")
    if not fields:
        inner.wrong("fields", "'fields' is missing", "fields = { FIELD = 'PATH' }")
    inner.finish()
    return PublishSettings(at, tuple(fields))
