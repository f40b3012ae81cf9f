"""How a desk is set up, read from the environment once at the start."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from restless_tide.core.errors import Invalid

DEFAULT_PORT = 7100


@dataclass(frozen=True)
class Settings:
    """``public_address`` is what people and stores reach the desk by; it stands in mails.

    ``push`` has stores push their events there. ``forbid_inward`` refuses gateways and webhooks on this machine or
    in a private network. ``packages_quota_bytes`` is the most the desk keeps; None: no bound. ``repositories`` is the
    folder in which source repositories lie. Seconds are real seconds.
    """

    data: Path
    host: str = "127.0.0.1"
    port: int = DEFAULT_PORT
    public_address: str = ""
    master_key: str | None = None
    smtp_host: str = "127.0.0.1"
    smtp_port: int = 25
    mail_from: str = "desk@saltgrass.example.org"
    largest_package_bytes: int = 4 * 1024**3
    poll_seconds: float = 2.0
    steppable_clock: bool = False
    push: bool = True
    forbid_inward: bool = False
    packages_quota_bytes: int | None = None
    repositories: Path | None = None

    @property
    def address(self) -> str:
        return self.public_address or f"http://{self.host}:{self.port}"


def settings_from(environment: Mapping[str, str]) -> Settings:
    """Read ``TIDE_*``. Raises Invalid naming the variable that cannot be read."""
    given = {
        name.removeprefix("TIDE_").lower(): value for name, value in environment.items() if name.startswith("TIDE_")
    }

    def number(name: str, otherwise: float) -> float:
        try:
            return float(given.get(name, otherwise))
        except ValueError:
            raise Invalid(f"TIDE_{name.upper()} is {given[name]!r}, which is no number.") from None

    return Settings(
        data=Path(given.get("data", "desk-data")),
        host=given.get("host", Settings.host),
        port=int(number("port", DEFAULT_PORT)),
        public_address=given.get("public_address", "").rstrip("/"),
        master_key=given.get("master_key"),
        smtp_host=given.get("smtp_host", Settings.smtp_host),
        smtp_port=int(number("smtp_port", Settings.smtp_port)),
        mail_from=given.get("mail_from", Settings.mail_from),
        largest_package_bytes=int(number("largest_package", Settings.largest_package_bytes)),
        poll_seconds=number("poll_seconds", Settings.poll_seconds),
        steppable_clock=given.get("steppable_clock", "") == "yes",
        push=given.get("push", "on") != "off",
        forbid_inward=given.get("forbid_inward", "") == "yes",
        packages_quota_bytes=int(number("packages_quota", 0)) or None,
        repositories=Path(given["repositories"]) if given.get("repositories") else None,
    )
