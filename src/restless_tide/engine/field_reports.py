"""Field reports that stores hand on, their pictures, and how much a trial is used."""

from __future__ import annotations

from datetime import datetime, timedelta

import structlog
from sqlalchemy import select
from sqlalchemy.dialects.sqlite import insert

from restless_tide.core.crashes.stack import LONGEST_STACK
from restless_tide.core.errors import StoreRefused, TideError
from restless_tide.core.report import ReportKind
from restless_tide.core.trial import TrialState
from restless_tide.desk import find, pictures, reports
from restless_tide.desk.desk import ENGINE, Act, Desk
from restless_tide.desk.lanes import needed
from restless_tide.desk.launch_facts import About, Fact
from restless_tide.desk.reports import Filing
from restless_tide.gateways.client import Gateway
from restless_tide.gateways.protocol import FiledReport, StoreEvent
from restless_tide.records.tables import (
    Berth,
    Build,
    Consignment,
    FieldReport,
    Store,
    Trial,
    TrialUsage,
)

USAGE_EVERY = timedelta(minutes=30)
_BATCH = 20
_log = structlog.get_logger("engine")


def take_in(desk: Desk, act: Act, store: Store, event: StoreEvent) -> bool:
    """Write down a report that a store sends; False when it is about nothing that is known here. Raises ValidationError."""
    told = FiledReport.model_validate(event.data)
    trial = _trial(act, store, told)
    build = trial.consignment.build if trial else _build(act, store, told)
    berth = trial.consignment.berth if trial else _berth(act, store, told)
    if berth is None:
        return False
    known = select(FieldReport.id).where(FieldReport.store_id == store.id, FieldReport.source_ref == event.subject)
    if act.session.scalar(known):
        return True
    filing = Filing(
        ReportKind(told.kind),
        text=told.text[: reports.LONGEST_TEXT],
        device=told.device,
        system=told.system,
        language=told.language,
        at=event.time,
        stack=told.stack[:LONGEST_STACK],
        thrown=told.thrown,
        frames=[frame.model_dump() for frame in told.frames],
        source="store",
        source_ref=event.subject,
        pictures_due=min(told.pictures, pictures.MOST_PICTURES),
    )
    tester = find.tester_at(act.session, told.address) if told.address else None
    try:
        reports.file(desk, act, berth.app, filing, build=build, trial=trial, tester=tester, store_id=store.id)
    except TideError as wrong:  # a store's nonsense is noted and stops nothing
        _log.warning("a report cannot be taken", store=store.name, why=wrong.detail)
        act.tell("report not taken", f"store {store.name}", app=berth.app.name, said=wrong.detail)
    return True


def _trial(act: Act, store: Store, told: FiledReport) -> Trial | None:
    """The trial at this store; another store may use the same reference for something else."""
    if not told.trial:
        return None
    here = select(Trial).join(Consignment).join(Berth).where(Berth.store_id == store.id)
    return act.session.scalar(here.where(Trial.store_ref == told.trial))


def _berth(act: Act, store: Store, told: FiledReport) -> Berth | None:
    return act.session.scalar(select(Berth).where(Berth.store_id == store.id, Berth.store_ref == told.berth))


def _build(act: Act, store: Store, told: FiledReport) -> Build | None:
    if told.number is None:
        return None
    return act.session.scalar(
        select(Build)
        .join(Consignment, Consignment.build_id == Build.id)
        .join(Berth, Consignment.berth_id == Berth.id)
        .where(Berth.store_id == store.id, Berth.store_ref == told.berth)
        .where(Build.version == told.version, Build.number_order == told.number.order)
    )


def fetch_pictures(desk: Desk, store_id: str, gateway: Gateway) -> int:
    """Bring the pictures of reports that came from a store; one that is none is left there. Returns how many came."""
    with desk.look() as session:
        due = session.execute(
            select(FieldReport.id, FieldReport.source_ref, FieldReport.pictures_due)
            .where(FieldReport.store_id == store_id, FieldReport.pictures_due > 0)
            .limit(_BATCH)
        ).all()
    came = 0
    for report_id, reference, count in due:
        for place in range(1, count + 1):
            try:
                drawn = pictures.draw_anew(gateway.report_picture(reference or "", place))
            except StoreRefused as wrong:
                _note(desk, report_id, wrong.detail)
                continue
            except TideError as wrong:
                if wrong.code not in ("picture-unreadable", "picture-too-large"):
                    return came
                _note(desk, report_id, wrong.detail)
                continue
            with desk.act(ENGINE) as act:
                pictures.attach(desk, act, needed(act.session, FieldReport, report_id), drawn)
            came += 1
        with desk.act(ENGINE) as act:
            needed(act.session, FieldReport, report_id).pictures_due = 0
    return came


def _note(desk: Desk, report_id: str, said: str) -> None:
    with desk.act(ENGINE) as act:
        report = needed(act.session, FieldReport, report_id)
        act.tell("picture not taken", f"report {report_id}", app=report.app.name, said=said)


def ask_usage(desk: Desk, store_id: str, gateway: Gateway) -> int:
    """Ask how much the trials that are open at a store are used, each every half hour; returns how many were asked."""
    now = desk.clock.now()
    with desk.look() as session:
        open_there = session.execute(
            select(Trial.id, Trial.store_ref, Trial.usage_asked_at)
            .join(Consignment, Trial.consignment_id == Consignment.id)
            .join(Berth, Consignment.berth_id == Berth.id)
            .where(Berth.store_id == store_id, Trial.state == TrialState.OPEN, Trial.store_ref.is_not(None))
        ).all()
    asked = 0
    for trial_id, reference, last in open_there:
        if last is not None and timedelta() <= now - last < USAGE_EVERY:
            continue
        try:
            days = gateway.usage(reference or "")
        except StoreRefused:
            days = ()
        except TideError:
            return asked
        _keep_usage(desk, trial_id, [(day.day, day.sessions, day.crashed) for day in days], now)
        asked += 1
    return asked


def _keep_usage(desk: Desk, trial_id: str, days: list[tuple[str, int, int]], now: datetime) -> None:
    with desk.act(ENGINE) as act:
        trial = needed(act.session, Trial, trial_id)
        trial.usage_asked_at = now
        for day, sessions, crashed in days:
            values = {"sessions": sessions, "crashed": min(crashed, sessions)}
            act.session.execute(
                insert(TrialUsage)
                .values(trial_id=trial_id, day=day, **values)
                .on_conflict_do_update(index_elements=["trial_id", "day"], set_=values)
            )
        act.launch_facts.add(Fact(About.TRIAL, trial_id))
        act.tell("usage", f"trial {trial_id}", app=trial.cohort.app.name)
