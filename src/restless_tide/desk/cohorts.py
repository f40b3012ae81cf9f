"""Cohorts: who is in them, at which berths they are, and the link of a walk-in cohort."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import delete, func, insert, select
from sqlalchemy.orm import Session

from restless_tide.core.cohorts import seat_rules
from restless_tide.core.errors import Conflict, Invalid, NotFound
from restless_tide.core.invitation import InvitationEvent
from restless_tide.core.own_track import IN_USE
from restless_tide.core.readiness import demand_ready
from restless_tide.core.rulebook import CohortKind, Rulebook
from restless_tide.core.tracks import demand_track, with_own
from restless_tide.core.trial import SEATED, UNDER_WAY
from restless_tide.desk import find, retiring, seating, testers
from restless_tide.desk.addresses import mail_address
from restless_tide.desk.desk import Act
from restless_tide.desk.stores import rules_of, slug
from restless_tide.desk.testers import Personal
from restless_tide.records.tables import (
    App,
    Attachment,
    Berth,
    Cohort,
    Consignment,
    Invitation,
    Membership,
    Tester,
    Track,
    Trial,
)


def make(act: Act, app_name: str, name: str, kind: CohortKind, stores: Sequence[str] | None = None) -> Cohort:
    """Make a cohort, at the stores named or wherever the app has an open berth that knows the kind."""
    app = retiring.app_in_use(act.session, app_name)
    cohort_name = slug(name, "a cohort")
    if act.session.scalar(select(Cohort).where(Cohort.app_id == app.id, Cohort.name == cohort_name)):
        raise Conflict(f"{app.title} has a cohort called {cohort_name} already.", code="cohort-known")
    cohort = Cohort(app_id=app.id, name=cohort_name, kind=kind, created_at=act.now)
    act.session.add(cohort)
    act.session.flush()
    if stores is None:
        berths = [row for row in app.berths if row.store_ref and kind in rules_of(row.store).cohorts]
    else:
        berths = [find.berth(act.session, app, find.store(act.session, store)) for store in stores]
        for berth in berths:
            seat_rules(rules_of(berth.store), kind)
    for berth in berths:
        cohort.attachments.append(Attachment(berth_id=berth.id, attached_at=act.now))
    act.session.flush()
    after = {"kind": str(kind), "stores": [berth.store.name for berth in berths]}
    act.log("cohort made", f"cohort {cohort.name}", app=app.name, after=after)
    return cohort


def of_app(session: Session, app_name: str) -> list[Cohort]:
    app = find.app(session, app_name)
    return list(session.scalars(select(Cohort).where(Cohort.app_id == app.id).order_by(Cohort.name)))


def attach(
    act: Act, app_name: str, cohort_name: str, store_name: str, *, by_itself: bool | None, track: str | None = None
) -> Cohort:
    """Put a cohort at a berth, or set there its track and whether new builds go to it automatically.

    Raises Conflict where the store knows no such kind, and while a trial runs there on another track; Invalid for a
    rule without a brief to send along, and for a track that is not for such cohorts.
    """
    app, cohort, berth = _place(act.session, app_name, cohort_name, store_name)
    rules = rules_of(berth.store)
    seat_rules(rules, cohort.kind)
    found = attachment(cohort, berth)
    before = {"automatically": found.by_itself, "track": track_of(cohort, berth)} if found else None
    if found is None:
        found = Attachment(berth_id=berth.id, attached_at=act.now)
        cohort.attachments.append(found)
    if track is not None:
        _demand_fit(act.session, cohort, berth, track)
        found.track = track
    if by_itself and not (cohort.brief and cohort.contact):
        raise Invalid(
            f"{cohort.name} has no standing brief to send along with a new build.",
            remedy=f"Write one: tide cohort brief {cohort.name} --app {app.name} --task TEXT --contact ADDRESS",
            code="brief-missing",
        )
    if by_itself is not None:
        found.by_itself, found.trouble = by_itself, None
    act.session.flush()
    after = {"automatically": found.by_itself, "track": track_of(cohort, berth)}
    act.log("cohort attached", f"cohort {cohort.name} at {berth.store.name}", app=app.name, before=before, after=after)
    return cohort


def _demand_fit(session: Session, cohort: Cohort, berth: Berth, track: str) -> None:
    way = demand_track(tracks_of(session, berth), track)
    if cohort.kind not in way.kinds:
        raise Invalid(
            f"{way.title} of {berth.store.name} is not for {cohort.kind} cohorts.",
            remedy=f"It is for {', '.join(way.kinds) or 'people who choose it at the store'}.",
            code="track-unfit",
        )
    running = [trial for trial in cohort.trials if trial.state in UNDER_WAY and trial.consignment.berth_id == berth.id]
    elsewhere = next((trial for trial in running if trial.track != track), None)
    if elsewhere is not None:
        raise Conflict(
            f"{cohort.name} gets a build over {elsewhere.track} of {berth.store.name} now; a cohort uses one track there.",
            remedy=f"Close that trial first: tide trial close {elsewhere.id}",
            code="cohort-on-two-tracks",
        )


def track_of(cohort: Cohort, berth: Berth) -> str:
    """The track over which a cohort gets builds at a berth: its own there, or the rulebook's for its kind."""
    row, rules = attachment(cohort, berth), rules_of(berth.store)
    if row is not None and row.track is not None:
        return row.track
    return rules.track_for(cohort.kind)


