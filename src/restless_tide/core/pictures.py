"""Pictures and films as files: what is known of one, and how it is made to fit what a store wants.

A picture is never enlarged and never distorted. Where its shape is another one, a part of it is cut off, the same on
both sides, and it is said how much; a picture of which more than ``MOST_CUT`` would go does not fit.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from restless_tide.core.catalogue import PictureForm
from restless_tide.core.picture_rules import MOST_SIDE, SEE_THROUGH, PictureClasses, PictureFormat, PictureRules

MOST_CUT = 0.25
"""More of a picture's area is never cut off."""
CUT_TO_TELL = 0.08
"""From so much on a person should look at what is left."""


@dataclass(frozen=True, slots=True)
class PictureFacts:
    """What was read out of a file. Sides in pixels, as people see it (turned upright).

    ``plain``: it can be shown as it is; not so where its colours are for print, or it lies on its side. Of a film
    ``seconds`` and ``codec`` are given, of a picture not.
    """

    sha256: str
    format: str
    width: int
    height: int
    size_bytes: int
    transparent: bool = False
    plain: bool = True
    seconds: float | None = None
    codec: str | None = None

    @property
    def form(self) -> PictureForm:
        return PictureForm.PICTURE if self.seconds is None else PictureForm.FILM

    @property
    def kind(self) -> tuple[object, ...]:
        """All but the digest: files that are equal in it fit in the same way."""
        return (
            self.format, self.width, self.height, self.size_bytes, self.transparent, self.plain, self.seconds, self.codec,
        )  # fmt: skip

    def told(self) -> str:
        """Such as ``1200 × 2600 pixels``."""
        length = f", {self.seconds:.3g} s" if self.seconds is not None else ""
        return f"{self.width} × {self.height} pixels{length}"


@dataclass(frozen=True, slots=True)
class Recipe:
    """How a file for a store is made of an original: the part that is taken, its size then, and its format.

    ``left``, ``top``, ``part_width`` and ``part_height`` are pixels of the original. ``flat``: transparent parts become
    white. ``at_most_bytes`` bounds the file, where its format can be packed more tightly.
    """

    original: str
    left: int
    top: int
    part_width: int
    part_height: int
    width: int
    height: int
    format: PictureFormat
    flat: bool
    at_most_bytes: int

    @property
    def key(self) -> str:
        """The digest by which what was made is found again."""
        said = (
            _WAY, self.original, self.left, self.top, self.part_width, self.part_height, self.width, self.height,
            self.format, self.flat, self.at_most_bytes,
        )  # fmt: skip
        return hashlib.sha256(" ".join(map(str, said)).encode()).hexdigest()


_WAY = 1
"""Rises when the same recipe would make another file."""


@dataclass(frozen=True, slots=True)
class Made:
    """A file that was made by a recipe. With ``trouble`` it could not be made, and there is none."""

    sha256: str
    format: PictureFormat
    width: int
    height: int
    size_bytes: int
    trouble: str = ""


@dataclass(frozen=True, slots=True)
class Fit:
    """How an original fits: ``recipe`` None where it goes as it is, or where it does not fit; then ``why`` says why not.

    ``cut`` is the share of the original's area that is cut off.
    """

    recipe: Recipe | None = None
    cut: float = 0.0
    flat: bool = False
    code: str = ""
    why: str = ""


def fits(classes: PictureClasses, key: str, facts: PictureFacts) -> list[Fit]:
    """How an original becomes what a class takes: one file, or one in each size where the class wants them all."""
    rule = classes.pictures[key]
    form = classes.picture_form(key)
    if facts.form is not form:
        return [Fit(code="picture-wrong-form", why=f"is a {facts.form}, and a {form} belongs there")]
    if form is PictureForm.FILM:
        return [_film(classes, key, facts)]
    if rule.every_size:
        return [_still(classes, key, facts, [size]) for size in rule.sizes]
    return [_still(classes, key, facts, rule.sizes)]


def as_it_is(classes: PictureClasses, key: str, facts: PictureFacts) -> bool:
    """Whether a file belongs into a class without any change: by that a picture is recognised."""
    return all(not fit.code and fit.recipe is None for fit in fits(classes, key, facts))


def _film(classes: PictureClasses, key: str, facts: PictureFacts) -> Fit:
    rule, seconds = classes.pictures[key], facts.seconds or 0.0
    formats = classes.picture_formats(key)
    if facts.format not in formats:
        return Fit(code="picture-wrong-format", why=f"is {facts.format}; {', '.join(formats)} is taken")
    if rule.codecs and facts.codec not in rule.codecs:
        return Fit(code="film-wrong-codec", why=f"is coded as {facts.codec}; {', '.join(rule.codecs)} is taken")
    if not rule.shortest_seconds <= seconds <= rule.longest_seconds:
        between = f"{rule.shortest_seconds:g} to {rule.longest_seconds:g} s"
        return Fit(code="film-wrong-length", why=f"runs {seconds:.4g} s; {between} are taken")
    if not _right_sides(rule, facts.width, facts.height):
        return Fit(code="picture-wrong-size", why=f"has {facts.told()}; wanted: {sides_told(rule)}")
    return _weight(classes, key, facts)


def _weight(classes: PictureClasses, key: str, facts: PictureFacts) -> Fit:
    most = classes.largest_file(key)
    if facts.size_bytes > most:
        return Fit(code="picture-too-heavy", why=f"has {megabytes(facts.size_bytes)}; {megabytes(most)} are taken")
    return Fit()


