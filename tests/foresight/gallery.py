"""Pictures and films for made-up apps, each drawn once: those that fit a class, and those that break one of its rules."""

from __future__ import annotations

import hashlib
import random
import shutil
import tempfile
from functools import cache
from pathlib import Path

from restless_tide.core.catalogue import PictureForm
from restless_tide.core.documents import DocumentFormat, FileAnswer
from restless_tide.core.picture_rules import MEDIA_TYPES, PictureFormat, PictureRules
from restless_tide.core.pictures import Made, PictureFacts, Recipe
from restless_tide.core.rulebook import Rulebook
from restless_tide.desk import picture_files
from restless_tide.gateways import protocol
from restless_tide.gateways.clauses import sample_document
from restless_tide.standins import pictures

_ROUND = 1.6


class Gallery:
    """The files, by the digest of their bytes; what is made of them is made once."""

    def __init__(self) -> None:
        self._folder = Path(tempfile.mkdtemp(prefix="tide-gallery-"))
        self.facts: dict[str, PictureFacts] = {}
        self.made: dict[str, Made] = {}
        self._named: dict[str, str] = {}

    def close(self) -> None:
        shutil.rmtree(self._folder, ignore_errors=True)

    def path(self, sha256: str) -> Path:
        return self._folder / sha256

    def still(self, width: int, height: int, seed: str = "a", *, transparent: bool = False, noisy: bool = False) -> str:
        """A picture; its digest."""
        name = f"{width} {height} {seed} {transparent} {noisy}"
        if name not in self._named:
            content = (
                pictures.noise(width, height, seed)
                if noisy
                else pictures.screen(seed, width, height, transparent=transparent)
            )
            self._named[name] = self._keep(content)
        return self._named[name]

    def film(self, seconds: float, width: int, height: int, codec: str = "libx264", ending: str = "mp4") -> str:
        """A film; its digest."""
        name = f"{seconds} {width} {height} {codec} {ending}"
        if name not in self._named:
            file = pictures.film(self._folder / f"film.{ending}", seconds, width, height, codec=codec)
            self._named[name] = self._keep(file.read_bytes())
            file.unlink()
        return self._named[name]

    def document(self, kind: DocumentFormat, size_bytes: int = 0) -> FileAnswer:
        """A document of so many bytes at least."""
        content = sample_document(kind)
        content = (
            content.replace(b"endobj", b"endobj\n%" + b"x" * size_bytes)
            if b"endobj" in content
            else content + b"x" * size_bytes
        )
        sha256 = hashlib.sha256(content).hexdigest()
        self.path(sha256).write_bytes(content)
        return FileAnswer(sha256, f"sample.{kind}", kind, len(content))

    def _keep(self, content: bytes) -> str:
        sha256 = hashlib.sha256(content).hexdigest()
        self.path(sha256).write_bytes(content)
        self.facts[sha256] = picture_files.read_file(self.path(sha256), sha256)
        return sha256

    def make(self, recipe: Recipe) -> None:
        """Make a file by a recipe, unless it was made."""
        if recipe.key in self.made:
            return
        part = self._folder / "part"
        picture_files.make(self.path(recipe.original), recipe, part)
        sha256, size = hashlib.sha256(part.read_bytes()).hexdigest(), part.stat().st_size
        part.replace(self.path(sha256))
        self.made[recipe.key] = Made(sha256, recipe.format, recipe.width, recipe.height, size)

    def sent(self, sha256: str, upload: str | None) -> protocol.PictureSent:
        kind = self.facts[sha256].format if sha256 in self.facts else self._made(sha256).format
        size = self.path(sha256).stat().st_size
        return protocol.PictureSent(
            sha256=sha256, media_type=MEDIA_TYPES[PictureFormat(kind)], size_bytes=size, upload=upload
        )

    def _made(self, sha256: str) -> Made:
        return next(one for one in self.made.values() if one.sha256 == sha256)


@cache
def gallery() -> Gallery:
    """The gallery of this process."""
    return Gallery()


def sound_pictures(rules: Rulebook, key: str, dice: random.Random) -> list[str]:
    """Originals that fit a class, some as they are, some after they were made smaller."""
    rule, form = rules.listing.pictures[key], rules.listing.picture_form(key)
    count = max(rule.fewest, 1)
    if form is PictureForm.FILM:
        return [sound_film(rule) for _ in range(count)][:1]
    width, height = sides(rule)
    larger = dice.random() < 0.4
    seen_through = rule.transparent == "required" or (rule.transparent == "taken" and dice.random() < 0.2)
    grown = (round(width * 1.25), round(height * 1.25)) if larger else (width, height)
    return [gallery().still(*grown, seed, transparent=seen_through) for seed in "abcdefghijklm"[:count]]


def sound_film(rule: PictureRules) -> str:
    """A film that fits its class."""
    shorter = max(rule.smallest_side, 180) // 2 * 2
    return gallery().film(rule.shortest_seconds + 1, shorter, shorter * 2)


def sides(rule: PictureRules) -> tuple[int, int]:
    """Width and height of a picture that a class takes."""
    if rule.sizes:
        return max(rule.sizes)
    shorter = max(rule.smallest_side, 64)
    ratio = min(rule.longest_to_shorter or _ROUND, _ROUND)
    return shorter, min(int(shorter * ratio), rule.largest_side)
