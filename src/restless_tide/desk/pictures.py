"""Pictures of field reports: known by what they are, not by what they are called, and drawn anew.

What is kept is made from the pixels alone, so places, owners and serial numbers that cameras write into
files are gone, and so is whatever else a file may carry.
"""

from __future__ import annotations

import io
import warnings
from collections.abc import Collection
from dataclasses import dataclass

from PIL import Image, ImageOps, UnidentifiedImageError
from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Invalid, TooLarge
from restless_tide.desk import find
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.tables import FieldReport, ReportPicture

LARGEST_BYTES = 12 * 1024 * 1024
MOST_PIXELS = 60_000_000
LONGEST_SIDE = 2560
MOST_PICTURES = 6
_TAKEN = ("PNG", "JPEG", "WEBP", "GIF")
_QUALITY = 88


@dataclass(frozen=True)
class Drawn:
    """A picture drawn anew. Sides in pixels."""

    content: bytes
    media_type: str
    width: int
    height: int


def draw_anew(content: bytes) -> Drawn:
    """The picture without anything but its pixels. Raises Invalid for what is no picture, TooLarge for a huge one."""
    if len(content) > LARGEST_BYTES:
        raise TooLarge(
            f"The picture has {len(content)} bytes; {LARGEST_BYTES} are taken.",
            remedy="Send a smaller one, or a part of it.",
            code="picture-too-large",
        )
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            with Image.open(io.BytesIO(content), formats=_TAKEN) as found:
                width, height = found.size
                if width * height > MOST_PIXELS:
                    raise TooLarge(
                        f"The picture has {width} × {height} pixels; {MOST_PIXELS // 1_000_000} million are taken.",
                        remedy="Send a smaller one.",
                        code="picture-too-large",
                    )
                upright = ImageOps.exif_transpose(found)
                clear = upright.mode in ("RGBA", "LA", "PA") or "transparency" in upright.info
                plain = upright.convert("RGBA" if clear else "RGB")
                lossless = found.format in ("PNG", "GIF")
    except TooLarge:
        raise
    except (
        UnidentifiedImageError,
        OSError,
        ValueError,
        SyntaxError,
        Image.DecompressionBombError,
        Image.DecompressionBombWarning,
    ):
        raise Invalid(
            "This is no picture that can be read.",
            remedy="Send a PNG, JPEG, WebP or GIF file.",
            code="picture-unreadable",
        ) from None
    plain.thumbnail((LONGEST_SIDE, LONGEST_SIDE))
    canvas = Image.new(plain.mode, plain.size)
    canvas.paste(plain)
    out = io.BytesIO()
    if lossless or clear:
        canvas.save(out, "PNG", optimize=True)
        return Drawn(out.getvalue(), "image/png", *canvas.size)
    canvas.save(out, "JPEG", quality=_QUALITY)
    return Drawn(out.getvalue(), "image/jpeg", *canvas.size)


def attach(desk: Desk, act: Act, report: FieldReport, drawn: Drawn) -> None:
    """Keep a picture, and put it into a report. Raises Conflict when it has enough."""
    if len(report.pictures) >= MOST_PICTURES:
        raise Conflict(f"A report has {MOST_PICTURES} pictures at most.", code="pictures-used-up")
    picture = ReportPicture(
        report_id=report.id,
        position=max((entry.position for entry in report.pictures), default=0) + 1,
        sha256=desk.pictures.keep(drawn.content),
        media_type=drawn.media_type,
        width=drawn.width,
        height=drawn.height,
        size_bytes=len(drawn.content),
    )
    report.pictures.append(picture)
    act.tell("report has a picture", f"report {report.id}", app=report.app.name)


def add(desk: Desk, person: str, report_id: str, content: bytes) -> None:
    """Draw a picture anew and put it into a report."""
    drawn = draw_anew(content)
    with desk.act(person) as act:
        attach(desk, act, find.report(act.session, report_id), drawn)


def drop_unused(desk: Desk, session: Session, digests: Collection[str]) -> None:
    """Remove the files of pictures that no report has any more."""
    used = set(session.scalars(select(ReportPicture.sha256).where(ReportPicture.sha256.in_(digests))))
    for sha256 in set(digests) - used:
        desk.pictures.drop(sha256)
