"""tide cohort: groups of testers, where they are, and the link of a walk-in cohort."""

from __future__ import annotations

import argparse
from datetime import datetime

from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.lists import import_arguments, take_list, write_out
from restless_tide.cli.parsing import Nouns, Parser, app_argument, count, instant_argument
from restless_tide.cli.retiring import demand_confirmation, reason_arguments
from restless_tide.cli.telling import moment
from restless_tide.wire.cohorts import CohortTold, JoinTold, SeatsTold

_COHORTS: Listing[CohortTold] = Listing(
    words=lambda cohort: (cohort.name, cohort.kind, *(entry.store for entry in cohort.at)),
    sort={
        "cohort": lambda cohort: cohort.name,
        "kind": lambda cohort: str(cohort.kind),
        "testers": lambda cohort: cohort.testers,
        "reports": lambda cohort: cohort.reports_open,
    },
)


def add(nouns: Nouns) -> None:
    nouns.noun("cohort")
    parser = nouns.command("cohort add", _make, "make a cohort")
    parser.add_argument("name")
    app_argument(parser)
    parser.add_argument(
        "--kind", choices=["crew", "guest", "walk-in"], default="crew", help="staff, invited, or anyone with the link"
    )
    parser.add_argument(
        "--store",
        action="append",
        metavar="STORE",
        help="may be given again; without it, every store with an open berth that knows the kind",
    )
    parser = nouns.command("cohort list", _list, "list an app's cohorts")
    app_argument(parser)
    parser.add_argument("--retired", action="store_true", help="those out of use, too")
    _COHORTS.arguments(parser)
    _cohort(nouns.command("cohort show", _show, "who is in it, seats left, what they have and said, what is stuck"))
    parser = nouns.command("cohort rename", _rename, "call a cohort otherwise; its people, trials and link stay")
    _cohort(parser)
    parser.add_argument("--to", required=True, metavar="NAME")
    parser = nouns.command("cohort remove", _remove, "remove a cohort that was never handed a build")
    _cohort(parser)
    parser.add_argument("--yes", action="store_true", help="do not ask first")
    parser = nouns.command("cohort retire", _retire, "take a cohort out of use; its people and its history stay")
    _cohort(parser)
    reason_arguments(parser, asks=True)
    parser = nouns.command("cohort restore", _restore, "take a cohort into use again")
    _cohort(parser)
    reason_arguments(parser)
    parser = nouns.command("cohort attach", _attach, "put a cohort at a store, or set what goes to it automatically")
    _cohort(parser)
    parser.add_argument("--store", required=True, metavar="STORE")
    parser.add_argument(
        "--by-itself",
        choices=["yes", "no"],
        help="whether every new build goes to the cohort as soon as it is ready there",
    )
    parser.add_argument(
        "--track", metavar="TRACK", help="over which it gets builds there; the rulebook's, unless you say"
    )
    parser = nouns.command("cohort detach", _detach, "take a cohort away from a store")
    _cohort(parser)
    parser.add_argument("--store", required=True, metavar="STORE")
    parser = nouns.command("cohort brief", _brief, "what every trial of a cohort says unless it says otherwise")
    _cohort(parser)
    brief_argument(parser)
    parser.add_argument("--contact", default="", help="the address testers answer to")
    parser = nouns.command("cohort link", _link, "show, open, close or renew the link of a walk-in cohort")
    _cohort(parser)
    switch = parser.add_mutually_exclusive_group()
    switch.add_argument("--open", action="store_true", help="anybody with the link may join")
    switch.add_argument("--close", action="store_true", help="nobody may join any more")
    parser.add_argument("--limit", type=count, help="so many people at most")
    instant_argument(parser, "--until", "nobody joins after this instant")
    parser.add_argument("--renew", action="store_true", help="make another link; the old one is void")
    parser = nouns.command("cohort import", _import, "take a list of testers (CSV) into a cohort, as one act")
    _cohort(parser)
    import_arguments(parser)
    parser = nouns.command("cohort export", _export, "write a cohort's testers as CSV")
    _cohort(parser)
    parser.add_argument("--to", default="-", metavar="FILE", help="- or nothing: print it")


