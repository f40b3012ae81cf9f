"""Releases: drafted, handed to review, recalled, given the go-ahead."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field, replace
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.conditions import Condition, with_shorthands
from restless_tide.core.errors import Conflict, Finding, ImpossibleAct, Invalid, NotReady
from restless_tide.core.ladder import OWN, Ladder, continued, rest_of_way
from restless_tide.core.leg import (
    OPEN_TO_SUBMISSION,
    PART_WAY,
    LegPhase,
    demand_open_to_change,
    demand_open_to_submission,
)
from restless_tide.core.locales import locale_of
from restless_tide.core.look import items_without
from restless_tide.core.matter import MATTER_OPEN, in_the_way
from restless_tide.core.order import OrderKind
from restless_tide.core.readiness import demand_ready
from restless_tide.core.rollout import ROLLOUT
from restless_tide.core.round import ROUND, RoundEvent
from restless_tide.core.rulebook import PRODUCTION, Audience, RolloutRules
from restless_tide.core.sheet import sheet
from restless_tide.core.tracks import demand_track, parse_address
from restless_tide.core.versions import parse_version
from restless_tide.core.words import listed
from restless_tide.desk import (
    find,
    go_aheads,
    keyset,
    known,
    ladders,
    last_look,
    launching,
    legs,
    matters,
    retiring,
    reviewer_briefs,
    reviews,
)
from restless_tide.desk.desk import Act
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Consignment, Leg, Release, Round


@dataclass(frozen=True)
class LegWish:
    """What is wanted of a leg; None leaves a thing as it is, and ``no_date`` takes the date away.

    ``ladder`` is in parse_ladder's short form. ``conditions`` replace those of its launch; the three words after it change one
    of the usual conditions each.
    """

    build: str | None = None
    ladder: str | None = None
    conditions: tuple[Condition, ...] | None = None
    needs_go_ahead: bool | None = None
    not_before: datetime | None = None
    no_date: bool = False
    with_other_legs: bool | None = None


@dataclass(frozen=True)
class HandingIn:
    """How something is handed in. ``looked`` is the revision of the last look at it; ``automatic``: as a person has ordered
    before, when nothing could be looked at yet.

    ``without`` are items that are kept back. With ``in_spite_of``, a reason, open matters are not in the way.
    """

    looked: str | None = None
    automatic: bool = False
    without: tuple[str, ...] = ()
    in_spite_of: str = ""
    reviewer: reviewer_briefs.ForRound = field(default_factory=reviewer_briefs.ForRound)


def draft(act: Act, app_name: str, version: str, wishes: dict[str, LegWish]) -> Release:
    """Draft a release with one leg per store, or take stores into one that stands on other tracks so far.

    Raises Conflict when the version is drafted for production already.
    """
    app = retiring.app_in_use(act.session, app_name)
    number = str(parse_version(version))
    known = act.session.scalar(select(Release).where(Release.app_id == app.id, Release.version == number))
    if known is not None and any(leg.track == PRODUCTION for leg in known.legs):
        raise Conflict(
            f"{app.title} {number} is drafted already.",
            remedy=f"Look at it: tide release show {number} --app {app.name}",
            code="release-known",
        )
    if not wishes:
        raise Invalid(
            "A release needs at least one store.",
            remedy="Name a build for each: --leg STORE=BUILD",
            code="legs-missing",
        )
    release = known or entered(act, app, number)
    for store_name, wish in wishes.items():
        add_leg(act, release, store_name, wish)
    act.session.flush()
    launching.demand_possible(act.session, release, act.now)
    act.log(
        "release drafted",
        f"release {number}",
        app=app.name,
        after={"stores": [str(find.place_of(leg)) for leg in release.legs]},
    )
    return release


def entered(act: Act, app: App, version: str) -> Release:
    """A release without a leg so far."""
    release = Release(app_id=app.id, version=version, created_at=act.now)
    release.app = app
    act.session.add(release)
    return release


def change_leg(act: Act, app_name: str, version: str, store_name: str, wish: LegWish) -> Leg:
    """Change a leg's build, ladder or conditions. Raises ImpossibleAct when it is too late for that."""
    release = find.release(act.session, find.app(act.session, app_name), version)
    leg = find.leg(release, store_name)
    before = _told(leg)
    _apply(act, leg, wish)
    if _touches_conditions(wish):
        launching.demand_possible(act.session, release, act.now, str(find.place_of(leg)))
    touch(act, release)
    act.log("leg changed", legs.leg_subject(leg), app=release.app.name, before=before, after=_told(leg))
    return leg


