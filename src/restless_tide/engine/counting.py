"""What stores count: fetched when a store tells that there is more, and judged by the guards."""

from __future__ import annotations

import time

import structlog
from sqlalchemy import select

from restless_tide.core.errors import LostLease, StoreRefused, TideError
from restless_tide.desk import gauges, judging
from restless_tide.desk.desk import ENGINE, Desk
from restless_tide.desk.find import berth_subject
from restless_tide.desk.lanes import needed
from restless_tide.engine.due import seconds_until
from restless_tide.gateways.client import UNREADABLE, Gateway
from restless_tide.records.tables import App, Berth, Guard, GuardWatch, Release

MOST_PAGES = 40
"""Of one berth in one turn; the rest is fetched in the next."""
LONGEST_TROUBLE = 500
ADD_UP_EVERY_SECONDS = 600.0
_log = structlog.get_logger("engine")


def fetch(desk: Desk, store_id: str, gateway: Gateway) -> int:
    """Bring the hours that a store has told of; returns how many were new or corrected."""
    with desk.look() as session:
        due = select(Berth.id, Berth.store_ref).where(
            Berth.store_id == store_id, Berth.gauges_due > 0, Berth.store_ref.is_not(None)
        )
        waiting = session.execute(due).all()
    came = 0
    for berth_id, reference in waiting:
        try:
            came += _fetch(desk, berth_id, reference or "", gateway)
        except LostLease:
            raise
        except StoreRefused as wrong:
            _note(desk, berth_id, wrong.detail)
        except TideError as wrong:
            _log.warning("what a store counted could not be fetched", store=store_id, why=wrong.detail)
            if wrong.code != UNREADABLE:
                return came  # it is away; the other berths there wait as well
            _note(desk, berth_id, wrong.detail)
        except Exception as wrong:  # noqa: BLE001  (nobody can tell what a store will send)
            _log.exception("what a store counted could not be taken", store=store_id)
            _note(desk, berth_id, f"Taking its counts failed ({type(wrong).__name__}); the desk's log has the details.")
    return came


def _fetch(desk: Desk, berth_id: str, reference: str, gateway: Gateway) -> int:
    came = 0
    for _ in range(MOST_PAGES):
        with desk.look() as session:
            berth = needed(session, Berth, berth_id)
            cursor, heard = berth.gauges_cursor, berth.gauges_due
        page, asked_at = gateway.gauges(reference, cursor), desk.clock.now()
        with desk.act(ENGINE) as act:
            berth = needed(act.session, Berth, berth_id)
            if gateway.clock is not None:
                berth.clock_ahead_seconds = round((gateway.clock - asked_at).total_seconds(), -1)
            told = gauges.take_in(act, berth, "", [gauges.Hour.of(hour) for hour in page.fit()])
            troubles = (*page.unfit(), *told.troubles)
            more = page.more and page.next != cursor
            berth.gauges_cursor = page.next
            if not more:  # what was told of meanwhile is fetched the next time
                berth.gauges_due -= heard
            if troubles:
                berth.gauges_trouble = " ".join(troubles)[:LONGEST_TROUBLE]
                act.log("counts not taken", berth_subject(berth), app=berth.app.name, reason=berth.gauges_trouble)
            elif told.taken:
                berth.gauges_trouble = ""
            if told.taken:
                act.tell("counts", berth_subject(berth), app=berth.app.name)
            act.judge(berth.app.name)
        came += told.taken
        if not more:
            break
    return came


def _note(desk: Desk, berth_id: str, detail: str) -> None:
    """A store that refuses its counts is not asked again until it reports more."""
    with desk.act(ENGINE) as act:
        berth = needed(act.session, Berth, berth_id)
        berth.gauges_due, berth.gauges_trouble = 0, detail[:LONGEST_TROUBLE]


class Judges:
    """Lets the guards look: of every app once at the start, later of those of which something was counted or changed."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._begun = False
        self._add_up_after = 0.0

    def look(self) -> float | None:
        """Judge what is due. Returns after how many seconds a guard that was silenced may speak again."""
        waiting = self._desk.background.to_judge
        waiting |= self._speaking_again()
        if not self._begun:
            waiting |= self._guarded()
            self._begun = True
        while waiting:
            app = waiting.pop()
            try:
                judging.judge_app(self._desk, app)
            except LostLease:
                waiting.add(app)
                raise
            except Exception:  # noqa: BLE001  (the guards of other apps look all the same)
                _log.exception("the guards of an app could not look", app=app)
        if time.monotonic() >= self._add_up_after:
            self._add_up_after = time.monotonic() + ADD_UP_EVERY_SECONDS
            with self._desk.act(ENGINE) as act:
                gauges.add_up(act)
        return seconds_until(self._desk, GuardWatch.silent_until)

    def _guarded(self) -> set[str]:
        with self._desk.look() as session:
            return set(session.scalars(select(App.name).join(Guard).where(Guard.ended_at.is_(None)).distinct()))

    def _speaking_again(self) -> set[str]:
        now = self._desk.clock.now()
        waits = select(App.name).join(Release).join(GuardWatch, GuardWatch.release_id == Release.id)
        over = waits.where(GuardWatch.silent_until <= now, GuardWatch.acted == "", GuardWatch.breached_at.is_not(None))
        with self._desk.look() as session:
            return set(session.scalars(over))
