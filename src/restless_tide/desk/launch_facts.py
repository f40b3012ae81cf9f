"""What an act has changed that launch conditions read: so the cost of looking again follows what reads it."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from enum import StrEnum
from typing import Any, NamedTuple

from restless_tide.records.tables import (
    FieldReport,
    FreezeOverride,
    FreezeRow,
    GoAheadGiven,
    GuardWatch,
    Leg,
    Release,
    Round,
    Sighting,
)


class About(StrEnum):
    """What a fact is about; every leg of the same release, or of the same build, may read it."""

    LEG = "leg"
    RELEASE = "release"
    BUILD = "build"
    TRIAL = "trial"
    EVERYTHING = "everything"


class Fact(NamedTuple):
    about: About
    id: str = ""


EVERYTHING = Fact(About.EVERYTHING)
_FACTS: dict[type, Callable[[Any], Fact]] = {
    Leg: lambda row: Fact(About.LEG, row.id),
    Round: lambda row: Fact(About.LEG, row.leg_id),
    GoAheadGiven: lambda row: Fact(About.LEG, row.leg_id),
    Sighting: lambda row: Fact(About.LEG, row.subject),
    Release: lambda row: Fact(About.RELEASE, row.id),
    FreezeOverride: lambda row: Fact(About.RELEASE, row.release_id),
    GuardWatch: lambda row: Fact(About.RELEASE, row.release_id),
    FieldReport: lambda row: Fact(About.BUILD, row.build_id or ""),
    FreezeRow: lambda row: EVERYTHING,
}


def of(rows: Iterable[object]) -> set[Fact]:
    """The facts that rows have changed."""
    return {_FACTS[type(row)](row) for row in rows if type(row) in _FACTS}
