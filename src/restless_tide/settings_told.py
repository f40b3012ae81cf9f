"""The settings of a desk, as they are told: in ``tide desk --help`` and in docs/operating.md, from this one table."""

from __future__ import annotations

from typing import NamedTuple


class Setting(NamedTuple):
    """Variables of the environment that belong together, what they are for, and what holds without them."""

    variables: tuple[str, ...]
    told: str
    otherwise: str


SETTINGS = (
    Setting(("TIDE_DATA",), "folder of everything the desk keeps", "`desk-data`"),
    Setting(("TIDE_HOST", "TIDE_PORT"), "where it listens", "`127.0.0.1`, `7100`"),
    Setting(
        ("TIDE_PUBLIC_ADDRESS",),
        "how people reach it; stands in mails; with `https` the session cookie is sent over TLS only, to this host alone",
        "host and port",
    ),
    Setting(
        ("TIDE_TRUSTED_PROXIES",),
        "addresses of reverse proxies whose word is taken for where a request comes from, with commas between",
        "none",
    ),
    Setting(
        ("TIDE_MASTER_KEY",),
        "base64 of 32 bytes that seal the stores' keys and the locker",
        "`master.key` in the data folder, made on first use",
    ),
    Setting(
        ("TIDE_OIDC_ISSUER", "TIDE_OIDC_CLIENT", "TIDE_OIDC_SECRET", "TIDE_OIDC_NAME"),
        "the company's identity provider (OpenID Connect): issuer, client, its secret, and the name on the sign-in page",
        "sign-in by password alone",
    ),
    Setting(
        ("TIDE_SMTP_HOST", "TIDE_SMTP_PORT", "TIDE_MAIL_FROM"),
        "how mail leaves",
        "`127.0.0.1`, `25`, a made-up address",
    ),
    Setting(
        ("TIDE_SMTP_SECURITY", "TIDE_SMTP_USER", "TIDE_SMTP_PASSWORD"),
        "`none`, `starttls` or `tls`; credentials",
        "`none`, no one",
    ),
    Setting(
        ("TIDE_INLET_PORT", "TIDE_INLET_HOST", "TIDE_INLET_PROTOCOL"),
        "where mail that comes back is received; `smtp` or `lmtp`",
        "off, `127.0.0.1`, `smtp`",
    ),
    Setting(
        ("TIDE_INLET_DOMAIN",), "the domain of the addresses that the desk makes up for it", "that of `TIDE_MAIL_FROM`"
    ),
    Setting(("TIDE_JOIN_ATTEMPTS",), "attempts in ten minutes from one place on pages that need no sign-in", "20"),
    Setting(("TIDE_LARGEST_PACKAGE",), "bytes of the largest package taken", "4 GiB"),
    Setting(
        ("TIDE_PACKAGES_QUOTA",),
        "bytes of packages the desk keeps, with what is on its way",
        "four fifths of the disk that is free",
    ),
    Setting(
        ("TIDE_REPOSITORIES",),
        "folder below which source repositories lie, for notes drafted from their history",
        "none is read",
    ),
    Setting(("TIDE_POLL_SECONDS",), "how often each store is asked what is new", "2"),
    Setting(("TIDE_PUSH",), "`off`: stores are asked, and push nothing", "on"),
    Setting(("TIDE_FORBID_INWARD",), "`yes`: no gateway or webhook on this machine or in a private network", "allowed"),
    Setting(("TIDE_STEPPABLE_CLOCK",), "`yes`: the clock can be moved; for throw-away desks only", "real time"),
)


def as_table() -> str:
    """The settings as a table of Markdown."""
    rows = [
        f"| {', '.join(f'`{name}`' for name in one.variables)} | {one.told} | {one.otherwise} |" for one in SETTINGS
    ]
    return "\n".join(["| setting | what it is | otherwise |", "|---|---|---|", *rows])


def as_help() -> str:
    """The settings for a terminal."""
    lines = ["The desk is set up by the environment:"]
    for one in SETTINGS:
        lines += [f"  {', '.join(one.variables)}", f"      {one.told} ({one.otherwise})".replace("`", "")]
    return "\n".join(lines)
