"""tide release, tide rollout."""

from __future__ import annotations

from datetime import datetime

from tzlocal import get_localzone_name

from restless_tide.cli import agreeing, halting, live, looking, pace, ready, reviewers
from restless_tide.cli.arranging import Listing, version_key
from restless_tide.cli.call import Call, cell, text_argument
from restless_tide.cli.exits import Exit
from restless_tide.cli.naming import BUILD_HELP
from restless_tide.cli.parsing import Nouns, Parser, app_argument, place_argument, span
from restless_tide.cli.sign_ins import sign_in_arguments, sign_in_of
from restless_tide.cli.standing import after_act, settled, stands
from restless_tide.cli.telling import moment, unconfirmed
from restless_tide.core.condition_text import HOW_TO_WRITE as WHEN
from restless_tide.core.condition_text import parse_condition
from restless_tide.core.ladder import HOW_TO_WRITE
from restless_tide.core.leg import ENDS, LegPhase, reached
from restless_tide.core.order import OrderState
from restless_tide.core.pace import PaceKind
from restless_tide.core.waiting import By
from restless_tide.wire.errors import Invalid, NotFound
from restless_tide.wire.releases import Condition, LegTold, LegWanted, ReleaseTold, WaitTold
from restless_tide.wire.reviewing import BriefWanted

_STEERING = {
    "advance": "one stage up, or to --share",
    "pause": "hold the share where it is; the stage clock stops",
    "resume": "go on from where it stands",
    "halt": "offer the build to nobody new; those who have it keep it",
    "finish": "offer it to everybody now",
    "withdraw": "take the release down",
}
_ASKS_FIRST = ("finish", "withdraw")


_RELEASES: Listing[ReleaseTold] = Listing(
    words=lambda release: (release.version, *release.notes.values(), *(leg.place for leg in release.legs)),
    sort={"version": lambda release: version_key(release.version), "drafted": lambda release: release.created_at},
    states=LegPhase,
    state=lambda release: [leg.phase for leg in release.legs],
    since=lambda release: release.created_at,
)