def write_notes(act: Act, app_name: str, version: str, locale: str, text: str) -> Release:
    """Write the notes of one locale; an empty text takes them out."""
    release = find.release(act.session, find.app(act.session, app_name), version)
    locale = locale_of(locale)
    before = release.notes.get(locale)
    release.notes = {name: kept for name, kept in release.notes.items() if name != locale} | (
        {locale: text} if text.strip() else {}
    )
    touch(act, release)
    act.log(
        "notes written",
        f"release {release.version}",
        app=release.app.name,
        before={locale: before},
        after={locale: text},
    )
    return release


def findings(session: Session, leg: Leg, now: datetime) -> list[Finding]:
    """What stands against handing this leg to review: the walk over the store's graph as far as the review."""
    return sheet(rules_of(leg.berth.store), known.of_leg(session, leg, now)).findings()


def submit(
    act: Act,
    app_name: str,
    version: str,
    store_name: str | None,
    handing_in: HandingIn = HandingIn(),
) -> list[Leg]:
    """Hand a leg, or every leg that can be, to the stores' review; each in a new round.

    Raises NotReady with the findings of all chosen legs, Invalid where nobody has looked at what is handed in, StaleView
    where it has changed since; then nothing is handed in anywhere.
    """
    release = find.release(act.session, retiring.app_in_use(act.session, app_name), version)
    chosen = _chosen(release, store_name, OPEN_TO_SUBMISSION, "handed in")
    for leg in chosen:
        demand_open_to_submission(legs.phase(leg))
    looks = {leg.id: last_look.of_leg(act.session, leg, act.now) for leg in chosen}
    in_spite_of = handing_in.in_spite_of.strip()
    said = [finding for look in looks.values() for finding in in_the_way(look.findings, handing_in.without)]
    if in_spite_of:
        said = [finding for finding in said if finding.code != MATTER_OPEN]
    demand_ready(said, f"Handing in {release.version}")
    if not handing_in.automatic:
        last_look.demand_looked(act.session, release, looks.values(), handing_in.looked, act.now)
    left_out = set(handing_in.without) - {item for look in looks.values() for item in look.items}
    if left_out:
        raise Invalid(
            f"{listed(sorted(left_out))} is not among what {release.version} carries.",
            remedy=f"See: tide release look {release.version} --app {release.app.name}",
            code="item-unknown",
        )
    for leg in chosen:
        number, look, rules = len(leg.rounds) + 1, looks[leg.id], rules_of(leg.berth.store)
        drafted = matters.drafted_note(leg)
        items = items_without(rules.review, look.items, handing_in.without, rules.store)
        round_ = Round(
            leg_id=leg.id,
            number=number,
            build_id=leg.build_id,
            submitted_at=act.now,
            changed_at=act.now,
            notes=dict(release.notes),
            in_spite_of=in_spite_of,
            items=[{"item": item, "state": ""} for item in items],
            look=last_look.keep(act.session, look.lines),
        )
        leg.rounds.append(round_)
        act.session.flush()
        reviewer_briefs.put_into(act, round_, drafted, handing_in.reviewer)
        reviews.handed_in(act, round_)
        act.order(OrderKind.SUBMIT, lane=leg.id, store=leg.berth.store, subject=round_.id)
        act.log(
            "handed to review",
            legs.leg_subject(leg),
            app=release.app.name,
            reason=in_spite_of,
            after={"round": number, "build": leg.build_id, "version": release.version, "items": items},
        )
    return chosen


