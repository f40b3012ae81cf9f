"""A push: one build to several stores, and what follows there."""

from __future__ import annotations

from typing import Self

from pydantic import Field, model_validator

from restless_tide.wire.base import Names, OneLine, Told
from restless_tide.wire.builds import BuildTold, ConsignmentTold, SourceWanted
from restless_tide.wire.cohorts import TrialBriefWanted, TrialTold
from restless_tide.wire.tracks import HowPlaced, PlacedTold


class HandOnWanted(TrialBriefWanted):
    """The cohorts that get the build as soon as it is ready. What is left out of the brief is the cohort's own."""

    cohorts: Names = Field(min_length=1)


class PushWanted(SourceWanted):
    packages: Names = Field(default_factory=list, description="SHA-256 of each package that has arrived")
    build: OneLine | None = Field(default=None, description="or the id of a build that is entered already")
    stores: Names = Field(default_factory=list, description="none: every store with an open berth for the platform")
    hand_on: HandOnWanted | None = None
    tracks: Names = Field(
        default_factory=list, description="where it is placed as soon as it is ready, such as openfield/early"
    )
    how: HowPlaced | None = Field(default=None, description="how it is placed on them")

    @model_validator(mode="after")
    def _says_which(self) -> Self:
        if bool(self.packages) == (self.build is not None):
            raise ValueError("name either the packages or the build")
        return self


class PushTold(Told):
    build: BuildTold
    consignments: list[ConsignmentTold]
    trials: list[TrialTold]
    placed: list[PlacedTold]