def add(nouns: Nouns) -> None:
    nouns.noun("release")
    parser = nouns.command("release draft", _draft, "draft a release with one leg per store")
    parser.add_argument("version")
    app_argument(parser)
    parser.add_argument(
        "--leg",
        action="append",
        required=True,
        metavar="STORE[=BUILD]",
        help=f"a store and the build that goes there, the latest for it unless you say; repeat it. A build is {BUILD_HELP}",
    )
    parser.add_argument(
        "--notes",
        action="append",
        default=[],
        metavar="LOCALE=TEXT",
        help="what is new; @FILE reads a file, - a pipe; repeat it per locale",
    )
    _launch_arguments(parser)
    parser = nouns.command("release notes", _notes, "write the notes of one locale")
    parser.add_argument("version")
    app_argument(parser)
    parser.add_argument("locale")
    parser.add_argument("text", help="@FILE reads a file, - a pipe; empty takes them out")
    parser = nouns.command(
        "release change",
        _change,
        "change a leg: its build, ladder or conditions; half-way, the rest of its ladder",
    )
    parser.add_argument("version")
    app_argument(parser)
    place_argument(parser)
    parser.add_argument("--build", help=BUILD_HELP)
    _launch_arguments(parser)
    parser = nouns.command("release add-leg", _add_leg, "take one more store into a release")
    parser.add_argument("version")
    app_argument(parser)
    parser.add_argument("--leg", required=True, metavar="STORE[=BUILD]", help="the latest build for it unless you say")
    _launch_arguments(parser)
    parser = nouns.command("release drop-leg", _drop_leg, "take a store out, before it was handed in there")
    parser.add_argument("version")
    app_argument(parser)
    place_argument(parser)
    parser = nouns.command("release rename", _rename, "give a draft that was handed in nowhere another version")
    parser.add_argument("version")
    app_argument(parser)
    parser.add_argument("--to", required=True, metavar="VERSION")
    parser = nouns.command(
        "release fix",
        _fix,
        "draft what takes the place of a launched release, with another build of a higher version",
    )
    parser.add_argument("version", help="the one that is to be replaced")
    app_argument(parser)
    parser.add_argument(
        "--build", action="append", required=True, metavar="BUILD", help=f"{BUILD_HELP}; repeat it for another platform"
    )
    parser = nouns.command("release discard", _discard, "discard a draft that was handed in nowhere; its builds stay")
    parser.add_argument("version")
    app_argument(parser)
    parser.add_argument("--yes", action="store_true", help="do not ask first")
    ready.add(nouns)
    pace.add(nouns)
    live.add_picture(nouns)
    parser = nouns.command("release figures", _figures, "how long reviews take, and how many are refused")
    parser.add_argument(
        "--by", choices=[*map(str, By)], default=str(By.STORE), help="what they are gathered by (store)"
    )
    parser.add_argument("--app", metavar="APP", help="only of this app")
    place_argument(parser, required=False)
    looking.add(nouns)
    agreeing.add(nouns)
    parser = nouns.command("release submit", _submit, "hand it to review, at one store or at all")
    parser.add_argument("version")
    app_argument(parser)
    place_argument(parser, required=False)
    parser.add_argument(
        "--note",
        metavar="TEXT",
        help="a note for the reviewer; @FILE reads a file, - a pipe; without it, what was done about the matters is said",
    )
    parser.add_argument(
        "--looked",
        metavar="REVISION",
        help="the revision that tide release look shows; without it you are shown what is handed in, and asked",
    )
    parser.add_argument(
        "--without",
        action="append",
        default=[],
        metavar="ITEM",
        help="keep it back, such as goods/summer-pass; repeat it",
    )
    parser.add_argument(
        "--standing", metavar="TEXT", help="in this round, instead of the note that stands for every round; empty: none"
    )
    sign_in_arguments(parser)
    reviewers.files_argument(parser)
    parser.add_argument("--no-files", action="store_true", help="in this round, none of the files that stand")
    parser.add_argument(
        "--in-spite-of", metavar="REASON", default="", help="why it is handed in while a matter is open"
    )
    _wait_argument(parser)
    parser = nouns.command("release recall", _recall, "call a leg back from review")
    parser.add_argument("version")
    app_argument(parser)
    place_argument(parser)
    parser.add_argument("--reason", default="")
    _wait_argument(parser)
    parser = nouns.command("release go-ahead", _go_ahead, "give your go-ahead to launch, or withdraw it")
    parser.add_argument("version")
    app_argument(parser)
    place_argument(parser, required=False)
    parser.add_argument("--withdraw", action="store_true", help="withdraw the one that you gave, before it is launched")
    parser.add_argument("--reason", default="")
    parser = nouns.command("release list", _list, "list an app's releases")
    app_argument(parser)
    _RELEASES.arguments(parser)
    parser = nouns.command("release show", _show, "where a release stands at every store")
    parser.add_argument("version")
    app_argument(parser)

    parser = nouns.command(
        "release wait", _wait_for, "wait until every leg, or one store's, is so far; exit code 5 when it takes longer"
    )
    parser.add_argument("version")
    app_argument(parser)
    place_argument(parser, required=False)
    parser.add_argument(
        "--until",
        choices=[*map(str, LegPhase)],
        default=str(LegPhase.COMPLETE),
        help="the phase that is to be reached, or passed (complete)",
    )
    parser.add_argument("--wait", type=span, default=600.0, metavar="SECONDS", help="how long (600)")
    nouns.noun("rollout")
    for act, summary in _STEERING.items():
        parser = nouns.command(
            f"rollout {act}",
            _steer,
            summary,
            description=f"{summary[0].upper()}{summary[1:]}. At every store where it is possible, or at --store.",
        )
        parser.set_defaults(act=act, share=None)
        if act == "halt":
            parser.add_argument("version", nargs="?", help="the release; none with --all")
            parser.add_argument("--app", metavar="APP", help="the app's short name")
            halting.arguments(parser)
        else:
            parser.add_argument("version")
            app_argument(parser)
        place_argument(parser, required=False)
        parser.add_argument("--reason", required=True, help="why; it stands in the logbook")
        if act == "advance":
            parser.add_argument(
                "--share", metavar="PERCENT", type=float, help="to this share, where the store leaves it free"
            )
        if act in _ASKS_FIRST:
            parser.add_argument("--yes", action="store_true", help="do not ask first")
        _wait_argument(parser)


