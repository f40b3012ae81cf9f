"""tide release waiting, agree, drop: acts that wait for a second person."""

from __future__ import annotations

from restless_tide.cli.call import Call, cell
from restless_tide.cli.parsing import Nouns, app_argument
from restless_tide.cli.telling import moment


def add(nouns: Nouns) -> None:
    nouns.command("release waiting", _waiting, "what waits for a second person to agree")
    parser = nouns.command("release agree", _agree, "agree as the second person; it is done with that")
    parser.add_argument("id", help="as tide release waiting shows it")
    parser = nouns.command("release drop-proposal", _drop, "drop what waits for a second person; it is not done")
    parser.add_argument("id", help="as tide release waiting shows it")
    parser.add_argument("--reason", required=True, help="why; it stands in the logbook")
    parser = nouns.command(
        "release second-person",
        _rule,
        "have what brings an app's releases to people wait for a second person",
        description="Handing in, go-aheads, advancing, resuming, finishing and withdrawing then wait until someone else agrees, for a day. "
        "Halts and pauses never wait. An owner of the app sets it.",
    )
    app_argument(parser)
    parser.add_argument("rule", choices=("demanded", "optional"))


def _waiting(call: Call) -> None:
    found = call.tide.releases.waiting()

    def shown() -> None:
        table = call.table("ID", "WHAT", "ASKED BY", "ASKED", "UNTIL")
        for one in found:
            table.add_row(one.id, cell(one.said), cell(one.asked_by), moment(one.asked_at), moment(one.until))
        call.show(table, empty="Nothing waits for a second person.")

    call.answer(found, shown)


def _agree(call: Call) -> None:
    call.tide.releases.agree(call.given.id)
    call.answer({"agreed": call.given.id}, lambda: call.say("Agreed; it is ordered."))


def _drop(call: Call) -> None:
    call.tide.releases.drop(call.given.id, reason=call.given.reason)
    call.answer({"dropped": call.given.id}, lambda: call.say("Dropped; it is not done."))


def _rule(call: Call) -> None:
    told = call.tide.apps.demand_second_person(call.given.app, call.given.rule == "demanded")
    said = "waits for a second person" if told.second_person else "is done at once"
    call.answer(
        told, lambda: call.say(f"What brings releases of {told.title} to people {said}. Halts and pauses never wait.")
    )
