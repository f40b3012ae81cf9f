"""A rulebook: a store's rules as data.

The store's gateway serves it with a revision; the desk reads the same document. Everything that
differs between stores stands here, so that no other file ever asks which store it is dealing with.
Durations carry their unit in the name; shares are of people, 0 to 1.
"""

from __future__ import annotations

import tomllib
from datetime import datetime
from enum import StrEnum

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from restless_tide.core.errors import Invalid
from restless_tide.core.ladder import Ladder


class Rules(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)


class Numbering(StrEnum):
    """How build numbers rise: for ever across the app, or anew with each version."""

    RISES_FOR_EVER = "rises for ever"
    RESTARTS_PER_VERSION = "restarts with each version"


class CohortKind(StrEnum):
    CREW = "crew"
    GUEST = "guest"
    WALK_IN = "walk-in"


class AfterHalt(StrEnum):
    """How a halted rollout may go on."""

    RESUME = "resume"
    NEW_BUILD = "new build"


class PackageRules(Rules):
    formats: tuple[str, ...] = Field(min_length=1, description="formats taken, such as 'apk' or 'ipa'")
    most_packages: int = Field(default=1, ge=1, description="packages in one build")
    largest_bytes: int = Field(default=4 * 1024**3, gt=0)
    lowest_target_platform: int | None = Field(default=None, description="the target level a package must reach")


class NumberRules(Rules):
    numbering: Numbering
    version_must_exceed_live: bool = False
    largest_number: int = Field(default=2_000_000_000, gt=0)


class Question(Rules):
    """A question a store may hold a build for. ``when_permission`` narrows it to packages that ask for it."""

    code: str
    text: str
    help: str = ""
    choices: tuple[str, ...] = ("yes", "no")
    refused_answers: tuple[str, ...] = Field(default=(), description="answers that the store turns the build away for")
    when_permission: str | None = None


class ProcessingRules(Rules):
    usual_minutes: float = Field(gt=0)
    questions: tuple[Question, ...] = ()


class CohortRules(Rules):
    seats: int = Field(ge=0)
    review_first: bool = False


class ReviewRules(Rules):
    usual_hours: float = Field(gt=0)
    notes_limit_characters: int = Field(default=500, gt=0)
    notes_locales_required: tuple[str, ...] = ()


class RolloutRules(Rules):
    dictated_ladder: Ladder | None = Field(default=None, description="the ladder the store dictates; none: any")
    advance_by_hand: bool = True
    pauses_allowed: int | None = Field(default=None, ge=0, description="per rollout; none: without limit")
    finish_early: bool = True
    finish_while_paused: bool = True
    halt_when_complete: bool = True
    after_halt: AfterHalt = AfterHalt.RESUME
    withdraw: bool = True
    withdraw_restores_previous: bool = False


class Rulebook(Rules):
    """The rules of one store."""

    store: str
    revision: str
    in_force_since: datetime
    platforms: tuple[str, ...] = Field(min_length=1)
    packages: PackageRules
    numbers: NumberRules
    processing: ProcessingRules
    cohorts: dict[CohortKind, CohortRules]
    review: ReviewRules
    rollout: RolloutRules


def read_rulebook(text: str, place: str = "rulebook") -> Rulebook:
    """Read a rulebook from TOML. Raises Invalid with every line of the schema that it breaks."""
    try:
        return Rulebook.model_validate(tomllib.loads(text))
    except tomllib.TOMLDecodeError as wrong:
        raise Invalid(f"{place} is not TOML: {wrong}.", code="rulebook-broken") from None
    except ValidationError as wrong:
        told = "; ".join(f"{'.'.join(map(str, error['loc']))}: {error['msg']}" for error in wrong.errors())
        raise Invalid(f"{place} breaks the rulebook schema: {told}.", code="rulebook-broken") from None
