"""How a stand-in looks at pictures and films: its own reading of the files, and of the rulebook's classes.

Written apart from core's on purpose: if both sides shared this code, a mistake in it would be invisible.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from PIL import Image, UnidentifiedImageError

from restless_tide.core.picture_rules import PictureRules
from restless_tide.core.rulebook import Rulebook
from restless_tide.standins.judgement import Refusal

FILES_REMEMBERED = 1_000
"""What lies at a path stays as it is: an arrived file has the name of its upload, one that was kept that of its digest."""
_KINDS = {"PNG": "png", "JPEG": "jpeg", "WEBP": "webp"}
_PAPER_COLOURS = ("CMYK", "YCCK")
Sets = dict[str, dict[str, list[str]]]


@dataclass(frozen=True)
class Seen:
    """What a file is. ``seconds`` 0: it stands still."""

    kind: str
    width: int
    height: int
    size: int
    alpha: bool
    mode: str = "RGB"
    seconds: float = 0.0
    codec: str = ""


def digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


@lru_cache(FILES_REMEMBERED)
def look(path: Path) -> Seen:
    """Raises Refusal for what we cannot show."""
    size = path.stat().st_size
    try:
        with Image.open(path) as found:
            alpha = "A" in found.getbands() or "transparency" in found.info
            found.load()
            return Seen(_KINDS.get(found.format or "", found.format or ""), *found.size, size, alpha, found.mode)
    except UnidentifiedImageError:
        return _look_at_film(path, size)
    except (OSError, ValueError, SyntaxError):
        raise Refusal("picture-unreadable", "A picture is damaged.") from None


def _look_at_film(path: Path, size: int) -> Seen:
    import av  # only few files are films, and loading it takes longer than a stand-in takes to start
    from av.error import FFmpegError

    try:
        with av.open(str(path)) as film:
            track = film.streams.video[0]
            kind = "webm" if "webm" in film.format.name else "mp4" if "mp4" in film.format.name else film.format.name
            width, height, codec = track.codec_context.width, track.codec_context.height, track.codec_context.name
            seconds = (film.duration or 0) / 1_000_000
            return Seen(kind, width, height, size, alpha=False, seconds=seconds, codec=codec)
    except (FFmpegError, IndexError, OSError):
        raise Refusal("picture-unreadable", "We cannot play or show this file.") from None


def demand_set(rules: Rulebook, locale: str, key: str, files: Sequence[Seen]) -> None:
    """Raise Refusal for a set that does not fit its class."""
    listing = rules.listing
    if listing.locales and locale not in listing.locales:
        raise Refusal("locale-not-taken", f"We show no pictures in {locale}.")
    rule = listing.pictures.get(key)
    if rule is None:
        raise Refusal("picture-class-unknown", f"We show nothing called {key!r}.")
    film = str(listing.picture_form(key)) == "film"
    shown = len(files) // len(rule.sizes) if rule.every_size else len(files)
    if files and not rule.fewest <= shown <= rule.most:
        raise Refusal("pictures-count", f"{key} shows {rule.fewest} to {rule.most}, and these are {shown}.")
    if rule.every_size:
        wanted = [tuple(size) for size in rule.sizes] * shown
        if [(one.width, one.height) for one in files] != wanted:
            raise Refusal("picture-size", f"{key} wants each picture in all of its sizes.")
    kinds = [str(kind) for kind in listing.picture_formats(key)]
    for one in files:
        if (one.seconds > 0) != film:
            raise Refusal("picture-form", f"{key} shows {'films' if film else 'pictures'}.")
        if film:
            _demand_file(rule, key, one, kinds)
            _demand_film(rule, key, one)
        else:
            demand_still(rule, key, one, kinds)


def demand_still(rule: PictureRules, key: str, one: Seen, kinds: Sequence[str]) -> None:
    """Raise Refusal for a picture that does not fit."""
    _demand_file(rule, key, one, list(kinds))
    _demand_look(rule, key, one)


def _demand_file(rule: PictureRules, key: str, one: Seen, kinds: list[str]) -> None:
    if one.kind not in kinds:
        raise Refusal("picture-format", f"{key} takes {', '.join(kinds)}, and one is {one.kind or 'unknown'}.")
    if rule.largest_bytes and one.size > rule.largest_bytes:
        raise Refusal("picture-too-heavy", f"{key} takes {rule.largest_bytes} bytes a file.")
    if rule.sizes:
        if not any(one.width == width and one.height == height for width, height in rule.sizes):
            raise Refusal("picture-size", f"{key} does not take {one.width} × {one.height}.")
        return
    low, high = min(one.width, one.height), max(one.width, one.height)
    stretched = rule.longest_to_shorter is not None and high > low * rule.longest_to_shorter
    if low < rule.smallest_side or high > rule.largest_side or stretched:
        raise Refusal("picture-size", f"{key} does not take {one.width} × {one.height}.")


def _demand_look(rule: PictureRules, key: str, one: Seen) -> None:
    if one.mode in _PAPER_COLOURS:
        raise Refusal("picture-colours", f"A picture of {key} is made for paper.")
    if rule.transparent == "refused" and one.alpha:
        raise Refusal("picture-transparent", f"{key} takes no transparency.")
    if rule.transparent == "required" and not one.alpha:
        raise Refusal("picture-opaque", f"{key} wants transparency.")


def _demand_film(rule: PictureRules, key: str, one: Seen) -> None:
    if rule.codecs and one.codec not in rule.codecs:
        raise Refusal("film-codec", f"{key} takes {', '.join(rule.codecs)}.")
    # containers round a length to their own ticks
    if not rule.shortest_seconds - 0.001 <= one.seconds <= rule.longest_seconds + 0.001:
        raise Refusal("film-length", f"{key} runs from {rule.shortest_seconds:g} to {rule.longest_seconds:g} s.")


def reasons_against_pictures(rules: Rulebook, held: Sets, language: str) -> list[str]:
    """What the review desk misses among the pictures of an app whose first language this is."""
    reasons = []
    shown = language in rules.listing.locales if rules.listing.locales else True
    for key, rule in rules.listing.pictures.items():
        if rule.fewest and shown and not held.get(language, {}).get(key):
            reasons.append(f"There are no {key} in {language}.")
        if rule.needs is None:
            continue
        for locale, sets in held.items():
            beside = held.get(locale, {}).get(rule.needs) or held.get(language, {}).get(rule.needs)
            if sets.get(key) and not beside:
                reasons.append(f"{key} in {locale} needs {rule.needs} beside it.")
    return reasons


def shows_nothing(path: Path) -> bool:
    """Whether a picture has one colour alone; films are watched by people."""
    try:
        return _has_one_colour(path)
    except (OSError, ValueError, SyntaxError):
        return False


@lru_cache(FILES_REMEMBERED)
def _has_one_colour(path: Path) -> bool:
    """Raises what reading the file raises, which is not remembered."""
    with Image.open(path) as found:
        bands = found.convert("RGB").getextrema()
    return all(isinstance(band, tuple) and band[0] == band[1] for band in bands)
