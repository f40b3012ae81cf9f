"""tide person: who works at a desk, and what each may do."""

from __future__ import annotations

from argparse import ArgumentParser

from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell
from restless_tide.cli.parsing import Nouns
from restless_tide.cli.telling import moment
from restless_tide.cli.tokens import token_table
from restless_tide.core.rights import PEOPLES_ROLES, ROLES, TOLD, Grant, Role
from restless_tide.wire.errors import Invalid
from restless_tide.wire.people import InvitedTold, LinkMade, PersonTold

_PEOPLE: Listing[PersonTold] = Listing(
    words=lambda person: (person.id, person.name, person.email or "", person.may),
    sort={"name": lambda person: person.name, "address": lambda person: person.email or ""},
)
_WHO = "an address, or an id as tide person list shows it"


def add(nouns: Nouns) -> None:
    nouns.noun("person")
    _PEOPLE.arguments(nouns.command("person list", _list, "everybody who works at this desk"))
    nouns.command("person roles", _roles, "the roles, and what each may do")
    parser = nouns.command("person show", _show, "what a person may do, with their sessions and tokens")
    parser.add_argument("who", help=_WHO)
    parser = nouns.command(
        "person invite",
        _invite,
        "invite a person: a link by which they choose a password",
        description="The link leaves by mail. On a desk that sends no mail, --show-link prints it once instead: hand it over safely.",
    )
    parser.add_argument("email")
    parser.add_argument("--name", required=True)
    _role(parser)
    _by_mail(parser)
    parser = nouns.command(
        "person grant",
        _grant,
        "give a person a role, for all apps or for some",
        description="What they have already stays: tide person grant tam@example.org release-manager --app marram",
    )
    parser.add_argument("who", help=_WHO)
    parser.add_argument("role", choices=PEOPLES_ROLES)
    _apps(parser)
    parser = nouns.command("person revoke", _revoke, "take a role from a person, for all apps or for some")
    parser.add_argument("who", help=_WHO)
    parser.add_argument("role", choices=PEOPLES_ROLES)
    _apps(parser)
    parser = nouns.command("person rename", _rename, "correct a name")
    parser.add_argument("who", help=_WHO)
    parser.add_argument("name")
    parser = nouns.command("person link", _link, "send the invitation once more, or a link for a forgotten password")
    parser.add_argument("who", help=_WHO)
    _by_mail(parser)
    parser = nouns.command(
        "person end", _end, "end every session and token of a person at once; they may sign in again"
    )
    parser.add_argument("who", help=_WHO)
    parser.add_argument("--reason", required=True, help="why; it stands in the logbook")
    parser = nouns.command("person remove", _remove, "end a person's access for good; their lines in the logbook stay")
    parser.add_argument("who", help=_WHO)
    parser.add_argument("--reason", required=True, help="why; it stands in the logbook")
    parser.add_argument("--erase", action="store_true", help="the name too; the logbook then shows the pseudonym alone")
    parser.add_argument("--yes", action="store_true", help="do not ask")
    parser = nouns.command("person drop-factor", _drop_factor, "drop the second factor of a person who lost the device")
    parser.add_argument("who", help=_WHO)
    parser = nouns.command("person rules", _rules, "what is demanded of everybody; set it with --second-factor")
    parser.add_argument(
        "--second-factor", choices=("demanded", "optional"), help="of everybody who signs in by password"
    )


def _role(parser: ArgumentParser) -> None:
    parser.add_argument("--role", required=True, choices=PEOPLES_ROLES, help="see: tide person roles")
    _apps(parser)


def _apps(parser: ArgumentParser) -> None:
    parser.add_argument(
        "--app",
        dest="apps",
        action="append",
        default=[],
        metavar="APP",
        help="only for this app; repeat it (none: all apps)",
    )


def _by_mail(parser: ArgumentParser) -> None:
    parser.add_argument("--show-link", action="store_true", help="print the link, shown this once, and send no mail")


def _wanted(call: Call) -> Grant:
    return Grant(Role(call.given.role), tuple(call.given.apps) or None)


def _list(call: Call) -> None:
    found = _PEOPLE.arranged(call, call.tide.people.every())

    def shown() -> None:
        table = call.table("NAME", "ADDRESS", "MAY DO", "SIGNS IN", "ID")
        for person in found:
            table.add_row(cell(person.name), cell(person.email), cell(person.may), _way(person), person.id)
        call.show(table, empty="No person is like that.")

    call.answer(found, shown)


def _way(person: PersonTold) -> str:
    if person.invited:
        return "invited"
    return "password and code" if person.second_factor else "password"


def _roles(call: Call) -> None:
    told = [
        {
            "role": role,
            "of": "tokens" if role not in PEOPLES_ROLES else "people",
            "may": [TOLD[right] for right in TOLD if right in rights],
        }
        for role, rights in ROLES.items()
    ]

    def shown() -> None:
        table = call.table("MAY", *(str(role) for role in ROLES))
        for right, words in TOLD.items():
            table.add_row(words, *("yes" if right in rights else "" for rights in ROLES.values()))
        call.show(table, empty="")
        call.say("")
        call.say("A role is given for all apps or for some. A build server is a role of tokens alone: tide token add")

    call.answer(told, shown)


