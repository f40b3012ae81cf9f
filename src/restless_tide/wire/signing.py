"""The signing register and the locker."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.signing import KeyHolder
from restless_tide.wire.base import AnyInstant, Names, OneLine, Told, Wanted, Words
from restless_tide.wire.builds import AppExpiryTold


class ExpectedTold(Told):
    sha256: str
    subject: str
    valid_until: datetime | None


class SigningTold(Told):
    """The register's page for one platform."""

    platform: str
    holder: KeyHolder
    certificates: list[ExpectedTold]
    declared: list[str] | None
    changed_at: datetime
    reason: str


class DeviceTold(Told):
    id: str
    platform: str
    name: str
    identifier: str
    registered_at: datetime
    expires_at: datetime | None


class LockerFileTold(Told):
    """A file in the locker, without its content; ``told`` is what it says of itself."""

    platform: str
    kind: str
    name: str
    sha256: str
    size_bytes: int
    told: str
    expires_at: datetime | None
    stored_at: datetime
    stored_by: str


class RegisterTold(Told):
    pages: list[SigningTold]
    devices: list[DeviceTold]
    locker: list[LockerFileTold]
    expiries: list[AppExpiryTold]


class ExpectWanted(Wanted):
    platform: OneLine
    build: OneLine | None = Field(default=None, description="a build that is signed as expected from now on")
    sha256: OneLine | None = Field(default=None, description="or the certificate's digest")
    reason: Words


class DeclareWanted(Wanted):
    platform: OneLine
    names: Names
    reason: Words


class HoldWanted(Wanted):
    platform: OneLine
    holder: KeyHolder
    reason: Words


class ReplaceWanted(Wanted):
    platform: OneLine
    sha256: OneLine = Field(description="of the new certificate")
    reason: Words


class ReplacingTold(Told):
    page: SigningTold
    steps: list[str] = Field(description="what a person does at stores that hold on to the first key")


class DeviceWanted(Wanted):
    platform: OneLine
    name: OneLine = ""
    identifier: OneLine
    expires_at: AnyInstant | None = None
