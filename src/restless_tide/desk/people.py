"""People: who works at the desk, and what each may do."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from sqlalchemy import delete, func, or_, select, update
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Invalid
from restless_tide.core.rights import EVERYTHING, MOST_GRANTS, Grant, Role, is_owner, roles_told
from restless_tide.desk import find, passwords, second_factor, tokens
from restless_tide.desk.addresses import mail_address
from restless_tide.desk.desk import Act
from restless_tide.records.tables import Person, PersonalLink, SignIn, Subscription, Token

_SEE = "See: tide person list"


def anybody(session: Session) -> bool:
    """Whether the desk knows any person yet."""
    return bool(session.scalar(select(func.count()).select_from(Person)))


def names(session: Session, ids: Collection[str]) -> dict[str, str]:
    """The names of people by their ids; whoever was erased has none."""
    found = session.scalars(select(Person).where(Person.id.in_(ids)))
    return {person.id: person.name for person in found if person.name}


def meant(session: Session, who: str) -> Person:
    """The person with an address or an id. Raises Invalid where there is none."""
    found = session.scalar(select(Person).where((Person.email == who.strip().lower()) | (Person.id == who)))
    if found is None or found.removed_at is not None:
        raise Invalid(f"No person at this desk has the address {who}.", remedy=_SEE, code="person-unknown")
    return found


def every(session: Session) -> list[Person]:
    """Everybody who works at the desk, by name."""
    return list(session.scalars(select(Person).where(Person.removed_at.is_(None)).order_by(Person.name, Person.id)))


def called(session: Session, words: str) -> list[str]:
    """The ids of people whose name or address holds these words."""
    fits = or_(Person.name.contains(words, autoescape=True), Person.email.contains(words, autoescape=True))
    return list(session.scalars(select(Person.id).where(fits)))


def add(act: Act, name: str, email: str, password: str | None, grants: Sequence[Grant] = EVERYTHING) -> Person:
    """Add a person who may sign in; without a password only once they chose one by a link. Raises Invalid or Conflict."""
    address = mail_address(email)
    if not name.strip():
        raise Invalid("A person needs a name.", code="name-missing")
    if act.session.scalar(select(Person).where(Person.email == address)):
        raise Conflict(f"{address} is at this desk already.", remedy=_SEE, code="person-known")
    person = Person(
        name=name.strip(),
        email=address,
        password_hash=passwords.hashed(password) if password is not None else "",
        created_at=act.now,
        grants=_fit(act.session, grants),
    )
    act.session.add(person)
    act.session.flush()
    act.log("person added", f"person {person.id}", after={"may": roles_told(person.grants)})
    return person


def rename(act: Act, who: str, name: str) -> Person:
    """Correct a name. Raises Invalid."""
    person = meant(act.session, who)
    if not name.strip():
        raise Invalid("A person needs a name.", code="name-missing")
    if person.name != name.strip():
        person.name = name.strip()
        act.log("person renamed", f"person {person.id}")  # names stand beside the logbook, never in it
    return person


def allow(act: Act, who: str, grants: Sequence[Grant]) -> Person:
    """Set what a person may do; it holds from their next request on. Raises Invalid, and Conflict for the last owner."""
    person = meant(act.session, who)
    before, after = person.grants, _fit(act.session, grants)
    if not after:
        raise Invalid(
            "A person needs at least one role.",
            remedy="Give another role first, or remove the person.",
            code="role-missing",
        )
    if before != after:
        if is_owner(before) and not is_owner(after):
            _demand_another_owner(act.session, person)
        person.grants = after
        act.log(
            "rights changed",
            f"person {person.id}",
            before={"may": roles_told(before)},
            after={"may": roles_told(after)},
        )
    return person


def remove(act: Act, who: str, reason: str, *, erase: bool = False) -> Person:
    """End all of a person's access at once. Their lines in the logbook stay; their address goes, and with ``erase`` the name.

    Raises Invalid for one who is unknown, Conflict for the last owner.
    """
    person = meant(act.session, who)
    if is_owner(person.grants):
        _demand_another_owner(act.session, person)
    end_access(act, person)
    act.session.execute(
        update(Subscription)
        .where(Subscription.person_id == person.id, Subscription.ended_at.is_(None))
        .values(ended_at=act.now)
    )
    person.removed_at, person.grants = act.now, ()
    person.email, person.password_hash = f"removed:{person.id}", ""
    second_factor.clear(person)
    if erase:
        person.name = ""
    act.log("person removed", f"person {person.id}", reason=reason, after={"erased": erase})
    return person


def end_access(act: Act, person: Person) -> tuple[int, int]:
    """End every session and token of a person, and links that were not used; returns how many sessions and tokens."""
    running = select(Token).where(Token.person_id == person.id, Token.revoked_at.is_(None))
    ended = [tokens.revoke_row(act, token) for token in act.session.scalars(running).all()]
    sessions = act.session.scalars(select(SignIn).where(SignIn.person_id == person.id)).all()
    for row in sessions:
        act.session.delete(row)
    act.session.execute(delete(PersonalLink).where(PersonalLink.person_id == person.id))
    return len(sessions), len(ended)


def end_all(act: Act, who: str, reason: str) -> tuple[int, int]:
    """The same as an act of its own."""
    person = meant(act.session, who)
    sessions, ended = end_access(act, person)
    act.log("access ended", f"person {person.id}", reason=reason, after={"sessions": sessions, "tokens": ended})
    return sessions, ended


def _demand_another_owner(session: Session, person: Person) -> None:
    if not any(is_owner(other.grants) and other.password_hash for other in every(session) if other.id != person.id):
        raise Conflict(
            f"{person.name} is the last owner of this desk; without one no one could invite anyone.",
            remedy="Make someone else an owner first: tide person grant ADDRESS owner",
            code="last-owner",
        )


def _fit(session: Session, grants: Sequence[Grant]) -> tuple[Grant, ...]:
    """Grants as they are kept: each role once for all apps, or once with the apps by name. Raises Invalid, NotFound."""
    if len(grants) > MOST_GRANTS:
        raise Invalid(f"A person has {MOST_GRANTS} roles at most.", code="roles-too-many")
    whole = {grant.role for grant in grants if grant.apps is None}
    some: dict[Role, set[str]] = {}
    for grant in grants:
        if grant.apps is not None and grant.role not in whole:
            some.setdefault(grant.role, set()).update(find.app(session, app).name for app in grant.apps)
    kept = [Grant(role) for role in sorted(whole)]
    return (*kept, *(Grant(role, tuple(sorted(apps))) for role, apps in sorted(some.items()) if apps))
