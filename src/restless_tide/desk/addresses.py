"""Mail addresses, checked by the email-validator library and written one way; and where the desk may call."""

from __future__ import annotations

import socket
from urllib.parse import urlsplit

from email_validator import EmailNotValidError, validate_email

from restless_tide.core.errors import Invalid
from restless_tide.desk.settings import Settings
from restless_tide.peers import leads_inward


def mail_address(text: str) -> str:
    """The address in its normal form, lower case. Raises Invalid."""
    try:
        return validate_email(text.strip(), check_deliverability=False).normalized.lower()
    except EmailNotValidError as wrong:
        raise Invalid(
            f"{text!r} is no mail address: {str(wrong).rstrip('.')}.",
            remedy="Write it like wren@example.org.",
            code="address-unfit",
        ) from None


def demand_reachable(url: str, settings: Settings) -> None:
    """Raise Invalid for an address that is not http(s), or that leads inward where the operator forbade it."""
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise Invalid(
            f"{url!r} is no http(s) address.", remedy="Write it like https://store.example.org.", code="address-unfit"
        )
    if not settings.forbid_inward:
        return
    try:
        found = {str(entry[4][0]) for entry in socket.getaddrinfo(parts.hostname, parts.port or 443)}
    except OSError:
        found = set()
    inward = [where for where in found if leads_inward(where)]
    if inward or not found:
        raise Invalid(
            f"{parts.hostname} leads {'inward (' + inward[0] + ')' if inward else 'nowhere'}, which this desk forbids.",
            remedy="Use a public address, or have the operator unset TIDE_FORBID_INWARD.",
            code="address-inward",
        )