def uses(cohort: Cohort, berth: Berth) -> str | None:
    """The track over which a cohort gets builds at a berth; None: it is not there, or out of use."""
    if attachment(cohort, berth) is None or cohort.retired_at is not None:
        return None
    return track_of(cohort, berth)


def tracks_of(session: Session, berth: Berth) -> Rulebook:
    """The rulebook of a berth's store, with the tracks that the team has opened there."""
    own = select(Track.key, Track.title).where(Track.berth_id == berth.id, Track.own, Track.state.in_(IN_USE))
    return with_own(rules_of(berth.store), dict(session.execute(own).all()))


def detach(act: Act, app_name: str, cohort_name: str, store_name: str) -> Cohort:
    """Take a cohort away from a berth. Raises Conflict while a trial runs there."""
    app, cohort, berth = _place(act.session, app_name, cohort_name, store_name)
    found = attachment(cohort, berth)
    if found is None:
        raise NotFound(f"{cohort.name} is not at {berth.store.name}.", code="attachment-unknown")
    running = [trial for trial in cohort.trials if trial.state in UNDER_WAY and trial.consignment.berth_id == berth.id]
    if running:
        raise Conflict(
            f"A trial of {cohort.name} at {berth.store.name} is {running[0].state}.",
            remedy=f"Close it first: tide trial close {running[0].id}",
            code="trial-under-way",
        )
    cohort.attachments.remove(found)
    act.session.flush()
    act.log("cohort detached", f"cohort {cohort.name} at {berth.store.name}", app=app.name)
    return cohort


def attachment(cohort: Cohort, berth: Berth) -> Attachment | None:
    return next((row for row in cohort.attachments if row.berth_id == berth.id), None)


def _place(session: Session, app_name: str, cohort_name: str, store_name: str) -> tuple[App, Cohort, Berth]:
    app = find.app(session, app_name)
    cohort = find.cohort(session, app, cohort_name)
    return app, cohort, find.berth(session, app, find.store(session, store_name))


def keep_brief(act: Act, app_name: str, cohort_name: str, brief: Mapping[str, str], contact: str) -> Cohort:
    """What every trial of the cohort says unless it says otherwise. An empty text takes a locale out."""
    app = find.app(act.session, app_name)
    cohort = find.cohort(act.session, app, cohort_name)
    kept = {**cohort.brief, **brief}
    cohort.brief = {locale: text.strip() for locale, text in kept.items() if text.strip()}
    if contact:
        cohort.contact = mail_address(contact)
    act.log("brief kept", f"cohort {cohort.name}", app=app.name, after={"locales": sorted(cohort.brief)})
    return cohort