def _launch_arguments(parser: Parser) -> None:
    parser.add_argument(
        "--ladder",
        metavar="STAGES",
        help=f"a named ladder, or its stages: {HOW_TO_WRITE}; where the store leaves it free",
    )
    parser.add_argument(
        "--when",
        action="append",
        metavar="CONDITION",
        help=f"what the launch waits for, all of it; repeat it, and none takes everything away. Write one of: {WHEN}. "
        "The three options below change one of the usual conditions each",
    )
    word = parser.add_mutually_exclusive_group()
    word.add_argument(
        "--needs-go-ahead", action="store_true", default=None, help="launch only after a person gave the go-ahead"
    )
    word.add_argument(
        "--without-go-ahead", dest="needs_go_ahead", action="store_false", help="launch without a go-ahead"
    )
    parser.add_argument(
        "--not-before", metavar="INSTANT", help="launch not before, such as 2026-12-01T09:00+01:00; none: no date"
    )
    parser.add_argument(
        "--with-other-legs",
        action="store_true",
        default=None,
        help="launch only when the other stores have approved, too",
    )


def _wait_argument(parser: Parser) -> None:
    parser.add_argument(
        "--wait", type=span, default=10.0, metavar="SECONDS", help="how long to wait for the stores' answers"
    )


def _pairs(words: list[str], what: str) -> dict[str, str]:
    pairs = dict(word.partition("=")[::2] for word in words)
    if any("=" not in word for word in words):
        raise Invalid(f"{what} needs an equals sign: {', '.join(words)}", code="argument-unfit")
    return pairs


def _wish(call: Call, build: str | None) -> LegWanted:
    given = call.given
    instant, no_date = None, (given.not_before or "").strip().lower() == "none"
    if given.not_before is not None and not no_date:
        try:
            instant = datetime.fromisoformat(given.not_before)
        except ValueError:
            raise Invalid(
                f"{given.not_before!r} is no instant.",
                remedy="Write it like 2026-12-01T09:00+01:00, or none for no date.",
                code="instant-unfit",
            ) from None
    return LegWanted(
        build=build,
        ladder=given.ladder,
        conditions=_conditions(given.when),
        needs_go_ahead=given.needs_go_ahead,
        not_before=instant,
        no_date=no_date,
        with_other_legs=given.with_other_legs,
    )


def _conditions(texts: list[str] | None) -> tuple[Condition, ...] | None:
    """The conditions as they are written; ``none`` alone: nothing; left out: they stay."""
    if texts is None:
        return None
    if [text.strip().lower() for text in texts] == ["none"]:
        return ()
    zone = get_localzone_name() or "UTC"
    return tuple(parse_condition(text, zone) for text in texts)


def _draft(call: Call) -> None:
    dictated = {store.name for store in call.tide.stores.every() if store.ladder_dictated}
    named = dict(word.partition("=")[::2] for word in call.given.leg)
    legs = {store: _wish(call, build or "latest") for store, build in named.items()}
    if not dictated.issuperset(legs):  # a ladder given for several stores is meant for those that leave it free
        legs = {
            store: wish.model_copy(update={"ladder": None}) if store in dictated else wish
            for store, wish in legs.items()
        }
    notes = {locale: text_argument(text) for locale, text in _pairs(call.given.notes, "--notes").items()}
    release = call.tide.releases.draft(call.given.app, call.given.version, legs=legs, notes=notes)
    call.answer(release, lambda: _tell(call, release))


