"""What every picture of this desk shares: its colours, its type, and how it becomes a file.

The drawing library is imported when the first picture is drawn: a desk that draws none does not wait for it.
"""

from __future__ import annotations

from datetime import UTC, datetime, tzinfo
from io import BytesIO
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

CARD, INK, SOFT, LINE = "#fffefb", "#17282f", "#55656d", "#d8d4c8"
WATER, WATER_DEEP, ALARM = "#8fc9c3", "#4d9c97", "#a4361f"
BANDS = ("#4d9c97", "#c9b27c", "#7f9fb5", "#b58a7a", "#8fae7f", "#a593b8")
"""Versions that follow each other, beside each other in the same picture."""
WIDTH_INCHES, DOTS_PER_INCH = 11.0, 110
MOST_WORDS = 160


def figure(height_inches: float) -> Figure:
    from matplotlib.figure import Figure

    return Figure(figsize=(WIDTH_INCHES, height_inches), dpi=DOTS_PER_INCH, facecolor=CARD, layout="constrained")


def plain(axes: Axes, zone: tzinfo = UTC) -> None:
    """Quiet axes over time: a grid of thin lines, no frame, dates that fit."""
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

    locator = AutoDateLocator(minticks=3, maxticks=9, tz=zone)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    formatter = ConciseDateFormatter(locator, tz=zone)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_formatter(formatter)
    axes.set_facecolor(CARD)
    axes.tick_params(colors=SOFT, labelsize=9, length=0)
    axes.xaxis.offsetText.set_color(SOFT)
    for side in axes.spines.values():
        side.set_visible(False)
    axes.grid(color=LINE, linewidth=0.7)
    axes.set_axisbelow(True)


def png(drawn: Figure) -> bytes:
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    FigureCanvasAgg(drawn)
    content = BytesIO()
    drawn.savefig(content, format="png", facecolor=CARD)
    return content.getvalue()


def times_in(zone: tzinfo) -> str:
    return f"times in {getattr(zone, 'key', zone)}"


def shortened(text: str) -> str:
    """Words for a picture, which has less room than a page."""
    return text if len(text) <= MOST_WORDS else text[: MOST_WORDS - 1].rstrip() + "…"


def literal(text: str) -> str:
    """A text that is drawn as it is: the library takes what stands between dollar signs for a formula."""
    return text.replace("$", r"\$")


def times(instants: list[datetime]) -> list[float]:
    """Instants as the library counts them: days since 1970."""
    return [instant.timestamp() / 86_400 for instant in instants]
