"""What a picture shows, as values that go to the process which draws it, and come from the desk's records."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Literal

from restless_tide.core.strip import Mark, Stretch


@dataclass(frozen=True)
class CoursePoint:
    at: datetime
    share: float
    rate: float | None
    reference_rate: float | None


@dataclass(frozen=True)
class CourseMark:
    at: datetime
    act: str
    share: float | None


@dataclass(frozen=True)
class CourseLeg:
    """One store's part of a rollout."""

    title: str
    version: str
    reference: str | None
    points: list[CoursePoint]
    marks: list[CourseMark]


@dataclass(frozen=True)
class CoursePicture:
    """The course of a release's rollout. ``said`` stands above it: a verdict; ``zone`` is that of its times (IANA)."""

    title: str
    legs: list[CourseLeg]
    said: str = ""
    zone: str = "UTC"
    kind: Literal["course"] = "course"


@dataclass(frozen=True)
class StripStore:
    """One store's strip; ``known``: something was ever seen there."""

    title: str
    stretches: list[Stretch]
    marks: list[Mark]
    known: bool


@dataclass(frozen=True)
class StripPicture:
    """The strips of an app."""

    title: str
    since: datetime
    until: datetime
    stores: list[StripStore]
    zone: str = "UTC"
    kind: Literal["strip"] = "strip"


Picture = CoursePicture | StripPicture


def without_offers(stretches: Sequence[Stretch]) -> list[Stretch]:
    """Stretches as they are drawn: where an app is offered is no part of the picture."""
    return [replace(part, offer=None) for part in stretches]