def _notes(call: Call) -> None:
    release = call.tide.releases.write_notes(
        call.given.app, call.given.version, call.given.locale, text_argument(call.given.text)
    )

    def shown() -> None:
        call.say(f"Notes of {release.version} in {call.given.locale} are written.")
        for leg in release.legs:
            if leg.notes_not_sent:
                call.say(f"{leg.place_title} has the notes as they were handed in. {leg.notes_go}")

    call.answer(release, shown)


def _change(call: Call) -> None:
    wish = _wish(call, call.given.build)
    release = call.tide.releases.change_leg(
        call.given.app,
        call.given.version,
        call.given.store,
        build=wish.build,
        ladder=wish.ladder,
        conditions=wish.conditions,
        needs_go_ahead=wish.needs_go_ahead,
        not_before=wish.not_before,
        no_date=bool(wish.no_date),
        with_other_legs=wish.with_other_legs,
    )
    call.answer(release, lambda: _tell(call, release))


def _wait_for(call: Call) -> Exit | None:
    given, until = call.given, LegPhase(call.given.until)
    look = call.tide.releases.one

    def chosen(release: ReleaseTold) -> list[LegTold]:
        found = _meant(release, given.store)
        if not found:
            at = ", ".join(leg.place for leg in release.legs)
            raise NotFound(f"{given.version} does not go to {given.store}; it goes to {at}.", code="leg-unknown")
        return found

    def there(leg: LegTold) -> bool:
        return leg.confirmed and reached(leg.phase, until)

    def over(release: ReleaseTold) -> bool:
        return all(there(leg) or leg.phase in ENDS for leg in chosen(release))

    seen = call.wait_until(lambda: look(given.app, given.version), over, given.wait)
    call.answer(seen, lambda: _tell(call, seen))
    if all(there(leg) for leg in chosen(seen)):
        return None
    return Exit.REFUSED if over(seen) else Exit.NOT_CONFIRMED


def _add_leg(call: Call) -> None:
    given = call.given
    store, _, build = given.leg.partition("=")
    release = call.tide.releases.add_leg(given.app, given.version, store, _wish(call, build or "latest"))
    call.answer(release, lambda: _tell(call, release))


def _drop_leg(call: Call) -> None:
    given = call.given
    release = call.tide.releases.drop_leg(given.app, given.version, given.store)
    call.answer(release, lambda: call.say(f"{given.version} no longer goes to {given.store}."))


def _rename(call: Call) -> None:
    given = call.given
    release = call.tide.releases.rename(given.app, given.version, given.to)
    call.answer(release, lambda: _tell(call, release))


def _fix(call: Call) -> None:
    given = call.given
    before = call.tide.releases.one(given.app, given.version)
    release = call.tide.releases.fix(given.app, given.version, *given.build)

    def shown() -> None:
        for leg in before.legs:
            if leg.launched_at is not None:
                call.say(f"{leg.place_title}: people have {before.version} ({stands(leg)}).")
        call.say(
            f"{release.version} takes its place where it is launched. Its stores, ladders, conditions and notes are those before:\n"
        )
        _tell(call, release)

    call.answer(release, shown)


def _discard(call: Call) -> None:
    given = call.given
    call.demand_confirmation(f"The draft of {given.version} and its notes are gone after this; the builds stay.")
    call.tide.releases.discard(given.app, given.version)
    call.answer({"discarded": given.version}, lambda: call.say(f"The draft of {given.version} is discarded."))


def _figures(call: Call) -> None:
    given = call.given
    found = call.tide.releases.figures(given.by, app=given.app, store=given.store)

    def shown() -> None:
        table = call.table(
            given.by.upper(), "ROUNDS", "UNDER REVIEW", "REFUSED", "WAITING", "DECIDING", "ALL OF IT", "EIGHT OF TEN"
        )
        for one in found:
            refused = f"{one.refused} of {one.decided}" if one.decided else ""
            band = f"{_hours(one.low_hours)} to {_hours(one.high_hours)}" if one.low_hours is not None else ""
            parts = (one.waiting_hours, one.deciding_hours, one.whole_hours)
            table.add_row(cell(one.name), str(one.rounds), str(one.under_review), refused, *map(_hours, parts), band)
        call.show(table, empty="Nothing was handed to review yet.")

    call.answer(found, shown)


