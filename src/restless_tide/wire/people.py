"""Signing in, people and what they may do, sessions and tokens."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Self

from pydantic import AfterValidator, Field

from restless_tide.core.numbers import LONGEST_DAYS
from restless_tide.core.personal_link import LinkKind
from restless_tide.core.rights import MOST_GRANTS, NO_APPS, PEOPLES_ROLES, Grant, Right, Role, Standing
from restless_tide.wire.base import Names, OneLine, Password, Told, Wanted, Words

LONGEST_CODE = 40
_LAST_USED = "up to some minutes behind; none: not yet"
Code = Annotated[str, Field(max_length=LONGEST_CODE)]
"""Of a second factor, or a recovery code."""


class SignInWanted(Wanted):
    email: OneLine
    password: Password = Field(repr=False)
    code: Code = Field(default="", repr=False, description="of the second factor, where the person has one")


def _of_people(role: Role) -> Role:
    if role not in PEOPLES_ROLES:
        raise ValueError(f"{role} is a role of tokens; people are one of {', '.join(PEOPLES_ROLES)}")
    return role


class GrantWanted(Wanted):
    """A role, for all apps or for those named."""

    role: Annotated[Role, AfterValidator(_of_people)]
    apps: Names | None = Field(default=None, min_length=1, description="none: all apps, those to come included")

    def grant(self) -> Grant:
        return Grant(self.role, None if self.apps is None else tuple(self.apps))


Grants = Annotated[list[GrantWanted], Field(min_length=1, max_length=MOST_GRANTS)]


class GrantTold(Told):
    role: Role
    apps: list[str] | None = Field(description="none: all apps")

    @classmethod
    def by(cls, grant: Grant) -> Self:
        return cls(role=grant.role, apps=None if grant.apps is None else list(grant.apps))


class PersonTold(Told):
    id: str
    name: str
    email: str | None = Field(description="none: only those who manage people see it, or the person was removed")
    grants: list[GrantTold]
    may: str = Field(description="the same in words")
    invited: bool = Field(description="was invited, and has not chosen a password yet")
    second_factor: bool


class ReachTold(Told):
    """For which apps a right is held."""

    right: Right
    apps: list[str] | None = Field(description="none: all apps")


class MeTold(PersonTold):
    """The one who asks, with what they may do by this session or token."""

    rights: list[ReachTold]
    second_factor_demanded: bool = Field(description="nothing else is open before one is set up")
    by_password: bool = Field(description="signs in by a password; else by the company's identity provider alone")

    @classmethod
    def reaches(cls, standing: Standing) -> list[ReachTold]:
        return [
            ReachTold(right=right, apps=None if apps is None else sorted(apps))
            for right in Right
            if (apps := standing.reach(right)) != NO_APPS
        ]


class PersonWanted(Wanted):
    name: OneLine = Field(min_length=1)
    email: OneLine
    grants: Grants
    by_mail: bool = Field(
        default=True, description="mail the invitation; else its link is in this answer, shown this once"
    )


class PersonChange(Wanted):
    name: OneLine = Field(min_length=1)


class GrantsWanted(Wanted):
    grants: Grants


class LinkWanted(Wanted):
    by_mail: bool = True


class LinkMade(Told):
    """A link by which a person chooses a password."""

    kind: LinkKind
    expires_at: datetime
    address: str | None = Field(repr=False, description="shown this once; none: it leaves by mail")


class InvitedTold(Told):
    person: PersonTold
    link: LinkMade


class RemovalWanted(Wanted):
    reason: Words = Field(min_length=1)
    erase: bool = Field(default=False, description="the name too; the logbook then shows the pseudonym alone")


class EndingWanted(Wanted):
    reason: Words = Field(min_length=1)


class EndedTold(Told):
    sessions: int
    tokens: int


class SessionTold(Told):
    """A console session."""

    id: str
    created_at: datetime
    expires_at: datetime
    agent: str = Field(description="the browser, as it calls itself")
    place: str = Field(description="the address it came from")
    last_used_at: datetime | None = Field(description=_LAST_USED)
    this: bool = Field(description="the one that asks")


class PasswordWanted(Wanted):
    current: Password = Field(repr=False)
    new: Password = Field(repr=False)


class ProofWanted(Wanted):
    password: Password = Field(repr=False)


class ResetWanted(Wanted):
    email: OneLine


class LinkTold(Told):
    """What a link is for, to whoever holds it."""

    kind: LinkKind
    name: str
    expires_at: datetime
    shortest_password: int


class ChosenWanted(Wanted):
    password: Password = Field(repr=False)


class SetupTold(Told):
    """What an authenticator is told; it is in force once a code of it was given."""

    secret: str = Field(repr=False, description="base32, for typing it in")
    address: str = Field(repr=False, description="the same as an otpauth address")
    picture: str = Field(repr=False, description="the address as a QR code (SVG, as a data address)")


class CodeWanted(Wanted):
    code: Code = Field(repr=False)


class RecoveryTold(Told):
    codes: list[str] = Field(repr=False, description="each works once, in place of a code; shown this once")


class AccessRulesTold(Told):
    second_factor: bool = Field(description="demanded of everybody who signs in by password")


class AccessRulesWanted(Wanted):
    second_factor: bool


class WayInTold(Told):
    """How people sign in here."""

    provider: str | None = Field(description="the name of the company's identity provider; none: by password alone")
    provider_address: str | None


class TokenWanted(Wanted):
    label: OneLine = Field(description="where it is used, such as 'build server'")
    days: float | None = Field(default=None, gt=0, le=LONGEST_DAYS, description="life; none: until revoked")
    role: Role | None = Field(
        default=None, description="hold it to a role; none: what you may do, or with apps a build server"
    )
    apps: Names = Field(default_factory=list, description="hold it to these apps; none: all that you reach")


class TokenTold(Told):
    id: str
    label: str
    created_at: datetime
    expires_at: datetime | None
    revoked_at: datetime | None
    last_used_at: datetime | None = Field(description=_LAST_USED)
    role: Role | None
    apps: list[str]
    made_by: str | None = Field(description="the token that made it, with which it ends")


class TokenMade(Told):
    token: TokenTold
    value: str = Field(description="shown this once", repr=False)


class AccessTold(Told):
    """A person's sessions and tokens."""

    sessions: list[SessionTold]
    tokens: list[TokenTold]
