"""People, their sign-ins and their tokens."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Sequence
from datetime import timedelta
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import bindparam, func, or_, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Invalid, NotFound, Unauthenticated
from restless_tide.desk import find
from restless_tide.desk.addresses import mail_address
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.seal import token_digest
from restless_tide.records.tables import Person, SignIn, Token

SIGN_IN_LIFE = timedelta(hours=12)
SHORTEST_PASSWORD = 10
TOKEN_PREFIX = "tide_"  # noqa: S105
_hasher = PasswordHasher()

# These are asked with every request, so each is made once.
_BY_SESSION = select(SignIn.expires_at, Person).join(SignIn.person).where(SignIn.token_digest == bindparam("digest"))
_BY_TOKEN = select(Token, Person).join(Token.person).where(Token.token_digest == bindparam("digest"))


@cache
def _nobody() -> str:
    """A hash that no password has, so that an unknown address takes as long as a wrong password."""
    return _hasher.hash(secrets.token_urlsafe(32))


def anybody(session: Session) -> bool:
    """Whether the desk knows any person yet."""
    return bool(session.scalar(select(func.count()).select_from(Person)))


def names(session: Session, ids: Collection[str]) -> dict[str, str]:
    """The names of people by their ids; whoever was erased has none."""
    return {person.id: person.name for person in session.scalars(select(Person).where(Person.id.in_(ids)))}


def meant(session: Session, who: str) -> Person:
    """The person with an address or an id. Raises Invalid where there is none."""
    found = session.scalar(select(Person).where((Person.email == who.strip().lower()) | (Person.id == who)))
    if found is None:
        raise Invalid(
            f"No person at this desk has the address {who}.", remedy="See: tide person list", code="person-unknown"
        )
    return found


def every(session: Session) -> list[Person]:
    """Everybody who works at the desk, by name."""
    return list(session.scalars(select(Person).order_by(Person.name, Person.id)))


def called(session: Session, words: str) -> list[str]:
    """The ids of people whose name or address holds these words."""
    fits = or_(Person.name.contains(words, autoescape=True), Person.email.contains(words, autoescape=True))
    return list(session.scalars(select(Person.id).where(fits)))


def add(act: Act, name: str, email: str, password: str) -> Person:
    """Add a person who may sign in. Raises Invalid or Conflict."""
    address = mail_address(email)
    if len(password) < SHORTEST_PASSWORD:
        raise Invalid(f"A password has at least {SHORTEST_PASSWORD} characters.", code="password-too-short")
    if not name.strip():
        raise Invalid("A person needs a name.", code="name-missing")
    if act.session.scalar(select(Person).where(Person.email == address)):
        raise Conflict(f"{address} is at this desk already.", code="person-known")
    person = Person(name=name.strip(), email=address, password_hash=_hasher.hash(password), created_at=act.now)
    act.session.add(person)
    act.session.flush()
    act.log("person added", f"person {person.id}")
    return person


def sign_in(desk: Desk, email: str, password: str) -> tuple[Person, str]:
    """Check a password; returns the person and the new session's secret. Raises Unauthenticated."""
    with desk.look() as session:
        person = session.scalar(select(Person).where(Person.email == email.strip().lower()))
        stored = person.password_hash if person else _nobody()
    try:
        _hasher.verify(stored, password)
    except (VerificationError, InvalidHashError):
        person = None
    if person is None:
        raise Unauthenticated("The address or the password is wrong.", code="sign-in-failed")
    secret = secrets.token_urlsafe(32)
    with desk.act(person.id) as act:
        act.session.add(
            SignIn(
                token_digest=token_digest(secret),
                person_id=person.id,
                created_at=act.now,
                expires_at=act.now + SIGN_IN_LIFE,
            )
        )
    return person, secret


def sign_out(act: Act, secret: str) -> None:
    found = act.session.get(SignIn, token_digest(secret))
    if found is not None:
        act.session.delete(found)


def whose_session(desk: Desk, secret: str) -> Person:
    """The person of a console session. Raises Unauthenticated."""
    with desk.glance() as session:
        found = session.execute(_BY_SESSION, {"digest": token_digest(secret)}).first()
    if found is None or found.expires_at <= desk.clock.now():
        raise Unauthenticated("The session has ended.", remedy="Sign in again.", code="session-ended")
    person: Person = found.Person
    return person


def whose_token(desk: Desk, value: str) -> tuple[Person, list[str]]:
    """The person of a bearer token, and the apps it is limited to (none: not limited). Raises Unauthenticated, saying whether it is unknown, expired or revoked."""
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
    return person, list(token.apps)


def make_token(act: Act, label: str, life: timedelta | None = None, apps: Sequence[str] = ()) -> tuple[Token, str]:
    """A new token of the acting person; the value is shown this once and kept only as a digest.

    With ``apps`` it reaches only what builds of these apps need.
    """
    if not label.strip():
        raise Invalid("A token needs a label that says where it is used.", code="label-missing")
    value = TOKEN_PREFIX + secrets.token_urlsafe(32)
    token = Token(
        person_id=act.person,
        label=label.strip(),
        token_digest=token_digest(value),
        created_at=act.now,
        expires_at=act.now + life if life else None,
        apps=[find.app(act.session, app).name for app in apps],
    )
    act.session.add(token)
    act.session.flush()
    told = {"label": token.label} | ({"apps": token.apps} if token.apps else {})
    act.log("token made", f"token {token.id}", after=told)
    return token, value


def tokens(session: Session, person_id: str) -> list[Token]:
    return list(session.scalars(select(Token).where(Token.person_id == person_id).order_by(Token.created_at)))


def revoke_token(act: Act, token_id: str) -> Token:
    """Revoke one of the acting person's tokens at once."""
    token = act.session.get(Token, token_id)
    if token is None or token.person_id != act.person:
        raise NotFound(f"You have no token {token_id!r}.", remedy="See: tide token list", code="token-unknown")
    if token.revoked_at is None:
        token.revoked_at = act.now
        act.log("token revoked", f"token {token.id}", before={"label": token.label})
    return token
