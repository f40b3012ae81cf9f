"""Signing in, and tokens."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.numbers import LONGEST_DAYS
from restless_tide.wire.base import Names, OneLine, Password, Told, Wanted


class SignInWanted(Wanted):
    email: OneLine
    password: Password = Field(repr=False)


class PersonTold(Told):
    id: str
    name: str
    email: str


class TokenWanted(Wanted):
    label: OneLine = Field(description="where it is used, such as 'build server'")
    days: float | None = Field(default=None, gt=0, le=LONGEST_DAYS, description="life; none: until revoked")
    apps: Names = Field(default_factory=list, description="a build server's: only what builds of these apps need")


class TokenTold(Told):
    id: str
    label: str
    created_at: datetime
    expires_at: datetime | None
    revoked_at: datetime | None
    apps: list[str]


class TokenMade(Told):
    token: TokenTold
    value: str = Field(description="shown this once", repr=False)