def _hours(hours: float | None) -> str:
    if hours is None:
        return ""
    if hours < 1:
        return f"{hours * 60:.0f} min"
    return f"{hours:.3g} h" if hours < 72 else f"{hours / 24:.3g} d"


def _submit(call: Call) -> Exit | None:
    given = call.given
    note = text_argument(given.note) if given.note is not None else None
    looked = given.looked
    if looked is None and call.asks:
        found = call.tide.releases.look(given.app, given.version, store=given.store)
        looking.tell(call, found)
        call.demand_confirmation(f"{found.app_title} {found.version} goes to review as it is shown here.")
        looked = found.revision
    call.tide.releases.submit(
        given.app,
        given.version,
        store=given.store,
        looked=looked,
        without=given.without,
        for_reviewer=note,
        brief=BriefWanted(
            note=text_argument(given.standing) if given.standing is not None else None,
            sign_in=sign_in_of(call),
            files=[] if given.no_files else reviewers.sent(call) if given.file else None,
        ),
        in_spite_of=given.in_spite_of,
    )
    return _tell_when_settled(call)


def _recall(call: Call) -> Exit | None:
    call.tide.releases.recall(call.given.app, call.given.version, call.given.store, reason=call.given.reason)
    return _tell_when_settled(call)


def _go_ahead(call: Call) -> None:
    releases = call.tide.releases
    act = releases.take_back_go_ahead if call.given.withdraw else releases.give_go_ahead
    release = act(call.given.app, call.given.version, store=call.given.store, reason=call.given.reason)
    call.answer(release, lambda: _tell(call, release))


def _list(call: Call) -> None:
    every = call.tide.releases.of_app(call.given.app)
    found = _RELEASES.arranged(call, every)

    def shown() -> None:
        table = call.table("VERSION", "DRAFTED", "LEGS")
        for release in found:
            legs = "\n".join(f"{leg.place}: {stands(leg)}" for leg in release.legs)
            table.add_row(release.version, moment(release.created_at), cell(legs))
        none = f"No releases yet. Draft one with: tide release draft VERSION --app {call.given.app} --leg STORE=BUILD"
        call.show(table, empty="No release is like that." if every else none)

    call.answer(found, shown)


def _show(call: Call) -> None:
    release = call.tide.releases.one(call.given.app, call.given.version)
    call.answer(release, lambda: _tell(call, release))


def _steer(call: Call) -> Exit | None:
    given = call.given
    if given.act == "halt":
        halting.demand_one_meaning(call)
        if given.all:
            return halting.halt_all(call)
    if given.act in _ASKS_FIRST:
        before = call.tide.releases.one(given.app, given.version)
        chosen = _meant(before, given.store)
        consequences = [
            f"{leg.place_title}: {option.consequence}"
            for leg in chosen
            for option in leg.acts
            if option.act == given.act and option.possible
        ]
        if consequences:
            call.demand_confirmation("\n".join(consequences))
    part = given.share / 100 if given.share is not None else None
    done = call.tide.releases.steer(
        given.app, given.version, given.act, reason=given.reason, store=given.store, share=part
    )
    release = call.wait_until(lambda: call.tide.releases.one(given.app, given.version), settled, given.wait)

    def shown() -> None:
        for outcome in done.outcomes:
            leg = next(leg for leg in release.legs if leg.place == outcome.place)
            call.say(f"{leg.place_title}: {after_act(leg) if outcome.ordered else f'nothing done. {outcome.why_not}'}")

    call.answer(
        {"outcomes": [entry.model_dump() for entry in done.outcomes], "release": release.model_dump(mode="json")}, shown
    )
    acted = [leg for leg in release.legs for outcome in done.outcomes if outcome.ordered and outcome.place == leg.place]
    if any(leg.orders[0].state == OrderState.REFUSED for leg in acted):
        return Exit.REFUSED
    return Exit.DONE if _all_confirmed(release) else Exit.NOT_CONFIRMED


