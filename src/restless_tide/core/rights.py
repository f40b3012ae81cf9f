"""Who may do what: the rights, the roles that hold them, and how far a person or a token reaches.

A right is a kind of act. Each operation of the service names the one it needs; a role is a set of rights; a grant gives a
role for all apps or for some. All of that stands in this file and is read by every operation, so a role is changed here and
nowhere else. What no role holds, no one can do.

A token never reaches further than its maker: what it holds is what both hold.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from types import MappingProxyType

Apps = frozenset[str] | None
"""The apps for which a right is held; None: for all of them, those to come included."""
NO_APPS: frozenset[str] = frozenset()
MOST_GRANTS = 20


class Right(StrEnum):
    """A kind of act. What each one means to people stands in ``TOLD``."""

    WHO = "who"
    ACCOUNT = "account"
    SEE_BUILDS = "see-builds"
    SEE = "see"
    SEE_TESTERS = "see-testers"
    SUBSCRIBE = "subscribe"
    HAND_IN = "hand-in"
    HAND_OUT = "hand-out"
    REPORT = "report"
    ENTER_COUNTS = "enter-counts"
    FETCH_FILES = "fetch-files"
    KEEP_TESTERS = "keep-testers"
    PREPARE = "prepare"
    STOP = "stop"
    STEER = "steer"
    ARRANGE_APPS = "arrange-apps"
    ARRANGE_DESK = "arrange-desk"
    MANAGE_PEOPLE = "manage-people"


TOLD: MappingProxyType[Right, str] = MappingProxyType(
    {
        Right.WHO: "see who is signed in",
        Right.ACCOUNT: "keep their own password, sessions and tokens",
        Right.SEE_BUILDS: "see apps, builds and tracks",
        Right.SEE: "see releases, the dossier, statistics, stores and the logbook",
        Right.SEE_TESTERS: "see testers, their addresses and what they send",
        Right.SUBSCRIBE: "have notices sent",
        Right.HAND_IN: "send builds to stores, and reserve numbers",
        Right.HAND_OUT: "give builds to cohorts and their tracks",
        Right.REPORT: "file field reports",
        Right.ENTER_COUNTS: "enter what a store counted",
        Right.FETCH_FILES: "fetch the sealed signing files",
        Right.KEEP_TESTERS: "keep testers, cohorts and field reports",
        Right.PREPARE: "prepare releases: texts, pictures, answers, notes",
        Right.STOP: "pause and halt rollouts",
        Right.STEER: "hand in to review, launch, raise, withdraw and promote; set guards",
        Right.ARRANGE_APPS: "register and retire apps, open their places at stores, keep their signing",
        Right.ARRANGE_DESK: "connect stores; set ladders and freezes",
        Right.MANAGE_PEOPLE: "invite people, change what they may do, end their access",
    }
)


class Role(StrEnum):
    """A set of rights with a name."""

    READER = "reader"
    TESTERS_KEEPER = "testers-keeper"
    RELEASE_MANAGER = "release-manager"
    OWNER = "owner"
    BUILD_SERVER = "build-server"


_ANYONE = frozenset({Right.WHO, Right.SEE_BUILDS})
_READER = _ANYONE | {Right.ACCOUNT, Right.SEE, Right.SUBSCRIBE}
_KEEPER = _READER | {Right.SEE_TESTERS, Right.KEEP_TESTERS, Right.HAND_OUT, Right.REPORT}
_MANAGER = frozenset(Right) - {Right.MANAGE_PEOPLE}

ROLES: MappingProxyType[Role, frozenset[Right]] = MappingProxyType(
    {
        Role.READER: _READER,
        Role.TESTERS_KEEPER: _KEEPER,
        Role.RELEASE_MANAGER: _MANAGER,
        Role.OWNER: frozenset(Right),
        Role.BUILD_SERVER: _ANYONE
        | {Right.HAND_IN, Right.HAND_OUT, Right.REPORT, Right.ENTER_COUNTS, Right.FETCH_FILES},
    }
)
ROLE_TOLD: MappingProxyType[Role, str] = MappingProxyType(
    {
        Role.READER: "a reader",
        Role.TESTERS_KEEPER: "a testers' keeper",
        Role.RELEASE_MANAGER: "a release manager",
        Role.OWNER: "an owner",
        Role.BUILD_SERVER: "a build server",
    }
)
PEOPLES_ROLES = tuple(role for role in Role if role is not Role.BUILD_SERVER)
"""What a person can be; a build server is a token's role alone."""
OF_NO_APP = frozenset({Right.WHO, Right.ACCOUNT})
"""Rights over oneself: whoever holds a role for one app holds them whole."""


