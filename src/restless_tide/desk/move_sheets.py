"""What placing a build on a track would mean, before anything is done: one sheet for each track.

Nothing is changed here; stores are asked where the build would have to be sent first.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core import sheet as walk
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.errors import Finding, Invalid, Level
from restless_tide.core.known import LegKnown
from restless_tide.core.ladder import FULL_SHARE, Ladder
from restless_tide.core.leg import PART_WAY, LegPhase
from restless_tide.core.packages import Facts
from restless_tide.core.readiness import demand_ready
from restless_tide.core.rulebook import PRODUCTION, Audience, ThingKind
from restless_tide.core.tracks import Address, Move, check_move, demand_track, review_holds
from restless_tide.core.versions import parse_version
from restless_tide.desk import builds, find, known, ladders, packages, planning, retiring, tracks
from restless_tide.desk.desk import Desk
from restless_tide.desk.planning import USUAL_BRIEF, Brief
from restless_tide.desk.tracks import BoardRow, Cell
from restless_tide.records.tables import App, Build, Cohort, Person, Release


@dataclass(frozen=True)
class Wish:
    """How a build is to be placed: what testers are told, the notes by locale, and whether production is handed in, too."""

    brief: Brief = field(default_factory=Brief)
    notes: dict[str, str] = field(default_factory=dict)
    ladder: str | None = None
    submit: bool = False
    reason: str = ""


@dataclass(frozen=True)
class MoveSheet:
    """What placing a build on one track would mean. ``sends``: the store does not hold it; ``drafts``: it is not handed in."""

    address: Address
    build: str
    build_label: str
    store_title: str
    track_title: str
    sends: bool
    drafts: bool
    cohorts: tuple[str, ...]
    people: int | None
    takes_place_of: tuple[str, ...]
    review: bool
    findings: tuple[Finding, ...]


def sheets(
    desk: Desk, app_name: str, build_id: str, addresses: Sequence[Address], wish: Wish, who: Person | str = ""
) -> list[MoveSheet]:
    """What placing a build on each track would mean. Changes nothing; stores are asked where it has to be sent first.

    Raises NotFound, Invalid for a track that a store does not have, and Conflict for what is out of use.
    """
    with desk.look() as session:
        app = retiring.app_in_use(session, app_name)
        build = meant(session, app, build_id, addresses)
        rows = {row.berth.store.name: row for row in tracks.board(session, app_name)}
        found = [
            sheet_of(session, desk.clock.now(), build, row_at(rows, address), address, wish, who)
            for address in addresses
        ]
        if not found:
            raise Invalid(
                "No track was named.", remedy="Name one or more, such as openfield/early.", code="track-missing"
            )
    asked: list[MoveSheet] = []
    for sheet in found:
        more: tuple[Finding, ...] = ()
        if sheet.sends:
            more = tuple(builds.check(desk, app_name, sheet.address.store, _facts(desk, sheet.build)))
        asked.append(replace(sheet, findings=(*more, *sheet.findings)))
    return asked


def meant(session: Session, app: App, name: str, addresses: Sequence[Address]) -> Build:
    """The build that a name means for these tracks: of the platform that their stores carry, where that is one."""
    stores = {address.store for address in addresses}
    platforms = {berth.platform for berth in app.berths if berth.store.name in stores}
    return find.build_of(session, app, name, platforms.pop() if len(platforms) == 1 else None)


def _facts(desk: Desk, build_id: str) -> Sequence[Facts]:
    with desk.look() as session:
        build = find.build(session, build_id)
        demand_ready(packages.cleared_findings(build), f"Sending {build.label}")
        return packages.facts_of(build)


def row_at(rows: dict[str, BoardRow], address: Address) -> BoardRow:
    if address.store not in rows:
        raise Invalid(
            f"The app has no open berth at {address.store}.",
            remedy=f"It has one at {', '.join(sorted(rows)) or 'no store'}.",
            code="berth-unknown",
        )
    demand_track(rows[address.store].rules, address.track)
    return rows[address.store]


def sheet_of(
    session: Session, now: datetime, build: Build, row: BoardRow, address: Address, wish: Wish, who: Person | str
) -> MoveSheet:
    rules, berth = row.rules, row.berth
    here = next(entry for entry in row.cells if entry.address.track == address.track)
    consignment = builds.consignment_at(session, build, berth)
    passed, seats = tracks.reviewed_on(session, berth, build), here.way.audience is Audience.COHORTS
    move = Move(
        version=build.version,
        number=build.number,
        track=address.track,
        since=now,
        share=FULL_SHARE if seats else _first_share(session, rules.rollout_on(address.track).dictated_ladder, wish),
        facts=tuple(packages.facts_of(build)),
        notes=wish.notes or None,
        reviewed_on=passed,
        stood=tracks.stood(row, build, now),
    )
    findings = [*_own_findings(build, row, here), *check_move(rules, move, tracks.standing(session, row))]
    if seats:
        at = tracks.cohorts_on(session, berth, address.track)
        findings += _trial_findings(session, build, here, at, brief_for(wish.brief, who), consignment is None)
    elif address.track != PRODUCTION or wish.submit:
        findings += _review_findings(session, now, build, row, here, wish)
    return MoveSheet(
        address=address,
        build=build.id,
        build_label=build.label,
        store_title=rules.store,
        track_title=here.way.title,
        sends=consignment is None,
        drafts=address.track == PRODUCTION and not wish.submit,
        cohorts=here.cohorts,
        people=here.people,
        takes_place_of=_gives_way(build, here, whole=move.share == FULL_SHARE),
        review=not review_holds(rules, address.track, passed),
        findings=tuple(findings),
    )


def _review_findings(
    session: Session, now: datetime, build: Build, row: BoardRow, here: Cell, wish: Wish
) -> list[Finding]:
    """What besides the build would keep the store from taking it for review: the walk over the store's graph."""
    version = str(parse_version(build.version))
    drafted = session.scalar(select(Release).where(Release.app_id == build.app_id, Release.version == version))
    notes = {**(drafted.notes if drafted is not None else {}), **wish.notes} if here.way.notes_taken else None
    seen = known.at_berth(session, row.berth, now, build=build)
    leg = LegKnown(version, LegPhase.DRAFT, notes, track=here.address.track)
    # whether the build may be sent is asked apart, of the store itself
    there = replace(seen.build, state=ConsignmentState.READY) if seen.build is not None else None
    return walk.sheet(row.rules, replace(seen, leg=leg, build=there)).findings(without=(ThingKind.BUILD,))


