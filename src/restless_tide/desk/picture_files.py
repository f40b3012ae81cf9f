"""Files of pictures and films: read, made to fit, and compared. Called in a reader of its own process (reading.py) only,
so that a hostile file harms nobody but itself.

A picture is known by what it is, not by what it is called. Pillow reads and draws pictures, PyAV (FFmpeg) reads films.
"""

from __future__ import annotations

import io
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import av
from av.error import FFmpegError
from PIL import Image, ImageCms, ImageOps, UnidentifiedImageError
from PIL.Image import Resampling

from restless_tide.core.dossier_folder import format_of
from restless_tide.core.errors import Invalid, TooLarge
from restless_tide.core.limits import LARGEST_FILM_BYTES, LARGEST_PICTURE_BYTES, MOST_PIXELS
from restless_tide.core.picture_rules import MOVING, PictureFormat
from restless_tide.core.pictures import PictureFacts, Recipe

_TAKEN = ("PNG", "JPEG", "WEBP", "GIF")
_STILLS = {"PNG": "png", "JPEG": "jpeg", "MPO": "jpeg", "WEBP": "webp", "GIF": "gif"}
"""By Pillow's name for the format; a JPEG that holds several views is an MPO there."""
_CONTAINERS = {"mov,mp4,m4a,3gp,3g2,mj2": "mp4", "matroska,webm": "webm"}
_SCREEN_MODES = frozenset({"RGB", "RGBA", "P", "L", "LA", "1"})
_WITH_ALPHA = frozenset({"RGBA", "LA", "PA", "La", "RGBa"})
_QUALITIES = (90, 84, 78, 70, 60)
_ORIENTATION, _UPRIGHT = 0x0112, 1
_SMALL = (32, 32)
_GREY = (128, 128, 128)
_LONGEST_FILM_SECONDS = 600
MOST_STREAMS = 20


def read_file(path: Path, sha256: str) -> PictureFacts:
    """What a file of a picture or a film is. Raises Invalid for one that cannot be used, TooLarge for a huge one."""
    return _read_film(path, sha256) if _moves(path) else _read_still(path, sha256)


def _moves(path: Path) -> bool:
    with path.open("rb") as file:
        return format_of(file.read(16)) in MOVING


def _read_still(path: Path, sha256: str) -> PictureFacts:
    size_bytes = path.stat().st_size
    if size_bytes > LARGEST_PICTURE_BYTES:
        raise TooLarge(
            f"The picture has {size_bytes:,} bytes; {LARGEST_PICTURE_BYTES:,} are taken.", code="picture-too-large"
        )
    with _opened(path) as found:
        width, height = found.size
        if getattr(found, "is_animated", False) and found.format != "MPO":
            raise Invalid(
                f"The picture moves: it has {getattr(found, 'n_frames', 2)} frames, and stores want still ones.",
                remedy="Save one frame of it, or put it in as a film.",
                code="picture-animated",
            )
        orientation = found.getexif().get(_ORIENTATION, _UPRIGHT)
        if orientation in (5, 6, 7, 8):
            width, height = height, width
        found.load()
        plain = found.mode in _SCREEN_MODES and orientation == _UPRIGHT and found.format in ("PNG", "JPEG", "WEBP")
        return PictureFacts(
            sha256=sha256,
            format=_STILLS[found.format or ""],
            width=width,
            height=height,
            size_bytes=size_bytes,
            transparent=found.mode in _WITH_ALPHA or "transparency" in found.info,
            plain=plain,
        )


