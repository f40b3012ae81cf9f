"""The course of a rollout as a picture: its share as water, how often people met a crash, and what was done."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, tzinfo
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from restless_tide.plots import drawing
from restless_tide.plots.drawing import ALARM, INK, SOFT, WATER, WATER_DEEP, literal
from restless_tide.plots.pictures import CourseLeg, CoursePicture, CoursePoint

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INCHES_A_STORE, _INCHES_AROUND = 2.6, 1.2
_MOST_NAMED = 8
"""So many acts are named in the picture; of more, the latest."""


def draw(picture: CoursePicture) -> bytes:
    """A PNG of a release's rollout, a store below the other."""
    courses, zone = picture.legs, ZoneInfo(picture.zone)
    rows = max(len(courses), 1)
    drawn = drawing.figure(_INCHES_AROUND + _INCHES_A_STORE * rows)
    head = f"{picture.title}\n{drawing.shortened(picture.said)}" if picture.said else picture.title
    drawn.suptitle(literal(head), x=0.01, ha="left", color=INK, fontsize=13)
    every = drawn.subplots(rows, 1, squeeze=False)[:, 0]
    if not courses:
        drawing.plain(every[0])
        every[0].set_axis_off()
        every[0].text(
            0.5, 0.5, "It was launched at no store yet.", transform=every[0].transAxes, ha="center", color=SOFT
        )
    for axes, course in zip(every, courses, strict=False):
        _draw_one(axes, course, zone)
    drawn.supxlabel(drawing.times_in(zone), color=SOFT, fontsize=9)
    return drawing.png(drawn)


def _draw_one(axes: Axes, course: CourseLeg, zone: tzinfo) -> None:
    drawing.plain(axes, zone)
    at = drawing.times([point.at for point in course.points])
    axes.set_title(literal(course.title), loc="left", color=INK, fontsize=11, weight="bold")
    axes.fill_between(at, [point.share for point in course.points], step="pre", color=WATER, linewidth=0)
    axes.step(at, [point.share for point in course.points], where="pre", color=WATER_DEEP, linewidth=1.6)
    axes.set_ylim(0, 1.05)
    axes.set_yticks([0, 0.25, 0.5, 0.75, 1], ["0%", "25%", "50%", "75%", "100%"])
    axes.set_ylabel("share of people", color=SOFT, fontsize=9)
    for place, mark in enumerate(course.marks):
        height = mark.share if mark.share is not None else _share_at(course.points, mark.at)
        axes.plot(drawing.times([mark.at]), [height], "D", color=INK, markersize=6, clip_on=False, zorder=5)
        if place >= len(course.marks) - _MOST_NAMED:
            where = (drawing.times([mark.at])[0], height)
            above = 7 + 9 * (place % 2)
            axes.annotate(
                literal(mark.act),
                where,
                (4, above),
                textcoords="offset points",
                fontsize=7.5,
                color=INK,
                annotation_clip=False,
            )
    rates = axes.twinx()
    for side in rates.spines.values():
        side.set_visible(False)
    rates.tick_params(colors=SOFT, labelsize=9, length=0)
    version = course.version
    ours, theirs = [point.rate for point in course.points], [point.reference_rate for point in course.points]
    counted = [rate for rate in (*ours, *theirs) if rate is not None]
    rates.plot(at, [_hole(rate) for rate in ours], color=ALARM, linewidth=1.8, label=literal(f"met a crash, {version}"))
    if course.reference is not None:
        named = literal(f"met a crash, {course.reference}")
        rates.plot(at, [_hole(rate) for rate in theirs], color=SOFT, linewidth=1.6, linestyle="--", label=named)
    rates.set_ylim(0, max(counted, default=0.01) * 1.15 or 0.01)
    rates.yaxis.set_major_formatter(lambda value, _: f"{value:.1%}")
    rates.set_ylabel("of sessions", color=SOFT, fontsize=9)
    if counted:
        rates.legend(loc="upper right", ncols=2, fontsize=8, frameon=False, labelcolor=INK, bbox_to_anchor=(1, 1.13))
    else:
        rates.set_yticks([])
        rates.set_ylabel("")
        axes.text(
            0.5, 0.5, "nothing was counted here yet", transform=axes.transAxes, ha="center", color=SOFT, fontsize=9
        )


def _hole(rate: float | None) -> float:
    return float("nan") if rate is None else rate


def _share_at(points: Sequence[CoursePoint], at: datetime) -> float:
    before = [point.share for point in points if point.at <= at]
    return before[-1] if before else points[0].share if points else 0.0
