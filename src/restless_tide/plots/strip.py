"""The strips of an app: for each store which versions new people were offered over time, their parts as height."""

from __future__ import annotations

from collections.abc import Sequence
from zoneinfo import ZoneInfo

from restless_tide.core.rollout import STOPPED, RolloutState
from restless_tide.plots import drawing
from restless_tide.plots.drawing import ALARM, BANDS, INK, SOFT, literal
from restless_tide.plots.pictures import StripPicture, StripStore

_INCHES_A_STORE, _INCHES_AROUND = 1.15, 1.3
_WIDE_ENOUGH = 0.055
"""A band as wide as this part of the picture bears its version."""


def draw(picture: StripPicture) -> bytes:
    """A PNG of the strips of one app, a store below the other."""
    strips, since, until, zone = picture.stores, picture.since, picture.until, ZoneInfo(picture.zone)
    from matplotlib.collections import PolyCollection

    rows = max(len(strips), 1)
    drawn = drawing.figure(_INCHES_AROUND + _INCHES_A_STORE * rows)
    drawn.suptitle(
        literal(f"{picture.title}: what new people were offered"),
        x=0.01,
        ha="left",
        color=INK,
        fontsize=13,
        weight="bold",
    )
    every = drawn.subplots(rows, 1, sharex=True, squeeze=False)[:, 0]
    if not strips:
        every[0].text(
            0.5, 0.5, "It has no place at any store yet.", transform=every[0].transAxes, ha="center", color=SOFT
        )
    colours = _colours(strips)
    wide = (until - since).total_seconds()
    for axes, strip in zip(every, strips, strict=False):
        drawing.plain(axes, zone)
        axes.set_ylim(0, 1.001)
        axes.set_yticks([0, 0.5, 1], ["0%", "50%", "100%"])
        axes.set_ylabel(literal(strip.title), rotation=0, ha="right", va="center", color=INK, fontsize=10)
        boxes, filled = [], []
        for part in strip.stretches:
            (begin, end), floor = drawing.times([part.since, part.until]), 0.0
            for layer in reversed(part.layers):
                top = floor + layer.part
                boxes.append([(begin, floor), (begin, top), (end, top), (end, floor)])
                filled.append(colours[layer.version])
                room = (part.until - part.since).total_seconds() / wide > _WIDE_ENOUGH and layer.part >= 0.25
                if room:
                    middle = ((begin + end) / 2, floor + layer.part / 2)
                    axes.text(
                        *middle, literal(layer.version), ha="center", va="center", color=INK, fontsize=9, clip_on=True
                    )
                floor += layer.part
        axes.add_collection(PolyCollection(boxes, facecolors=filled, linewidths=0), autolim=False)
        for mark in strip.marks:
            if mark.state in STOPPED:
                sign = "X" if mark.state is RolloutState.HALTED else "v"
                axes.plot(drawing.times([mark.at]), [0.5], sign, color=ALARM, markersize=9, markeredgecolor="white")
        if not strip.known:
            axes.text(
                0.5, 0.5, "nothing was seen there yet", transform=axes.transAxes, ha="center", color=SOFT, fontsize=9
            )
    every[-1].set_xlim(*drawing.times([since, until]))
    drawn.supxlabel(
        f"✕ halted   ▼ withdrawn   the height of a band is the part of new people; {drawing.times_in(zone)}",
        color=SOFT,
        fontsize=9,
    )
    return drawing.png(drawn)


def _colours(strips: Sequence[StripStore]) -> dict[str, str]:
    """A colour for each version, in the order in which they came."""
    seen = {
        layer.version: part.since for strip in strips for part in reversed(strip.stretches) for layer in part.layers
    }
    return {version: BANDS[at % len(BANDS)] for at, version in enumerate(sorted(seen, key=lambda one: seen[one]))}
