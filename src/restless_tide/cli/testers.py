"""tide tester: people who test, whatever they test."""

from __future__ import annotations

from typing import Any

from restless_tide.cli.arranging import find_argument, paged_arguments
from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.lists import import_arguments, take_list, write_out
from restless_tide.cli.parsing import Nouns, Parser, app_argument, instant_argument
from restless_tide.cli.telling import moment
from restless_tide.core.invitation import InvitationState
from restless_tide.core.listing import TesterOrder
from restless_tide.wire.cohorts import TesterTold
from restless_tide.wire.errors import Invalid


def add(nouns: Nouns) -> None:
    nouns.noun("tester")
    parser = nouns.command("tester add", _add, "put a person into a cohort, or enter them without one")
    parser.add_argument("email")
    _told(parser)
    _place(parser)
    parser = nouns.command("tester pick", _pick, "put people that the desk knows into a cohort")
    parser.add_argument("tester", nargs="+", help="id or address")
    _place(parser, required=True)
    parser = nouns.command("tester list", _list, "everybody who tests, or the people of a cohort and what they have")
    parser.add_argument(
        "--state", choices=[*map(str, InvitationState)], help="of the newest invitation; only of a cohort"
    )
    paged_arguments(parser, TesterOrder, limit=100)
    _place(parser)
    nouns.command("tester show", _show, "what is known of a person").add_argument("tester", help="id or address")
    parser = nouns.command("tester change", _change, "change what is known of a person")
    parser.add_argument("tester", help="id or address")
    parser.add_argument("--email", help="another address")
    _told(parser)
    parser = nouns.command("tester remove", _remove, "take a person out of a cohort, or out of all")
    parser.add_argument("email", nargs="+", help="id or address")
    _place(parser)
    parser.add_argument("--everywhere", action="store_true", help="out of all cohorts of all apps")
    parser.add_argument("--reason", default="")
    parser = nouns.command(
        "tester forget",
        _forget,
        "erase everything personal of a tester, for good",
        description="Address, name, devices, remarks and pictures go, here and at the stores; counts and the logbook's "
        "lines under their pseudonymous id stay. It cannot be undone.",
    )
    parser.add_argument("tester", help="id or address")
    parser.add_argument("--reason", default="")
    parser.add_argument("--yes", action="store_true", help="do not ask")
    parser = nouns.command("tester import", _import, "import a list of people without a cohort (CSV)")
    import_arguments(parser)
    parser = nouns.command("tester export", _export, "write everybody who tests as CSV")
    find_argument(parser)
    parser.add_argument("--to", default="-", metavar="FILE", help="- or nothing: print it")


def _place(parser: Parser, *, required: bool = False) -> None:
    if required:
        app_argument(parser)
    else:
        parser.add_argument("--app", metavar="APP", help="the app's short name")
    parser.add_argument("--cohort", required=required)


def _told(parser: Parser) -> None:
    parser.add_argument("--name")
    for word, help_text in (
        ("platform", "android, ios or desktop; may be given again"),
        ("language", "such as de or en-GB, the preferred one first; may be given again"),
        ("device", "may be given again"),
        ("tag", "may be given again"),
    ):
        parser.add_argument(f"--{word}", action="append", help=help_text)
    instant_argument(parser, "--consented", "when they agreed to test")


def _personal(call: Call) -> dict[str, Any]:
    given = call.given
    told = {
        "name": given.name,
        "platforms": given.platform,
        "languages": given.language,
        "devices": given.device,
        "tags": given.tag,
        "consented_at": given.consented,
    }
    return {name: value for name, value in told.items() if value is not None}


def _both_or_none(call: Call) -> bool:
    """Whether a cohort was named. Raises Invalid when only half of it was."""
    if bool(call.given.app) != bool(call.given.cohort):
        raise Invalid(
            "A cohort is named by --app and --cohort together.", remedy="Give both, or none.", code="place-half"
        )
    return bool(call.given.app)


def _add(call: Call) -> None:
    given = call.given
    if _both_or_none(call):
        tester = call.tide.testing.add_tester(given.app, given.cohort, given.email, **_personal(call))
        said = f"{tester.name or tester.email} is in {given.cohort}."
    else:
        tester = call.tide.testing.enter_tester(given.email, **_personal(call))
        said = f"{tester.name or tester.email} is known as {tester.id}."

    def shown() -> None:
        call.say(said)
        if tester.caution:
            call.say(f"! {tester.caution}")

    call.answer(tester, shown)


def _pick(call: Call) -> None:
    given = call.given
    count = call.tide.testing.pick_testers(given.app, given.cohort, given.tester)
    call.answer({"count": count}, lambda: call.say(f"{count} came into {given.cohort}."))


