"""Signing in, and who asks: by a console session or by a token."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import bindparam, delete, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import NotFound, Unauthenticated
from restless_tide.core.rights import Standing, standing_of
from restless_tide.desk import find, passwords, second_factor
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.columns import new_id
from restless_tide.records.seal import token_digest
from restless_tide.records.tables import AccessRules, Person, PersonalLink, SignIn, Token

SIGN_IN_LIFE = timedelta(hours=12)
LONGEST_AGENT = 300
_DEMANDED = select(AccessRules.second_factor).limit(1).scalar_subquery()

# These are asked with every request, so each is made once.
_BY_SESSION = (
    select(SignIn, Person, _DEMANDED.label("demanded"))
    .join(SignIn.person)
    .where(SignIn.token_digest == bindparam("digest"))
)
_BY_TOKEN = select(Token, Person).join(Token.person).where(Token.token_digest == bindparam("digest"))


@dataclass(frozen=True, slots=True)
class Asker:
    """Who asks, and what they may do. ``session`` or ``token`` is what they ask by; ``unproven``: a second factor is demanded
    and was not given, so that nothing is open but to set one up."""

    person: Person
    standing: Standing
    session: SignIn | None = None
    token: Token | None = None
    unproven: bool = False


def sign_in(
    desk: Desk, email: str, password: str, code: str = "", *, agent: str = "", place: str = ""
) -> tuple[Person, str]:
    """Check a password, and the second factor where the person has one; returns the person and the new session's secret.

    Raises Unauthenticated, with the code ``second-factor-needed`` where only that is missing.
    """
    with desk.look() as session:
        person = find.person_with(session, email)
    right = passwords.is_right(person.password_hash if person else None, password)
    if person is None or not right:
        raise Unauthenticated("The address or the password is wrong.", code="sign-in-failed")
    if person.totp_since is not None:
        second_factor.use(desk, person.id, code)
    return person, begin(desk, person, proven=person.totp_since is not None, agent=agent, place=place)


def begin(desk: Desk, person: Person, *, proven: bool, agent: str = "", place: str = "") -> str:
    """A new session of someone who has shown who they are; returns its secret."""
    secret = secrets.token_urlsafe(32)
    with desk.act(person.id) as act:
        act.session.add(
            SignIn(
                token_digest=token_digest(secret),
                id=new_id("si"),
                person_id=person.id,
                created_at=act.now,
                expires_at=act.now + SIGN_IN_LIFE,
                proven=proven,
                agent=agent[:LONGEST_AGENT],
                place=place,
            )
        )
    return secret


def sign_out(act: Act, secret: str) -> None:
    """End the session with this secret, if it runs."""
    found = act.session.get(SignIn, token_digest(secret))
    if found is not None:
        act.session.delete(found)


def running(session: Session, person_id: str, desk: Desk) -> list[SignIn]:
    """Someone's sessions that have not ended, the newest first."""
    wanted = select(SignIn).where(SignIn.person_id == person_id, SignIn.expires_at > desk.clock.now())
    return list(session.scalars(wanted.order_by(SignIn.created_at.desc(), SignIn.id)))


def end(act: Act, session_id: str) -> None:
    """End one of the acting person's sessions. Raises NotFound."""
    found = act.session.scalar(select(SignIn).where(SignIn.id == session_id, SignIn.person_id == act.person))
    if found is None:
        raise NotFound(f"You have no session {session_id!r}.", remedy="See: tide session list", code="session-unknown")
    act.session.delete(found)
    act.log("session ended", f"session {session_id}")


def end_others(act: Act, kept: SignIn | None) -> int:
    """End all sessions of the acting person but one; returns how many."""
    rows = act.session.scalars(select(SignIn).where(SignIn.person_id == act.person)).all()
    ending = [row for row in rows if kept is None or row.id != kept.id]
    for row in ending:
        act.session.delete(row)
    if ending:
        act.log("sessions ended", f"person {act.person}", after={"sessions": len(ending)})
    return len(ending)


def drop_expired(desk: Desk) -> None:
    """Drop sessions and links that have expired."""
    now = desk.clock.now()
    desk.database.aside(delete(SignIn).where(SignIn.expires_at <= now).returning(SignIn.id))
    desk.database.aside(delete(PersonalLink).where(PersonalLink.expires_at <= now).returning(PersonalLink.kind))


def of_session(desk: Desk, secret: str) -> Asker:
    """Who asks by a console session. Raises Unauthenticated."""
    with desk.glance() as session:
        found = session.execute(_BY_SESSION, {"digest": token_digest(secret)}).first()
    if found is None or found.SignIn.expires_at <= desk.clock.now():
        raise Unauthenticated("The session has ended.", remedy="Sign in again.", code="session-ended")
    row, person = found.SignIn, found.Person
    desk.uses.note(row, desk.clock.now())
    return Asker(person, standing_of(person.grants), session=row, unproven=bool(found.demanded) and not row.proven)


def of_token(desk: Desk, value: str) -> Asker:
    """Who asks by a bearer token. Raises Unauthenticated, saying whether it is unknown, expired or revoked."""
    remedy = "Make a new one with: tide token add"
    with desk.glance() as session:
        found = session.execute(_BY_TOKEN, {"digest": token_digest(value)}).first()
    if found is None:
        raise Unauthenticated("This token is unknown at this desk.", remedy=remedy, code="token-unknown")
    token, person = found
    if token.revoked_at is not None:
        raise Unauthenticated("This token was revoked.", remedy=remedy, code="token-revoked")
    if token.expires_at is not None and token.expires_at <= desk.clock.now():
        raise Unauthenticated("This token has expired.", remedy=remedy, code="token-expired")
    desk.uses.note(token, desk.clock.now())
    return Asker(person, standing_of(person.grants, token.grant), token=token)
