"""A maker of sample pictures and films for demos and tests: real files, drawn from a few figures.

The icon is drawn as the sample packages have it, so that the two resemble each other.
"""

from __future__ import annotations

import colorsys
import hashlib
import io
import random
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

from PIL import Image, ImageDraw

from restless_tide.standins.packages import ICON_ABOVE, ICON_BELOW

_SAND, _DEEP, _FOAM = (236, 226, 200), (38, 84, 102), (214, 231, 234)


def icon(pixels: int = 1024, *, format: str = "PNG", transparent: bool = False) -> bytes:
    """A square icon in the colours of the packages' one."""
    picture = Image.new("RGBA" if transparent else "RGB", (pixels, pixels), ICON_ABOVE)
    ImageDraw.Draw(picture).rectangle((0, pixels // 2, pixels, pixels), fill=ICON_BELOW)
    return saved(picture, format)


def screen(
    seed: str, width: int = 1440, height: int = 3060, *, lines: Sequence[str] = (), format: str = "PNG",
    transparent: bool = False, mode: str = "",
) -> bytes:  # fmt: skip
    """What a made-up app shows: a sky, water with its tide line, and a few lines of text on a card."""
    dice = random.Random(seed)
    hue = dice.random()
    above = _colour(hue, 0.25, 0.95)
    picture = Image.new("RGBA" if transparent else "RGB", (width, height), above)
    draw = ImageDraw.Draw(picture)
    tide = int(height * dice.uniform(0.35, 0.6))
    draw.rectangle((0, tide, width, height), fill=_colour(hue + 0.1, 0.5, 0.55))
    draw.rectangle((0, tide, width, tide + max(2, height // 90)), fill=_FOAM)
    draw.rectangle((0, height - height // 7, width, height), fill=_SAND)
    margin, size = min(width, height) // 14, max(12, min(width, height) // 18)
    top = margin
    for said in lines or (seed,):
        draw.rounded_rectangle((margin, top, width - margin, top + size * 2), size // 3, fill=(255, 255, 255))
        draw.text((margin * 2, top + size // 2), said, fill=_DEEP, font_size=size)
        top += int(size * 2.6)
    if transparent:
        picture.putalpha(Image.linear_gradient("L").resize(picture.size))
    return saved(picture.convert(mode) if mode else picture, format)


def _colour(hue: float, saturation: float, value: float) -> tuple[int, int, int]:
    red, green, blue = colorsys.hsv_to_rgb(hue % 1, saturation, value)
    return int(red * 255), int(green * 255), int(blue * 255)


def saved(picture: Image.Image, format: str) -> bytes:
    """A picture as a file."""
    out = io.BytesIO()
    picture.save(out, format, **({"quality": 88} if format == "JPEG" else {}))
    return out.getvalue()


def noise(width: int, height: int, seed: str = "noise") -> bytes:
    """A picture that no format can pack tightly, as a PNG."""
    block = hashlib.shake_256(seed.encode()).digest(width * height * 3)
    return saved(Image.frombytes("RGB", (width, height), block), "PNG")


def moving(count: int = 3, pixels: int = 64) -> bytes:
    """A picture of several frames, as a PNG."""
    frames = [Image.new("RGB", (pixels, pixels), _colour(at / count, 0.6, 0.8)) for at in range(count)]
    out = io.BytesIO()
    frames[0].save(out, "PNG", save_all=True, append_images=frames[1:], duration=200)
    return out.getvalue()


def film(path: Path, seconds: float = 9, width: int = 640, height: int = 1280, *, codec: str = "libx264") -> Path:
    """Write a film of a rising tide. ``path`` ends with the container's name: .mp4 or .webm."""
    import av  # few callers make films, and loading it takes long

    rate = 4
    with av.open(str(path), "w") as container:
        stream = container.add_stream(codec, rate=rate, options={"preset": "ultrafast"} if codec == "libx264" else {})
        assert isinstance(stream, av.VideoStream)
        stream.width, stream.height, stream.pix_fmt = width, height, "yuv420p"
        stream.time_base = Fraction(1, rate)
        for at in range(round(seconds * rate)):
            picture = Image.new("RGB", (width, height), _FOAM)
            level = height - int(height * (at + 1) / (seconds * rate) * 0.7)
            ImageDraw.Draw(picture).rectangle((0, level, width, height), fill=_DEEP)
            frame = av.VideoFrame.from_image(picture)  # type: ignore[no-untyped-call]
            container.mux(stream.encode(frame))
        container.mux(stream.encode())
    return path
