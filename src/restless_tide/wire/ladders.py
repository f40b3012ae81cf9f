"""Ladders that are kept under a name."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import AfterValidator, Field

from restless_tide.core.ladder import HOW_TO_WRITE, LONGEST_LADDER_NAME, OWN, Stage
from restless_tide.wire.base import OneLine, Told, Wanted, Words, one_step
from restless_tide.wire.releases import LadderText


def _begins_with_a_letter(name: str) -> str:
    if not name[:1].isalpha():
        raise ValueError("a ladder's name begins with a letter")
    if name == OWN:
        raise ValueError(f"{OWN!r} is what a ladder is called that was written out for one rollout")
    return name


LadderName = Annotated[
    OneLine,
    Field(min_length=1, max_length=LONGEST_LADDER_NAME),
    AfterValidator(one_step),
    AfterValidator(_begins_with_a_letter),
]


class LadderWanted(Wanted):
    stages: LadderText = Field(description=HOW_TO_WRITE)
    reason: Words = ""


class ClimbingTold(Told):
    """A leg that has a part of the ladder before it."""

    app: str
    version: str
    place: str
    share: float


class LadderTold(Told):
    name: str
    text: str = Field(description="as it is written")
    told: str = Field(description="in words")
    stages: list[Stage]
    usual: bool = Field(description="what a release climbs unless another is named")
    built_in: bool = Field(description="it was not set at this desk")
    reason: str
    changed_at: datetime | None
    used_by: list[ClimbingTold]