def _all_confirmed(release: ReleaseTold) -> bool:
    return all(leg.confirmed for leg in release.legs)


def _tell_when_settled(call: Call) -> Exit | None:
    release = call.wait_until(
        lambda: call.tide.releases.one(call.given.app, call.given.version), settled, call.given.wait
    )
    call.answer(release, lambda: _tell(call, release))
    return Exit.DONE if _all_confirmed(release) else Exit.NOT_CONFIRMED


def _tell(call: Call, release: ReleaseTold) -> None:
    call.say(f"{release.app_title} {release.version}")
    if release.pace.kind is not PaceKind.FREE:
        call.say(f"pace: {release.pace_told}")
    for leg in release.legs:
        call.say(f"\n{leg.place_title}: {stands(leg)}")
        call.say(f"  build {leg.build} = {leg.build_label}; ladder {_ladder(leg)}")
        for entry in leg.rounds:
            call.say(
                f"  round {entry.number}: {entry.state}{unconfirmed(entry)}, {moment(entry.changed_at)}"
                + (f": {' '.join(entry.reasons)}" if entry.reasons else "")
            )
            if entry.waiting is not None:
                call.say(f"    {_waiting(entry.waiting)}")
        if leg.launched_at is None:
            _tell_launch(call, leg)
        if leg.waits_to_rise:
            call.say(f"  its next stage waits for {', and for '.join(leg.waits_to_rise)}")
        for finding in leg.findings:
            call.say(f"  {finding.level}: {finding.detail} {finding.remedy}")
        refused = next((order for order in leg.orders[:1] if order.state == OrderState.REFUSED), None)
        if refused:
            call.say(f"  the store refused to {refused.kind}: {refused.trouble}")
        possible = [str(option.act) for option in leg.acts if option.possible]
        if possible:
            call.say(f"  possible now: {', '.join(possible)}")
    if release.notes:
        call.say("")
    for locale, text in release.notes.items():
        call.say(f"notes {locale}: {text}")
    for leg in release.legs:
        if leg.notes_not_sent:
            call.say(f"  {leg.place_title} has other notes in {', '.join(leg.notes_not_sent)}. {leg.notes_go}")


def _tell_launch(call: Call, leg: LegTold) -> None:
    """What the launch waits for: each condition, whether it holds, since when, and what is missing."""
    for stand in leg.conditions:
        since = f", since {moment(stand.since)}" if stand.since else ""
        call.say(f"  ✓ {stand.told}{since}" if stand.holds else f"  … waits for {stand.missing}")
    missing = {stand.missing for stand in leg.conditions if not stand.holds}
    for other in leg.waits_for:
        if other not in missing:
            call.say(f"  … waits for {other}")
    for given in leg.go_aheads:
        call.say(f"  go-ahead by {given.who}, {moment(given.given_at)}" + (f": {given.reason}" if given.reason else ""))
    if leg.launches_at is not None:
        call.say(f"  launches {moment(leg.launches_at)}, unless it is stopped")


def _waiting(wait: WaitTold) -> str:
    """Such as ``waits for 40 h, longer than usual: 12 h, eight of ten within 8 h to 20 h (14 rounds of yours)``."""
    told = f"waits for {_hours(wait.hours)}, {'longer than usual: ' if wait.long else 'usual are '}{_hours(wait.median_hours)}"
    if not wait.rounds:
        return f"{told} (by the rulebook)"
    return f"{told}, eight of ten within {_hours(wait.low_hours)} to {_hours(wait.high_hours)} ({wait.rounds} rounds of yours)"


def _ladder(leg: LegTold) -> str:
    return " → ".join(stage.told() for stage in leg.ladder) + (" (dictated)" if leg.ladder_dictated else "")


def _meant(release: ReleaseTold, place: str | None) -> list[LegTold]:
    """The legs that are meant: all, the one at this place, or those of this store."""
    exactly = [leg for leg in release.legs if place in (None, leg.place)]
    return exactly or [leg for leg in release.legs if leg.store == place]
