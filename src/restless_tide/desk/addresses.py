"""Mail addresses, checked by the email-validator library and written one way."""

from __future__ import annotations

from email_validator import EmailNotValidError, validate_email

from restless_tide.core.errors import Invalid


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
