"""tide track and tide rule: what stands on which track, moves, tracks of your own, and rules by which builds move up."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from restless_tide.cli import facts as sheets
from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell, text_argument
from restless_tide.cli.cohorts import brief_argument, brief_of
from restless_tide.cli.exits import Exit
from restless_tide.cli.naming import BUILD_HELP
from restless_tide.cli.parsing import Nouns, Parser, app_argument, count
from restless_tide.cli.retiring import reason_arguments
from restless_tide.cli.telling import moment, share
from restless_tide.core.report import ReportKind
from restless_tide.wire.errors import Invalid
from restless_tide.wire.problems import FindingTold
from restless_tide.wire.tracks import (
    CellTold,
    GotTold,
    MoveSheetTold,
    OwnTrackTold,
    PlacedTold,
    PlacementTold,
    TrackRuleTold,
    TrackTold,
)

_AT_HELP = "a track, such as openfield/early"
_TRACKS: Listing[CellTold] = Listing(
    words=lambda track: (track.at, track.title, *track.cohorts, *(one.build_label for one in track.holds)),
    sort={"track": lambda track: track.at, "people": lambda track: track.people, "rank": lambda track: track.rank},
)
_RULES: Listing[TrackRuleTold] = Listing(
    words=lambda rule: (rule.source, rule.target, rule.asks),
    sort={"from": lambda rule: rule.source, "to": lambda rule: rule.target},
)


def add(nouns: Nouns) -> None:
    _add_tracks(nouns)
    _add_rules(nouns)


def _add_tracks(nouns: Nouns) -> None:
    nouns.noun("track")
    parser = nouns.command("track list", _list, "the tracks of every store, and what they hold")
    app_argument(parser)
    parser.add_argument("--store", metavar="STORE", help="of this store alone")
    _TRACKS.arguments(parser)
    parser = nouns.command("track show", _show, "one track: what it holds and held, since when, by whom and why")
    _one(parser)
    parser = nouns.command(
        "track place",
        _place,
        "place a build on tracks",
        description="A store that does not hold the build gets it first. On a track of cohorts it is handed to them; on "
        "another it goes out with the release of its version. In production it is only drafted, unless --submit is given.",
    )
    parser.add_argument("at", nargs="*", metavar="STORE/TRACK", help=f"{_AT_HELP}; a store alone means production")
    app_argument(parser)
    parser.add_argument("--build", required=True, metavar="BUILD", help=BUILD_HELP)
    parser.add_argument("--rank", type=count, help="or every track of this rank before production")
    _how(parser)
    parser = nouns.command(
        "track promote",
        _promote,
        "move what a track offers up to the next one",
        description="Nothing is sent again; the brief and the notes go along, and a review where the store lets it hold.",
    )
    parser.add_argument("source", nargs="?", metavar="STORE/TRACK", help="where the build is now")
    app_argument(parser)
    parser.add_argument("--to", metavar="TRACK", help="the key of the track; the next one, unless you say")
    parser.add_argument("--build", metavar="BUILD", help="which one, where the track offers several")
    parser.add_argument("--rank", type=count, help="or from the track of this rank at every store")
    _how(parser)
    parser = nouns.command("track clear", _clear, "nobody new gets a build over a track")
    _one(parser)
    parser.add_argument("--reason", required=True, help="why; it stands in the logbook")
    parser.add_argument("--yes", action="store_true", help="do not ask first")
    parser = nouns.command("track open", _open, "open a track of your own, where a store lets teams have some")
    _one(parser)
    parser.add_argument("--title", default="", help="as people read it; the key, unless you say")
    reason_arguments(parser)
    parser = nouns.command("track rename", _rename, "give a track of your own another title")
    _one(parser)
    parser.add_argument("--to", required=True, metavar="TITLE")
    reason_arguments(parser)
    parser = nouns.command("track close", _close, "close a track of your own that holds nothing any more")
    _one(parser)
    reason_arguments(parser)
    parser = nouns.command("track people", _people, "which build people have at a store")
    parser.add_argument("store", metavar="STORE")
    app_argument(parser)
    parser.add_argument("--cohort", metavar="COHORT", help="people of this cohort")
    parser.add_argument(
        "--chosen", action="append", default=[], metavar="TRACK", help="people who chose this track; may be given again"
    )
    parser.add_argument("--country", metavar="CODE", help="people there, such as AT (ISO 3166)")


def _add_rules(nouns: Nouns) -> None:
    nouns.noun("rule")
    parser = nouns.command(
        "rule list", _rules, "the rules by which builds move up, and what each build still waits for"
    )
    app_argument(parser)
    _RULES.arguments(parser)
    parser = nouns.command("rule add", _add_rule, "have builds move up from a track automatically")
    parser.add_argument("source", metavar="STORE/TRACK", help=_AT_HELP)
    app_argument(parser)
    parser.add_argument("--to", metavar="TRACK", help="the key of the track; the next one, unless you say")
    parser.add_argument("--hours", type=float, help="so long on the track, without a break")
    parser.add_argument("--people", type=count, help="so many people who have it from there")
    parser.add_argument(
        "--crash-free", type=float, metavar="PERCENT", help="so many per cent of sessions without a crash"
    )
    parser.add_argument(
        "--no-open",
        action="append",
        default=[],
        choices=[*map(str, ReportKind)],
        help="no open field report of this kind",
    )
    parser.add_argument("--go-ahead", action="store_true", help="and a person's go-ahead for each build")
    reason_arguments(parser)
    parser = nouns.command("rule end", _end_rule, "nothing moves by a rule any more")
    _rule(parser)
    parser = nouns.command("rule go-ahead", _go_ahead, "give one build the go-ahead that a rule waits for")
    _rule(parser, build=True)
    parser = nouns.command("rule retry", _retry, "look again at a build that could not move up")
    _rule(parser, build=True)


def _one(parser: Parser) -> None:
    parser.add_argument("at", metavar="STORE/TRACK", help=_AT_HELP)
    app_argument(parser)


def _rule(parser: Parser, *, build: bool = False) -> None:
    parser.add_argument("rule", metavar="RULE", help="its id, as tide rule list shows it")
    app_argument(parser)
    if build:
        parser.add_argument("--build", required=True, metavar="BUILD", help=BUILD_HELP)
    reason_arguments(parser)


def _how(parser: Parser) -> None:
    brief_argument(parser)
    parser.add_argument(
        "--contact", default="", help="the address testers answer to; the cohort's or yours, unless you say"
    )
    parser.add_argument("--notes", metavar="TEXT", help="release notes in English; - reads them, @FILE takes a file")
    parser.add_argument("--ladder", help="such as 5@24,100; the store's or the usual one, unless you say")
    parser.add_argument("--submit", action="store_true", help="hand it in where it comes to production")
    reason_arguments(parser)
    parser.add_argument("--dry-run", action="store_true", help="only say what it would mean")
    parser.add_argument("--yes", action="store_true", help="do not ask first")


def _told_how(call: Call) -> dict[str, Any]:
    given = call.given
    notes = {"en": text_argument(given.notes)} if given.notes else {}
    told = {
        "brief": brief_of(given), "contact": given.contact, "notes": notes, "ladder": given.ladder,
        "submit": given.submit, "reason": given.reason, "rank": given.rank,
    }  # fmt: skip
    return {name: value for name, value in told.items() if value not in (None, "", {})}


# what is so


def _list(call: Call) -> None:
    given = call.given
    board = call.tide.tracks.board(given.app)
    stores = [entry for entry in board.stores if given.store in (None, entry.store)]
    if given.store and not stores:
        known = ", ".join(entry.store for entry in board.stores)
        raise Invalid(
            f"{board.app_title} has no open berth at {given.store}.", remedy=f"It has one at {known}.", code="usage"
        )
    found = _TRACKS.arranged(call, (track for entry in stores for track in entry.tracks))

    def shown() -> None:
        table = call.table("TRACK", "RANK", "WHO", "HOLDS", "COMES NEXT")
        for track in found:
            table.add_row(
                cell(track.at), str(track.rank or "beside"), cell(_who(track)), cell("\n".join(map(held, track.holds))),
                cell("\n".join(map(held, track.coming))),
            )  # fmt: skip
        call.show(table, empty=f"No berth is open. Open one with: tide berth open --app {given.app} --store STORE")

    call.answer(found, shown)


def _who(track: CellTold) -> str:
    people = "" if track.people is None else f"{track.people} people, "
    state = f", {track.state}" if track.own and track.state else ""
    return f"{people}{track.whom}{state}"


def held(placed: PlacementTold) -> str:
    """Such as ``5.2.0 (31) rising at 20%, since Tue 24 Nov 14:00 CET``."""
    at = f" at {share(placed.share)}" if placed.release and placed.share else ""
    with_ = f" with {placed.cohort}" if placed.cohort else ""
    since = f", since {moment(placed.since)}" if placed.since else ""
    last = f", last seen {placed.seen}" if placed.seen and placed.seen != placed.phase else ""
    seen = "" if placed.confirmed else f" (ordered, not confirmed{last})"
    return f"{placed.build_label} {placed.phase}{at}{with_}{since}{seen}"


def _show(call: Call) -> None:
    track = call.tide.tracks.one(call.given.app, _with_track(call.given.at))
    call.answer(track, lambda: _tell_track(call, track))


def _with_track(at: str) -> str:
    """The path of a track: a store alone means production."""
    return at if "/" in at else f"{at}/production"


def _tell_track(call: Call, track: TrackTold) -> None:
    call.say(f"{track.title} of {track.store_title}: {_who(track)}")
    for placed in track.holds:
        call.say(f"  holds {held(placed)}")
    for placed in track.coming:
        call.say(f"  comes next: {held(placed)}")
    if not track.holds and not track.coming:
        call.say(f"  It holds nothing. Place a build: tide track place {track.at} --app {call.given.app} --build BUILD")
    table = call.table("BUILD", "FROM", "UNTIL", "STATE", "WHO AND WHY")
    for past in track.history:
        placed = past.placement
        said = [f"{line.act} by {line.who}" + (f": {line.reason}" if line.reason else "") for line in past.lines[:6]]
        table.add_row(
            cell(placed.build_label), cell(moment(placed.since)), cell(moment(placed.until)), cell(placed.phase),
            cell("\n".join(said)),
        )  # fmt: skip
    call.show(table, empty="It never held a build.")


def _people(call: Call) -> None:
    given = call.given
    found = call.tide.tracks.people(
        given.app, given.store, cohort=given.cohort, chosen=given.chosen, country=given.country
    )

    def shown() -> None:
        table = call.table("SHARE OF THEM", "BUILD", "FROM TRACK")
        for entry in found:
            table.add_row(share(entry.share), cell(_got(entry)), cell(entry.track or ""))
        call.show(table, empty="Nobody has anything.")

    call.answer(found, shown)


def _got(entry: GotTold) -> str:
    return f"{entry.version} ({entry.number})" if entry.version else "no build"


# moves


def _place(call: Call) -> Exit | None:
    given, how = call.given, _told_how(call)
    if not given.at and given.rank is None:
        raise Invalid("No track was named.", remedy="Name one such as openfield/early, or give --rank.", code="usage")
    told = call.tide.tracks.sheet(given.app, given.build, given.at, **how)
    return _moved(call, told, lambda: call.tide.tracks.place(given.app, given.build, given.at, **how))


def _promote(call: Call) -> Exit | None:
    given, how = call.given, _told_how(call)
    how |= {name: value for name, value in (("to", given.to), ("build", given.build)) if value}
    told = call.tide.tracks.promotion_sheet(given.app, given.source, **how)
    return _moved(call, told, lambda: call.tide.tracks.promote(given.app, given.source, **how))


def _moved(call: Call, told: Sequence[MoveSheetTold], go: Any) -> Exit | None:
    """Show what it would mean, ask, and do it. What blocks is refused by the desk in its own words."""
    given = call.given
    findings = [finding for sheet in told for finding in sheet.findings]
    if given.dry_run:
        call.answer(list(told), lambda: _tell_sheets(call, told))
        return sheets.exit_of(findings)
    if not given.json:
        _tell_sheets(call, told)
    if not _blocked(findings):
        call.demand_confirmation("Nothing was done so far.")
    done: list[PlacedTold] = go()
    call.answer(done, lambda: _tell_placed(call, done))
    return None


def _blocked(findings: Sequence[FindingTold]) -> bool:
    return sheets.exit_of(findings) is Exit.REFUSED


def _tell_sheets(call: Call, told: Sequence[MoveSheetTold]) -> None:
    for sheet in told:
        came = f" from {sheet.source}" if sheet.source else ""
        whom = "" if sheet.people is None else f", {sheet.people} people"
        what = ["it is sent there first" if sheet.sends else "nothing is sent again"]
        what += ["drafted, not handed in"] if sheet.drafts else []
        what += [f"takes the place of {', '.join(sheet.takes_place_of)}"] if sheet.takes_place_of else []
        call.say(f"{sheet.build_label}{came} to {sheet.track_title} of {sheet.store_title}{whom}: {'; '.join(what)}.")
        if sheet.findings:
            sheets.show_sheet(call, sheet.at, sheet.findings)


def _tell_placed(call: Call, done: Sequence[PlacedTold]) -> None:
    app = call.given.app
    for placed in done:
        if placed.trials:
            count_ = len(placed.trials)
            call.say(
                f"{placed.at}: {'a trial is' if count_ == 1 else f'{count_} trials are'} ordered ({', '.join(placed.trials)})."
            )
        elif placed.drafted:
            call.say(
                f"{placed.at}: {placed.version} is drafted. Look, and hand it in: tide release look {placed.version} --app {app}"
            )
        else:
            call.say(f"{placed.at}: {placed.version} is handed in.")
    call.say(f"See what becomes of it: tide track list --app {app}")


def _clear(call: Call) -> None:
    given = call.given
    at = _with_track(given.at)
    track = call.tide.tracks.one(given.app, at)
    told = "\n".join(f"  {held(placed)}" for placed in (*track.holds, *track.coming)) or "  nothing"
    call.demand_confirmation(f"Nobody new gets a build over {track.title} of {track.store_title}. It holds:\n{told}")
    done = call.tide.tracks.clear(given.app, at, given.reason)
    call.answer(done, lambda: call.say(f"{done.at}: {'; '.join(done.done)}."))


# tracks of one's own


def _open(call: Call) -> None:
    given = call.given
    _tell_own(call, call.tide.tracks.open(given.app, given.at, given.title, reason=given.reason), "ordered")


def _rename(call: Call) -> None:
    given = call.given
    done = call.tide.tracks.rename(given.app, given.at, given.to, reason=given.reason)
    call.answer(done, lambda: call.say(f"{done.at}: the title {given.to} is ordered."))


def _close(call: Call) -> None:
    given = call.given
    _tell_own(call, call.tide.tracks.close(given.app, given.at, reason=given.reason), "closing is ordered")


def _tell_own(call: Call, done: OwnTrackTold, said: str) -> None:
    call.answer(done, lambda: call.say(f"{done.at} ({done.title}): {said}."))


# rules


def _rules(call: Call) -> None:
    given = call.given
    found = _RULES.arranged(call, call.tide.tracks.rules(given.app))

    def shown() -> None:
        table = call.table("RULE", "FROM", "TO", "ASKS FOR", "BUILDS UNDER IT")
        for rule in found:
            table.add_row(rule.id, cell(rule.source), cell(rule.target), cell(rule.asks), cell(_under(rule)))
        call.show(table, empty=f"No rule is there. Make one: tide rule add STORE/TRACK --app {given.app} --hours 24")

    call.answer(found, shown)


def _under(rule: TrackRuleTold) -> str:
    told = []
    for entry in rule.builds:
        waits = entry.trouble or (f"waits: {'; '.join(entry.missing)}" if entry.missing else "moves up now")
        told.append(f"{entry.build_label} {waits}")
    return "\n".join(told) or "none now"


def _add_rule(call: Call) -> None:
    given = call.given
    free = given.crash_free / 100 if given.crash_free is not None else None
    asks = {
        "to": given.to, "hours": given.hours, "people": given.people, "crash_free": free, "no_open": given.no_open,
        "needs_go_ahead": given.go_ahead, "reason": given.reason,
    }  # fmt: skip
    _tell_rule(call, call.tide.tracks.make_rule(given.app, given.source, **asks))


def _tell_rule(call: Call, rule: TrackRuleTold) -> None:
    call.answer(
        rule,
        lambda: call.say(f"Rule {rule.id}: from {rule.source} to {rule.target} after {rule.asks}. {_under(rule)}."),
    )


def _end_rule(call: Call) -> None:
    given = call.given
    call.tide.tracks.end_rule(given.app, given.rule, reason=given.reason)
    call.answer({"ended": given.rule}, lambda: call.say("Nothing moves by this rule any more."))


def _go_ahead(call: Call) -> None:
    given = call.given
    _tell_rule(call, call.tide.tracks.give_go_ahead(given.app, given.rule, given.build, reason=given.reason))


def _retry(call: Call) -> None:
    given = call.given
    _tell_rule(call, call.tide.tracks.try_again(given.app, given.rule, given.build))
