"""How a desk is set up, read from the environment once at the start."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from restless_tide.core.errors import Invalid

DEFAULT_PORT = 7100


@dataclass(frozen=True)
class Settings:
    """``public_address`` is what people and stores reach the desk by; it stands in mails.

    ``push`` has stores push their events there. ``forbid_inward`` refuses gateways and webhooks on this machine or
    in a private network. ``packages_quota_bytes`` is the most the desk keeps; None: no bound. ``repositories`` is the
    folder in which source repositories lie. ``smtp_security`` is ``none``, ``starttls`` or ``tls``. ``inlet_port`` is
    where mails that come back are taken in, for addresses at ``inlet_domain``; None: nowhere. Seconds are real seconds.
    """

    data: Path
    host: str = "127.0.0.1"
    port: int = DEFAULT_PORT
    public_address: str = ""
    master_key: str | None = None
    smtp_host: str = "127.0.0.1"
    smtp_port: int = 25
    smtp_security: str = "none"
    smtp_user: str = ""
    smtp_password: str = field(default="", repr=False)
    mail_from: str = "desk@saltgrass.example.org"
    inlet_host: str = "127.0.0.1"
    inlet_port: int | None = None
    inlet_protocol: str = "smtp"
    inlet_domain: str = ""
    join_attempts: int = 20
    largest_package_bytes: int = 4 * 1024**3
    poll_seconds: float = 2.0
    steppable_clock: bool = False
    push: bool = True
    forbid_inward: bool = False
    packages_quota_bytes: int | None = None
    repositories: Path | None = None
    trusted_proxies: tuple[str, ...] = ()
    oidc_issuer: str = ""
    oidc_client: str = ""
    oidc_secret: str = field(default="", repr=False)
    oidc_name: str = "the company's sign-in"

    @property
    def address(self) -> str:
        return self.public_address or f"http://{self.host}:{self.port}"

    @property
    def mail_domain(self) -> str:
        """The domain of the addresses that the desk makes up for answers and for mails that come back."""
        return self.inlet_domain or self.mail_from.rpartition("@")[2]


def settings_from(environment: Mapping[str, str]) -> Settings:
    """Read ``TIDE_*``. Raises Invalid naming the variable that cannot be read."""
    given = {
        name.removeprefix("TIDE_").lower(): value
        for name, value in environment.items()
        if name.startswith("TIDE_") and value  # one that is set to nothing is not set
    }

    def number(name: str, otherwise: float) -> float:
        try:
            return float(given.get(name, otherwise))
        except ValueError:
            raise Invalid(f"TIDE_{name.upper()} is {given[name]!r}, which is no number.") from None

    def one_of(name: str, choices: tuple[str, ...]) -> str:
        chosen = given.get(name, choices[0])
        if chosen not in choices:
            raise Invalid(f"TIDE_{name.upper()} is {chosen!r}; it is one of {', '.join(choices)}.")
        return chosen

    return Settings(
        data=Path(given.get("data", "desk-data")),
        host=given.get("host", Settings.host),
        port=int(number("port", DEFAULT_PORT)),
        public_address=given.get("public_address", "").rstrip("/"),
        master_key=given.get("master_key"),
        smtp_host=given.get("smtp_host", Settings.smtp_host),
        smtp_port=int(number("smtp_port", Settings.smtp_port)),
        smtp_security=one_of("smtp_security", ("none", "starttls", "tls")),
        smtp_user=given.get("smtp_user", ""),
        smtp_password=given.get("smtp_password", ""),
        mail_from=given.get("mail_from", Settings.mail_from),
        inlet_host=given.get("inlet_host", Settings.inlet_host),
        inlet_port=int(number("inlet_port", 0)) or None,
        inlet_protocol=one_of("inlet_protocol", ("smtp", "lmtp")),
        inlet_domain=given.get("inlet_domain", ""),
        join_attempts=int(number("join_attempts", Settings.join_attempts)),
        largest_package_bytes=int(number("largest_package", Settings.largest_package_bytes)),
        poll_seconds=number("poll_seconds", Settings.poll_seconds),
        steppable_clock=given.get("steppable_clock", "") == "yes",
        push=given.get("push", "on") != "off",
        forbid_inward=given.get("forbid_inward", "") == "yes",
        packages_quota_bytes=int(number("packages_quota", 0)) or None,
        repositories=Path(given["repositories"]) if given.get("repositories") else None,
        oidc_issuer=given.get("oidc_issuer", ""),
        oidc_client=given.get("oidc_client", ""),
        oidc_secret=given.get("oidc_secret", ""),
        oidc_name=given.get("oidc_name", Settings.oidc_name),
        trusted_proxies=tuple(entry.strip() for entry in given.get("trusted_proxies", "").split(",") if entry.strip()),
    )