def build_ready(act: Act, consignment: Consignment) -> None:
    """A build is ready at a store: the legs that wait for it are handed in; what is in the way is written down."""
    waiting = select(Leg).where(
        Leg.submits_itself, Leg.berth_id == consignment.berth_id, Leg.build_id == consignment.build_id
    )
    for leg in act.session.scalars(waiting).all():
        leg.submits_itself, release = False, leg.release
        try:
            submit(act, release.app.name, release.version, str(find.place_of(leg)), HandingIn(automatic=True))
        except (NotReady, Conflict, ImpossibleAct) as wrong:
            act.log("not handed in automatically", legs.leg_subject(leg), app=release.app.name, reason=wrong.detail)


def recall(act: Act, app_name: str, version: str, store_name: str, reason: str) -> Leg:
    """Call a leg back from review."""
    release = find.release(act.session, find.app(act.session, app_name), version)
    leg = find.leg(release, store_name)
    last = legs.last_round(leg)
    if last is None:
        raise ImpossibleAct("The leg was never handed in.", possible=["submit"])
    before = last.state
    last.state, last.changed_at = ROUND.after(last.state, RoundEvent.RECALL), act.now
    reviews.moved(act, last)
    act.order(OrderKind.RECALL, lane=leg.id, store=leg.berth.store, subject=last.id)
    act.log(
        "recalled",
        legs.leg_subject(leg),
        app=release.app.name,
        reason=reason,
        before={"round": str(before)},
        after={"round": str(last.state)},
    )
    return leg


def give_go_ahead(act: Act, app_name: str, version: str, store_name: str | None, reason: str) -> list[Leg]:
    """Give one's go-ahead to launch, for one leg or for all that wait for it. The launch follows when all conditions hold."""
    release = find.release(act.session, retiring.app_in_use(act.session, app_name), version)
    return launching.give(act, release, _meant(release, store_name), reason)


def take_back_go_ahead(act: Act, app_name: str, version: str, store_name: str | None, reason: str) -> list[Leg]:
    """Withdraw one's own go-ahead, for one leg or for all, as long as they are not launched."""
    release = find.release(act.session, find.app(act.session, app_name), version)
    return launching.take_back(act, release, _meant(release, store_name), reason)


def _meant(release: Release, store_name: str | None) -> list[Leg]:
    return list(release.legs) if store_name is None else [find.leg(release, store_name)]


def of_app(session: Session, app_name: str, *, after: str | None = None, limit: int = 100) -> list[Release]:
    """The releases of an app, newest first, beyond the one with the version ``after``."""
    app = find.app(session, app_name)
    last = find.release(session, app, after) if after is not None else None
    here = (last.created_at, last.id) if last is not None else None
    wanted = select(Release).where(Release.app_id == app.id)
    keys = (Release.created_at, Release.id)
    return list(session.scalars(keyset.page(wanted, keys, after=here, falls=True, limit=limit)))


def _chosen(release: Release, store_name: str | None, phases: Collection[LegPhase], verb: str) -> list[Leg]:
    if store_name is not None:
        return [find.leg(release, store_name)]
    chosen = [leg for leg in release.legs if legs.phase(leg) in phases]
    if not chosen:
        told = ", ".join(f"{find.place_of(leg)}: {legs.phase(leg)}" for leg in release.legs)
        raise ImpossibleAct(f"No leg of {release.version} can be {verb} ({told}).", possible=[])
    return chosen


def add_leg(act: Act, release: Release, place: str, wish: LegWish) -> Leg:
    """A leg of a release at one store (``openfield``), or on a track of it (``openfield/early``), by a wish.

    Raises Conflict where it is in already; Invalid for a build that does not belong there, and for a track that people
    with a seat use.
    """
    address = parse_address(place)
    if any(find.place_of(leg) == address for leg in release.legs):
        raise Conflict(
            f"{release.version} goes to {address} already.",
            remedy="Change that leg instead: tide release change",
            code="leg-known",
        )
    store = find.store(act.session, address.store)
    way = demand_track(rules_of(store), address.track)
    if way.audience is Audience.COHORTS:
        raise Invalid(
            f"{way.title} of {store.name} is for cohorts; a release does not go there.",
            remedy=f"Place the build there: tide track place {address} --app {release.app.name} --build BUILD",
            code="track-unfit",
        )
    berth = find.berth(act.session, release.app, store)
    if wish.build is None:
        raise Invalid(
            f"Which build goes to {store.name}?", remedy=f"Name it: --leg {store.name}=BUILD", code="build-missing"
        )
    leg = Leg(
        berth=berth,
        track=address.track,
        created_at=act.now,
        build=find.build_of(act.session, release.app, wish.build, berth.platform),
    )
    leg.ladder = (legs.rollout_rules(leg).dictated_ladder or ladders.usual(act.session)).model_dump(mode="json")
    leg.state = ROLLOUT.initial
    release.legs.append(leg)
    _apply(act, leg, wish)
    return leg


