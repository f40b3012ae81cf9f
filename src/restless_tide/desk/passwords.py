"""Passwords, and the links by which people choose them."""

from __future__ import annotations

import os
import secrets
import threading
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Invalid, NotFound, TooOften, Unauthenticated
from restless_tide.core.personal_link import LIFE, MOST_AT_ONCE, LinkKind
from restless_tide.desk import find
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.seal import token_digest
from restless_tide.records.tables import Person, PersonalLink, SignIn

SHORTEST_PASSWORD = 10
VISITOR = "visitor"
"""How someone who is not signed in stands in the logbook."""
HASHES_AT_ONCE = 2
"""Each takes 64 MiB and a core for a while."""
_LEAST_URGENT = 19
_hasher = PasswordHasher()


def _give_way() -> None:
    """Have this thread, and those that the hash starts, run only on what others leave of the cores."""
    with suppress(OSError):  # where threads have no priority of their own
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _LEAST_URGENT)


_hashing = ThreadPoolExecutor(HASHES_AT_ONCE, "hashing", initializer=_give_way)


@cache
def _of_no_one() -> str:
    """A hash that no password has, so that an unknown address takes as long as a wrong password."""
    return _hashing.submit(_hasher.hash, secrets.token_urlsafe(32)).result()


def hashed(password: str) -> str:
    """A password as it is kept (Argon2id, RFC 9106). Raises Invalid for one that is too short."""
    if len(password) < SHORTEST_PASSWORD:
        raise Invalid(f"A password has at least {SHORTEST_PASSWORD} characters.", code="password-too-short")
    return _hashing.submit(_hasher.hash, password).result()


def is_right(stored: str | None, password: str) -> bool:
    """Whether a password is the one that is kept; it takes as long where there is none."""
    try:
        return _hashing.submit(_hasher.verify, stored or _of_no_one(), password).result()
    except (VerificationError, InvalidHashError):
        return False


def demand(person: Person, password: str) -> None:
    """Have a person who is signed in prove it once more. Raises Unauthenticated."""
    if not is_right(person.password_hash, password):
        raise Unauthenticated("The password is wrong.", remedy="Enter your current password.", code="password-wrong")


def change(desk: Desk, person: Person, current: str, new: str, keep_session: str | None) -> None:
    """Change one's own password; all other sessions end. Raises Unauthenticated, Invalid."""
    demand(person, current)
    kept = hashed(new)
    with desk.act(person.id) as act:
        _set(act, person.id, kept, keep_session)


def _set(act: Act, person_id: str, kept: str, keep_session: str | None = None) -> None:
    row = act.session.get(Person, person_id)
    assert row is not None
    row.password_hash = kept
    act.session.execute(
        delete(SignIn).where(SignIn.person_id == person_id, SignIn.token_digest != (keep_session or ""))
    )
    act.session.execute(delete(PersonalLink).where(PersonalLink.person_id == person_id))
    act.log("password changed", f"person {person_id}")


def make_link(act: Act, person: Person, kind: LinkKind, *, by_mail: bool) -> str:
    """A link's code; with ``by_mail`` it leaves by mail and is sealed until then. Raises TooOften."""
    valid = select(func.count()).select_from(PersonalLink)
    of_person = valid.where(PersonalLink.person_id == person.id, PersonalLink.expires_at > act.now)
    if (act.session.scalar(of_person) or 0) >= MOST_AT_ONCE:
        raise TooOften(
            f"{MOST_AT_ONCE} links were sent to that person already.",
            remedy="Use one of them, or wait until they expire.",
            code="links-too-many",
        )
    code = secrets.token_urlsafe(24)
    digest = token_digest(code)
    act.session.add(
        PersonalLink(
            code_digest=digest,
            person_id=person.id,
            kind=kind,
            created_at=act.now,
            expires_at=act.now + LIFE[kind],
            by=act.person,
            sealed_code=act.seal.close(code.encode(), f"link {digest}") if by_mail else None,
            try_after=act.now if by_mail else None,
        )
    )
    act.log("link made", f"person {person.id}", after={"kind": str(kind), "by_mail": by_mail})
    return code


def link_address(desk: Desk, code: str) -> str:
    """The address of a link. What is behind the # never reaches a server's log."""
    return f"{desk.settings.address}/welcome#{code}"


def reset(desk: Desk, email: str) -> None:
    """Mail a link for a new password, should someone here have this address; the caller does not learn whether."""
    with desk.look() as session:
        person = find.person_with(session, email)
    if person is None:
        return
    try:
        with desk.act(VISITOR) as act:  # whoever asks has not shown who they are
            make_link(act, person, LinkKind.RESET if person.password_hash else LinkKind.WELCOME, by_mail=True)
    except TooOften:
        return


def by_code(session: Session, desk: Desk, code: str) -> PersonalLink:
    """The link with a code. Raises NotFound for one that is unknown, used or expired."""
    found = session.get(PersonalLink, token_digest(code))
    if found is None or found.expires_at <= desk.clock.now() or found.person.removed_at is not None:
        raise NotFound(
            "This link is not valid: it was used, or has expired.",
            remedy="Ask for a new one on the sign-in page, or ask an owner of the desk.",
            code="link-unknown",
        )
    return found


def choose(desk: Desk, code: str, password: str) -> Person:
    """Choose a password by a link; all sessions and links of the person end. Raises NotFound, Invalid."""
    with desk.look() as session:
        person_id = by_code(session, desk, code).person_id
    kept = hashed(password)
    with desk.act(person_id) as act:
        person = by_code(act.session, desk, code).person  # once more: it may have been used meanwhile
        _set(act, person.id, kept)
        return person
