"""What was read out of a package: one typed model for all formats.

Plain dataclasses, so that a command that only looks at a file loads no more than it needs; the wire's models and
the records take them as they are.
"""

from __future__ import annotations

from dataclasses import dataclass, field, fields, is_dataclass, replace
from datetime import UTC, datetime
from functools import cache
from typing import Any, ClassVar, Literal

from restless_tide.core.errors import Invalid, PackageUnreadable
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.packages.bounds import LONGEST_TEXT, MOST_LISTED

PLATFORM_OF_FORMAT = {
    "apk": "android",
    "aab": "android",
    "ipa": "ios",
    "msix": "desktop",
    "msixbundle": "desktop",
}
_TOLD_BY_DOCSTRINGS = {"use_attribute_docstrings": True}


@dataclass(frozen=True, kw_only=True)
class Certificate:
    """An X.509 certificate; ``sha256`` is the digest of its DER form, the way such certificates are named."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _TOLD_BY_DOCSTRINGS

    subject: str
    issuer: str
    sha256: str
    valid_from: datetime
    valid_until: datetime


@dataclass(frozen=True, kw_only=True)
class Signature:
    """One signature of the package. ``verified`` is None where nothing here can verify it, and ``trouble`` says why."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _TOLD_BY_DOCSTRINGS

    scheme: str
    """v1, v2, v3, v3.1, jar, profile or package"""
    verified: bool | None = None
    trouble: str = ""
    signers: tuple[Certificate, ...] = ()
    lineage: tuple[Certificate, ...] = ()
    """the keys before it, oldest first, if it was rotated"""


@dataclass(frozen=True, kw_only=True)
class Profile:
    """A provisioning profile: who may run the package where, until when."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _TOLD_BY_DOCSTRINGS

    name: str
    identifier: str
    """the identifier it is made for, with the team before it"""
    team: str
    team_name: str
    kind: Literal["store", "named devices", "development", "any device"]
    devices: tuple[str, ...] = ()
    """identifiers of the devices it names"""
    expires_at: datetime
    certificates: tuple[Certificate, ...] = ()
    """the signing certificates it admits"""


PartKind = Literal["extension", "framework", "module", "package", "split", "app clip", "watch app", "app"]


@dataclass(frozen=True, kw_only=True)
class Part:
    """Something inside the package that is a unit of its own."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _TOLD_BY_DOCSTRINGS

    kind: PartKind
    name: str
    """with the names of what it lies in before it, and slashes between"""
    identifier: str = ""
    version: str = ""
    number: str = ""
    processors: tuple[str, ...] = ()
    size_bytes: int = 0


@dataclass(frozen=True, kw_only=True)
class Icon:
    """The largest icon that is a picture; ``width`` and ``height`` in pixels."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _TOLD_BY_DOCSTRINGS

    member: str
    width: int
    height: int
    transparent: bool
    """it has an alpha channel"""
    media_type: str
    """empty when no browser can show it"""
    sha256: str = ""
    """of the picture's bytes, so that another icon is noticed"""


@dataclass(frozen=True, kw_only=True)
class Share:
    """How much of the file a part of it takes up, packed."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _TOLD_BY_DOCSTRINGS

    name: str
    size_bytes: int


@dataclass(frozen=True, kw_only=True)
class Levels:
    """A run of platform levels; ``last`` is None for all later ones. ``said`` is the same in the names people know."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _TOLD_BY_DOCSTRINGS

    first: int
    last: int | None = None
    said: str = ""


