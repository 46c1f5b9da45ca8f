"""A DNS zone in the form of a master file (RFC 1035, section 5) as records: one for each owner name."""

from __future__ import annotations

import re
from typing import Any

import dns.exception
import dns.name
import dns.rdatatype
import dns.zone

_LINE = re.compile(r"<string>:(\d+)")


def zone_records(text: str, origin: str | None) -> list[dict[str, Any]]:
    """Each owner name with its data by type, in the order of the file: `{"name": "gull-core-1", "fqdn": …,
    "a": ["192.0.2.11"]}`.

    `origin` is the name of the zone, where the file does not say it itself ($ORIGIN); what is not in the zone
    is left out. No other file is included. Raises ValueError that says what is wrong, with the line where
    that is known.
    """
    try:
        zone = dns.zone.from_text(
            text, origin=origin, relativize=False, check_origin=False, allow_include=False
        )
    except (dns.exception.DNSException, ValueError) as wrong:
        raise ValueError(_LINE.sub(r"near line \1", str(wrong)) or type(wrong).__name__) from None
    found: list[dict[str, Any]] = []
    for name, node in zone.nodes.items():
        relative = name.relativize(zone.origin) if zone.origin is not None else name
        record: dict[str, Any] = {"name": relative.to_text(True), "fqdn": name.to_text(True)}
        for data in node.rdatasets:
            record[dns.rdatatype.to_text(data.rdtype).lower()] = [_written(one) for one in data]
        found.append(record)
    return found


def _written(data: Any) -> str:
    """The data of one record as people write it; texts without their quotes, names without the point at their
    end."""
    strings = getattr(data, "strings", None)
    if strings is not None:
        return b"".join(strings).decode("utf-8", "replace")
    text: str = data.to_text()
    return text.removesuffix(".")