def _list(call: Call) -> None:
    if _both_or_none(call):
        _list_members(call)
        return
    found = call.tide.testing.testers(call.given.find, order=call.given.sort, limit=call.given.limit)

    def shown() -> None:
        table = call.table("TESTER", "NAME", "ADDRESS", "PLATFORMS", "TAGS", "COHORTS")
        for tester in found:
            cohorts = ", ".join(f"{entry.app}/{entry.cohort}" for entry in tester.cohorts)
            table.add_row(
                tester.id,
                cell(tester.name),
                cell(tester.email),
                cell(" ".join(tester.platforms)),
                cell(" ".join(tester.tags)),
                cell(cohorts),
            )
        empty = "Nobody matches." if call.given.find else "Nobody tests yet. Add a person with: tide tester add ADDRESS"
        call.show(table, empty=empty)
        if len(found) == call.given.limit:
            call.say(f"The first {call.given.limit}; more with --limit, or narrow it down with --find.")

    call.answer(found, shown)


def _list_members(call: Call) -> None:
    given = call.given
    found = call.tide.testing.members(
        given.app, given.cohort, text=given.find, state=given.state, order=given.sort, limit=given.limit
    )

    def shown() -> None:
        table = call.table("NAME", "ADDRESS", "INVITATION", "SINCE", "BUILD", "DEVICE", "TROUBLE")
        for entry in found:
            state = "declined" if entry.declined_at else (entry.state or "not invited yet")
            table.add_row(
                cell(entry.tester.name),
                cell(entry.tester.email),
                state,
                moment(entry.since),
                entry.build_label or "",
                cell(" ".join(part for part in (entry.device, entry.system) if part)),
                cell(entry.trouble),
            )
        call.show(table, empty="Nobody matches." if given.find or given.state else f"Nobody is in {given.cohort} yet.")
        if len(found) == given.limit:
            call.say(f"The first {given.limit}; more with --limit, or narrow it down with --find.")

    call.answer(found, shown)


def _show(call: Call) -> None:
    tester = call.tide.testing.tester(call.given.tester)
    call.answer(tester, lambda: _tell(call, tester))


def _tell(call: Call, tester: TesterTold) -> None:
    call.say(f"{tester.name or '(no name)'} <{tester.email}>, {tester.id}")
    for label, entries in (
        ("Platforms", tester.platforms),
        ("Languages", tester.languages),
        ("Devices", tester.devices),
        ("Tags", tester.tags),
        ("Cohorts", [f"{entry.app}/{entry.cohort}" for entry in tester.cohorts]),
    ):
        if entries:
            call.say(f"  {label}: {', '.join(entries)}")
    consent = f"{moment(tester.consented_at)} ({tester.consent_how})" if tester.consented_at else "not known"
    call.say(f"  Agreed: {consent}")
    if tester.bounced_at:
        call.say(f"  ! Mail came back {moment(tester.bounced_at)}: {tester.bounce_said}")


def _change(call: Call) -> None:
    told = _personal(call)
    if call.given.email:
        told["email"] = call.given.email
    tester = call.tide.testing.change_tester(call.given.tester, **told)
    call.answer(tester, lambda: _tell(call, tester))


def _remove(call: Call) -> None:
    given = call.given
    if given.everywhere:
        count = sum(call.tide.testing.remove_everywhere(who, reason=given.reason) for who in given.email)
        call.answer({"cohorts": count}, lambda: call.say(f"Out of {count} cohorts."))
        return
    if not _both_or_none(call):
        raise Invalid(
            "Out of which cohort?", remedy="Name it by --app and --cohort, or say --everywhere.", code="place-missing"
        )
    count = call.tide.testing.remove_tester(given.app, given.cohort, *given.email, reason=given.reason)
    named = given.email[0] if count == 1 else f"{count} testers"
    call.answer(
        {"removed": given.email}, lambda: call.say(f"{named} {'is' if count == 1 else 'are'} out of {given.cohort}.")
    )


def _forget(call: Call) -> Exit | None:
    who = call.given.tester
    tester = call.tide.testing.tester(who)
    consequence = f"Everything personal of {tester.name or tester.email} goes for good: address, name, devices, remarks, pictures."
    call.demand_confirmation(consequence)
    left = call.tide.testing.forget(tester.id, reason=call.given.reason)
    call.answer({"forgotten": left}, lambda: call.say(f"Forgotten. {left} is all that is left."))
    return None


def _import(call: Call) -> Exit | None:
    return take_list(call)


def _export(call: Call) -> None:
    write_out(call, lambda to: call.tide.testing.export_testers(to, text=call.given.find))
