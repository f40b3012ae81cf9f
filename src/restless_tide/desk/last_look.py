"""The last look: what people and the reviewer will see of a release at each store, beside what is live there now."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Finding, Invalid, StaleView
from restless_tide.core.leg import OPEN_TO_SUBMISSION
from restless_tide.core.look import Compared, Line, compared, items_of, lines_of, packed, revision_of, unpacked
from restless_tide.core.rollout import OFFERED
from restless_tide.core.round import RoundState
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.core.sheet import sheet
from restless_tide.desk import find, known, legs, reviewer_briefs
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, KeptLook, Leg, Release, Round


@dataclass(frozen=True)
class LegLook:
    """One leg. ``live_version`` is what is live there now; ``live`` is None where nothing is, or where no look of it was kept."""

    leg: Leg
    lines: tuple[Line, ...]
    live_version: str | None
    live: tuple[Line, ...] | None
    items: tuple[str, ...]
    findings: tuple[Finding, ...]
    open: bool
    """Whether it can be handed in now, by its phase."""

    @property
    def place(self) -> str:
        return str(find.place_of(self.leg))

    @property
    def compared(self) -> list[Compared]:
        return compared(self.lines, self.live)


@dataclass(frozen=True)
class Look:
    """A look at some legs of a release."""

    release: Release
    legs: tuple[LegLook, ...]

    @property
    def revision(self) -> str:
        """Of those that can be handed in; of all where none can."""
        return revision([leg for leg in self.legs if leg.open] or self.legs)


def revision(seen: Collection[LegLook]) -> str:
    """The revision of what is seen at some places together."""
    return revision_of({one.place: one.lines for one in seen})


def of_release(session: Session, app: App, version: str, store_name: str | None, now: datetime) -> Look:
    """A look at one leg of a release, or at all of them."""
    release = find.release(session, app, version)
    chosen = [find.leg(release, store_name)] if store_name is not None else list(release.legs)
    return Look(release, tuple(of_leg(session, leg, now) for leg in chosen))


def of_leg(session: Session, leg: Leg, now: datetime) -> LegLook:
    """All that is seen of one leg, what of it goes to review together, and what stands against handing it in."""
    rules, seen = rules_of(leg.berth.store), known.of_leg(session, leg, now)
    lines = lines_of(rules, seen, reviewer_briefs.for_leg(session, leg))
    live = _live(session, leg)
    last = _last_kept(session, live) if live is not None else None
    items = items_of(rules.review, lines, read(session, leg.berth.approved_look), production=leg.track == PRODUCTION)
    return LegLook(
        leg, lines, live.release.version if live is not None else None, read(session, last), tuple(items),
        tuple(sheet(rules, seen).findings()), legs.phase(leg) in OPEN_TO_SUBMISSION,
    )  # fmt: skip


def _live(session: Session, leg: Leg) -> Leg | None:
    """What is offered now on the track of a leg, the newest where there are two."""
    offered = (
        select(Leg)
        .where(Leg.berth_id == leg.berth_id, Leg.track == leg.track, Leg.id != leg.id, Leg.state.in_(OFFERED))
        .order_by(Leg.launched_at.desc())
        .limit(1)
    )
    return session.scalar(offered)


def _last_kept(session: Session, leg: Leg) -> str | None:
    approved = (
        select(Round.look)
        .where(Round.leg_id == leg.id, Round.state == RoundState.APPROVED)
        .order_by(Round.number.desc())
        .limit(1)
    )
    return session.scalar(approved)


# kept


def keep(session: Session, lines: Sequence[Line]) -> str:
    """Keep what was looked at; returns its digest, under which it is kept once."""
    content = packed(lines)
    digest = hashlib.sha256(content).hexdigest()
    if session.get(KeptLook, digest) is None:
        session.add(KeptLook(digest=digest, content=content))
        session.flush()
    return digest


def read(session: Session, digest: str | None) -> tuple[Line, ...] | None:
    """What was kept under a digest; None where nothing was."""
    kept = session.get(KeptLook, digest) if digest is not None else None
    return unpacked(kept.content) if kept is not None else None


def demand_looked(
    session: Session, release: Release, chosen: Collection[LegLook], looked: str | None, now: datetime
) -> None:
    """Raise unless ``looked`` is the revision of what is handed in: of the chosen legs, or of all that could be.

    Raises Invalid where nobody has looked, StaleView where something that is seen has changed since.
    """
    app, places = release.app, {one.place for one in chosen}
    others = [
        leg for leg in release.legs if str(find.place_of(leg)) not in places and legs.phase(leg) in OPEN_TO_SUBMISSION
    ]
    at = f" --store {next(iter(places))}" if len(places) == 1 and others else ""
    advice = f"Look at it: tide release look {release.version} --app {app.name}{at}"
    if looked is None:
        raise Invalid(
            f"{app.title} {release.version} is handed in only after a last look at it.",
            remedy=f"{advice}; then hand it in with the revision that the look shows.",
            code="look-missing",
        )
    if looked.strip() == revision(chosen):
        return
    if not others or looked.strip() != revision([*chosen, *(of_leg(session, leg, now) for leg in others)]):
        raise StaleView(
            f"What people will see of {app.title} {release.version} has changed since revision {looked.strip()[:40]}"
            " was looked at.",
            remedy=advice,
        )
