"""A ladder: the stages a rollout climbs, each a share of people and a time to stay there."""

from __future__ import annotations

import re
from datetime import timedelta
from itertools import pairwise
from typing import Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from restless_tide.core.errors import Invalid
from restless_tide.core.words import percent

FULL_SHARE = 1.0
MOST_STAGES, MOST_HOURS, MOST_SESSIONS = 50, 24.0 * 366, 10**12
MOST_LADDERS, LONGEST_LADDER_NAME, LONGEST_LADDER_TEXT = 100, 60, 300
HOW_TO_WRITE = "per cent @ hours to hold it, or @steady and hours: 5@24,20@steady12/2000,100"


class Stage(BaseModel):
    """``share`` of people, above 0 and up to 1, and what ends the stage; a stage without either waits for a person.

    ``dwell_hours``: it is held so long. ``steady_hours``: every guard has been steady so long, with ``least_sessions`` counted
    in this stage.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    share: float = Field(gt=0, le=1)
    dwell_hours: float | None = Field(default=None, ge=0, le=MOST_HOURS, description="it is held so long")
    steady_hours: float | None = Field(
        default=None, gt=0, le=MOST_HOURS, description="it rises when every guard has been steady so long"
    )
    least_sessions: int = Field(
        default=0, ge=0, le=MOST_SESSIONS, description="and when so many sessions were counted in it"
    )

    @model_validator(mode="after")
    def _sessions_are_of_steadiness(self) -> Self:
        if self.least_sessions and self.steady_hours is None:
            raise ValueError("a number of sessions belongs to a stage that rises when steady: 5@steady12/2000")
        return self

    @property
    def dwell(self) -> timedelta | None:
        return None if self.dwell_hours is None else timedelta(hours=self.dwell_hours)

    @property
    def shortest(self) -> timedelta | None:
        """How long it is held at least, before it can rise without a person; None: it needs one."""
        known = [hours for hours in (self.dwell_hours, self.steady_hours) if hours is not None]
        return timedelta(hours=max(known)) if known else None

    def written(self) -> str:
        """As ``parse_ladder`` reads it."""
        ends = [f"{self.dwell_hours:g}"] if self.dwell_hours is not None else []
        if self.steady_hours is not None:
            ends.append(f"steady{self.steady_hours:g}" + (f"/{self.least_sessions}" if self.least_sessions else ""))
        return f"{self.share * 100:.10g}" + ("@" + "+".join(ends) if ends else "")

    def told(self) -> str:
        """Such as ``5% (24 h)`` or ``5% (steady for 12 h, 2,000 sessions)``."""
        ends = [f"{self.dwell_hours:g} h"] if self.dwell_hours is not None else []
        if self.steady_hours is not None:
            ends.append(f"steady for {self.steady_hours:g} h")
        if self.least_sessions:
            ends.append(f"{self.least_sessions:,} sessions")
        return percent(self.share) + (f" ({', '.join(ends)})" if ends else "")


class Ladder(BaseModel):
    """A named list of stages whose shares rise; the last is everybody."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    name: str
    stages: tuple[Stage, ...] = Field(min_length=1, max_length=MOST_STAGES)

    @model_validator(mode="after")
    def _rises_to_everybody(self) -> Ladder:
        shares = [stage.share for stage in self.stages]
        if any(later <= earlier for earlier, later in pairwise(shares)):
            raise ValueError(f"the shares of a ladder must rise from stage to stage, not {_listed(shares)}")
        if shares[-1] != FULL_SHARE:
            raise ValueError(f"the last stage of a ladder is everybody (100%), not {shares[-1]:.0%}")
        return self

    def stage_of(self, share: float) -> int:
        """The highest stage whose share is not above ``share``; -1 below the first."""
        return max((index for index, stage in enumerate(self.stages) if stage.share <= share), default=-1)

    def told(self) -> str:
        """The ladder in one line, such as ``1% (24 h), 10% (48 h), 100%``."""
        return ", ".join(stage.told() for stage in self.stages)

    def written(self) -> str:
        """As ``parse_ladder`` reads it."""
        return ",".join(stage.written() for stage in self.stages)

    @property
    def by_steadiness(self) -> bool:
        """Whether one of its stages rises by what guards say."""
        return any(stage.steady_hours is not None for stage in self.stages)