def _gives_way(build: Build, here: Cell, *, whole: bool) -> tuple[str, ...]:
    """The builds whose place it takes there at once: what is on its way or stopped, and all others where it is not staged."""
    others = [one for one in here.holds if one.build.id != build.id]
    return tuple(dict.fromkeys(one.build.label for one in others if whole or one.phase in PART_WAY))


def _first_share(session: Session, dictated: Ladder | None, wish: Wish) -> float:
    ladder = dictated or (ladders.meant(session, wish.ladder) if wish.ladder else ladders.usual(session))
    return ladder.stages[0].share


def _own_findings(build: Build, row: BoardRow, here: Cell) -> list[Finding]:
    """What the desk's own records say against it."""
    place, findings = f"track {here.address.track}", []
    if build.platform != row.berth.platform:
        detail = f"Build {build.label} is for {build.platform}; {row.rules.store} carries {row.berth.platform}."
        findings.append(Finding("platform-differs", Level.BLOCKER, detail, place, "Choose a build for it."))
    same = [one for one in (*here.holds, *here.coming) if one.build.id == build.id]
    if same:
        detail = f"{build.label} is on {here.way.title} of {row.rules.store} already ({same[0].phase})."
        remedy = "A build that was stopped there is resumed, or built again under a higher number."
        findings.append(Finding("there-already", Level.BLOCKER, detail, place, remedy))
    rivals = [one for one in here.coming if one.leg is not None and one.build.id != build.id]
    if rivals and here.way.audience is not Audience.COHORTS:
        told = f"{rivals[0].build.label} is {rivals[0].phase} for {here.way.title} of {row.rules.store}"
        other = rivals[0].leg.release.version if rivals[0].leg else ""
        if other == build.version:
            detail = f"{told}; this build takes its place in the release."
            findings.append(Finding("takes-place-in-release", Level.NOTE, detail, place))
        else:
            detail = f"{told}; whichever is launched later takes the place of the other."
            findings.append(
                Finding("another-is-coming", Level.CAUTION, detail, place, "Take back the one that is not wanted.")
            )
    return findings


def brief_for(brief: Brief, who: Person | str) -> Callable[[Cohort], Brief]:
    """What each cohort is told: the wish's words, or the cohort's own, or the usual ones."""

    def told(cohort: Cohort) -> Brief:
        texts = brief.texts or ({} if cohort.brief else USUAL_BRIEF)
        contact = brief.contact or cohort.contact or ("" if isinstance(who, str) else who.email)
        return replace(brief, texts=texts, contact=contact)

    return told


def _trial_findings(
    session: Session, build: Build, here: Cell, at: Sequence[Cohort], brief: Callable[[Cohort], Brief], unsent: bool
) -> list[Finding]:
    if not at:
        remedy = f"Attach one: tide cohort attach COHORT --app {build.app.name} --store {here.address.store} --track {here.address.track}"
        return [Finding("track-without-cohort", Level.BLOCKER, f"No cohort uses {here.way.title}.", "cohort", remedy)]
    found: list[Finding] = []
    for cohort in at:
        made = planning.plan(
            session, build.app.name, build.id, [cohort.name], [here.address.store], brief(cohort), when_ready=True
        )
        found += [
            finding for plan in made for finding in plan.findings if not (unsent and finding.code == "build-not-ready")
        ]
    return list(dict.fromkeys(found))
