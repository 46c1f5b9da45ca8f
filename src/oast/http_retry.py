"""What those who speak HTTP have in common."""

from __future__ import annotations

import email.utils
from datetime import UTC, datetime


def retry_after_s(value: str | None, now: datetime) -> float | None:
    """The seconds that a Retry-After field says (RFC 9110, section 10.2.3: seconds, or a date); None for
    none, and for what is neither."""
    if value is None:
        return None
    if value.strip().isdecimal():
        return float(value)
    try:
        date = email.utils.parsedate_to_datetime(value)
    except ValueError:
        return None
    return max(0.0, (date.replace(tzinfo=date.tzinfo or UTC) - now).total_seconds())
