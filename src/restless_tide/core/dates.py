"""Dates and waits as HTTP headers write them."""

from __future__ import annotations

import math
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

from restless_tide.core.numbers import whole_number


def http_date(text: str) -> datetime | None:
    """An instant as RFC 9110 (section 5.6.7) writes it; None: it is none."""
    try:
        told = parsedate_to_datetime(text)
    except (ValueError, TypeError):
        return None
    return told if told.tzinfo else told.replace(tzinfo=UTC)


def seconds_asked(text: str) -> float:
    """Retry-After (RFC 9110, section 10.2.3): seconds, or an instant."""
    asked = whole_number(text)
    if asked is not None:
        return float(asked)
    until = http_date(text)
    seconds = (until - datetime.now(UTC)).total_seconds() if until else 0.0
    return seconds if math.isfinite(seconds) and seconds > 0 else 0.0