@contextmanager
def _opened(path: Path) -> Iterator[Image.Image]:
    """A picture, its size looked at before anything of it is drawn. Raises Invalid or TooLarge."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            Image.MAX_IMAGE_PIXELS = None  # what is too large is said below, with the figures
            with Image.open(path, formats=_TAKEN) as found:
                width, height = found.size
                if width * height > MOST_PIXELS:
                    raise TooLarge(
                        f"The picture has {width:,} × {height:,} pixels; {MOST_PIXELS // 1_000_000} million in all are taken.",
                        remedy="Save a smaller one.",
                        code="picture-too-large",
                    )
                yield found
    except UnidentifiedImageError:
        raise Invalid(
            "This is no picture and no film that is known here.",
            remedy="Put in a PNG, JPEG, WebP or GIF picture, or an MP4 or WebM film.",
            code="picture-unreadable",
        ) from None
    except (OSError, ValueError, SyntaxError, EOFError, Image.DecompressionBombError):
        raise Invalid(
            "The picture cannot be read to its end; the file is damaged or cut off.",
            remedy="Save it again.",
            code="picture-unreadable",
        ) from None


def _read_film(path: Path, sha256: str) -> PictureFacts:
    size_bytes = path.stat().st_size
    if size_bytes > LARGEST_FILM_BYTES:
        raise TooLarge(
            f"The film has {size_bytes:,} bytes; {LARGEST_FILM_BYTES:,} are taken.", code="picture-too-large"
        )
    damaged = Invalid(
        "The film cannot be read to its end; the file is damaged or cut off.",
        remedy="Save it again.",
        code="picture-unreadable",
    )
    try:
        with av.open(str(path), metadata_errors="ignore") as container:
            kind = _CONTAINERS.get(container.format.name)
            video = container.streams.video
            if kind is None or not video or len(container.streams) > MOST_STREAMS:
                raise Invalid(
                    f"This film is written as {container.format.name}, and MP4 and WebM are taken."
                    if kind is None
                    else "This file has no film in it that can be used.",
                    code="picture-unreadable",
                )
            stream = video[0]
            announced = stream.frames
            seconds = container.duration / 1_000_000 if container.duration else 0.0
            found = sum(1 for packet in container.demux(stream) if packet.size)
            if seconds <= 0 or not found or found < announced:
                raise damaged
            if seconds > _LONGEST_FILM_SECONDS:
                raise TooLarge(
                    f"The film runs {seconds:.0f} s; {_LONGEST_FILM_SECONDS} s are taken.", code="picture-too-large"
                )
            return PictureFacts(
                sha256=sha256,
                format=kind,
                width=stream.codec_context.width,
                height=stream.codec_context.height,
                size_bytes=size_bytes,
                seconds=round(seconds, 3),
                codec=stream.codec_context.name,
            )
    except (FFmpegError, OSError, ValueError):
        raise damaged from None


def make(path: Path, recipe: Recipe, into: Path) -> None:
    """Make a file of the original at ``path``. Nothing but the pixels goes into it. Raises Invalid, TooLarge."""
    with _opened(path) as found:
        drawn = _on_screen(found, keep_alpha=not recipe.flat)
    box = (recipe.left, recipe.top, recipe.left + recipe.part_width, recipe.top + recipe.part_height)
    sized = drawn.resize((recipe.width, recipe.height), Resampling.LANCZOS, box=box, reducing_gap=3.0)
    into.write_bytes(_packed(sized, recipe))


def _on_screen(found: Image.Image, *, keep_alpha: bool) -> Image.Image:
    """A picture upright, in the colours of screens, without anything but its pixels."""
    profile, clear = found.info.get("icc_profile"), found.mode in _WITH_ALPHA or "transparency" in found.info
    upright = ImageOps.exif_transpose(found)
    if profile and upright.mode in ("RGB", "CMYK", "L"):
        try:
            source = ImageCms.ImageCmsProfile(io.BytesIO(profile))
            upright = (
                ImageCms.profileToProfile(upright, source, ImageCms.createProfile("sRGB"), outputMode="RGB") or upright
            )
        except ImageCms.PyCMSError:
            pass  # a profile that cannot be read is left out, as browsers do
    if clear and keep_alpha:
        pixels = upright.convert("RGBA")
        canvas = Image.new("RGBA", pixels.size)
        canvas.paste(pixels)
        return canvas
    if clear:
        pixels = upright.convert("RGBA")
        canvas = Image.new("RGB", pixels.size, (255, 255, 255))
        canvas.paste(pixels, mask=pixels.getchannel("A"))
        return canvas
    canvas = Image.new("RGB", upright.size)
    canvas.paste(upright.convert("RGB"))
    return canvas


def _packed(picture: Image.Image, recipe: Recipe) -> bytes:
    """The picture as a file; where it may lose something, as little as brings it under the bound."""
    if recipe.format is PictureFormat.PNG:
        return _saved(picture, "PNG")
    kind = "JPEG" if recipe.format is PictureFormat.JPEG else "WEBP"
    content = b""
    for quality in _QUALITIES:
        content = _saved(picture, kind, quality=quality)
        if len(content) <= recipe.at_most_bytes:
            break
    return content


def _saved(picture: Image.Image, kind: str, **how: int) -> bytes:
    out = io.BytesIO()
    picture.save(out, kind, **how)
    return out.getvalue()


def reduce(path: Path, side: int, into: Path) -> None:
    """Write a small copy of a picture, or of the first moment of a film, with no side longer than ``side`` pixels."""
    if _moves(path):
        with av.open(str(path), metadata_errors="ignore") as container:
            frame = next(container.decode(video=0))
            drawn: Image.Image = frame.to_image()  # type: ignore[no-untyped-call]
    else:
        with _opened(path) as found:
            found.draft("RGB", (side * 2, side * 2))
            drawn = _on_screen(found, keep_alpha=True)
    drawn.thumbnail((side, side), Resampling.LANCZOS)
    into.write_bytes(_saved(drawn, "WEBP", quality=80))


def apart(one: Path, other: bytes) -> float | None:
    """How far two icons are apart: the mean CIE 1976 colour difference of small copies on grey; None: one cannot be drawn.

    About 2 is a difference that people just see in a colour; two unlike icons are 30 and more apart.
    """
    try:
        with _opened(one) as found:
            first = _small(found)
        with Image.open(io.BytesIO(other), formats=("PNG", "WEBP")) as found:
            second = _small(found)
    except (OSError, ValueError, SyntaxError, Invalid, TooLarge):
        return None
    return _difference(_lab(first), _lab(second))


def _difference(one: bytes, other: bytes) -> float:
    """The mean colour difference of two pictures in CIELAB: three bytes a pixel, the last two signed, lightness 0 to 255."""
    total = 0.0
    for at in range(0, len(one), 3):
        lightness = (one[at] - other[at]) * 100 / 255
        colours = [((one[at + by] ^ 128) - (other[at + by] ^ 128)) ** 2 for by in (1, 2)]
        total += float((lightness**2 + sum(colours)) ** 0.5)
    return total / (len(one) // 3)


def _small(found: Image.Image) -> Image.Image:
    pixels = _on_screen(found, keep_alpha=True).convert("RGBA")
    canvas = Image.new("RGB", pixels.size, _GREY)
    canvas.paste(pixels, mask=pixels.getchannel("A"))
    return canvas.resize(_SMALL, Resampling.BOX)


def _lab(picture: Image.Image) -> bytes:
    screen, lab = ImageCms.createProfile("sRGB"), ImageCms.createProfile("LAB")
    drawn = ImageCms.profileToProfile(picture, screen, lab, outputMode="LAB")
    assert drawn is not None
    return drawn.tobytes()