def _cohort(parser: Parser) -> None:
    parser.add_argument("cohort")
    app_argument(parser)


def brief_argument(parser: Parser) -> None:
    parser.add_argument(
        "--task",
        dest="brief",
        action="append",
        default=[],
        type=_text_of_locale,
        metavar="[LOCALE=]TEXT",
        help="what to look at; once for each language, without a locale in English",
    )


def _text_of_locale(given: str) -> tuple[str, str]:
    locale, equals, text = given.partition("=")
    plain = locale.replace("-", "")
    if equals and 2 <= len(locale) <= 12 and plain.isalnum() and plain[:2].isalpha() and "-" not in locale[:2]:
        return locale, text
    return "en", given


def brief_of(given: argparse.Namespace) -> dict[str, str]:
    return dict(given.brief)


def _make(call: Call) -> None:
    given = call.given
    cohort = call.tide.testing.make_cohort(given.app, given.name, kind=given.kind, stores=given.store)
    at = ", ".join(entry.store for entry in cohort.at) or "no store yet"
    call.answer(cohort, lambda: call.say(f"Cohort {cohort.name} ({cohort.kind}) of {cohort.app}, at {at}."))


def _list(call: Call) -> None:
    every = call.tide.testing.cohorts(call.given.app)
    found = _COHORTS.arranged(call, (cohort for cohort in every if call.given.retired or cohort.retired_at is None))

    def shown() -> None:
        table = call.table("COHORT", "KIND", "TESTERS", "SEATS LEFT", "RUNNING", "NEW REPORTS")
        for cohort in found:
            seats = ", ".join(f"{entry.left} at {entry.store}" for entry in cohort.at)
            running = ", ".join(f"{trial.build_label} {trial.state} at {trial.store}" for trial in cohort.running)
            table.add_row(
                cell(cohort.name + (" (retired)" if cohort.retired_at else "")),
                cohort.kind,
                str(cohort.testers),
                seats,
                cell(running),
                str(cohort.reports_open),
            )
        none = f"No cohorts yet. Make one with: tide cohort add NAME --app {call.given.app}"
        call.show(table, empty="No cohort is like that." if every else none)

    call.answer(found, shown)


def _show(call: Call) -> None:
    cohort = call.tide.testing.cohort(call.given.app, call.given.cohort)

    def shown() -> None:
        gone = f", {cohort.declined} of them declined" if cohort.declined else ""
        call.say(f"{cohort.name} ({cohort.kind}) of {cohort.app}: {cohort.testers} testers{gone}")
        table = call.table("STORE", "TRACK", "SEATS", "TAKEN", "LEFT", "REVIEW FIRST", "NEW BUILDS")
        for entry in cohort.at:
            table.add_row(entry.store, entry.track, _seats(entry), str(entry.taken), str(entry.left), *_words(entry))
        call.show(table, empty="At no store yet. Put it at one with: tide cohort attach")
        if cohort.running:
            call.say("")
            running = call.table("TRIAL", "BUILD", "STORE", "STATE", "SINCE", "INVITATIONS")
            for trial in cohort.running:
                invited = ", ".join(f"{count} {state}" for state, count in trial.invited.items())
                running.add_row(
                    trial.id, trial.build_label, trial.store, trial.state, moment(trial.changed_at), invited
                )
            call.console.print(running)
        if cohort.have:
            call.say("\nThey have: " + ", ".join(f"{entry.label} on {entry.people} devices" for entry in cohort.have))
        if cohort.reports:
            call.say("They said: " + ", ".join(f"{count} {state}" for state, count in cohort.reports.items()))
        for said in cohort.stuck:
            call.say(f"! {said}")
        if cohort.join:
            call.say(_join(cohort.join))

    call.answer(cohort, shown)


def _seats(entry: SeatsTold) -> str:
    return f"{entry.seats} a build" if entry.per_build else str(entry.seats)