def _meant(call: Call) -> PersonTold:
    given = call.given.who.strip().lower()
    for person in call.tide.people.every():
        if given in (person.id, (person.email or "").lower()):
            return person
    raise Invalid(
        f"No person at this desk has the address {call.given.who}.",
        remedy="See: tide person list",
        code="person-unknown",
    )


def _show(call: Call) -> None:
    person = _meant(call)
    access = call.tide.people.access(person.id)

    def shown() -> None:
        call.say(f"{person.name} is {person.may}. Signs in: {_way(person)}.")
        table = call.table("SESSION", "SINCE", "UNTIL", "FROM", "BROWSER")
        for session in access.sessions:
            table.add_row(
                session.id,
                moment(session.created_at),
                moment(session.expires_at),
                cell(session.place),
                cell(session.agent),
            )
        call.say("")
        call.show(table, empty="No session runs.")
        call.say("")
        call.show(token_table(call, access.tokens), empty="No tokens.")

    call.answer({"person": person, "access": access}, shown)


def _invite(call: Call) -> None:
    told = call.tide.people.invite(call.given.name, call.given.email, [_wanted(call)], by_mail=not call.given.show_link)
    call.answer(told, lambda: _say_invited(call, told))


def _say_invited(call: Call, told: InvitedTold) -> None:
    call.say(f"{told.person.name} is invited as {told.person.may}.")
    _say_link(call, told.link, told.person)


def _say_link(call: Call, link: LinkMade, person: PersonTold) -> None:
    until = f"valid until {moment(link.expires_at)}"
    if link.address is None:
        call.say(f"A mail with the link leaves to {person.email}; it is {until}.")
    else:
        call.say(link.address)
        call.aside.print(f"The link works once and is {until}. It is shown this once; hand it over safely.")


def _grant(call: Call) -> None:
    person = _meant(call)
    _allow(call, person, [*_grants(person), _wanted(call)])


def _revoke(call: Call) -> None:
    person, taken = _meant(call), _wanted(call)
    left = []
    for grant in _grants(person):
        if grant.role is not taken.role:
            left.append(grant)
        elif taken.apps is not None and grant.apps is None:
            raise Invalid(
                f"{person.name} has that role for all apps, so it cannot be taken for some.",
                remedy=f"Give it for the others first: tide person revoke {call.given.who} {taken.role}, then tide person grant",
                code="role-whole",
            )
        elif taken.apps is not None and grant.apps is not None:
            apps = tuple(app for app in grant.apps if app not in taken.apps)
            left += [Grant(grant.role, apps)] if apps else []
    if left == _grants(person):
        raise Invalid(f"{person.name} does not have that role; {person.name} is {person.may}.", code="role-unknown")
    if not left:
        raise Invalid(
            f"Without it {person.name} could do nothing here.",
            remedy=f"Give another role first, or end all access: tide person remove {call.given.who} --reason WHY",
            code="role-missing",
        )
    _allow(call, person, left)


def _grants(person: PersonTold) -> list[Grant]:
    return [Grant(one.role, None if one.apps is None else tuple(one.apps)) for one in person.grants]


def _allow(call: Call, person: PersonTold, grants: list[Grant]) -> None:
    told = call.tide.people.allow(person.id, grants)
    call.answer(told, lambda: call.say(f"{told.name} is now {told.may}."))


def _rename(call: Call) -> None:
    told = call.tide.people.rename(_meant(call).id, call.given.name)
    call.answer(told, lambda: call.say(f"The name is now {told.name}."))


def _link(call: Call) -> None:
    person = _meant(call)
    link = call.tide.people.new_link(person.id, by_mail=not call.given.show_link)
    call.answer(link, lambda: _say_link(call, link, person))


def _end(call: Call) -> None:
    person = _meant(call)
    told = call.tide.people.end_access(person.id, call.given.reason)
    call.answer(told, lambda: call.say(f"{person.name}: {told.sessions} sessions and {told.tokens} tokens ended."))


def _remove(call: Call) -> None:
    person = _meant(call)
    call.demand_confirmation(
        f"{person.name} can no longer sign in; every session and token ends, and so do notices to them."
    )
    call.tide.people.remove(person.id, call.given.reason, erase=call.given.erase)
    call.answer({"removed": person.id}, lambda: call.say(f"{person.name} is removed. The lines in the logbook stay."))


def _drop_factor(call: Call) -> None:
    person = _meant(call)
    call.tide.people.drop_second_factor(person.id)
    call.answer(
        {"dropped": person.id}, lambda: call.say(f"{person.name} signs in by password alone until a new one is set up.")
    )


def _rules(call: Call) -> None:
    people = call.tide.people
    wish = call.given.second_factor
    told = people.demand_second_factor(wish == "demanded") if wish else people.rules()
    said = "demanded of everybody who signs in by password" if told.second_factor else "optional"
    call.answer(told, lambda: call.say(f"A second factor is {said}."))
