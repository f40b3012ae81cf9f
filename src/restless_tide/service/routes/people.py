"""People: who works here and what each may do; inviting them, ending their access."""

from __future__ import annotations

from restless_tide.core.personal_link import LIFE, LinkKind
from restless_tide.core.rights import Reach, Right
from restless_tide.desk import passwords, people, second_factor, sessions, tokens
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.tables import Person
from restless_tide.service import shown_people
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import Reached, SignedIn, TheAsker, TheDesk, WhoAsks
from restless_tide.wire.people import (
    AccessRulesTold,
    AccessRulesWanted,
    AccessTold,
    EndedTold,
    EndingWanted,
    GrantsWanted,
    InvitedTold,
    LinkMade,
    LinkWanted,
    PersonChange,
    PersonTold,
    PersonWanted,
    RemovalWanted,
)

router = router_of("people", "/v1")


@router.get("/people")
@needs(Right.SEE, Reach.SOME)
def every(desk: TheDesk, who: WhoAsks, reach: Reached) -> list[PersonTold]:
    """Everybody who works at this desk, by name; with addresses for those who manage people, and what they may do in the apps that you reach."""
    address = who.standing.everywhere(Right.MANAGE_PEOPLE)
    with desk.look() as session:
        return [shown_people.person(row, address=address, reach=reach) for row in people.every(session)]


@router.post("/people", status_code=201)
@needs(Right.MANAGE_PEOPLE, Reach.DESK)
def invite(wanted: PersonWanted, desk: TheDesk, person: SignedIn) -> InvitedTold:
    """Invite a person: a link by which they choose a password leaves by mail, or is in this answer."""
    with desk.act(person.id) as act:
        row = people.add(act, wanted.name, wanted.email, None, [entry.grant() for entry in wanted.grants])
        link = _link(desk, act, row, by_mail=wanted.by_mail)
        return InvitedTold(person=shown_people.person(row, address=True), link=link)


def _link(desk: Desk, act: Act, row: Person, *, by_mail: bool) -> LinkMade:
    kind = LinkKind.RESET if row.password_hash else LinkKind.WELCOME
    code = passwords.make_link(act, row, kind, by_mail=by_mail)
    address = None if by_mail else passwords.link_address(desk, code)
    return LinkMade(kind=kind, expires_at=act.now + LIFE[kind], address=address)


@router.patch("/people/{person_id}")
@needs(Right.MANAGE_PEOPLE, Reach.DESK)
def rename(person_id: str, wanted: PersonChange, desk: TheDesk, person: SignedIn) -> PersonTold:
    """Correct a name."""
    with desk.act(person.id) as act:
        return shown_people.person(people.rename(act, person_id, wanted.name), address=True)


@router.put("/people/{person_id}/grants")
@needs(Right.MANAGE_PEOPLE, Reach.DESK)
def allow(person_id: str, wanted: GrantsWanted, desk: TheDesk, person: SignedIn) -> PersonTold:
    """Say what a person may do; it holds from their next request on."""
    with desk.act(person.id) as act:
        row = people.allow(act, person_id, [entry.grant() for entry in wanted.grants])
        return shown_people.person(row, address=True)


@router.post("/people/{person_id}/links", status_code=201)
@needs(Right.MANAGE_PEOPLE, Reach.DESK)
def link(person_id: str, wanted: LinkWanted, desk: TheDesk, person: SignedIn) -> LinkMade:
    """A new link by which a person chooses a password: an invitation once more, or for a password that was forgotten."""
    with desk.act(person.id) as act:
        return _link(desk, act, people.meant(act.session, person_id), by_mail=wanted.by_mail)


@router.get("/people/{person_id}/access")
@needs(Right.MANAGE_PEOPLE, Reach.DESK)
def access(person_id: str, desk: TheDesk, asker: TheAsker) -> AccessTold:
    """A person's sessions and tokens."""
    with desk.look() as session:
        row = people.meant(session, person_id)
        return AccessTold(
            sessions=[shown_people.session(one, asker) for one in sessions.running(session, row.id, desk)],
            tokens=[shown_people.token(one) for one in tokens.of_person(session, row.id)],
        )


@router.post("/people/{person_id}/endings")
@needs(Right.MANAGE_PEOPLE, Reach.DESK)
def end_access(person_id: str, wanted: EndingWanted, desk: TheDesk, person: SignedIn) -> EndedTold:
    """End every session and token of a person at once; they may sign in again."""
    with desk.act(person.id) as act:
        ended, revoked = people.end_all(act, person_id, wanted.reason)
        return EndedTold(sessions=ended, tokens=revoked)


@router.post("/people/{person_id}/removal", status_code=204)
@needs(Right.MANAGE_PEOPLE, Reach.DESK)
def remove(person_id: str, wanted: RemovalWanted, desk: TheDesk, person: SignedIn) -> None:
    """End a person's access for good. Their lines stay in the logbook."""
    with desk.act(person.id) as act:
        people.remove(act, person_id, wanted.reason, erase=wanted.erase)


@router.delete("/people/{person_id}/second-factor", status_code=204)
@needs(Right.MANAGE_PEOPLE, Reach.DESK)
def drop_factor(person_id: str, desk: TheDesk, person: SignedIn) -> None:
    """Drop the second factor of a person who has lost the device."""
    with desk.act(person.id) as act:
        second_factor.drop(act, people.meant(act.session, person_id))


@router.get("/access-rules")
@needs(Right.WHO, Reach.SOME)
def rules(desk: TheDesk, _: SignedIn) -> AccessRulesTold:
    """What the owners demand of everybody."""
    with desk.look() as session:
        return AccessRulesTold.of(second_factor.rules(session))


@router.put("/access-rules")
@needs(Right.MANAGE_PEOPLE, Reach.DESK)
def set_rules(wanted: AccessRulesWanted, desk: TheDesk, asker: TheAsker) -> AccessRulesTold:
    """Demand a second factor of everybody who signs in by password, or no longer."""
    with desk.act(asker.person.id) as act:
        return AccessRulesTold.of(second_factor.demand_of_everybody(act, wanted.second_factor))