# the link of a walk-in cohort


def set_join(
    act: Act, app_name: str, cohort_name: str, *, is_open: bool, limit: int | None, until: datetime | None, renew: bool
) -> Cohort:
    """Open or close the link by which anybody joins; ``renew`` makes it another one, so that the old is void."""
    app = find.app(act.session, app_name)
    cohort = find.cohort(act.session, app, cohort_name)
    if cohort.kind is not CohortKind.WALK_IN:
        raise Conflict(
            f"{cohort.name} is a {cohort.kind} cohort; only walk-in cohorts have a link.",
            remedy=f"Make one: tide cohort add NAME --app {app.name} --kind walk-in",
            code="no-walk-in",
        )
    if is_open:
        retiring.demand_in_use(cohort)
    if limit is not None and limit < 1:
        raise Invalid("A limit is at least 1.", remedy="Give none for no limit.", code="limit-unfit")
    if renew or not cohort.join_nonce:
        cohort.join_nonce = secrets.token_hex(8)
    cohort.join_open, cohort.join_limit, cohort.join_until = is_open, limit, until
    after = {"open": is_open, "limit": limit, "until": until.isoformat() if until else None, "renewed": renew}
    act.log("join link set", f"cohort {cohort.name}", app=app.name, after=after)
    return cohort


# who is in it


def add_tester(act: Act, app_name: str, cohort_name: str, email: str, told: Personal) -> tuple[Tester, str]:
    """Put someone into a cohort; known testers are found by address. Trials under way take them along.

    Returns the tester and a word of caution where a known address looks the same. Raises Invalid for a
    bad address, Conflict when they are in it already, NotReady when a store has no seat left.
    """
    cohort = find.cohort(act.session, find.app(act.session, app_name), cohort_name)
    tester, new = testers.get_or_add(act, email, told)
    if act.session.get(Membership, (cohort.id, tester.id)):
        raise Conflict(f"{tester.email} is in {cohort.name} already.", code="tester-known")
    put_in(act, cohort, [tester], "by the desk")
    alike = act.session.scalar(
        select(Tester.email).where(Tester.lookalike == tester.lookalike, Tester.id != tester.id).limit(1)
    )
    return tester, f"perhaps the same person as {alike}, whom the desk knows" if new and alike else ""


def pick_testers(act: Act, app_name: str, cohort_name: str, wanted: Sequence[str]) -> list[Tester]:
    """Put testers that the desk knows into a cohort; who is in it already stays. Returns those who are new to it."""
    cohort = find.cohort(act.session, find.app(act.session, app_name), cohort_name)
    new = strangers(act.session, cohort, find.testers(act.session, wanted))
    put_in(act, cohort, new, "by the desk")
    return new


def strangers(session: Session, cohort: Cohort, people: Sequence[Tester]) -> list[Tester]:
    """Those of ``people`` who are not in the cohort."""
    inside = inside_of(session, cohort)
    return [tester for tester in people if tester.id not in inside]


def inside_of(session: Session, cohort: Cohort) -> set[str]:
    """The ids of those who are in the cohort."""
    return set(session.scalars(select(Membership.tester_id).where(Membership.cohort_id == cohort.id)))


def put_in(act: Act, cohort: Cohort, new: Sequence[Tester], how: str) -> None:
    """Write the memberships and take the people along to whatever trials are under way; all of them, or NotReady."""
    put_in_by_id(act, cohort, [tester.id for tester in new], how)
    if new:
        _log_people(act, "added", cohort, new)