class Reach(StrEnum):
    """Over which apps an operation needs its right."""

    APP = "the app that it names"
    THING = "the app of what it names"
    SOME = "any app; what is answered is held to those apps"
    DESK = "all apps"


@dataclass(frozen=True, slots=True)
class Grant:
    """A role, for all apps (None) or for those named."""

    role: Role
    apps: tuple[str, ...] | None = None

    def told(self) -> str:
        """In words, such as ``a release manager of marram``."""
        return ROLE_TOLD[self.role] + (f" of {' and '.join(self.apps)}" if self.apps is not None else "")


EVERYTHING = (Grant(Role.OWNER),)


@dataclass(frozen=True)
class Standing:
    """What someone may do: for each right the apps for which it is held. A right that is missing is not held at all."""

    held: MappingProxyType[Right, Apps]

    def reach(self, right: Right) -> Apps:
        """The apps for which a right is held; none of them: it is not held; None: all."""
        return self.held.get(right, NO_APPS)

    def somewhere(self, right: Right) -> bool:
        """Whether it is held for any app."""
        return self.reach(right) != NO_APPS

    def everywhere(self, right: Right) -> bool:
        """Whether it is held for all apps."""
        return self.reach(right) is None

    def over(self, right: Right, app: str) -> bool:
        """Whether it is held for one app."""
        apps = self.reach(right)
        return apps is None or app in apps

    def over_all(self, right: Right, apps: Iterable[str]) -> bool:
        """Whether it is held for each of these apps; for none of them, whether it is held for all apps."""
        named = tuple(apps)
        return all(self.over(right, app) for app in named) if named else self.everywhere(right)


def both(one: Apps, other: Apps) -> Apps:
    """The apps that stand in both."""
    if one is None:
        return other
    return one if other is None else one & other


def either(one: Apps, other: Apps) -> Apps:
    """The apps that stand in one or the other."""
    return None if one is None or other is None else one | other


@lru_cache(maxsize=1024)
def standing_of(grants: tuple[Grant, ...], token: Grant | None = None) -> Standing:
    """What someone with these grants may do, by a token that is limited to ``token`` if there is one."""
    held: dict[Right, Apps] = {}
    for grant in grants:
        for right in ROLES[grant.role]:
            apps = None if right in OF_NO_APP or grant.apps is None else frozenset(grant.apps)
            held[right] = either(held.get(right, NO_APPS), apps)
    if token is not None:
        apps = None if token.apps is None else frozenset(token.apps)
        held = {
            right: reach if right in OF_NO_APP else both(reach, apps)
            for right, reach in held.items()
            if right in ROLES[token.role]
        }
    return Standing(MappingProxyType({right: reach for right, reach in held.items() if reach != NO_APPS}))


def within(grants: Sequence[Grant], reach: Apps) -> tuple[Grant, ...]:
    """The grants as they may be shown to someone who reaches only some apps: of these, and of all."""
    if reach is None:
        return tuple(grants)
    told = [
        grant if grant.apps is None else Grant(grant.role, tuple(sorted(reach & {*grant.apps}))) for grant in grants
    ]
    return tuple(grant for grant in told if grant.apps != ())


def who_hold(right: Right) -> list[Role]:
    """The roles that hold a right."""
    return [role for role, rights in ROLES.items() if right in rights]


def is_owner(grants: Sequence[Grant]) -> bool:
    """Whether someone with these grants may do everything for all apps."""
    return any(grant.role is Role.OWNER and grant.apps is None for grant in grants)


def roles_told(grants: Sequence[Grant]) -> str:
    """What someone is, in words."""
    return "; ".join(grant.told() for grant in grants) or "nothing yet"
