"""Locales: language tags as RFC 5646 (BCP 47) writes them."""

from __future__ import annotations

import re

from restless_tide.core.errors import Invalid

LONGEST_TAG = 35
"""Characters that RFC 5646, section 4.4.1, asks everybody to take."""
_TAG = re.compile(
    r"(?P<language>[A-Za-z]{2,3})(-(?P<script>[A-Za-z]{4}))?(-(?P<region>[A-Za-z]{2}|\d{3}))?"
    r"(?P<rest>(-([A-Za-z0-9]{5,8}|\d[A-Za-z0-9]{3}))*)"
)


def locale_of(text: str) -> str:
    """A locale in its usual form: ``de``, ``de-AT``, ``zh-Hant-TW``. Raises Invalid for what is no language tag."""
    found = _TAG.fullmatch(text.strip()) if len(text) <= LONGEST_TAG else None
    if found is None:
        raise Invalid(
            f"{text[:LONGEST_TAG]!r} is no locale.", remedy="Write it like en or de-AT (BCP 47).", code="language-unfit"
        )
    script, region = found["script"], found["region"]
    return "-".join(
        filter(
            None,
            (
                found["language"].lower(),
                script.title() if script else "",
                region.upper() if region else "",
                found["rest"].lower().strip("-"),
            ),
        )
    )


def language_of(locale: str) -> str:
    """The language alone: ``de`` of ``de-AT``."""
    return locale.partition("-")[0].lower()