def megabytes(size_bytes: int) -> str:
    """Such as ``2.5 MB``."""
    return f"{size_bytes / 1_000_000:.3g} MB"


def _right_sides(rule: PictureRules, width: int, height: int) -> bool:
    if rule.sizes:
        return (width, height) in rule.sizes
    shorter, longer = sorted((width, height))
    ratio = rule.longest_to_shorter
    fine = ratio is None or Fraction(longer, shorter) <= _exactly(ratio)
    return fine and shorter >= rule.smallest_side and longer <= rule.largest_side


def _exactly(ratio: float) -> Fraction:
    return Fraction(str(ratio))


def sides_told(rule: PictureRules) -> str:
    """What sides a class takes, in words."""
    if rule.sizes:
        between = " and " if rule.every_size else " or "
        return between.join(f"{width} × {height}" for width, height in rule.sizes) + " pixels"
    lowest, highest = rule.smallest_side, rule.largest_side
    if lowest > 1 and highest < MOST_SIDE:
        told = f"{lowest} to {highest} pixels"
    else:
        told = f"{lowest} pixels or more" if highest == MOST_SIDE else f"up to {highest} pixels"
    if rule.longest_to_shorter == 1:
        return f"a square of {told}"
    ratio = (
        "" if rule.longest_to_shorter is None else f", the longer at most {rule.longest_to_shorter:g} times the shorter"
    )
    return f"sides of {told}{ratio}"


def _still(classes: PictureClasses, key: str, facts: PictureFacts, sizes: Sequence[tuple[int, int]]) -> Fit:
    rule = classes.pictures[key]
    if rule.transparent == "required" and not facts.transparent:
        return Fit(code="picture-not-transparent", why="has no transparent parts, and they are demanded")
    flat = facts.transparent and rule.transparent == "refused"
    format_ = _format(classes, key, facts)
    flat = flat or (facts.transparent and format_ not in SEE_THROUGH)
    target = _of_sizes(facts, sizes) if sizes else _of_range(rule, facts)
    if target is None:
        return Fit(code="picture-too-small", why=f"has {facts.told()}; wanted: {sides_told(rule)}; nothing is enlarged")
    width, height = target
    part_width, part_height = _part(facts, width, height)
    cut = 1 - (part_width * part_height) / (facts.width * facts.height)
    if cut > MOST_CUT:
        return Fit(
            code="picture-wrong-shape",
            why=f"has {facts.told()}; for {width} × {height} {cut:.0%} of it would be cut off",
        )
    most = classes.largest_file(key)
    same = (width, height) == (facts.width, facts.height) and format_ == facts.format
    if same and not flat and facts.plain and facts.size_bytes <= most:
        return Fit()
    recipe = Recipe(
        original=facts.sha256,
        left=(facts.width - part_width) // 2,
        top=(facts.height - part_height) // 2,
        part_width=part_width,
        part_height=part_height,
        width=width,
        height=height,
        format=format_,
        flat=flat,
        at_most_bytes=most,
    )
    return Fit(recipe, cut, flat)


def _format(classes: PictureClasses, key: str, facts: PictureFacts) -> PictureFormat:
    """The format in which a picture goes there: its own where that is taken, else one that loses the least."""
    formats, rule = classes.picture_formats(key), classes.pictures[key]
    if facts.format in formats:
        return PictureFormat(facts.format)
    if facts.transparent and rule.transparent != "refused":
        return next((one for one in formats if one in SEE_THROUGH), formats[0])
    return formats[0]


def _of_sizes(facts: PictureFacts, sizes: Sequence[tuple[int, int]]) -> tuple[int, int] | None:
    """The size for which the least is cut off, and of those the largest; None where each would need enlarging."""
    within = [(width, height) for width, height in sizes if width <= facts.width and height <= facts.height]

    def left(size: tuple[int, int]) -> tuple[Fraction, int]:
        width, height = _part(facts, *size)
        return Fraction(width * height, facts.width * facts.height), size[0] * size[1]

    return max(within, key=left, default=None)


def _part(facts: PictureFacts, width: int, height: int) -> tuple[int, int]:
    """The largest part of a picture with the shape of ``width`` × ``height``, in pixels of the picture."""
    by_width = min(facts.width, round(Fraction(facts.height * width, height)))
    by_height = min(facts.height, round(Fraction(facts.width * height, width)))
    return max(1, by_width), max(1, by_height)


def _of_range(rule: PictureRules, facts: PictureFacts) -> tuple[int, int] | None:
    """The size nearest to the picture's own within the sides that a class takes; None where it is too small."""
    shorter, longer = sorted((facts.width, facts.height))
    if rule.longest_to_shorter is not None:
        longer = min(longer, int(shorter * _exactly(rule.longest_to_shorter)))
    if longer > rule.largest_side:
        shorter, longer = max(1, int(Fraction(shorter * rule.largest_side, longer))), rule.largest_side
        if rule.longest_to_shorter is not None and longer > shorter * _exactly(rule.longest_to_shorter):
            shorter = -int(-Fraction(longer) // _exactly(rule.longest_to_shorter))
    if shorter < rule.smallest_side:
        return None
    return (longer, shorter) if facts.width >= facts.height else (shorter, longer)