def _apply(act: Act, leg: Leg, wish: LegWish) -> None:
    phase = legs.phase(leg)
    rules = rules_of(leg.berth.store)
    if wish.build is not None:
        demand_open_to_change(phase, "build")
        build = find.build_of(act.session, leg.release.app, wish.build, leg.berth.platform)
        if build.platform != leg.berth.platform:
            raise Invalid(
                f"Build {build.id} is for {build.platform}; {rules.store} carries {leg.berth.platform}.",
                code="platform-differs",
            )
        if parse_version(build.version) != parse_version(leg.release.version):
            raise Invalid(
                f"Build {build.id} carries version {build.version}; the release is {leg.release.version}.",
                remedy="Choose a build of this version.",
                code="version-differs",
            )
        leg.build, leg.build_id = build, build.id
    if phase in PART_WAY and wish.ladder is not None:
        rest = _allowed_ladder(act, legs.rollout_rules(leg), rules.store, wish.ladder)
        leg.ladder = _rest_of_way(leg, rest).model_dump(mode="json")
        legs.keep_progress(leg, legs.progress_of(leg), act.now)
        wish = replace(wish, ladder=None)
    if phase is not LegPhase.UNDER_REVIEW and _touches_launch(wish):
        demand_open_to_change(phase, "ladder or conditions")
    if wish.ladder is not None:
        leg.ladder = _allowed_ladder(act, legs.rollout_rules(leg), rules.store, wish.ladder).model_dump(mode="json")
    if _touches_conditions(wish):
        wanted = go_aheads.conditions_of(leg) if wish.conditions is None else wish.conditions
        changed = with_shorthands(
            launching.with_ids(act.session, wanted), go_ahead=wish.needs_go_ahead, not_before=wish.not_before,
            no_date=wish.no_date, with_others=wish.with_other_legs,
        )  # fmt: skip
        launching.set_conditions(act, leg, changed)


def _rest_of_way(leg: Leg, wanted: Ladder) -> Ladder:
    """The stages that the leg has climbed, then those wanted; of a named ladder those that are above its share."""
    climbed = legs.ladder_of(leg)
    if wanted.name != OWN:
        return continued(climbed, leg.share, wanted)
    return rest_of_way(climbed, leg.share, wanted)


def _allowed_ladder(act: Act, rules: RolloutRules, store: str, text: str) -> Ladder:
    if rules.dictated_ladder is not None:
        raise Invalid(
            f"{store} dictates its ladder: {rules.dictated_ladder.told()}.",
            remedy="Leave the ladder out for this store.",
            code="ladder-dictated",
        )
    return ladders.meant(act.session, text)


def _touches_launch(wish: LegWish) -> bool:
    return wish.ladder is not None or _touches_conditions(wish)


def _touches_conditions(wish: LegWish) -> bool:
    given = (wish.conditions, wish.needs_go_ahead, wish.not_before, wish.with_other_legs)
    return wish.no_date or any(value is not None for value in given)


def touch(act: Act, release: Release) -> None:
    """Whoever has read the release before has read an earlier revision."""
    release.revision += 1
    act.session.flush()


def _told(leg: Leg) -> dict[str, object]:
    return {
        "build": leg.build_id,
        "ladder": legs.ladder_of(leg).told(),
        "launch conditions": [one.written() for one in go_aheads.conditions_of(leg)],
    }