USUAL_LADDER = Ladder(
    name="usual",
    stages=(
        Stage(share=0.05, dwell_hours=24),
        Stage(share=0.2, dwell_hours=48),
        Stage(share=0.5, dwell_hours=48),
        Stage(share=1.0),
    ),
)
"""What a release climbs where the store leaves the ladder free and nobody named another."""


def continued(ladder: Ladder, share: float, changed: Ladder) -> Ladder:
    """A named ladder that was changed while a rollout climbs it: the stages up to ``share`` stay, above it the changed ones."""
    passed = tuple(stage for stage in ladder.stages if stage.share <= share)
    return Ladder(name=changed.name, stages=(*passed, *(stage for stage in changed.stages if stage.share > share)))


_STEADY = re.compile(r"steady([^/]+)(?:/(.+))?", re.DOTALL)


OWN = "own"
"""The name of a ladder that was written out for one leg."""


def parse_ladder(text: str, name: str = OWN) -> Ladder:
    """Read ``5@24,20@steady12/2000,100``: per cent, then what ends the stage. Raises Invalid.

    Behind ``@`` stand hours to hold it, ``steady`` with the hours that guards must have been steady and, behind a slash, the
    sessions that must have been counted, or both with a plus between: ``5@24+steady12/2000``.
    """
    if len(text) > LONGEST_LADDER_TEXT:
        raise Invalid(f"A ladder is written in {LONGEST_LADDER_TEXT} characters at most.", code="ladder-unfit")
    stages = []
    for place, part in enumerate(text.split(","), 1):
        try:
            stages.append(_parse_stage(part))
        except ValidationError as wrong:
            raise Invalid(f"Stage {place} of the ladder, {part.strip()!r}: {_first_message(wrong)}.") from None
        except ValueError:
            raise Invalid(
                f"Stage {place} of the ladder, {part.strip()!r}, cannot be read.",
                remedy=f"Write, stage by stage, {HOW_TO_WRITE}.",
            ) from None
    try:
        return Ladder(name=name, stages=tuple(stages))
    except ValueError as wrong:
        raise Invalid(f"The ladder {text!r} does not work: {_first_message(wrong)}.") from None


def _parse_stage(text: str) -> Stage:
    share, _, ends = text.strip().partition("@")
    dwell, steady, sessions = None, None, 0
    for end in ends.split("+") if ends else []:
        found = _STEADY.fullmatch(end.strip())
        if found is None:
            dwell = float(end.strip().removesuffix("h"))
        else:
            steady, sessions = float(found[1].strip().removesuffix("h")), int(found[2] or 0)
    return Stage(
        share=round(float(share.strip().removesuffix("%")) / 100, 12),
        dwell_hours=dwell,
        steady_hours=steady,
        least_sessions=sessions,
    )


def rest_of_way(ladder: Ladder, share: float, rest: Ladder) -> Ladder:
    """A ladder that is changed half-way: the stages up to ``share`` stay, those above it are ``rest``.

    Raises Invalid where the rest begins at the share that was reached, or below it.
    """
    if rest.stages[0].share <= share:
        raise Invalid(
            f"The rest of the way begins above {share:.0%}, where it stands, not at {rest.stages[0].share:.0%}.",
            remedy=f"Write only the stages that are still to come, such as {min(share * 2, 0.99):.0%}@24,100.",
            code="ladder-unfit",
        )
    passed = tuple(stage for stage in ladder.stages if stage.share <= share)
    return Ladder(name=rest.name, stages=(*passed, *rest.stages))


def _first_message(wrong: ValueError) -> str:
    errors = getattr(wrong, "errors", None)
    return str(errors()[0]["msg"]).removeprefix("Value error, ") if errors else str(wrong)


def _listed(shares: list[float]) -> str:
    return ", ".join(f"{share:.0%}" for share in shares)