def _words(entry: SeatsTold) -> tuple[str, str]:
    return "yes" if entry.review_first else "no", "automatically" if entry.by_itself else "by hand"


def _join(join: JoinTold) -> str:
    state = f"nobody can join: {join.closed_because}" if join.closed_because else "open"
    bounds = [f"{join.limit} people at most"] if join.limit else []
    bounds += [f"until {moment(join.until)}"] if join.until else []
    return f"Link ({', '.join([state, *bounds])}): {join.link}"


def _attach(call: Call) -> None:
    given = call.given
    by_itself = {"yes": True, "no": False, None: None}[given.by_itself]
    cohort = call.tide.testing.attach(given.app, given.cohort, given.store, by_itself=by_itself, track=given.track)
    entry = next(entry for entry in cohort.at if entry.store == given.store.lower())
    told = "go to it automatically" if entry.by_itself else "go to it when a person hands them over"
    call.answer(
        cohort,
        lambda: call.say(
            f"{cohort.name} is at {entry.store}: {entry.left} of {entry.seats} seats left; new builds {told}."
        ),
    )


def _detach(call: Call) -> None:
    call.tide.testing.detach(call.given.app, call.given.cohort, call.given.store)
    told = {"cohort": call.given.cohort, "detached": call.given.store}
    call.answer(told, lambda: call.say(f"{call.given.cohort} is no longer at {call.given.store}."))


def _brief(call: Call) -> None:
    given = call.given
    cohort = call.tide.testing.keep_brief(given.app, given.cohort, brief_of(given), contact=given.contact)

    def shown() -> None:
        for locale, text in cohort.brief.items():
            call.say(f"{locale}: {text}")
        call.say(f"Contact: {cohort.contact or 'none yet'}")

    call.answer(cohort, shown)


def _link(call: Call) -> Exit | None:
    given = call.given
    cohort: CohortTold = call.tide.testing.cohort(given.app, given.cohort)
    if given.open or given.close or given.renew or given.limit or given.until:
        kept = cohort.join
        is_open = given.open or (not given.close and bool(kept and kept.open))
        limit: int | None = given.limit if given.limit is not None else (kept.limit if kept else None)
        until: datetime | None = given.until or (kept.until if kept else None)
        cohort = call.tide.testing.set_join(
            given.app, given.cohort, is_open=is_open, limit=limit, until=until, renew=given.renew
        )
    join = cohort.join
    if join is None:
        call.answer({"join": None}, lambda: call.say("It has no link yet. Open one with: --open"))
        return Exit.REFUSED
    call.answer(join, lambda: call.say(_join(join)))
    return None


def _import(call: Call) -> Exit | None:
    return take_list(call, app=call.given.app, cohort=call.given.cohort)


def _export(call: Call) -> None:
    write_out(call, lambda to: call.tide.testing.export_cohort(call.given.app, call.given.cohort, to))


def _rename(call: Call) -> None:
    given = call.given
    cohort = call.tide.testing.rename_cohort(given.app, given.cohort, given.to)
    call.answer(cohort, lambda: call.say(f"{given.cohort} is called {cohort.name} now."))


def _remove(call: Call) -> None:
    given = call.given
    call.demand_confirmation(f"{given.cohort} is gone after this; the people in it stay known to the desk.")
    call.tide.testing.remove_cohort(given.app, given.cohort)
    call.answer({"removed": given.cohort}, lambda: call.say(f"{given.cohort} is removed."))


def _retire(call: Call) -> None:
    given = call.given
    demand_confirmation(call, call.tide.testing.cohort_outlook(given.app, given.cohort))
    cohort = call.tide.testing.retire_cohort(given.app, given.cohort, reason=given.reason)
    told = (
        f"{cohort.name} is retired. Take it into use again with: tide cohort restore {cohort.name} --app {cohort.app}"
    )
    call.answer(cohort, lambda: call.say(told))


def _restore(call: Call) -> None:
    given = call.given
    cohort = call.tide.testing.restore_cohort(given.app, given.cohort, reason=given.reason)
    call.answer(cohort, lambda: call.say(f"{cohort.name} is in use again."))
