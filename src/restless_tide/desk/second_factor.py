"""The second factor: one-time codes by time (TOTP, RFC 6238), and recovery codes for a lost device."""

from __future__ import annotations

import secrets
from dataclasses import dataclass

import pyotp
from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Invalid, Unauthenticated
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.seal import token_digest
from restless_tide.records.tables import AccessRules, Person, SignIn

ISSUER = "Restless Tide"
RECOVERY_CODES = 10
_STEP_SECONDS = 30
_STEPS_AROUND = 1
"""Codes of the step before and after are taken as well: clocks differ, and people type slowly."""
_ALPHABET = "23456789abcdefghjkmnpqrstuvwxyz"


@dataclass(frozen=True)
class Setup:
    """What an authenticator is told: its secret, and the same as an address that it reads from a picture."""

    secret: str
    address: str


def begin(desk: Desk, person_id: str) -> Setup:
    """A new secret, not in force until a code of it was given. Raises Conflict where one is in force."""
    with desk.act(person_id) as act:
        person = _person(act)
        if person.totp_since is not None:
            raise Conflict("You have a second factor already.", remedy="Drop it first.", code="second-factor-known")
        secret = pyotp.random_base32()
        person.sealed_totp = act.seal.close(secret.encode(), f"totp {person.id}")
        address = pyotp.TOTP(secret).provisioning_uri(name=person.email, issuer_name=ISSUER)
    return Setup(secret, address)


def confirm(desk: Desk, person_id: str, code: str, session_id: str | None) -> list[str]:
    """Put the new secret into force by a code of it; returns the recovery codes, shown this once. Raises Invalid, Conflict."""
    codes = [_recovery_code() for _ in range(RECOVERY_CODES)]
    with desk.act(person_id) as act:
        person = _person(act)
        if person.totp_since is not None or person.sealed_totp is None:
            raise Conflict(
                "No second factor is being set up.", remedy="Begin it first.", code="second-factor-not-begun"
            )
        step = _step_of(act, person, code)
        if step is None:
            raise Invalid(
                "The code does not fit.",
                remedy="Check the clock of your device, and enter the code that it shows now.",
                code="code-unfit",
            )
        person.totp_since, person.totp_step = act.now, step
        person.recovery = [token_digest(code) for code in codes]
        for row in act.session.scalars(select(SignIn).where(SignIn.person_id == person_id)):
            if row.id == session_id:
                row.proven = True
            else:
                act.session.delete(row)  # they began without it
        act.log("second factor set up", f"person {person.id}")
    return codes


def use(desk: Desk, person_id: str, code: str) -> None:
    """Take a code, or a recovery code, once. Raises Unauthenticated for a wrong one and for one that was used."""
    if not code.strip():
        raise Unauthenticated(
            "Your second factor is needed, too.",
            remedy="Enter the code that your authenticator shows, or a recovery code.",
            code="second-factor-needed",
        )
    with desk.act(person_id) as act:
        person = _person(act)
        step = _step_of(act, person, code)
        if step is not None:
            person.totp_step = step
            return
        digest = token_digest(code.strip().lower().replace(" ", ""))
        if digest in person.recovery:
            person.recovery = [known for known in person.recovery if known != digest]
            act.log("recovery code used", f"person {person.id}", after={"left": len(person.recovery)})
            return
    raise Unauthenticated(
        "The code is wrong, or was used already.",
        remedy="Wait for the next one; or enter a recovery code.",
        code="second-factor-wrong",
    )


def drop(act: Act, person: Person) -> None:
    """Have someone sign in by password alone again, such as after a lost device."""
    if person.totp_since is None:
        raise Conflict("There is no second factor.", code="second-factor-unknown")
    clear(person)
    act.log("second factor dropped", f"person {person.id}")


def clear(person: Person) -> None:
    """Take the secret and the recovery codes out."""
    person.sealed_totp = person.totp_since = None
    person.recovery = []


def drop_own(desk: Desk, person_id: str) -> None:
    """Drop one's own. Raises Conflict while the desk demands one."""
    with desk.act(person_id) as act:
        if rules(act.session).second_factor:
            raise Conflict("This desk demands a second factor of everybody.", code="second-factor-demanded")
        drop(act, _person(act))


def rules(session: Session) -> AccessRules:
    """What the owners demand."""
    found = session.get(AccessRules, 1)
    assert found is not None
    return found


def demand_of_everybody(act: Act, demanded: bool) -> AccessRules:
    """Demand a second factor of everybody who signs in by password, or no longer."""
    row = rules(act.session)
    if row.second_factor != demanded:
        act.log(
            "access rules changed",
            "access rules",
            before={"second_factor": row.second_factor},
            after={"second_factor": demanded},
        )
        row.second_factor = demanded
    return row


def _person(act: Act) -> Person:
    found = act.session.get(Person, act.person)
    assert found is not None
    return found


def _step_of(act: Act, person: Person, code: str) -> int | None:
    """The step of time whose code this is, if it is a later one than the last that was used."""
    if person.sealed_totp is None:
        return None
    secret = pyotp.TOTP(act.seal.open(person.sealed_totp, f"totp {person.id}").decode())
    now = int(act.now.timestamp()) // _STEP_SECONDS
    given = code.strip().replace(" ", "")
    for step in range(now - _STEPS_AROUND, now + _STEPS_AROUND + 1):
        if step > person.totp_step and secrets.compare_digest(secret.generate_otp(step).encode(), given.encode()):
            return step
    return None


def _recovery_code() -> str:
    letters = "".join(secrets.choice(_ALPHABET) for _ in range(10))
    return f"{letters[:5]}-{letters[5:]}"
