"""What was read out of a package: one typed model for all formats."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field

from restless_tide.core.errors import Invalid, PackageUnreadable
from restless_tide.core.numbers import BuildNumber

PLATFORM_OF_FORMAT = {
    "apk": "android",
    "aab": "android",
    "ipa": "ios",
    "msix": "desktop",
    "msixbundle": "desktop",
}


class Fact(BaseModel):
    model_config = ConfigDict(frozen=True, defer_build=True)


class Certificate(Fact):
    """An X.509 certificate; ``sha256`` is the digest of its DER form, the way such certificates are named."""

    subject: str
    issuer: str
    sha256: str
    valid_from: AwareDatetime
    valid_until: AwareDatetime


class Signature(Fact):
    """One signature of the package. ``verified`` is None where nothing here can verify it, and ``trouble`` says why."""

    scheme: str = Field(description="v1, v2, v3, v3.1, jar, profile or package")
    verified: bool | None = None
    trouble: str = ""
    signers: tuple[Certificate, ...] = ()
    lineage: tuple[Certificate, ...] = Field(
        default=(), description="the keys before it, oldest first, if it was rotated"
    )


class Profile(Fact):
    """A provisioning profile: who may run the package where, until when."""

    name: str
    identifier: str = Field(description="the identifier it is made for, with the team before it")
    team: str
    team_name: str
    kind: Literal["store", "named devices", "development", "any device"]
    devices: tuple[str, ...] = Field(default=(), description="identifiers of the devices it names")
    expires_at: AwareDatetime
    certificates: tuple[Certificate, ...] = Field(default=(), description="the signing certificates it admits")


class Part(Fact):
    """Something inside the package that is a unit of its own."""

    kind: Literal["extension", "framework", "module", "package", "split"]
    name: str
    identifier: str = ""
    version: str = ""
    number: str = ""
    processors: tuple[str, ...] = ()
    size_bytes: int = 0


class Icon(Fact):
    """The largest icon that is a picture; ``width`` and ``height`` in pixels."""

    member: str
    width: int
    height: int
    transparent: bool = Field(description="it has an alpha channel")
    media_type: str = Field(description="empty when no browser can show it")


class Share(Fact):
    """How much of the file a part of it takes up, packed."""

    name: str
    size_bytes: int


class Facts(Fact):
    """The facts of one package file. Levels are as the platform writes them (``"26"``, ``"15.0"``)."""

    format: str = Field(description="apk, aab, ipa, msix or msixbundle")
    identifier: str
    version: str = Field(description="what people see")
    number: BuildNumber = Field(description="what machines compare: one to three whole numbers with dots")
    lowest_platform: str | None = None
    target_platform: str | None = None
    permissions: tuple[str, ...] = ()
    permission_limits: dict[str, str] = Field(
        default_factory=dict, description="the highest platform level a permission is asked for on, where it is limited"
    )
    reasons: dict[str, str] = Field(default_factory=dict, description="what people are told when access is asked for")
    features: tuple[str, ...] = Field(default=(), description="what a device must have; optional ones end in '?'")
    capabilities: tuple[str, ...] = Field(default=(), description="rights that the signature grants")
    label: str | None = None
    labels: dict[str, str] = Field(default_factory=dict, description="the label by locale, where it differs")
    locales: tuple[str, ...] = ()
    debuggable: bool = False
    test_only: bool = False
    simulator: bool = Field(default=False, description="built for a simulator, not for devices")
    encryption_exempt: bool | None = Field(
        default=None, description="declared to use no encryption that must be reported"
    )
    processors: tuple[str, ...] = Field(default=(), description="processor kinds it is built for; none: any")
    device_families: tuple[str, ...] = ()
    publisher: str | None = None
    split: str | None = Field(default=None, description="the name of this split, when it is one of several packages")
    feature_split: bool = False
    made_by: str = Field(default="", description="the tool that put the package together, and its version")
    parts: tuple[Part, ...] = ()
    signatures: tuple[Signature, ...] = ()
    profile: Profile | None = None
    icon: Icon | None = None
    contents: tuple[Share, ...] = Field(default=(), description="what takes up the file, largest first")
    remarks: tuple[str, ...] = Field(default=(), description="what could not be read or does not fit together")
    size_bytes: int
    sha256: str

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


def number_in(text: str | int, place: str) -> BuildNumber:
    """The build's number as it stands at ``place`` in a package. Raises PackageUnreadable."""
    try:
        return BuildNumber(text)
    except Invalid as wrong:
        raise PackageUnreadable(f"{place}: {wrong.detail}", remedy=wrong.remedy) from None
