"""The acts that a second person can be asked to agree to, each with what it is asked by and what does it."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

from pydantic import BaseModel

from restless_tide.core.second_person import AskedAct
from restless_tide.desk import guards, pacing, releases, second_person, steering
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.reviewer_briefs import ForRound
from restless_tide.records.tables import GuardWatch
from restless_tide.service.briefs import brief_change
from restless_tide.service.leg_wishes import leg_wish
from restless_tide.wire.base import OneLine
from restless_tide.wire.guards import SilenceWanted
from restless_tide.wire.releases import GoAheadWanted, LegWanted, PaceWanted, SteerWanted
from restless_tide.wire.reviewing import SubmitWanted


def submit(act: Act, app: str, version: str, wanted: SubmitWanted) -> None:
    """Hand legs in to review as they were looked at."""
    handing_in = releases.HandingIn(
        looked=wanted.looked,
        without=tuple(wanted.without),
        in_spite_of=wanted.in_spite_of,
        reviewer=ForRound(wanted.for_reviewer, brief_change(wanted.brief)),
    )
    releases.submit(act, app, version, wanted.store, handing_in)


def give_go_ahead(act: Act, app: str, version: str, wanted: GoAheadWanted) -> None:
    """Give a go-ahead to launch."""
    releases.give_go_ahead(act, app, version, wanted.store, wanted.reason)


def steer(act: Act, app: str, version: str, wanted: SteerWanted) -> list[steering.Steered]:
    """Steer a rollout."""
    return steering.steer(act, app, version, wanted.store, wanted.act, wanted.reason, wanted.share)


class LegChange(LegWanted):
    """A change of the leg at a store."""

    store: OneLine


def change_leg(act: Act, app: str, version: str, wanted: LegChange) -> None:
    """Change a leg's build, ladder or conditions."""
    releases.change_leg(act, app, version, wanted.store, leg_wish(wanted))


def set_pace(act: Act, app: str, version: str, wanted: PaceWanted) -> None:
    """Set how the stores rise beside each other."""
    pacing.set_pace(act, app, version, wanted.pace(), wanted.reason)


class GuardSilence(SilenceWanted):
    """The silence of a guard."""

    guard: OneLine


def silence(act: Act, app: str, version: str, wanted: GuardSilence) -> list[GuardWatch]:
    """Have a guard do nothing for a time."""
    until = act.now + timedelta(hours=wanted.hours) if wanted.hours is not None else wanted.until
    return guards.silence(act, app, version, wanted.guard, until, wanted.reason)


ACTS: dict[AskedAct, tuple[type[BaseModel], Callable[[Act, str, str, Any], object]]] = {
    AskedAct.SUBMIT: (SubmitWanted, submit),
    AskedAct.GO_AHEAD: (GoAheadWanted, give_go_ahead),
    AskedAct.STEER: (SteerWanted, steer),
    AskedAct.CHANGE_LEG: (LegChange, change_leg),
    AskedAct.PACE: (PaceWanted, set_pace),
    AskedAct.SILENCE: (GuardSilence, silence),
}


def said(kind: AskedAct, app: str, version: str, wanted: Any) -> str:
    """What was asked, in a line for people."""
    store = getattr(wanted, "store", None)
    where = f" at {store}" if store else ""
    match kind:
        case AskedAct.SUBMIT:
            what = "Handing in"
        case AskedAct.GO_AHEAD:
            what = "The go-ahead for"
        case AskedAct.STEER:
            what = f"{str(wanted.act).capitalize()} of"
        case AskedAct.CHANGE_LEG:
            what = "Changing the leg of"
        case AskedAct.PACE:
            what = "Another pace for"
        case AskedAct.SILENCE:
            what = f"Silence of the guard {wanted.guard} for"
    return f"{what} {app} {version}{where}"


def demand(desk: Desk, person: str, kind: AskedAct, app: str, version: str, wanted: BaseModel) -> None:
    """Have an act wait for a second person where its app wants that. Raises SecondPersonNeeded."""
    _, work = ACTS[kind]
    asked = second_person.Asked(
        kind,
        said(kind, app, version, wanted),
        wanted.model_dump_json(exclude_unset=True),
        lambda act: work(act, app, version, wanted),
    )
    second_person.demand(desk, person, app, version, asked)


def agree(desk: Desk, person: str, proposal_id: str) -> None:
    """Agree, and have it done as an act of who asked; where that fails, nothing was agreed either."""
    with desk.act(person) as act:
        row = second_person.agree(act, proposal_id)
        model, work = ACTS[row.kind]
        wanted = model.model_validate_json(second_person.body_of(desk, row))
        work(act.as_person(row.asked_by), row.app.name, row.version, wanted)
