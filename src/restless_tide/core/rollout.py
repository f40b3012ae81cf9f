"""A rollout: a leg's way up its ladder, and which act is possible when.

What a store allows comes from its rulebook, so a step has to pass two gates: the table (has it any
meaning here?) and the rulebook (does this store do that?). ``options`` answers both for every act
at once; the console draws its buttons from it, the service refuses from it, and both give the same
reason in the same words.

The clock of a stage runs only while the rollout rises. ``Progress`` therefore keeps how long the
present stage has already been held before the last pause, and since when it is running.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from enum import StrEnum
from typing import TYPE_CHECKING

from restless_tide.core.errors import ImpossibleAct
from restless_tide.core.ladder import FULL_SHARE, Ladder
from restless_tide.core.machine import Machine
from restless_tide.core.way_back import AfterHalt, AfterWithdraw

if TYPE_CHECKING:
    from restless_tide.core.rulebook import RolloutRules  # where states are named, no rules are wanted yet


class RolloutState(StrEnum):
    WAITING = "waiting"
    RISING = "rising"
    PAUSED = "paused"
    COMPLETE = "complete"
    HALTED = "halted"
    WITHDRAWN = "withdrawn"
    SUPERSEDED = "superseded"


class RolloutEvent(StrEnum):
    LAUNCH = "launch"
    ADVANCE = "advance"
    PAUSE = "pause"
    RESUME = "resume"
    HALT = "halt"
    FINISH = "finish"
    WITHDRAW = "withdraw"
    SUPERSEDE = "supersede"


S, E = RolloutState, RolloutEvent

ROLLOUT = Machine(
    noun="The rollout",
    initial=S.WAITING,
    table={
        (S.WAITING, E.LAUNCH): S.RISING,
        (S.WAITING, E.SUPERSEDE): S.SUPERSEDED,
        (S.RISING, E.ADVANCE): S.RISING,
        (S.RISING, E.PAUSE): S.PAUSED,
        (S.RISING, E.FINISH): S.COMPLETE,
        (S.RISING, E.HALT): S.HALTED,
        (S.RISING, E.WITHDRAW): S.WITHDRAWN,
        (S.RISING, E.SUPERSEDE): S.SUPERSEDED,
        (S.PAUSED, E.RESUME): S.RISING,
        (S.PAUSED, E.FINISH): S.COMPLETE,
        (S.PAUSED, E.HALT): S.HALTED,
        (S.PAUSED, E.WITHDRAW): S.WITHDRAWN,
        (S.PAUSED, E.SUPERSEDE): S.SUPERSEDED,
        (S.COMPLETE, E.HALT): S.HALTED,
        (S.COMPLETE, E.WITHDRAW): S.WITHDRAWN,
        (S.COMPLETE, E.SUPERSEDE): S.SUPERSEDED,
        (S.HALTED, E.RESUME): S.RISING,
        (S.HALTED, E.WITHDRAW): S.WITHDRAWN,
        (S.HALTED, E.SUPERSEDE): S.SUPERSEDED,
        (S.WITHDRAWN, E.RESUME): S.RISING,
    },
)

STEERING = (E.ADVANCE, E.PAUSE, E.RESUME, E.HALT, E.FINISH, E.WITHDRAW)
STOPPING = frozenset({E.PAUSE, E.HALT})
"""What keeps a release from more people; it takes less than what brings it to them."""
ON_ITS_WAY = frozenset({S.RISING, S.PAUSED})
PART_WAY = ON_ITS_WAY | {S.HALTED}
"""In these states its share says how far it has come, and a newer one takes its place."""
OFFERED = frozenset({S.RISING, S.PAUSED, S.COMPLETE})
"""In these states the store offers the build to someone."""
GIVEN_OUT = OFFERED - {S.PAUSED}
"""In these states more people receive the build, hour after hour."""
MAY_RISE = PART_WAY | {S.WAITING}
"""In these states more people may come to be offered it."""
STOPPED = frozenset({S.HALTED, S.WITHDRAWN})
"""In these states it shall be offered to nobody new, and only a person may change that."""
GONE = frozenset(ROLLOUT.final()) | {S.WITHDRAWN}
"""In these states the store offers it to nobody, and another release may have its place."""


@dataclass(frozen=True, slots=True)
class Progress:
    """Where a rollout stands. ``stage`` counts from 0; -1 before the launch. ``share`` is of people, 0 to 1."""

    state: RolloutState = S.WAITING
    stage: int = -1
    share: float = 0.0
    held_before: timedelta = timedelta()
    running_since: datetime | None = None
    pauses_used: int = 0

    def held(self, now: datetime) -> timedelta:
        """How long the present stage has been held; pauses do not count."""
        running = now - self.running_since if self.running_since else timedelta()
        return self.held_before + max(running, timedelta())


@dataclass(frozen=True, slots=True)
class Option:
    """Whether an act is possible now, and if not, why; ``consequence`` says what people will see."""

    act: RolloutEvent
    possible: bool
    why_not: str = ""
    consequence: str = ""


def stage_ends(progress: Progress, ladder: Ladder) -> datetime | None:
    """When the present stage has been held long enough, if its clock runs and it can end without a person."""
    if progress.state is not S.RISING or progress.running_since is None or progress.stage < 0:
        return None
    shortest = ladder.stages[progress.stage].shortest
    if shortest is None:
        return None
    return progress.running_since + (shortest - progress.held_before)


def launched(progress: Progress, ladder: Ladder, now: datetime) -> Progress:
    """After the launch: the first stage, its clock running; complete at once if that is everybody."""
    state = ROLLOUT.after(progress.state, E.LAUNCH)
    begun = replace(
        progress, state=state, stage=0, share=ladder.stages[0].share, held_before=timedelta(), running_since=now
    )
    return _settled(begun, ladder)


def advanced(progress: Progress, ladder: Ladder, now: datetime, share: float | None = None) -> Progress:
    """One stage up, or to ``share``. Raises ImpossibleAct for a share that does not rise."""
    state = ROLLOUT.after(progress.state, E.ADVANCE)
    if share is None:
        stage = progress.stage + 1
        if stage >= len(ladder.stages):
            raise ImpossibleAct("The rollout is at the top of its ladder.", possible=["finish"])
        target = ladder.stages[stage].share
    else:
        target, stage = share, ladder.stage_of(share)
    if target <= progress.share:
        raise ImpossibleAct(
            f"A share only rises: it stands at {progress.share:.0%}, {target:.0%} was asked for.",
            possible=["pause", "halt"],
        )
    risen = replace(progress, state=state, stage=stage, share=target, held_before=timedelta(), running_since=now)
    return _settled(risen, ladder)


def steered(progress: Progress, act: RolloutEvent, ladder: Ladder, now: datetime) -> Progress:
    """The progress after pause, resume, halt, finish, withdraw or supersede."""
    state = ROLLOUT.after(progress.state, act)
    stopped = replace(progress, state=state, held_before=progress.held(now), running_since=None)
    if act is E.PAUSE:
        return replace(stopped, pauses_used=progress.pauses_used + 1)
    if act is E.RESUME:
        return _settled(replace(stopped, running_since=now), ladder)
    if act is E.FINISH:
        return replace(stopped, share=FULL_SHARE, stage=len(ladder.stages) - 1)
    return stopped


def adopted(progress: Progress, state: RolloutState, share: float, ladder: Ladder, now: datetime) -> Progress:
    """What the store holds, taken as it is: someone acted on the store's own pages, or an order was refused."""
    running = now if state is S.RISING else None
    if state is S.RISING and progress.state is S.RISING and share == progress.share:
        running = progress.running_since
    held = progress.held_before if share == progress.share else timedelta()
    stage = ladder.stage_of(share) if share else progress.stage
    return replace(progress, state=state, share=share, stage=stage, running_since=running, held_before=held)


