"""The loops of the background: orders, sightings, tides, mail and notices, as long as the service lives.

Each loop sleeps until something has changed or something is due. Only the engine that holds the lease
works; another one waits for it. What becomes of an order is decided in core/lane.py and carried out in
turns.py.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial

import structlog
from sqlalchemy import select

from restless_tide.core.errors import LostLease
from restless_tide.core.invitation import InvitationState
from restless_tide.core.notice import DeliveryState
from restless_tide.desk import (
    dossiers,
    feed,
    files_kept,
    kept_answers,
    lanes,
    making,
    reviews,
    sessions,
    track_rules,
    uploads,
)
from restless_tide.desk.desk import ENGINE, Act, Changed, Desk
from restless_tide.desk.launch_facts import EVERYTHING
from restless_tide.engine import asking, carried, counting, launches, link_mails, notices, replies, sightings, tides
from restless_tide.engine.due import seconds_until, soonest
from restless_tide.engine.inlet import Inlet
from restless_tide.engine.lease import RENEW_SECONDS, EngineLease
from restless_tide.engine.mail import Postman
from restless_tide.engine.turns import Turns
from restless_tide.records.tables import (
    Berth,
    Delivery,
    FieldReport,
    HeldAnswer,
    HeldGood,
    HeldPictures,
    HeldText,
    Invitation,
    Leg,
    Order,
    PersonalLink,
    ReportWord,
    Round,
    RuleRun,
    Step,
    Store,
    Subscription,
    Tester,
    TrackRule,
    Trial,
)

_log = structlog.get_logger("engine")

ASKERS = 6
LONGEST_SLEEP_SECONDS = 5.0
"""A loop looks at least so often, should something have become due without anybody having told."""
READ_BY_MAIL = (Invitation, Trial, Tester, ReportWord, FieldReport, PersonalLink)
READ_BY_RULES = (TrackRule, RuleRun, Trial, Leg, FieldReport, Round, HeldText, HeldPictures, HeldAnswer, HeldGood)
BREATH_SECONDS = 0.1
"""Between a change and the look that it calls for, so that a burst of changes is one look."""
LAUNCH_BREATH_SECONDS = 0.02
"""The same where a launch may follow."""
LONG_BREATH_SECONDS = 1.0
"""The same for what becomes due, while many calls are made whose answers each call for a look."""
LONG_RULES_BREATH_SECONDS = 2.0
"""The same for the rules by which builds move up: they read much, and usually wait for hours."""
HEARD_BREATH_SECONDS, LONG_HEARD_BREATH_SECONDS = 0.05, 0.2
"""Pushed events that come within it are taken together; the long one while many calls are made, which tell more."""
TROUBLED_PAUSE_SECONDS = 1.0
STOPPING_PAUSE_SECONDS = 0.01
POLLS_SKIPPED_WHILE_PUSHED = 10
POLLS_AFTER_MISSED_PUSH = 30
LONGEST_POLL_PAUSE_SECONDS = 15.0
EXPIRIES_EVERY_SECONDS = 60.0
REMINDERS_EVERY_SECONDS = 5.0
DRAW_ALL_EVERY_SECONDS = 300.0
"""Should something have been told to an engine that is no more."""


class Engine:
    """One background of one desk. ``start`` and ``stop`` may each be called once."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._lease = EngineLease(desk.database)
        self._working = threading.Event()
        self._bells: list[tuple[threading.Event, frozenset[type]]] = []
        self._stopping = threading.Event()
        self._askers = ThreadPoolExecutor(ASKERS, thread_name_prefix="asker")
        self._courier = notices.Courier(desk)
        self._postman = Postman(desk, self._stopping.is_set)
        self._asked: dict[str, Future[None]] = {}
        self._ask_after: dict[str, float] = {}
        self._silent_asks: dict[str, int] = {}
        self._polls_to_distrust: dict[str, int] = {}
        self._expiries_after = self._reminders_after = 0.0
        self._order_bell = self._bell(Order)
        self._turns = Turns(desk, self._order_bell.set)
        desk.background.begin_urgent = self._begin_urgent
        self._drawing_bell = threading.Event()
        desk.background.ring_drawing = self._drawing_bell.set
        self._draw_all_after = 0.0
        self._asking_bell = self._bell(Store)
        desk.background.ring_asking = self._asking_bell.set
        self._judges = counting.Judges(desk)
        self._judging_bell = threading.Event()
        desk.background.ring_judging = self._judging_bell.set
        self._launching_bell = self._bell()
        desk.background.ring_launching = self._launching_bell.set
        self._heard_bell = threading.Event()
        desk.background.ring_heard = self._heard_bell.set
        self._threads = [
            threading.Thread(target=self._repeat, args=(work, breathe, bell), name=name, daemon=True)
            for name, work, breathe, bell in (
                ("orders", self._turns.turn, self._turns.gather, self._order_bell),
                (
                    "heard",
                    lambda: sightings.take_heard(desk),
                    self._breathing(HEARD_BREATH_SECONDS, LONG_HEARD_BREATH_SECONDS),
                    self._heard_bell,
                ),
                (
                    "tides",
                    lambda: tides.rise(desk),
                    self._breathing(BREATH_SECONDS, LONG_BREATH_SECONDS),
                    self._bell(Leg, Order),
                ),
                (
                    "launches",
                    lambda: launches.look(desk),
                    self._breathing(LAUNCH_BREATH_SECONDS, LONG_BREATH_SECONDS),
                    self._launching_bell,
                ),
                (
                    "moves",
                    self._move_up,
                    self._breathing(BREATH_SECONDS, LONG_RULES_BREATH_SECONDS),
                    self._bell(*READ_BY_RULES),
                ),
                (
                    "pictures",
                    self._make_pictures,
                    self._breathing(BREATH_SECONDS, LONG_RULES_BREATH_SECONDS),
                    self._drawing_bell,
                ),
                (
                    "guards",
                    self._judges.look,
                    self._breathing(BREATH_SECONDS, LONG_RULES_BREATH_SECONDS),
                    self._judging_bell,
                ),
                ("sightings", self._ask_stores, self._breathing(BREATH_SECONDS), self._asking_bell),
                ("mail", self._send_mail, self._breathing(BREATH_SECONDS), self._bell(*READ_BY_MAIL)),
                (
                    "notices",
                    self._tell_people,
                    self._breathing(BREATH_SECONDS),
                    self._bell(Delivery, Subscription, Step),
                ),
            )
        ]
        self._inlet: Inlet | None = None
        self._keeper = threading.Thread(target=self._keep_lease, name="lease", daemon=True)
        desk.on_change(self._ring)

    @property
    def working(self) -> bool:
        """Whether this engine holds the lease and its threads live."""
        return self._working.is_set() and all(thread.is_alive() for thread in self._threads)

    @property
    def standing_by(self) -> bool:
        """Whether another engine works on this database."""
        return not self._working.is_set()

    def start(self) -> None:
        self._take_lease()
        for thread in (*self._threads, self._keeper):
            thread.start()

    def stop(self) -> None:
        """Finish what is in hand, begin nothing new, and let the next engine begin at once."""
        self._turns.may_begin = False
        self._turns.close()
        while self._working.is_set() and not self._turns.idle and self._threads[0].is_alive():
            self._order_bell.set()
            time.sleep(STOPPING_PAUSE_SECONDS)
        self._stopping.set()
        self._ring()
        for thread in self._threads:
            thread.join()
        self._askers.shutdown(wait=True)
        self._keeper.join()
        if self._inlet is not None:
            self._inlet.stop()
        self._courier.close()
        if self._working.is_set():
            self._lease.release()

    def _breathing(self, quiet_seconds: float, busy_seconds: float | None = None) -> Callable[[], None]:
        """A loop's pause between a change and its look; another one while many calls are made."""

        def breathe() -> None:
            busy = busy_seconds is not None and self._turns.several_in_flight
            self._stopping.wait(busy_seconds if busy else quiet_seconds)

        return breathe

    def _bell(self, *reads: type) -> threading.Event:
        """What wakes one loop as soon as one of the tables has changed that it reads."""
        bell = threading.Event()
        self._bells.append((bell, frozenset(reads)))
        return bell

    def _ring(self, changed: Changed = None) -> None:
        for bell, reads in self._bells:
            if changed is None or not reads.isdisjoint(changed):
                bell.set()
        if self._stopping.is_set():
            self._heard_bell.set()
            self._drawing_bell.set()
            self._judging_bell.set()

    def _begin_urgent(self, act: Act) -> None:
        if self._working.is_set():
            self._turns.begin_urgent(act)

    def _take_lease(self) -> None:
        fence = self._lease.take()
        if fence is None:
            if self._working.is_set():
                _log.warning("another engine works here now; this one stands by")
            self._working.clear()
            return
        self._desk.background.fence = fence
        if not self._working.is_set():
            _log.info("this engine works", fence=fence)
            self._turns.restart()
            with self._desk.background.launching:
                self._desk.background.launch_facts.add(EVERYTHING)
            self._launching_bell.set()
            self._working.set()

    def _keep_lease(self) -> None:
        while not self._stopping.wait(RENEW_SECONDS if self._working.is_set() else RENEW_SECONDS / 4):
            try:
                self._take_lease()
            except Exception:  # noqa: BLE001  (a lease that cannot be renewed expires by itself)
                _log.exception("the lease could not be renewed")
        while any(thread.is_alive() for thread in self._threads):
            if self._working.is_set():
                self._take_lease()
            time.sleep(RENEW_SECONDS / 10)

    def _repeat(self, work: Callable[[], float | None], breathe: Callable[[], None], bell: threading.Event) -> None:
        """Do ``work`` when the bell rings, and when the time comes that it named last."""
        while not self._stopping.is_set():
            if not self._working.wait(RENEW_SECONDS):
                continue
            bell.clear()
            pause: float | None = TROUBLED_PAUSE_SECONDS
            try:
                pause = work()
            except LostLease as lost:
                _log.warning("the lease is lost", why=lost.detail)
                self._working.clear()
            except Exception:  # noqa: BLE001  (the loop outlives whatever one turn of it meets)
                _log.exception("one turn of the background failed")
            if self._stopping.is_set():
                break
            if bell.wait(min(LONGEST_SLEEP_SECONDS if pause is None else pause, LONGEST_SLEEP_SECONDS)):
                breathe()

    # sightings

    def _ask_stores(self) -> float | None:
        """Ask every store that it is time for, side by side: one that hangs keeps no other from being heard.

        Returns the seconds until the next is to be asked; a store that answers late rings the bell.
        """
        with self._desk.look() as session:
            stores = session.execute(select(Store.id, Store.push_ref).where(Store.sealed_key.is_not(None))).all()
        now = time.monotonic()
        for store_id, push_ref in stores:
            running = self._asked.get(store_id)
            early = store_id in self._desk.background.gaps
            if (running is not None and not running.done()) or (now < self._ask_after.get(store_id, 0.0) and not early):
                continue
            self._desk.background.gaps.discard(store_id)
            self._ask_after[store_id] = now + self._pause_between_asks(store_id, pushes=bool(push_ref))
            self._asked[store_id] = self._askers.submit(self._ask, store_id, pushes=bool(push_ref))
            self._asked[store_id].add_done_callback(partial(self._note_answer, store_id))
        later = [self._ask_after[store_id] - now for store_id, _ in stores]
        return min((pause for pause in later if pause > 0), default=None)

    def _pause_between_asks(self, store_id: str, *, pushes: bool) -> float:
        """Seconds. A store that pushes is asked seldom, as long as asking never finds what was not pushed."""
        poll = self._desk.settings.poll_seconds
        unanswered = self._silent_asks.get(store_id, 0)
        if unanswered:
            return float(min(poll * 2 ** min(unanswered, 8), max(LONGEST_POLL_PAUSE_SECONDS, poll)))
        return poll * POLLS_SKIPPED_WHILE_PUSHED if pushes and not self._polls_to_distrust.get(store_id) else poll

    def _ask(self, store_id: str, *, pushes: bool) -> None:
        try:
            found = asking.ask(self._desk, store_id)
            self._silent_asks[store_id] = 0 if found is not None else self._silent_asks.get(store_id, 0) + 1
            left = self._polls_to_distrust.get(store_id, 0)
            self._polls_to_distrust[store_id] = POLLS_AFTER_MISSED_PUSH if found and pushes else max(left - 1, 0)
        except LostLease:
            self._working.clear()
        except Exception:  # noqa: BLE001  (what one store tells must not keep the others from being heard)
            _log.exception("what a store tells could not be taken", store=store_id)

    def _note_answer(self, store_id: str, _: Future[None]) -> None:
        """A store whose answer took longer than the pause between two questions is asked again at once."""
        if time.monotonic() >= self._ask_after[store_id]:
            self._asking_bell.set()

    def _move_up(self) -> float | None:
        track_rules.move_up(self._desk)
        self._send_what_was_kept()
        return None

    def _send_what_was_kept(self) -> None:
        """What waited for the end of a review goes to its store now; a berth that cannot be looked at keeps no other waiting."""
        with self._desk.look() as session:
            keeping = [berth.id for berth in dossiers.keeping(session)]
        for berth_id in keeping:
            try:
                with self._desk.look() as session:
                    if not dossiers.opened(session, lanes.needed(session, Berth, berth_id), self._desk.clock.now()):
                        continue
                with self._desk.act(ENGINE) as act:
                    dossiers.send_kept(act, lanes.needed(act.session, Berth, berth_id))
            except LostLease:
                raise
            except Exception:  # noqa: BLE001  (what is kept for other berths goes all the same)
                _log.exception("what was kept could not be sent", berth=berth_id)

    def _make_pictures(self) -> float | None:
        """Make what stores get of the pictures of apps that were told of; now and then of all, should nobody have told."""
        waiting = self._desk.background.to_draw
        while waiting:
            app = waiting.pop()
            try:
                making.make_for(self._desk, app)
            except LostLease:
                raise
            except Exception:  # noqa: BLE001  (what the stores of other apps get is made all the same)
                _log.exception("the pictures of an app could not be made", app=app)
        if time.monotonic() >= self._draw_all_after:
            making.make_all(self._desk)
            making.drop_unused(self._desk)
            self._draw_all_after = time.monotonic() + DRAW_ALL_EVERY_SECONDS
        return None

    # notices, and what people carry by hand

    def _tell_people(self) -> float | None:
        carried.take_words(self._desk)
        self._courier.send_waiting()
        if time.monotonic() >= self._reminders_after:
            self._reminders_after = time.monotonic() + REMINDERS_EVERY_SECONDS
            carried.remind(self._desk)
            reviews.tell_of_long_waits(self._desk)
        if time.monotonic() >= self._expiries_after:
            self._expiries_after = time.monotonic() + EXPIRIES_EVERY_SECONDS
            self._open_inlet()
            notices.notice_expiries(self._desk)
            uploads.drop_expired(self._desk, ENGINE)
            kept_answers.drop_old(self._desk)
            self._desk.uses.write(self._desk.database)
            sessions.drop_expired(self._desk)
            feed.drop_old(self._desk)
            files_kept.drop_unnamed(self._desk)
        if self._desk.background.to_scrub:
            self._desk.scrub()
        waits = Delivery.state == DeliveryState.QUEUED
        return soonest(seconds_until(self._desk, Delivery.try_after, waits), REMINDERS_EVERY_SECONDS)

    def _send_mail(self) -> float | None:
        self._postman.send_waiting()
        replies.send_waiting(self._desk)
        link_mails.send_waiting(self._desk)
        return soonest(
            seconds_until(self._desk, PersonalLink.try_after, PersonalLink.sealed_code.is_not(None)),
            seconds_until(self._desk, Invitation.try_after, Invitation.state == InvitationState.QUEUED),
            seconds_until(self._desk, ReportWord.try_after, ReportWord.state == DeliveryState.QUEUED),
        )

    def _open_inlet(self) -> None:
        """Only the engine that works takes mails in; where the port is taken it is tried again with the next look."""
        if self._inlet is not None or self._desk.settings.inlet_port is None:
            return
        inlet = Inlet(self._desk)
        try:
            inlet.start()
        except OSError as wrong:
            _log.warning("the inlet for mail cannot be opened", port=self._desk.settings.inlet_port, why=wrong.strerror)
            return
        self._inlet = inlet