@dataclass(frozen=True, kw_only=True)
class Facts:
    """The facts of one package file. Levels are as the platform writes them (``"26"``, ``"15.0"``)."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _TOLD_BY_DOCSTRINGS

    format: str
    """apk, aab, ipa, msix or msixbundle"""
    identifier: str
    version: str
    """what people see; empty where the package names none"""
    number: BuildNumber
    """what machines compare: one to three whole numbers with dots; 0 where the package names none"""
    lacking: tuple[str, ...] = ()
    """what the package leaves out of version and number, and devices take as empty and 0"""
    lowest_platform: str | None = None
    target_platform: str | None = None
    highest_platform: str | None = None
    """the highest platform level it asks to be offered on; stores heed it, most devices do not"""
    installs: tuple[Levels, ...] = ()
    """the platform levels that install it, by its signatures and what it asks for; empty: none, or nothing here can tell"""
    permissions: tuple[str, ...] = ()
    permission_limits: dict[str, str] = field(default_factory=dict)
    """the highest platform level a permission is asked for on, where it is limited"""
    implied_permissions: dict[str, str] = field(default_factory=dict)
    """what devices grant without its being asked for, each with the reason"""
    reasons: dict[str, str] = field(default_factory=dict)
    """what people are told when access is asked for"""
    features: tuple[str, ...] = ()
    """what a device must have; optional ones end in '?'"""
    capabilities: tuple[str, ...] = ()
    """rights that the signature grants"""
    label: str | None = None
    labels: dict[str, str] = field(default_factory=dict)
    """the label by locale, where it differs"""
    locales: tuple[str, ...] = ()
    launchable: str | None = None
    """what a tap on the icon starts; None: nothing, or nothing here can tell"""
    densities: tuple[int, ...] = ()
    """the screen densities it has resources for, in dots an inch; 65534 stands for any"""
    debuggable: bool = False
    test_only: bool = False
    simulator: bool = False
    """built for a simulator, not for devices"""
    encryption_exempt: bool | None = None
    """declared to use no encryption that must be reported"""
    processors: tuple[str, ...] = ()
    """processor kinds it is built for; none: any"""
    device_families: tuple[str, ...] = ()
    publisher: str | None = None
    split: str | None = None
    """the name of this split, when it is one of several packages"""
    feature_split: bool = False
    made_by: str = ""
    """the tool that put the package together, and its version"""
    parts: tuple[Part, ...] = ()
    signatures: tuple[Signature, ...] = ()
    profile: Profile | None = None
    icon: Icon | None = None
    contents: tuple[Share, ...] = ()
    """what takes up the file, largest first"""
    remarks: tuple[str, ...] = ()
    """what could not be read or does not fit together"""
    size_bytes: int
    sha256: str

    @classmethod
    def of(cls, document: object) -> Facts:
        """The facts that ``document`` made of them says. Raises ValueError."""
        found: Facts = _adapter().validate_python(document)
        return found

    def with_digest(self, sha256: str) -> Facts:
        return replace(self, sha256=sha256)

    def document(self) -> dict[str, Any]:
        """The facts as JSON can keep them."""
        told: dict[str, Any] = _plain(self)
        return told

    @property
    def platform(self) -> str:
        """The platform that the format belongs to."""
        return PLATFORM_OF_FORMAT[self.format]

    @property
    def signers(self) -> tuple[Certificate, ...]:
        """Whose signature counts: of the newest scheme that verified; under a profile, the certificates it admits."""
        if self.profile is not None:
            return self.profile.certificates
        for signature in reversed(self.signatures):
            if signature.verified is not False and signature.signers:
                return signature.signers
        return ()

    @property
    def expires_at(self) -> datetime | None:
        """When people can no longer start it: its profile's end."""
        return None if self.profile is None else self.profile.expires_at


@cache
def _adapter() -> Any:
    from pydantic import TypeAdapter  # only where facts come from elsewhere

    return TypeAdapter(Facts)


def _plain(value: Any) -> Any:
    match value:
        case dict():
            return {key: _plain(one) for key, one in value.items()}
        case tuple() | list():
            return [_plain(one) for one in value]
        case BuildNumber():
            return value.text
        case datetime():
            return value.astimezone(UTC).isoformat().replace("+00:00", "Z")
    if is_dataclass(value):
        return {one.name: _plain(getattr(value, one.name)) for one in fields(value)}
    return value


def printable(text: str, longest: int = LONGEST_TEXT) -> str:
    """A text from a package as a person may read it: bounded, and without anything that steers a terminal."""
    if not text.isprintable():
        text = "".join(sign if sign.isprintable() else " " if sign in "\t\r\n" else "�" for sign in text)
    return text if len(text) <= longest else text[: longest - 1] + "…"


def legible(facts: Facts) -> Facts:
    """The facts with every text printable and every list bounded; what was cut off is remarked."""
    cut: list[str] = []
    made: dict[str, Any] = {}
    for one in fields(facts):
        value = getattr(facts, one.name)
        if isinstance(value, tuple | dict) and len(value) > MOST_LISTED:
            cut.append(f"It lists {len(value)} {one.name.replace('_', ' ')}; {MOST_LISTED} of them are shown.")
            value = dict(list(value.items())[:MOST_LISTED]) if isinstance(value, dict) else value[:MOST_LISTED]
        made[one.name] = value if one.name == "icon" else _printable(value)
    made["remarks"] = (*made["remarks"], *cut)
    return Facts(**made)


def _printable(value: Any) -> Any:
    if isinstance(value, str):
        return printable(value)
    if isinstance(value, tuple):
        return tuple(map(_printable, value))
    if isinstance(value, dict):
        return {_printable(key): _printable(one) for key, one in value.items()}
    if is_dataclass(value) and not isinstance(value, type):
        return replace(value, **{one.name: _printable(getattr(value, one.name)) for one in fields(value)})
    return value


def number_in(text: str | int, place: str) -> BuildNumber:
    """The build's number as it stands at ``place`` in a package. Raises PackageUnreadable."""
    try:
        return BuildNumber(text)
    except Invalid as wrong:
        raise PackageUnreadable(f"{place}: {printable(wrong.detail)}", remedy=wrong.remedy) from None
