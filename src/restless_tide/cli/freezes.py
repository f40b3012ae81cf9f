"""tide freeze: windows in which nothing launches and no share rises."""

from __future__ import annotations

from datetime import datetime

from tzlocal import get_localzone_name

from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell
from restless_tide.cli.parsing import Nouns, app_argument
from restless_tide.cli.telling import moment
from restless_tide.wire.errors import Invalid
from restless_tide.wire.freezes import FreezeTold

_FREEZES: Listing[FreezeTold] = Listing(
    words=lambda one: (one.name, one.reason, *one.apps, *one.stores),
    sort={"name": lambda one: one.name, "begins": lambda one: one.next_begin or one.begins},
)


def add(nouns: Nouns) -> None:
    nouns.noun("freeze")
    parser = nouns.command("freeze list", _list, "the freezes, and what is to rise in spite of one")
    _FREEZES.arguments(parser)
    parser = nouns.command(
        "freeze add",
        _add,
        "set a window in which nothing launches and no share rises",
        description="Halts, pauses and withdrawals always go. Times are as the clock on the wall shows them: "
        "tide freeze add holidays --from 2026-12-20T18:00 --to 2027-01-04T08:00 --yearly",
    )
    parser.add_argument("name", help="such as holidays")
    parser.add_argument(
        "--from", dest="begins", required=True, type=str, metavar="WHEN", help="such as 2026-12-20T18:00"
    )
    parser.add_argument("--to", dest="ends", required=True, type=str, metavar="WHEN", help="such as 2027-01-04T08:00")
    parser.add_argument("--zone", help="the zone of these times, such as Europe/Berlin; yours, unless you say")
    parser.add_argument("--yearly", action="store_true", help="every year on these days")
    parser.add_argument(
        "--app", dest="apps", action="append", default=[], metavar="APP", help="only this app; repeat it"
    )
    parser.add_argument(
        "--store", dest="stores", action="append", default=[], metavar="STORE", help="only this store; repeat it"
    )
    parser.add_argument("--reason", default="", help="why; it stands in the logbook")
    parser = nouns.command("freeze end", _end, "end a freeze before its time, or a yearly one for good")
    parser.add_argument("name")
    parser.add_argument("--reason", required=True, help="why; it stands in the logbook")
    parser = nouns.command(
        "freeze override", _ask, "ask that a release rise in spite of a freeze; a second person has to agree"
    )
    parser.add_argument("version")
    app_argument(parser)
    parser.add_argument("--reason", required=True, help="why; it stands in the logbook")
    parser = nouns.command(
        "freeze agree", _agree, "agree, as the second person, that a release rises in spite of a freeze"
    )
    parser.add_argument("override", help="as tide freeze list shows it")


def _wall(text: str) -> datetime:
    try:
        return datetime.fromisoformat(text)
    except ValueError:
        raise Invalid(f"{text!r} is no time.", remedy="Write it like 2026-12-20T18:00.", code="instant-unfit") from None


def _list(call: Call) -> None:
    every, asked = call.tide.freezes.every(), call.tide.freezes.overrides()
    found = _FREEZES.arranged(call, every)

    def shown() -> None:
        table = call.table("FREEZE", "NOW", "FROM", "TO", "APPS", "STORES", "WHY")
        for one in found:
            year = ", yearly" if one.yearly else ""
            table.add_row(
                cell(one.name), "■ holds" if one.holds else "over" if one.next_end is None else "",
                cell(moment(one.next_begin or one.begins) + year if one.next_begin else f"{one.begins:%-d %b %Y %H:%M}"),
                moment(one.next_end), ", ".join(one.apps) or "all", ", ".join(one.stores) or "all", cell(one.reason),
            )  # fmt: skip
        call.show(
            table,
            empty="No freeze is like that."
            if every
            else "No freeze is set. Begin with: tide freeze add NAME --from WHEN --to WHEN",
        )
        for over in asked:
            state = (
                f"agreed by {over.agreed_by}"
                if over.agreed_at
                else f"waits for a second person: tide freeze agree {over.id}"
            )
            call.say(
                f"{over.app} {over.version} rises in spite of it, asked by {over.asked_by}: {over.reason} ({state})"
            )

    call.answer({"freezes": found, "overrides": asked}, shown)


def _add(call: Call) -> None:
    given = call.given
    made = call.tide.freezes.set(
        given.name, _wall(given.begins), _wall(given.ends), zone=given.zone or get_localzone_name() or "UTC",
        yearly=given.yearly, apps=given.apps, stores=given.stores, reason=given.reason,
    )  # fmt: skip
    told = f"{made.name} holds from {moment(made.next_begin)} to {moment(made.next_end)}{', every year' if made.yearly else ''}."
    call.answer(made, lambda: call.say(f"{told} Halts, pauses and withdrawals always go."))


def _end(call: Call) -> None:
    call.tide.freezes.end(call.given.name, reason=call.given.reason)
    call.answer({"ended": call.given.name}, lambda: call.say(f"{call.given.name} is ended; what it held continues."))


def _ask(call: Call) -> None:
    made = call.tide.freezes.ask(call.given.app, call.given.version, reason=call.given.reason)
    call.answer(made, lambda: call.say(f"Asked. A second person agrees with: tide freeze agree {made.id}"))


def _agree(call: Call) -> None:
    made = call.tide.freezes.agree(call.given.override)
    call.answer(
        made, lambda: call.say(f"{made.app} {made.version} rises in spite of the freeze, until {moment(made.until)}.")
    )
