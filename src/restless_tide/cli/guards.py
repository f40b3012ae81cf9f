"""tide guard and tide gauge: rules that watch rollouts, what they say, and the counts that they look at."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Nouns, Parser, app_argument, count, instant_argument, span
from restless_tide.cli.telling import moment, share
from restless_tide.core.gauges import COUNT_WORDS, COUNTED
from restless_tide.core.guard import (
    EVENTS,
    TOLERANCES,
    USUAL_ERROR_BOUND,
    USUAL_LEAST_PEOPLE,
    Against,
    OnBreach,
    Watched,
)
from restless_tide.wire.errors import Invalid
from restless_tide.wire.guards import EvidencePoint, Found, GuardTold, WatchTold

_GUARDS: Listing[GuardTold] = Listing(
    words=lambda guard: (guard.name, guard.watched, guard.against, guard.on_breach, *guard.stores),
    sort={"name": lambda guard: guard.name, "made": lambda guard: guard.created_at},
    since=lambda guard: guard.created_at,
)
_BARS = " ▁▂▃▄▅▆▇█"
_LINE = 60


def add(nouns: Nouns) -> None:
    nouns.noun("guard")
    parser = nouns.command("guard list", _list, "the guards of an app, and what each may do")
    app_argument(parser)
    _GUARDS.arguments(parser)
    parser = nouns.command(
        "guard add",
        _add,
        "have a guard watch every rollout of an app",
        description="Without options it watches the people who met a crash, compares them with the version before in the "
        "same hours, accepts a quarter more, is wrong at most once in 100 rollouts, and tells people.",
    )
    parser.add_argument("name", help="such as crashes")
    app_argument(parser)
    _rule_arguments(parser)
    _act_arguments(parser)
    parser = nouns.command("guard change", _change, "change a guard; what is not named stays")
    parser.add_argument("name")
    app_argument(parser)
    _rule_arguments(parser)
    _act_arguments(parser)
    parser.add_argument("--rename", metavar="NAME", help="its name from now on")
    parser = nouns.command("guard end", _end, "have a guard watch no more; what it found stays")
    parser.add_argument("name")
    app_argument(parser)
    parser.add_argument("--reason", default="", help="why; it stands in the logbook")
    parser = nouns.command("guard show", _show, "what the guards say of a release, with the evidence")
    parser.add_argument("version")
    app_argument(parser)
    parser.add_argument("--guard", metavar="NAME", help="this guard alone, its evidence hour by hour with --json")
    parser = nouns.command(
        "guard silence",
        _silence,
        "have a guard do nothing at a release for a time; it continues to count",
        description="The guard acts when the time is over, should it be sure then. --off: it speaks again at once.",
    )
    parser.add_argument("name")
    parser.add_argument("--on", required=True, metavar="VERSION", help="the release")
    app_argument(parser)
    parser.add_argument("--for", dest="span", type=span, metavar="HOURS", help="such as 12")
    instant_argument(parser, "--until", "or until this instant")
    parser.add_argument("--off", action="store_true", help="speak again")
    parser.add_argument("--reason", default="", help="why; it stands in the logbook")
    parser = nouns.command(
        "guard try",
        _try,
        "play a guard over past or made-up counts: would it have stopped, and when? Nothing is stopped",
        description="On a release: --on VERSION. On made-up counts: --ratio 2 for a version that goes wrong twice as often.",
    )
    parser.add_argument("name", nargs="?", help="a guard that is there; else one made of the options")
    app_argument(parser)
    parser.add_argument("--on", metavar="VERSION", help="what was counted of this release")
    parser.add_argument("--ratio", type=float, metavar="TIMES", help="made up: how many times as often it goes wrong")
    parser.add_argument(
        "--rate", type=float, metavar="PART", help="made up: how often a session goes wrong before (0.004)"
    )
    parser.add_argument("--people", type=count, metavar="COUNT", help="made up: who use the app (40000)")
    parser.add_argument("--share", type=float, metavar="PERCENT", help="made up: the share that gets it (5)")
    parser.add_argument("--seed", type=int, help="made up: other counts for another number")
    _rule_arguments(parser)
    nouns.noun("gauge")
    parser = nouns.command(
        "gauge show", _counted, "what was counted at a store: people, sessions, crashes, hangs, ratings"
    )
    app_argument(parser)
    parser.add_argument("--store", required=True, metavar="STORE")
    parser.add_argument("--source", default="", help="counts of this source instead of the store's own")
    parser.add_argument("--version", action="append", default=[], metavar="VERSION", help="of this version; repeat it")
    instant_argument(parser, "--since", "not before; two weeks ago, unless you say")
    instant_argument(parser, "--until", "only before")
    parser.add_argument("--by", choices=["day", "hour"], default="day", help="added up by the day, unless you say")
    parser = nouns.command(
        "gauge add",
        _enter,
        "hand in counts of your own crash collector, or as you read them at a hand-carried store",
        description="One hour by options, or many from a file: a JSON list of hours, each {at, cells: [{version, sessions, "
        "…}]}, as the service's document of the interface describes them.",
    )
    app_argument(parser)
    parser.add_argument("--store", required=True, metavar="STORE")
    parser.add_argument("--source", default="", help="where they come from; left out for a hand-carried store itself")
    parser.add_argument("--file", type=Path, metavar="FILE", help="a JSON list of hours")
    parser.add_argument("--version", metavar="VERSION")
    instant_argument(parser, "--at", "the hour that was counted")
    parser.add_argument("--revision", type=count, default=1, help="a higher one corrects the hour (1)")
    for name in COUNTED:
        parser.add_argument(
            f"--{name.replace('_', '-')}",
            type=int,
            default=0,
            metavar="COUNT",
            help=COUNT_WORDS[name],
        )


def _rule_arguments(parser: Parser) -> None:
    usual = ", ".join(f"{watched} {tolerance:g}" for watched, tolerance in TOLERANCES.items())
    parser.add_argument("--watch", dest="watched", choices=[*map(str, Watched)], help=f"({Watched.CRASHED_PEOPLE})")
    parser.add_argument("--against", choices=[*map(str, Against)], help=f"compared with ({Against.BEFORE})")
    parser.add_argument("--bound", type=float, metavar="RATE", help="with a fixed bound: such as 0.01, or stars")
    parser.add_argument(
        "--accept", dest="tolerance", type=float, metavar="TIMES", help=f"a rise that is accepted ({usual})"
    )
    parser.add_argument(
        "--wrong",
        type=int,
        metavar="COUNT",
        help=f"stop a good rollout at most once in so many ({1 / USUAL_ERROR_BOUND:.0f})",
    )
    parser.add_argument(
        "--least-people", type=count, metavar="COUNT", help=f"act only from so many on ({USUAL_LEAST_PEOPLE})"
    )
    parser.add_argument(
        "--store", dest="stores", action="append", metavar="STORE", help="watch this store; repeat it (all)"
    )
    parser.add_argument("--source", help="counts of this source instead of the stores' own")
    parser.add_argument("--each", action="store_true", help="judge each store alone, not all together")


def _act_arguments(parser: Parser) -> None:
    parser.add_argument(
        "--then",
        dest="on_breach",
        choices=[*map(str, OnBreach)],
        help=f"what it does when it is sure ({OnBreach.TELL})",
    )
    parser.add_argument(
        "--everywhere",
        action="store_true",
        default=None,
        help="do it at every store of the release, not only where it watches",
    )


def _wanted(call: Call) -> dict[str, Any]:
    """The fields that were named."""
    given = call.given
    names = ("watched", "against", "bound", "tolerance", "least_people", "stores", "source", "on_breach")
    found = {name: getattr(given, name, None) for name in names}
    found["every_store"] = getattr(given, "everywhere", None)
    found["together"] = False if given.each else None
    if given.wrong is not None:
        if given.wrong < 1:
            raise Invalid("--wrong is a whole number, at least 5.", code="bound-unfit")
        found["error_bound"] = 1 / given.wrong
    return {name: value for name, value in found.items() if value is not None}


def _list(call: Call) -> None:
    every = call.tide.guards.of_app(call.given.app)
    found = _GUARDS.arranged(call, every)

    def shown() -> None:
        table = call.table("GUARD", "WATCHES", "AGAINST", "ACCEPTS", "THEN", "STORES")
        for one in found:
            then = f"{one.on_breach}{', everywhere' if one.every_store and one.on_breach != OnBreach.TELL else ''}"
            accepts = f"{one.tolerance:g} stars" if one.watched == Watched.RATING else f"{one.tolerance:g} ×"
            stores = ", ".join(one.stores) or ("all together" if one.together else "each alone")
            table.add_row(cell(one.name), cell(one.watched), cell(_against(one)), accepts, then, cell(stores))
        none = f"No guard watches {call.given.app} yet. Begin with: tide guard add crashes --app {call.given.app} --then halt"
        call.show(table, empty="No guard is like that." if every else none)

    call.answer(found, shown)


def _against(one: GuardTold) -> str:
    return f"{one.bound:g}" if one.bound is not None else one.against


def _add(call: Call) -> None:
    made = call.tide.guards.set_up(call.given.app, name=call.given.name, **_wanted(call))
    call.answer(made, lambda: _say_rule(call, made))


def _say_rule(call: Call, made: GuardTold) -> None:
    where = "every store" if made.every_store else "where it watches"
    then = (
        "tells people" if made.on_breach == OnBreach.TELL else f"orders a {made.on_breach} at {where} and tells people"
    )
    call.say(f"{made.name} watches every rollout. {made.said} When it is sure it {then}.")
    call.say(f"See what it would have done: tide guard try {_quoted(made.name)} --app {call.given.app} --on VERSION")


def _quoted(name: str) -> str:
    return f'"{name}"' if " " in name else name


def _change(call: Call) -> None:
    wanted = _wanted(call) | ({"name": call.given.rename} if call.given.rename else {})
    made = call.tide.guards.change(call.given.app, call.given.name, **wanted)
    call.answer(made, lambda: _say_rule(call, made))


def _end(call: Call) -> None:
    call.tide.guards.end(call.given.app, call.given.name, reason=call.given.reason)
    call.answer(
        {"ended": call.given.name}, lambda: call.say(f"{call.given.name} watches no more; what it found stays.")
    )


def _show(call: Call) -> Exit:
    given = call.given
    if given.guard:
        found = call.tide.guards.watch(given.app, given.version, given.guard)
    else:
        found = call.tide.guards.watches(given.app, given.version)

    def shown() -> None:
        for one in found:
            _say_watch(call, one)
        if not found:
            call.say(
                f"No guard watches {given.version}. A guard begins with the launch; see: tide guard list --app {given.app}"
            )

    call.answer(found, shown)
    return Exit.DONE


def _say_watch(call: Call, one: WatchTold) -> None:
    where = one.place or "all stores together"
    state = one.verdict or ("blind" if one.blind else "nothing counted yet")
    call.say(f"{one.guard.name}, {where}: {state} since {moment(one.verdict_since)}")
    call.say(f"  {one.blind or one.said}")
    if one.found is not None and not one.blind:
        for line in _figures(one.found, one.guard.watched):
            call.say(f"  {line}")
    if one.line:
        call.say(f"  evidence {_drawn(one.line)}")
    if one.breach is not None:
        call.say(f"  Breach {moment(one.breached_at)}: {one.breach.said}.")
        call.say(f"  {one.acted or 'It is silent, so nothing was done.'}")
    if one.silent:
        call.say(f"  Silent until {moment(one.silent_until)}, by {one.silent_by}: {one.silent_reason}")


def _figures(found: Found, watched: str) -> list[str]:
    unit = "ratings" if watched == Watched.RATING else "people" if watched == Watched.UPTAKE else "sessions"
    what = EVENTS[Watched(watched)]
    rows = [
        f"{found.events:,} {what} in {found.exposed:,} {unit}; with {found.reference}: "
        f"{found.reference_events:,} in {found.reference_exposed:,}"
    ]
    rows.append(f"evidence {found.way:.0%} of the way to a breach; {found.people:,} people have it")
    if found.dispersion > 1:
        rows.append(f"the counts come in clusters, so the evidence is divided by {found.dispersion:.1f}")
    if found.corrected:
        rows.append(f"{found.corrected} hours were corrected after they had been complete")
    return rows


def _drawn(line: list[EvidencePoint]) -> str:
    """The evidence as a line of bars, the full height being the threshold."""
    step = max(-(-len(line) // _LINE), 1)
    parts = [max(point.way for point in line[at : at + step]) for at in range(0, len(line), step)]
    return "".join(_BARS[round(part * (len(_BARS) - 1))] for part in parts)


def _silence(call: Call) -> None:
    given = call.given
    until, hours = (None, None) if given.off else (given.until, given.span)
    if not given.off and (until is None) == (hours is None):
        raise Invalid("Say how long: --for 12, --until INSTANT, or --off.", code="instant-missing")
    found = call.tide.guards.silence(given.app, given.on, given.name, until, hours=hours, reason=given.reason)

    def shown() -> None:
        if given.off:
            call.say(f"{given.name} speaks again at {given.on}.")
        else:
            call.say(
                f"{given.name} does nothing at {given.on} until {moment(found[0].silent_until)}; it continues to count."
            )

    call.answer(found, shown)


def _try(call: Call) -> None:
    given = call.given
    wanted = _wanted(call)
    if given.name:
        known = next((one for one in call.tide.guards.of_app(given.app) if one.name == given.name), None)
        if known is None:
            raise Invalid(
                f"No guard is called {given.name!r}.",
                remedy=f"See: tide guard list --app {given.app}",
                code="guard-unknown",
            )
        taken = {
            "watched",
            "against",
            "bound",
            "tolerance",
            "error_bound",
            "least_people",
            "stores",
            "source",
            "together",
        }
        wanted = known.model_dump(include=taken) | wanted
    made = {"version": given.on, "ratio": given.ratio, "rate": given.rate, "people": given.people, "seed": given.seed}
    made["share"] = given.share / 100 if given.share is not None else None
    found = call.tide.guards.try_out(
        given.app, **wanted, **{name: one for name, one in made.items() if one is not None}
    )

    def shown() -> None:
        call.say(found.rule)
        call.say(found.said + (f" That is {moment(found.stopped_at)}." if found.stopped_at and given.on else ""))
        if found.share is not None:
            call.say(f"Of 100 such made-up rollouts it would have stopped {found.share:.0%}.")
        for line in _figures(found.found, wanted.get("watched", Watched.CRASHED_PEOPLE)):
            call.say(f"  {line}")
        if found.line:
            call.say(f"  evidence {_drawn(found.line)}")

    call.answer(found, shown)


def _counted(call: Call) -> None:
    given = call.given
    found = call.tide.guards.counted(
        given.app, given.store, source=given.source, versions=given.version, since=given.since, until=given.until
    )

    def shown() -> None:
        rows: dict[tuple[datetime, str], dict[str, int]] = {}
        for one in found.counted:
            at = one.at if given.by == "hour" else one.at.replace(hour=0)
            row = rows.setdefault((at, one.version), dict.fromkeys(COUNTED, 0) | {"open": 0})
            row["open"] += not one.complete
            for name in COUNTED:
                row[name] += getattr(one.counts, name)
        table = call.table(
            "HOUR (UTC)" if given.by == "hour" else "DAY (UTC)",
            "VERSION",
            "SESSIONS",
            "CRASHED",
            "PEOPLE WHO MET A CRASH",
            "HANGS",
            "BEGAN",
            "RATING",
            "",
        )
        for (at, version), row in sorted(rows.items()):
            stars = [row[f"stars_{star}"] for star in range(1, 6)]
            rated = sum(stars)
            rating = (
                f"{sum((place + 1) * found for place, found in enumerate(stars)) / rated:.1f} ({rated})"
                if rated
                else ""
            )
            crashed = (
                f"{row['crashed_sessions']:,} ({share(row['crashed_sessions'] / row['sessions'])})"
                if row["sessions"]
                else "0"
            )
            when = f"{at:%a %d %b %H:%M}" if given.by == "hour" else f"{at:%a %d %b}"
            table.add_row(
                when,
                cell(version),
                f"{row['sessions']:,}",
                crashed,
                f"{row['crashed_people']:,}",
                f"{row['hangs']:,}",
                f"{row['first_starts']:,}",
                rating,
                "more is to come" if row["open"] else "",
            )
        call.show(table, empty=f"Nothing was counted at {given.store} in this time. A store counts from a launch on.")
        if found.trouble:
            call.say(f"Counts that could not be taken: {found.trouble}")

    call.answer(found, shown)


def _enter(call: Call) -> None:
    given = call.given
    if given.file is not None:
        try:
            hours = json.loads(given.file.read_text(encoding="utf-8"))
        except (OSError, ValueError) as wrong:
            raise Invalid(f"{given.file} cannot be read: {wrong}", code="file-unreadable") from None
        if not isinstance(hours, list):
            raise Invalid(f"{given.file} holds no list of hours.", code="file-unfit")
    else:
        if given.at is None or given.version is None:
            raise Invalid("Name the hour and the version (--at, --version), or a file (--file).", code="hour-missing")
        counts = {name: getattr(given, name) for name in COUNTED}
        at = given.at.astimezone(UTC).replace(minute=0, second=0, microsecond=0)
        hours = [{"at": at, "revision": given.revision, "cells": [{"version": given.version, **counts}]}]
    found = call.tide.guards.enter(given.app, given.store, hours, source=given.source)
    told = f"{found.taken} hour{'' if found.taken == 1 else 's'} taken"
    known = f", {found.passed} known already (a correction needs a higher revision)" if found.passed else ""
    call.answer(found, lambda: call.say(f"{told}{known}."))
