"""People and what they may do; and one's own account: password, second factor, sessions and tokens."""

from __future__ import annotations

from collections.abc import Sequence

from restless_tide.client.noun import Noun
from restless_tide.core.rights import Grant, Role
from restless_tide.wire.people import (
    AccessRulesTold,
    AccessRulesWanted,
    AccessTold,
    ChosenWanted,
    CodeWanted,
    EndedTold,
    EndingWanted,
    GrantsWanted,
    GrantWanted,
    InvitedTold,
    LinkMade,
    LinkTold,
    LinkWanted,
    MeTold,
    PasswordWanted,
    PersonChange,
    PersonTold,
    PersonWanted,
    ProofWanted,
    RecoveryTold,
    RemovalWanted,
    ResetWanted,
    SessionTold,
    SetupTold,
    SignInWanted,
    TokenMade,
    TokenTold,
    TokenWanted,
)


def _wanted(grants: Sequence[Grant]) -> list[GrantWanted]:
    return [GrantWanted(role=grant.role, apps=None if grant.apps is None else list(grant.apps)) for grant in grants]


class People(Noun):
    """People and what they may do; and one's own account.

    >>> tide.people.invite(
    ...     "Tam Okoro", "tam@example.org", [Grant(Role.READER), Grant(Role.RELEASE_MANAGER, ("marram",))]
    ... )
    """

    # one's own account

    def sign_in(self, email: str, password: str, code: str = "") -> PersonTold:
        """Begin a session on this line; ``code`` of the second factor where there is one. Raises Unauthenticated."""
        return self._line.post("/v1/sign-in", PersonTold, SignInWanted(email=email, password=password, code=code))

    def sign_out(self) -> None:
        """End the session of this line."""
        self._line.act("POST", "/v1/sign-out")

    def me(self) -> MeTold:
        """Who asks, and what they may do by this session or token."""
        return self._line.get("/v1/me", MeTold)

    def rename_me(self, name: str) -> MeTold:
        """Correct your own name."""
        return self._line.patch("/v1/me", MeTold, PersonChange(name=name))

    def change_password(self, current: str, new: str) -> None:
        """Change the password; all other sessions end. Takes a session. Raises Unauthenticated, Denied."""
        self._line.act("PUT", "/v1/me/password", PasswordWanted(current=current, new=new))

    def begin_second_factor(self, password: str) -> SetupTold:
        """What an authenticator is told. Takes a session. Raises Conflict where there is a second factor already."""
        return self._line.post("/v1/me/second-factor", SetupTold, ProofWanted(password=password))

    def confirm_second_factor(self, code: str) -> list[str]:
        """Put it into force by a code of it; returns the recovery codes. Raises Invalid."""
        return self._line.put("/v1/me/second-factor", RecoveryTold, CodeWanted(code=code)).codes

    def drop_own_second_factor(self, password: str) -> None:
        """Sign in by password alone again. Raises Conflict while the desk demands a second factor."""
        self._line.act("POST", "/v1/me/second-factor/removal", ProofWanted(password=password))

    def sessions(self) -> list[SessionTold]:
        """Your console sessions, the newest first."""
        return self._line.get("/v1/me/sessions", list[SessionTold])

    def end_session(self, session: str) -> None:
        """End one of your sessions at once. Raises NotFound."""
        self._line.delete(f"/v1/me/sessions/{session}")

    def end_other_sessions(self) -> int:
        """End all your sessions but the one that asks; returns how many."""
        return self._line.post("/v1/me/endings", EndedTold).sessions

    def ask_for_new_password(self, email: str) -> None:
        """Have a link mailed, if someone here has this address."""
        self._line.act("POST", "/v1/password-resets", ResetWanted(email=email))

    def link(self, code: str) -> LinkTold:
        """What a link from a mail is for. Raises NotFound."""
        return self._line.get(f"/v1/personal-links/{code}", LinkTold)

    def choose_password(self, code: str, password: str) -> None:
        """Choose a password by a link. Raises NotFound, Invalid."""
        self._line.act("POST", f"/v1/personal-links/{code}", ChosenWanted(password=password))

    def tokens(self) -> list[TokenTold]:
        """Your own tokens, the oldest first."""
        return self._line.get("/v1/tokens", list[TokenTold])

    def make_token(
        self, label: str, *, days: float | None = None, role: Role | None = None, apps: Sequence[str] = ()
    ) -> TokenMade:
        """Make a token; its value is only in this answer. With ``apps`` alone it is a build server's, for these."""
        wanted = TokenWanted(label=label, days=days, role=role, apps=list(apps))
        return self._line.post("/v1/tokens", TokenMade, wanted)

    def revoke_token(self, token: str) -> None:
        """Revoke a token at once, with those that it made. Raises NotFound."""
        self._line.delete(f"/v1/tokens/{token}")

    # everybody

    def every(self) -> list[PersonTold]:
        """Everybody who works at the desk, by name."""
        return self._line.get("/v1/people", list[PersonTold])

    def invite(self, name: str, email: str, grants: Sequence[Grant], *, by_mail: bool = True) -> InvitedTold:
        """Invite a person; without mail the link is in the answer. Raises Conflict, Invalid, Denied."""
        wanted = PersonWanted(name=name, email=email, grants=_wanted(grants), by_mail=by_mail)
        return self._line.post("/v1/people", InvitedTold, wanted)

    def rename(self, person: str, name: str) -> PersonTold:
        """Correct a name."""
        return self._line.patch(f"/v1/people/{person}", PersonTold, PersonChange(name=name))

    def allow(self, person: str, grants: Sequence[Grant]) -> PersonTold:
        """Say what a person may do. Raises Conflict for the last owner."""
        return self._line.put(f"/v1/people/{person}/grants", PersonTold, GrantsWanted(grants=_wanted(grants)))

    def new_link(self, person: str, *, by_mail: bool = True) -> LinkMade:
        """A new link by which a person chooses a password. Raises TooOften."""
        return self._line.post(f"/v1/people/{person}/links", LinkMade, LinkWanted(by_mail=by_mail))

    def access(self, person: str) -> AccessTold:
        """A person's sessions and tokens."""
        return self._line.get(f"/v1/people/{person}/access", AccessTold)

    def end_access(self, person: str, reason: str) -> EndedTold:
        """End every session and token of a person at once."""
        return self._line.post(f"/v1/people/{person}/endings", EndedTold, EndingWanted(reason=reason))

    def remove(self, person: str, reason: str, *, erase: bool = False) -> None:
        """End a person's access for good; ``erase`` takes the name too. Raises Conflict for the last owner."""
        self._line.act("POST", f"/v1/people/{person}/removal", RemovalWanted(reason=reason, erase=erase))

    def drop_second_factor(self, person: str) -> None:
        """Drop the second factor of a person who has lost the device. Raises Conflict where there is none."""
        self._line.delete(f"/v1/people/{person}/second-factor")

    def rules(self) -> AccessRulesTold:
        """What the owners demand of everybody."""
        return self._line.get("/v1/access-rules", AccessRulesTold)

    def demand_second_factor(self, demanded: bool) -> AccessRulesTold:
        """Demand a second factor of everybody who signs in by password, or no longer."""
        return self._line.put("/v1/access-rules", AccessRulesTold, AccessRulesWanted(second_factor=demanded))