def _settled(progress: Progress, ladder: Ladder) -> Progress:
    """A rollout that has reached everybody is complete, and its clock stops."""
    if progress.share < FULL_SHARE:
        return progress
    return replace(progress, state=S.COMPLETE, running_since=None, stage=len(ladder.stages) - 1)


def options(
    progress: Progress,
    ladder: Ladder,
    rules: RolloutRules,
    previous_version: str | None,
    *,
    offered_again: bool = False,
    newer: str | None = None,
    confirmed: bool = True,
    acts: Collection[RolloutEvent] = STEERING,
) -> Mapping[RolloutEvent, Option]:
    """Every steering act, or those asked for: possible or not here and at this store, and what it would mean for people.

    ``offered_again``: the store was seen to offer again what was stopped, and a person is asked whether that is wanted.
    ``newer``: the version that was launched there after this one. ``confirmed``: the store was seen to hold what is wanted.
    """
    here = {act: _option(act, progress, ladder, rules, previous_version) for act in acts}
    if progress.state is S.WITHDRAWN and E.RESUME in acts and here[E.RESUME].possible:
        here[E.RESUME] = _coming_back(here[E.RESUME], newer, confirmed=confirmed)
    if offered_again:
        stop = E.WITHDRAW if progress.state is S.WITHDRAWN else E.HALT
        stopped = _consequence(stop, progress, ladder, rules, previous_version)
        taken = "The store offers it again; that is taken as wanted, and nothing is sent to the store."
        asked = {stop: Option(stop, True, consequence=stopped), E.RESUME: Option(E.RESUME, True, consequence=taken)}
        here |= {act: option for act, option in asked.items() if act in acts}
    return here