def put_in_by_id(act: Act, cohort: Cohort, ids: Sequence[str], how: str) -> None:
    """The same by the testers' ids, without a line in the logbook; their rows are read only where a trial is under way."""
    if not ids:
        return
    retiring.demand_in_use(cohort)
    rows = [{"cohort_id": cohort.id, "tester_id": tester, "joined_at": act.now, "joined_how": how} for tester in ids]
    act.session.connection().execute(insert(Membership), rows)
    act.session.changed.add(Membership)
    trials = under_way(cohort)
    place = {tester: number for number, tester in enumerate(ids)}
    new = sorted(find.testers_with(act.session, Tester.id, ids), key=lambda tester: place[tester.id]) if trials else []
    for trial in trials:
        fit = seating.who_may_install(trial.consignment.build, new)
        if trial.state in SEATED:
            demand_ready(seating.findings(act.session, trial, fit), f"Taking them into {cohort.name}")
        seating.invite(act, trial, fit)
        if trial.state in SEATED:
            seating.order_seats(act, trial, fit)
    act.session.flush()


def _log_people(
    act: Act, what: str, cohort: Cohort, people: Sequence[Tester], reason: str = "", *, gone: bool = False
) -> None:
    """A few people by their ids, many as a number."""
    told: dict[str, object] = {"testers": [tester.id for tester in people] if len(people) <= 20 else len(people)}
    noun = "tester" if len(people) == 1 else "testers"
    before, after = (told, None) if gone else (None, told)
    act.log(f"{noun} {what}", f"cohort {cohort.name}", app=cohort.app.name, reason=reason, before=before, after=after)


def under_way(cohort: Cohort) -> list[Trial]:
    return [trial for trial in cohort.trials if trial.state in UNDER_WAY]


def remove_testers(act: Act, app_name: str, cohort_name: str, wanted: Sequence[str], reason: str = "") -> int:
    """Take people out of a cohort; they stay known to the desk, and give back their seats. Raises NotFound."""
    cohort = find.cohort(act.session, find.app(act.session, app_name), cohort_name)
    found = find.testers(act.session, wanted)
    outside = strangers(act.session, cohort, found)
    if outside:
        raise NotFound(f"{outside[0].email} is not in {cohort.name}.", code="tester-unknown")
    _take_out(act, cohort, found, reason)
    return len(found)


def _take_out(act: Act, cohort: Cohort, people: Sequence[Tester], reason: str) -> None:
    ids = [tester.id for tester in people]
    act.session.execute(delete(Membership).where(Membership.cohort_id == cohort.id, Membership.tester_id.in_(ids)))
    for trial in under_way(cohort):
        wanted = select(Invitation).where(Invitation.trial_id == trial.id, Invitation.tester_id.in_(ids))
        seating.leave(act, trial, act.session.scalars(wanted).all(), InvitationEvent.REMOVE)
    _log_people(act, "removed", cohort, people, reason, gone=True)


def remove_everywhere(act: Act, who: str, reason: str) -> int:
    """Take someone out of all cohorts; returns out of how many."""
    tester = find.tester(act.session, who)
    rows = act.session.scalars(
        select(Cohort).join(Membership, Membership.cohort_id == Cohort.id).where(Membership.tester_id == tester.id)
    ).all()
    for cohort in rows:
        _take_out(act, cohort, [tester], reason)
    return len(rows)


@dataclass(frozen=True)
class Standing:
    """How a cohort stands at a store."""

    attachment: Attachment
    seats: int
    taken: int
    per_build: bool

    @property
    def left(self) -> int:
        return max(self.seats - self.taken, 0)


def standings(session: Session, cohort: Cohort) -> list[Standing]:
    """Seats at every store of a cohort: for each build, those of its newest trial there."""
    found = []
    for row in cohort.attachments:
        rules = rules_of(row.berth.store).cohorts.get(cohort.kind)
        if rules is None:
            continue
        newest = session.scalar(
            select(Trial)
            .join(Consignment, Trial.consignment_id == Consignment.id)
            .where(Trial.cohort_id == cohort.id, Consignment.berth_id == row.berth_id, Trial.state.in_(SEATED))
            .order_by(Trial.created_at.desc())
            .limit(1)
        )
        build = newest.consignment.build if newest else None
        sitting = seating.seated(row.berth, cohort.kind, build).subquery()
        taken = session.scalar(select(func.count()).select_from(sitting)) or 0
        found.append(Standing(row, rules.seats, taken, rules.seats_per_build))
    return found
