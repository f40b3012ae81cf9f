"""Records as the wire shows them. The only place that turns rows into answers."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from sqlalchemy.orm import Session

from restless_tide.core.availability import Availability
from restless_tide.core.berth import state_of
from restless_tide.core.breaker import Breaker
from restless_tide.core.consignment import CONSIGNMENT
from restless_tide.core.leg import OPEN_TO_SUBMISSION, LegPhase, when_notes_go
from restless_tide.core.leg import possible as possible_for_leg
from restless_tide.core.notice import DELIVERY, NoticeKind
from restless_tide.core.questions import refused_answers
from restless_tide.core.revision import compare
from restless_tide.core.rights import Apps
from restless_tide.core.rollout import MAY_RISE, RolloutState
from restless_tide.core.rulebook import PRODUCTION, Rulebook
from restless_tide.core.rules_told import told_rules
from restless_tide.core.step import STEP
from restless_tide.desk import (
    apps,
    correspondence,
    find,
    go_aheads,
    lanes,
    launching,
    legs,
    logbook,
    options,
    pacing,
    packages,
    people,
    queues,
    releases,
    reviews,
    rulebooks,
    standing,
    steps,
    stores,
)
from restless_tide.desk.desk import Desk
from restless_tide.desk.overview import BerthView, Call
from restless_tide.desk.steering import Steered
from restless_tide.desk.stores import offered, rules_of
from restless_tide.records import tables
from restless_tide.service import shown_reviewing
from restless_tide.wire.apps import AppTold, BerthDetailTold, BerthTold
from restless_tide.wire.builds import BuildTold, ConsignmentTold, QuestionTold
from restless_tide.wire.notices import DeliveryTold, SubscriptionTold
from restless_tide.wire.problems import findings_told
from restless_tide.wire.readiness import ThingTold
from restless_tide.wire.releases import (
    AlternativeTold,
    GoAheadTold,
    LegTold,
    OptionTold,
    OrderTold,
    ReleaseTold,
    RoundTold,
    SightingTold,
    StandTold,
    SteeredTold,
    WaitTold,
)
from restless_tide.wire.steps import StepFile, StepTold
from restless_tide.wire.stores import (
    AnnouncedTold,
    BreakerTold,
    ExpiryTold,
    HitTold,
    PaperTold,
    RevisionTold,
    RuleChangeTold,
    StoreTold,
    UntakenTold,
)
from restless_tide.wire.watching import AlsoOnTold, BerthRow, CallTold, ChangeTold, LineTold, StoreCallTold

_ORDERS_SHOWN = 6


def store(session: Session, row: tables.Store, desk: Desk, reach: Apps = None) -> StoreTold:
    """A store; with ``reach`` nothing in it names another app."""
    rules = rules_of(row)
    account, following = standing.account_of(row), rulebooks.announced(row)
    breaker = Breaker(row.breaker_failures, row.breaker_rests_until)
    return StoreTold.of(
        row,
        title=rules.store,
        missing_rights=standing.missing_rights(row),
        platforms=list(rules.platforms),
        account=account.name if account else None,
        standing=account.standing if account else None,
        papers=[PaperTold.model_validate(paper.model_dump()) for paper in account.papers] if account else [],
        expiries=[ExpiryTold.of(expiry) for expiry in standing.expiring(row)],
        blocked=standing.blocked_now(row),
        rulebook_revision=rules.revision,
        rules=told_rules(rules),
        revisions=[revision(entry) for entry in rulebooks.revisions(session, row) if entry.taken_at],
        announced=_announced(session, row, following, desk.clock.now(), reach) if following else None,
        pushes=bool(row.push_ref),
        forged_events=desk.background.forged[row.id],
        breaker=BreakerTold(
            state=breaker.state(desk.clock.now()), failures=breaker.failures, rests_until=breaker.rests_until
        ),
        waiting_steps=queues.steps_of(session, row),
        ladder_dictated=rules.rollout.dictated_ladder is not None,
        untaken=[UntakenTold.of(entry, type=str(entry.body["type"])) for entry in stores.untaken(session, row)]
        if reach is None
        else [],
        pending_orders=queues.orders_of(session, row),
    )


def ordered(orders: Sequence[tables.Order], *, asked: bool = False) -> dict[str, Any]:
    """What is ordered and not confirmed, for whatever is ordered of a store."""
    return {"confirmed": not orders and not asked, "pending": [order.kind for order in orders]}


def _waiting_because(orders: Sequence[tables.Order]) -> str | None:
    return next((order.trouble for order in orders if order.trouble), None)


def berth(session: Session, row: tables.Berth) -> BerthTold:
    pending = lanes.pending(session, row.id)
    return BerthTold.of(
        row,
        **ordered(pending),
        app=row.app.name,
        store=row.store.name,
        store_title=rules_of(row.store).store,
        state=state_of(row.store_ref, row.refused_because),
        waiting_because=_waiting_because(pending),
        offered=offered(row).told(),
    )


def berth_detail(session: Session, row: tables.Berth, now: datetime) -> BerthDetailTold:
    told = berth(session, row)
    return BerthDetailTold(
        confirmed=told.confirmed,
        pending=told.pending,
        berth=told,
        offered=offered(row),
        offered_told=offered(row).told(),
        seen=Availability.model_validate(lanes.seen_at(row)) if row.sighting else None,
        choices=rules_of(row.store).availability,
        things=[
            ThingTold.of(view, findings=findings_told(view.findings)) for view in apps.things_at(session, row, now)
        ],
    )


def revision(row: tables.RulebookRevision) -> RevisionTold:
    return RevisionTold.of(row, changes=[RuleChangeTold.model_validate(change) for change in row.changes])


def _announced(session: Session, row: tables.Store, following: Rulebook, now: datetime, reach: Apps) -> AnnouncedTold:
    return AnnouncedTold(
        revision=following.revision,
        in_force_since=following.in_force_since,
        changes=[RuleChangeTold.of(change) for change in compare(rules_of(row), following)],
        hits=[HitTold.of(hit, said=list(hit.said)) for hit in rulebooks.hits(session, row, following, now, reach)],
    )


def step(session: Session, row: tables.Step) -> StepTold:
    return StepTold.of(
        row,
        store=row.store.name,
        store_title=rules_of(row.store).store,
        files=[_step_file(entry) for entry in row.files],
        possible=STEP.possible(row.state),
        can_undo=steps.can_undo(session, row),
    )


def _step_file(entry: dict[str, Any]) -> StepFile:
    sha256 = entry["sha256"]
    address = f"/v1/{entry['of']}/{sha256}" if "of" in entry else f"/v1/packages/{sha256}/file"
    return StepFile(
        sha256=sha256, name=entry.get("name") or sha256[:12], size_bytes=entry["size_bytes"], address=address
    )


def subscription(row: tables.Subscription, secret: str | None = None) -> SubscriptionTold:
    return SubscriptionTold.of(row, kinds=[NoticeKind(kind) for kind in row.kinds], secret=secret)


def delivery(row: tables.Delivery) -> DeliveryTold:
    notice = row.notice
    return DeliveryTold.of(
        notice,
        id=row.id,
        subscription=row.subscription_id,
        channel=row.subscription.channel,
        address=row.subscription.address,
        state=row.state,
        possible=DELIVERY.possible(row.state),
        attempts=row.attempts,
        trouble=row.trouble,
        settled_at=row.settled_at,
    )


def app(session: Session, row: tables.App) -> AppTold:
    return _app(session, row, packages.icon_of(session, row))


def every_app(session: Session) -> list[AppTold]:
    icons = packages.icons(session)
    return [_app(session, row, icons.get(row.id)) for row in apps.every(session)]


def _app(session: Session, row: tables.App, icon: str | None) -> AppTold:
    return AppTold.of(
        row,
        identifiers={entry.platform: entry.identifier for entry in row.identifiers},
        berths=[berth(session, entry) for entry in row.berths],
        icon=icon,
    )


def consignment(session: Session, row: tables.Consignment) -> ConsignmentTold:
    pending = lanes.pending(session, row.id)
    return ConsignmentTold.of(
        row,
        **ordered(pending),
        seen=row.sighting.state if row.sighting else None,
        build=row.build_id,
        store=row.berth.store.name,
        store_title=rules_of(row.berth.store).store,
        possible=CONSIGNMENT.possible(row.state),
        questions=[
            QuestionTold(**question, refused_answers=list(refused_answers(rules_of(row.berth.store), question["code"])))
            for question in row.questions
        ],
        waiting_because=_waiting_because(pending),
    )


def build(session: Session, row: tables.Build, *, known_before: bool = False) -> BuildTold:
    found = packages.facts_of(row)
    return BuildTold.of(
        row,
        app=row.app.name,
        size_bytes=sum(entry.package.size_bytes for entry in row.packages),
        packages=found,
        consignments=[consignment(session, entry) for entry in row.consignments],
        in_use=packages.in_use(session, row),
        cleared=any(entry.package.cleared_at is not None for entry in row.packages),
        expires_at=min((facts.expires_at for facts in found if facts.expires_at), default=None),
        known_before=known_before,
    )


def release(session: Session, row: tables.Release, now: datetime) -> ReleaseTold:
    lanes.read_for_showing(session, row)
    written = correspondence.summaries(session, [round_ for entry in row.legs for round_ in entry.rounds])
    return ReleaseTold.of(
        row,
        app=row.app.name,
        app_title=row.app.title,
        pace=pacing.pace_of(row),
        pace_told=pacing.pace_of(row).told(),
        legs=sorted(
            (leg(session, entry, now, written) for entry in row.legs),
            key=lambda told: (told.store_title, told.track != PRODUCTION, told.place_title),
        ),
    )


def leg(session: Session, row: tables.Leg, now: datetime, written: dict[str, tuple[int, bool]]) -> LegTold:
    """``written`` is what is said of the messages of its rounds."""
    phase = legs.phase(row)
    rules = rules_of(row.berth.store)
    ladder = legs.ladder_of(row)
    pending = lanes.pending(session, row.id)
    orders = lanes.latest(session, row.id, _ORDERS_SHOWN)
    seen = row.sighting
    frozen = legs.frozen_until(row, now) if row.state in MAY_RISE else None
    return LegTold.of(
        row,
        **ordered(pending, asked=legs.offered_again(row)),
        offered_again=legs.offered_again(row),
        place=str(find.place_of(row)),
        store=row.berth.store.name,
        store_title=rules.store,
        place_title=legs.place_title(row),
        platform=row.berth.platform,
        build=row.build_id,
        build_label=row.build.label,
        phase=phase,
        ladder_name=ladder.name,
        ladder_dictated=legs.rollout_rules(row).dictated_ladder is not None,
        ladder=list(ladder.stages),
        frozen_by=frozen[0] if frozen else None,
        frozen_until=frozen[1] if frozen else None,
        ladder_text=ladder.written(),
        conditions=_stands(session, row, now),
        go_aheads=_go_aheads(session, row),
        waits_for_people=bool(go_aheads.waits_for_people(row)),
        launches_at=launching.comes_at(row, now) if phase is LegPhase.APPROVED else None,
        waits_for=launching.waits_for(row, now) if phase is LegPhase.APPROVED else [],
        waits_to_rise=pacing.waits_to_rise(row, now) if row.state is RolloutState.RISING else [],
        rounds=[
            RoundTold.of(
                entry,
                **ordered([order for order in pending if order.subject == entry.id]),
                seen=entry.sighting.state if entry.sighting else None,
                waiting=_wait(entry, now),
                build=entry.build_id,
                build_label=entry.build.label,
                items=shown_reviewing.items(entry),
                files=shown_reviewing.files(entry.files),
                messages=written[entry.id][0],
                waits_for_answer=written[entry.id][1],
            )
            for entry in row.rounds
        ],
        acts=[OptionTold.of(option) for option in options.steering(session, row, now).values()],
        possible=possible_for_leg(phase, ever_sent=bool(row.rounds)),
        notes_not_sent=legs.notes_not_sent(row),
        notes_go=when_notes_go(phase),
        notes_limit=rules.review.notes_limit_characters,
        notes_counted_in=rules.review.notes_counted_in,
        notes_required=list(rules.review.notes_locales_required),
        seen=SightingTold.of(seen) if seen else None,
        hand_carried=row.berth.store.hand_carried,
        step=steps.waiting_for(session, pending),
        orders=[order(entry) for entry in orders],
        findings=findings_told(releases.findings(session, row, now)) if phase in OPEN_TO_SUBMISSION else [],
    )


def _wait(row: tables.Round, now: datetime) -> WaitTold | None:
    found = reviews.wait_of(row, now)
    return None if found is None else WaitTold.of(found.usual, hours=found.hours, long=found.long)


def _stands(session: Session, row: tables.Leg, now: datetime) -> list[StandTold]:
    found = launching.stands(row, now)
    if not found:
        return []
    names = people.names(session, launching.people_of([one.condition for one in found]))
    written = launching.with_addresses(session, [one.condition for one in found])
    return [
        StandTold.of(
            one,
            condition=condition,
            written=condition.written(),
            told=one.condition.told(names),
            alternatives=[AlternativeTold.of(each, told=each.condition.told(names)) for each in one.alternatives],
        )
        for one, condition in zip(found, written, strict=True)
    ]


def _go_aheads(session: Session, row: tables.Leg) -> list[GoAheadTold]:
    counted = [one for one in row.go_aheads if one.withdrawn_at is None]
    names = people.names(session, {one.person for one in counted}) if counted else {}
    return [GoAheadTold.of(one, who=names.get(one.person, one.person)) for one in counted]


def steered(outcome: Steered) -> SteeredTold:
    row = outcome.leg
    place, store = str(find.place_of(row)), row.berth.store.name
    return SteeredTold.of(outcome, place=place, store=store, phase=legs.phase(row), share=row.share)


def order(row: tables.Order) -> OrderTold:
    return OrderTold.of(row)


def berth_row(view: BerthView) -> BerthRow:
    row, current = view.berth, view.current
    following = view.following if view.following is not current else None
    return BerthRow(
        app=row.app.name,
        app_title=row.app.title,
        store=row.store.name,
        store_title=rules_of(row.store).store,
        platform=row.platform,
        berth_state=state_of(row.store_ref, row.refused_because),
        live_version=view.live.release.version if view.live else None,
        version=current.release.version if current else None,
        phase=legs.phase(current) if current else None,
        share=current.share if current else 0.0,
        ladder=list(legs.ladder_of(current).stages) if current else [],
        stage_ends_at=current.stage_ends_at if current else None,
        confirmed=view.confirmed,
        next_version=following.release.version if following else None,
        next_phase=legs.phase(following) if following else None,
        newest_build=view.newest_build.label if view.newest_build else None,
        also_on=[
            AlsoOnTold(
                version=leg.release.version,
                track=leg.track,
                track_title=legs.track_title(leg),
                phase=legs.phase(leg),
                share=leg.share,
            )
            for leg in view.elsewhere
        ],
        calls=[CallTold.of(call) for call in view.calls],
    )


def store_call(row: tables.Store, call: Call) -> StoreCallTold:
    told = CallTold.of(call)
    return StoreCallTold(store=row.name, store_title=rules_of(row).store, call=told)


def change(row: tables.Change) -> ChangeTold:
    return ChangeTold.of(row)


def lines(session: Session, rows: list[tables.LogbookLine]) -> list[LineTold]:
    names = logbook.names(session, rows)
    return [LineTold.of(row, who=names[row.person]) for row in rows]
