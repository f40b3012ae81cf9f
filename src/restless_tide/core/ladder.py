"""A ladder: the stages a rollout climbs, each a share of people and a time to stay there."""

from __future__ import annotations

from datetime import timedelta
from itertools import pairwise

from pydantic import BaseModel, ConfigDict, Field, model_validator

from restless_tide.core.errors import Invalid

FULL_SHARE = 1.0


class Stage(BaseModel):
    """``share`` of people, above 0 and up to 1; ``dwell_hours`` to hold it, or None: until a person raises it."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    share: float = Field(gt=0, le=1)
    dwell_hours: float | None = Field(default=None, ge=0)

    @property
    def dwell(self) -> timedelta | None:
        return None if self.dwell_hours is None else timedelta(hours=self.dwell_hours)


class Ladder(BaseModel):
    """A named list of stages whose shares rise; the last is everybody."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    name: str
    stages: tuple[Stage, ...] = Field(min_length=1)

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
        return ", ".join(
            f"{stage.share:.0%}" + (f" ({stage.dwell_hours:g} h)" if stage.dwell_hours is not None else "")
            for stage in self.stages
        )


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


def parse_ladder(text: str, name: str = "own") -> Ladder:
    """Read ``5@24,20@48,100`` (per cent, then hours to hold it). Raises Invalid."""
    stages = []
    for place, part in enumerate(text.split(","), 1):
        share_text, _, dwell_text = part.strip().partition("@")
        try:
            share = float(share_text.rstrip("%")) / 100
            stages.append(Stage(share=share, dwell_hours=float(dwell_text.rstrip("h")) if dwell_text else None))
        except ValueError:
            raise Invalid(
                f"Stage {place} of the ladder, {part.strip()!r}, cannot be read.",
                remedy="Write per cent and hours to hold, stage by stage: 5@24,20@48,100.",
            ) from None
    try:
        return Ladder(name=name, stages=tuple(stages))
    except ValueError as wrong:
        raise Invalid(f"The ladder {text!r} does not work: {_first_message(wrong)}.") from None


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
