"""tide matter, check: what stores have refused, as work, and what that has taught."""

from __future__ import annotations

from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell, text_argument
from restless_tide.cli.parsing import Nouns, app_argument
from restless_tide.cli.telling import moment
from restless_tide.core.check import KINDS, CheckKind
from restless_tide.core.matter import BY_PEOPLE, MatterState
from restless_tide.wire.matters import CheckTold, MatterTold

_DONE = {
    "answer": "say what was answered; the reviewer is told with the next round",
    "fix": "say what was fixed; the reviewer is told with the next round",
    "dispute": "say why you think otherwise; the reviewer is told with the next round",
    "reopen": "open it again",
}
_MATTERS: Listing[MatterTold] = Listing(
    words=lambda one: (one.words, one.said, one.ticket, one.who, one.place, one.version),
    sort={"due": lambda one: one.due_on or "9999", "refused": lambda one: one.created_at},
    states=MatterState,
    state=lambda one: [one.state],
    since=lambda one: one.created_at,
)
_CHECKS: Listing[CheckTold] = Listing(
    words=lambda one: (one.text, one.kind), sort={"text": lambda one: one.text}, since=lambda one: one.created_at
)


def add(nouns: Nouns) -> None:
    nouns.noun("matter")
    parser = nouns.command("matter list", _list, "the matters of an app, or of one release")
    parser.add_argument("version", nargs="?", help="only of this release")
    app_argument(parser)
    parser.add_argument("--settled", action="store_true", help="those that are settled, too")
    _MATTERS.arguments(parser)
    for event in sorted(BY_PEOPLE):
        parser = nouns.command(f"matter {event}", _decide, _DONE[event])
        parser.set_defaults(event=str(event))
        parser.add_argument("id", help="as tide matter list shows it")
        app_argument(parser)
        parser.add_argument(
            "--said", default="", required=event != "reopen", metavar="TEXT", help="@FILE reads a file, - a pipe"
        )
    parser = nouns.command("matter arrange", _arrange, "who takes it, its ticket, its due day")
    parser.add_argument("id", help="as tide matter list shows it")
    app_argument(parser)
    parser.add_argument("--by", metavar="ADDRESS", help="who takes it; empty takes it away")
    parser.add_argument("--ticket", help="empty takes it away")
    parser.add_argument("--due", metavar="DAY", help="such as 2026-12-01; empty takes it away")
    parser = nouns.command("matter note", _note, "what the next round would say to the reviewer")
    parser.add_argument("version")
    app_argument(parser)
    parser.add_argument("--store", required=True, metavar="STORE")
    nouns.noun("check")
    parser = nouns.command("check list", _checks, "the standing checks of an app")
    app_argument(parser)
    parser.add_argument("--release", dest="version", metavar="VERSION", help="with what was ticked for it")
    _CHECKS.arguments(parser)
    parser = nouns.command("check add", _teach, "make a standing check: it is looked at before every later hand-in")
    kinds = "; ".join(f"{kind}: {said}" for kind, said in KINDS.items())
    parser.add_argument("kind", choices=[*map(str, CheckKind)], help=kinds)
    parser.add_argument("text", help="the question, the words, the permission, or a class and a number such as phone 3")
    app_argument(parser)
    parser.add_argument("--matter", metavar="ID", help="the matter that teaches it")
    parser = nouns.command("check tick", _tick, "answer a check with yes for one release")
    parser.add_argument("id", help="as tide check list shows it")
    parser.add_argument("version")
    app_argument(parser)
    parser = nouns.command("check end", _end, "end a standing check")
    parser.add_argument("id", help="as tide check list shows it")
    app_argument(parser)
    parser.add_argument("--reason", required=True, help="why; it stands in the logbook")


def _list(call: Call) -> None:
    given = call.given
    every = call.tide.matters.of_app(given.app, version=given.version, settled=given.settled)
    found = _MATTERS.arranged(call, every)

    def shown() -> None:
        table = call.table("ID", "RELEASE", "STATE", "WHAT THE STORE SAYS", "DONE", "BY", "DUE")
        for one in found:
            table.add_row(
                one.id,
                cell(f"{one.version}\n{one.place}"),
                one.state,
                cell(f"{one.words}\n({one.thing_title})" if one.thing_title else one.words),
                cell(one.said),
                cell("\n".join(filter(None, (one.who, one.ticket)))),
                one.due_on or "",
            )
        none = "Nothing was refused." if given.settled else "No matter is open or waits for the store."
        call.show(table, empty="No matter is like that." if every else none)

    call.answer(found, shown)


def _decide(call: Call) -> None:
    given = call.given
    done = call.tide.matters.decide(given.app, given.id, given.event, text_argument(given.said))
    call.answer(done, lambda: call.say(f"Matter {done.number} at {done.place_title} is {done.state}."))


def _arrange(call: Call) -> None:
    given = call.given
    done = call.tide.matters.arrange(given.app, given.id, taken_by=given.by, ticket=given.ticket, due_on=given.due)

    def shown() -> None:
        told = [
            done.who and f"taken by {done.who}",
            done.ticket and f"ticket {done.ticket}",
            done.due_on and f"due {done.due_on}",
        ]
        call.say(f"Matter {done.number} at {done.place_title}: {', '.join(filter(None, told)) or 'not taken yet'}.")

    call.answer(done, shown)


def _note(call: Call) -> None:
    text = call.tide.matters.drafted_note(call.given.app, call.given.version, call.given.store)
    call.answer({"text": text}, lambda: call.say(text or "Nothing was done about a matter yet."))


def _checks(call: Call) -> None:
    every = call.tide.matters.checks(call.given.app, call.given.version)
    found = _CHECKS.arranged(call, every)

    def shown() -> None:
        table = call.table("ID", "KIND", "CHECK", "TICKED", "SINCE")
        for one in found:
            ticked = {None: "", True: "yes", False: "not yet"}[one.ticked if one.kind is CheckKind.QUESTION else None]
            table.add_row(one.id, one.kind, cell(one.text), ticked, moment(one.created_at))
        none = f"No checks yet. Make one with: tide check add KIND TEXT --app {call.given.app}"
        call.show(table, empty="No check is like that." if every else none)

    call.answer(found, shown)


def _teach(call: Call) -> None:
    given = call.given
    made = call.tide.matters.teach(given.app, given.kind, given.text, matter=given.matter)
    call.answer(made, lambda: call.say(f"Check {made.id} stands: it is looked at before every hand-in of {given.app}."))


def _tick(call: Call) -> None:
    given = call.given
    done = call.tide.matters.tick(given.app, given.version, given.id)
    call.answer(done, lambda: call.say(f"Ticked for {given.version}: {done.text}"))


def _end(call: Call) -> None:
    given = call.given
    call.tide.matters.end_check(given.app, given.id, reason=given.reason)
    call.answer({"ended": given.id}, lambda: call.say(f"Check {given.id} has ended."))
