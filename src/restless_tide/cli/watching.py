"""tide overview, watch, logbook."""

from __future__ import annotations

import json
from typing import Any

from restless_tide.cli.arranging import holds
from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.lists import write_out
from restless_tide.cli.parsing import Nouns, Parser, count, instant_argument
from restless_tide.cli.telling import moment, on_the_day, share
from restless_tide.core.berth import BerthState
from restless_tide.core.leg import PART_WAY, LegPhase
from restless_tide.wire.watching import BerthRow, LineTold

_SAIL = 10


def add(nouns: Nouns) -> None:
    nouns.command("overview", _overview)
    parser = nouns.command("find", _find)
    parser.add_argument("text", nargs="+", help="words that all stand in it")
    parser = nouns.command(
        "watch",
        _watch,
        description="Follow what changes, as it changes. Each line says when, the app, what happened, and to what. With --until it\n"
        "ends at the first line that holds these words, such as --until 'launch confirmed'; tide release wait waits for\n"
        "a phase instead, and no longer than it is told.",
    )
    parser.add_argument("--app", help="only this app")
    parser.add_argument("--after", type=int, metavar="ID", help="continue after this event; without it, from now on")
    parser.add_argument("--count", type=count, help="end after so many events")
    parser.add_argument("--find", default="", metavar="TEXT", help="only lines that hold all of these words")
    parser.add_argument(
        "--until", default="", metavar="TEXT", help="end at the first line that holds all of these words"
    )
    nouns.noun("logbook")
    parser = nouns.command("logbook show", _show, "the logbook, newest first")
    _which_lines(parser)
    parser.add_argument("--limit", type=count, default=30, help="how many lines (30)")
    parser = nouns.command("logbook export", _export, "write the lines that fit as CSV, newest first")
    _which_lines(parser)
    parser.add_argument("--to", default="-", metavar="FILE", help="- or nothing: print it")
    nouns.command("logbook verify", _verify, "check that no line was altered")


def _find(call: Call) -> None:
    found = call.tide.watching.search(" ".join(call.given.text))

    def shown() -> None:
        table = call.table("KIND", "WHAT", "", "IN THE CONSOLE")
        for hit in found:
            table.add_row(hit.kind, cell(hit.title), cell(hit.about), call.url.rstrip("/") + hit.place)
        call.show(table, empty="Nothing here holds all of these words.")

    call.answer(found, shown)


def _which_lines(parser: Parser) -> None:
    parser.add_argument("--app", help="only this app")
    parser.add_argument("--by", metavar="WHO", help="part of a name or address, 'the desk', or a store")
    parser.add_argument("--act", help="part of what was done, such as halt")
    parser.add_argument("--find", metavar="TEXT", help="words of the object, the act or the reason")
    instant_argument(parser, "--since", "not before")
    instant_argument(parser, "--until", "only before")


def _asked(call: Call) -> dict[str, Any]:
    given = call.given
    return {name: getattr(given, name) for name in ("app", "by", "act", "find", "since", "until")}


def _export(call: Call) -> None:
    write_out(call, lambda to: call.tide.watching.export_logbook(to, **_asked(call)))


def _overview(call: Call) -> None:
    told = call.tide.watching.overview()

    def shown() -> None:
        calls = [(row, needed) for row in told.rows for needed in row.calls]
        count = len(calls) + len(told.store_calls) + len(told.desk_calls)
        call.say(f"Needs you: {count}" if count else "Nothing needs you.")
        for row, needed in calls:
            call.say(f"  {row.app_title} at {row.store_title}: {needed.said}")
        for entry in told.store_calls:
            call.say(f"  {entry.store_title}: {entry.call.said}")
        for needed in told.desk_calls:
            call.say(f"  The desk: {needed.said}")
        call.say("")
        table = call.table("APP", "STORE", "LIVE", "NOW", "SHARE", "NEXT STAGE", "COMES NEXT", "NEWEST BUILD")
        for row in told.rows:
            table.add_row(
                cell(row.app_title),
                cell(row.store_title),
                row.live_version or "–",
                cell(_now(row)),
                _gauge(row),
                moment(row.stage_ends_at, told.now),
                cell(f"{row.next_version} {row.next_phase}" if row.next_version else "–"),
                row.newest_build or "–",
            )
        call.show(table, empty="Nothing here yet. First: tide store connect, tide app add, tide berth open.")

    call.answer(told, shown)


def _now(row: BerthRow) -> str:
    also = "".join(f"\n{entry.version} {entry.phase} on {entry.track_title}" for entry in row.also_on)
    if row.version is None:
        return ("no release" if row.berth_state == BerthState.OPEN else f"berth {row.berth_state}") + also
    return f"{row.version} {row.phase}" + ("" if row.confirmed else " (not confirmed)") + also


def _gauge(row: BerthRow) -> str:
    """The share as a short bar; the number stands beside it."""
    if row.phase not in PART_WAY | {LegPhase.COMPLETE}:
        return ""
    full = max(round(row.share * _SAIL), 1 if row.share else 0)
    return "█" * full + "░" * (_SAIL - full) + f" {share(row.share)}"


def _watch(call: Call) -> Exit | None:
    seen = 0
    try:
        for change in call.tide.watching.follow(after=call.given.after):
            texts = (change.kind, change.subject, change.said)
            if call.given.app not in (None, change.app) or not holds(call.given.find, *texts):
                continue
            if call.given.json:
                print(json.dumps(change.model_dump(mode="json"), ensure_ascii=False), flush=True)
            else:
                said = f": {change.said}" if change.said else ""
                call.say(
                    f"{change.at.astimezone():%H:%M:%S}  {change.app or '–':<12} {change.kind}  {change.subject}{said}"
                )
            seen += 1
            if seen == call.given.count or (call.given.until and holds(call.given.until, *texts)):
                break
    except KeyboardInterrupt:
        return Exit.DONE
    return None


def _show(call: Call) -> None:
    found = list(call.tide.watching.logbook(**_asked(call), limit=call.given.limit))

    def shown() -> None:
        table = call.table("LINE", "WHEN", "WHO", "ACT", "WHAT", "BEFORE → AFTER", "REASON")
        for line in found:
            table.add_row(
                str(line.id),
                on_the_day(line.at),
                cell(line.who),
                cell(line.act),
                cell(line.subject),
                cell(_step(line)),
                cell(line.reason),
            )
        asked = any(value for name, value in _asked(call).items() if name != "app")
        call.show(table, empty="No line fits." if asked else "The logbook is empty.")

    call.answer(found, shown)


def _step(line: LineTold) -> str:
    """What changed, as ``state rising → halted``; a line without a before shows what it set."""
    before, after = line.before or {}, line.after or {}
    told = []
    for key in {**before, **after}:
        if key not in before:
            told.append(f"{key} {_value(key, after)}")
        elif before.get(key) != after.get(key):
            told.append(f"{key} {_value(key, before)} → {_value(key, after)}")
    return ", ".join(told)


def _value(key: str, values: dict[str, object]) -> str:
    value = values.get(key)
    if key == "share" and isinstance(value, float):
        return share(value)
    if isinstance(value, list):
        return ", ".join(map(str, value))
    return "–" if value in (None, "") else str(value)


def _verify(call: Call) -> Exit:
    told = call.tide.watching.verify_logbook()

    def shown() -> None:
        if told.first_broken is None:
            call.say(f"All {told.lines} lines follow from one another; nothing was altered.")
        else:
            call.say(
                f"Line {told.first_broken} does not follow from the one before: it, or a line before it, was altered."
            )

    call.answer(told, shown)
    return Exit.DONE if told.first_broken is None else Exit.REFUSED