def _coming_back(option: Option, newer: str | None, *, confirmed: bool) -> Option:
    """Whether a withdrawn release may come back: nothing newer has its place, and the store has taken it down."""
    if newer is not None:
        why_not = f"{newer} was launched at this store after it; an earlier version does not come back."
        return replace(option, possible=False, why_not=why_not)
    if not confirmed:
        return replace(option, possible=False, why_not="The store has not confirmed the withdrawal yet; wait for it.")
    return option


def demand(chosen: Option, here: Mapping[RolloutEvent, Option]) -> None:
    """Raise ImpossibleAct with the option's own reason unless it is possible."""
    if not chosen.possible:
        raise ImpossibleAct(chosen.why_not, possible=[act for act, option in here.items() if option.possible])


def _option(
    act: RolloutEvent, progress: Progress, ladder: Ladder, rules: RolloutRules, previous_version: str | None
) -> Option:
    consequence = _consequence(act, progress, ladder, rules, previous_version)
    if (progress.state, act) not in ROLLOUT.table:
        return Option(act, False, f"The rollout is {progress.state}; {act} has no meaning there.", consequence)
    why_not = _store_objection(act, progress, ladder, rules)
    return Option(act, not why_not, why_not, consequence)


def _store_objection(act: RolloutEvent, progress: Progress, ladder: Ladder, rules: RolloutRules) -> str:
    """The store's rule against an act that has a meaning here, or nothing."""
    if act is E.ADVANCE and progress.stage + 1 >= len(ladder.stages):
        return "The rollout is at the top of its ladder; finish it instead."
    if act is E.ADVANCE and not rules.advance_by_hand:
        return "This store dictates how long each stage is held; it cannot be hurried."
    if act is E.FINISH and not rules.finish_early:
        return "This store dictates the ladder to the end; it cannot be finished early."
    if act is E.FINISH and progress.state is S.PAUSED and not rules.finish_while_paused:
        return "This store does not finish a paused rollout; resume it first."
    if act is E.PAUSE and rules.pauses_allowed is not None and progress.pauses_used >= rules.pauses_allowed:
        return f"This store allows {rules.pauses_allowed} pause(s) per rollout, and they are used up; halt instead."
    if act is E.HALT and progress.state is S.COMPLETE and not rules.halt_when_complete:
        return "This store cannot halt a release that everybody is offered; withdraw it instead."
    if act is E.RESUME and progress.state is S.HALTED and rules.after_halt is AfterHalt.NEW_BUILD:
        return "This store continues a halted release only with a new build; fix it with a new build, or withdraw."
    if act is E.RESUME and progress.state is S.WITHDRAWN and rules.after_withdraw is AfterWithdraw.NEW_RELEASE:
        return "This store does not offer a withdrawn release again; draft a new release."
    if act is E.WITHDRAW and not rules.withdraw:
        return "This store does not take a release down; halt it instead."
    return ""


def _consequence(
    act: RolloutEvent, progress: Progress, ladder: Ladder, rules: RolloutRules, previous_version: str | None
) -> str:
    match act:
        case E.ADVANCE:
            stage = min(progress.stage + 1, len(ladder.stages) - 1)
            return f"The build will be offered to {ladder.stages[stage].share:.0%} of people instead of {progress.share:.0%}."
        case E.PAUSE:
            left = (
                ""
                if rules.pauses_allowed is None
                else f" Pauses left after this: {max(rules.pauses_allowed - progress.pauses_used - 1, 0)}."
            )
            return f"The share stays at {progress.share:.0%} and the stage clock stops. People already offered it still get it.{left}"
        case E.RESUME if progress.state is S.WITHDRAWN:
            return f"The release comes back: it is offered to {progress.share:.0%} of people again, and its stage clock runs."
        case E.RESUME:
            return f"The rollout continues from {progress.share:.0%}; the stage clock runs again."
        case E.HALT:
            back = (
                " This store continues it only with a new build."
                if rules.after_halt is AfterHalt.NEW_BUILD
                else " It can be resumed."
            )
            return f"Nobody new is offered the build. Those who have it keep it.{back}"
        case E.FINISH:
            return "Everybody is offered the build at once. It cannot be taken back from a phone."
        case E.WITHDRAW:
            back = (
                " It can be resumed."
                if rules.after_withdraw is AfterWithdraw.OFFER_AGAIN
                else " This store does not offer it again; only a new release can follow."
            )
            if rules.withdraw_restores_previous and previous_version:
                return f"The release is taken down; the store offers {previous_version} again. Those who have it keep it.{back}"
            return (
                f"The release is taken down and the store offers nothing in its place. Those who have it keep it.{back}"
            )
        case _:
            return ""
