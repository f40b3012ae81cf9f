"""Pictures of what the desk's records tell."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy.orm import Session

from restless_tide.desk import course, find, strips
from restless_tide.plots.pictures import (
    CourseLeg,
    CourseMark,
    CoursePicture,
    CoursePoint,
    StripPicture,
    StripStore,
    without_offers,
)
from restless_tide.records.tables import Release


def rollout(session: Session, release: Release, now: datetime, *, said: str = "", zone: str = "UTC") -> CoursePicture:
    """The course of a release at every store where it was launched."""
    legs = [
        CourseLeg(
            one.title,
            release.version,
            one.reference,
            [CoursePoint(point.at, point.share, point.rate, point.reference_rate) for point in one.points],
            [CourseMark(mark.at, mark.act, mark.share) for mark in one.marks],
        )
        for one in course.of_release(session, release, now)
    ]
    return CoursePicture(f"{release.app.title} {release.version}", legs, said, zone)


def strip(session: Session, app_name: str, since: datetime, until: datetime, *, zone: str = "UTC") -> StripPicture:
    """What new people were offered of an app over a time."""
    stores = [
        StripStore(one.title, without_offers(one.stretches), one.marks, known=one.since is not None)
        for one in strips.of_app(session, app_name, since, until)
    ]
    return StripPicture(find.app(session, app_name).title, since, until, stores, zone)
