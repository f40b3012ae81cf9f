"""What a store wants of the pictures and films on an app's page: its classes of them, as data."""

from __future__ import annotations

from enum import StrEnum
from graphlib import CycleError, TopologicalSorter
from typing import Annotated, Literal

from pydantic import Field, WithJsonSchema, model_validator

from restless_tide.core.catalogue import PictureForm, catalogue
from restless_tide.core.limits import LARGEST_FILM_BYTES, LARGEST_PICTURE_BYTES, MOST_PICTURE_CLASSES, MOST_PICTURES
from restless_tide.core.rule import Rules

MOST_SIDE = 20_000
PictureKey = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,59}$")]
"""A store's own key of a class; it is a folder's name, too."""
Side = Annotated[int, Field(ge=1, le=MOST_SIDE)]
_TWO_SIDES = {
    "type": "array",
    "items": {"type": "integer", "minimum": 1, "maximum": MOST_SIDE},
    "minItems": 2,
    "maxItems": 2,
}
"""A width and a height, in words that every reader of schemas knows."""


class PictureFormat(StrEnum):
    """How a file of pictures is written."""

    PNG = "png"
    JPEG = "jpeg"
    WEBP = "webp"
    MP4 = "mp4"
    WEBM = "webm"


STILL = frozenset({PictureFormat.PNG, PictureFormat.JPEG, PictureFormat.WEBP})
MOVING = frozenset(PictureFormat) - STILL
SEE_THROUGH = frozenset({PictureFormat.PNG, PictureFormat.WEBP})
"""Formats that can be transparent."""
MEDIA_TYPES = {
    PictureFormat.PNG: "image/png",
    PictureFormat.JPEG: "image/jpeg",
    PictureFormat.WEBP: "image/webp",
    PictureFormat.MP4: "video/mp4",
    PictureFormat.WEBM: "video/webm",
}
_OF_RANGES = ("smallest_side", "largest_side", "longest_to_shorter")
_OF_FILMS = ("codecs", "shortest_seconds", "longest_seconds", "needs")
_OF_STILLS = ("longest_to_shorter", "every_size", "transparent")


class PictureRules(Rules):
    """One class of pictures or films, by the store's own key for it. Sides in pixels."""

    means: str | None = Field(default=None, description="what it is in the desk's catalogue; none: as it is called")
    title: str = Field(default="", max_length=80, description="the store's own name for it")
    help: str = Field(default="", max_length=400, description="the store's own words on it")
    form: PictureForm | None = Field(default=None, description="of a class that is not in the catalogue")
    formats: tuple[PictureFormat, ...] = Field(default=(), description="none: png for pictures, mp4 for films")
    sizes: tuple[Annotated[tuple[Side, Side], WithJsonSchema(_TWO_SIDES)], ...] = Field(
        default=(),
        max_length=20,
        description="width and height, of which one is wanted; none: any within the sides below",
    )
    every_size: bool = Field(default=False, description="each picture is wanted in every one of the sizes")
    smallest_side: Side = Field(default=1, description="without sizes: the shorter side at least")
    largest_side: Side = Field(default=MOST_SIDE, description="without sizes: the longer side at most")
    longest_to_shorter: float | None = Field(
        default=None, ge=1, description="without sizes: the longer side is at most so many times the shorter; 1: square"
    )
    fewest: int = Field(default=0, ge=0, le=MOST_PICTURES, description="so many at least; 0: it may be left out")
    most: int = Field(default=8, ge=1, le=MOST_PICTURES, description="so many at most, in one language")
    transparent: Literal["taken", "refused", "required"] = Field(default="taken", description="see-through parts")
    largest_bytes: int = Field(default=0, ge=0, description="of one file; 0: as much as the desk takes")
    by_locale: bool = Field(default=True, description="each language may have its own; the others show the first one's")
    also_from: tuple[str, ...] = Field(
        default=(), description="classes of this store whose pictures serve here, too, where it has none"
    )
    codecs: tuple[str, ...] = Field(default=(), description="of a film: h264, hevc, vp9 …; none: any")
    shortest_seconds: float = Field(default=0, ge=0, description="of a film")
    longest_seconds: float = Field(default=3600, gt=0, description="of a film")
    needs: str | None = Field(default=None, description="of a film: only beside pictures of this class")

    @model_validator(mode="after")
    def _fits_together(self) -> PictureRules:
        if self.fewest > self.most:
            raise ValueError(f"fewest is {self.fewest} and most {self.most}; nothing is between them")
        if self.smallest_side > self.largest_side or self.shortest_seconds > self.longest_seconds:
            raise ValueError("a lower bound is above its upper bound")
        if self.every_size and not self.sizes:
            raise ValueError("every_size needs sizes")
        if self.sizes and self.said(_OF_RANGES):
            raise ValueError("sizes stand alone; a range of sides belongs to a class without them")
        return self

    def said(self, names: tuple[str, ...]) -> list[str]:
        """Those of these fields that say something else than their default."""
        return [name for name in names if getattr(self, name) != type(self).model_fields[name].default]


class PictureClasses(Rules):
    """The classes of pictures and films that a store takes."""

    pictures: dict[PictureKey, PictureRules] = Field(default_factory=dict, max_length=MOST_PICTURE_CLASSES)

    def picture_meaning(self, key: str) -> str | None:
        """What a class shows in the catalogue; None: only this store asks for it."""
        meant = self.pictures[key].means or key
        return meant if meant in catalogue().pictures else None

    def picture_meanings(self) -> dict[str, str]:
        """What each class shows that several stores share."""
        return {key: meant for key in self.pictures if (meant := self.picture_meaning(key)) is not None}

    def picture_form(self, key: str) -> PictureForm:
        """Whether a class has stills or films."""
        meant = self.picture_meaning(key)
        return self.pictures[key].form or (catalogue().pictures[meant].form if meant else PictureForm.PICTURE)

    def picture_title(self, key: str) -> str:
        """What people call a class: the store's own name, or the catalogue's."""
        meant = self.picture_meaning(key)
        return self.pictures[key].title or (catalogue().pictures[meant].title if meant else key)

    def picture_formats(self, key: str) -> tuple[PictureFormat, ...]:
        """The formats that a class takes, the preferred one first."""
        film = self.picture_form(key) is PictureForm.FILM
        return self.pictures[key].formats or ((PictureFormat.MP4,) if film else (PictureFormat.PNG,))

    def largest_file(self, key: str) -> int:
        """The most bytes of one file of a class."""
        most = LARGEST_FILM_BYTES if self.picture_form(key) is PictureForm.FILM else LARGEST_PICTURE_BYTES
        return min(self.pictures[key].largest_bytes or most, most)

    @model_validator(mode="after")
    def _pictures_mean_something_known(self) -> PictureClasses:
        meant: dict[str, str] = {}
        for key, rule in self.pictures.items():
            if rule.means is not None and rule.means not in catalogue().pictures:
                known = ", ".join(catalogue().pictures)
                raise ValueError(
                    f"pictures.{key} means {rule.means!r}, which the catalogue does not know; it has {known}"
                )
            meaning = self.picture_meaning(key)
            if meaning is not None and meaning in meant:
                raise ValueError(f"pictures.{key} and pictures.{meant[meaning]} both mean {meaning}; one may")
            if meaning is not None:
                meant[meaning] = key
        for key in self.pictures:
            self._check_class(key)
        try:
            TopologicalSorter({key: rule.also_from for key, rule in self.pictures.items()}).prepare()
        except CycleError as wrong:
            raise ValueError(f"pictures serve each other in a circle: {' from '.join(wrong.args[1])}") from None
        return self

    def _check_class(self, key: str) -> None:
        rule, form = self.pictures[key], self.picture_form(key)
        film = form is PictureForm.FILM
        strange = [one for one in self.picture_formats(key) if one not in (MOVING if film else STILL)]
        if strange:
            raise ValueError(f"pictures.{key}.formats names {', '.join(strange)}, which is no format of a {form}")
        unfit = rule.said(_OF_STILLS if film else _OF_FILMS)
        if unfit:
            raise ValueError(f"pictures.{key} sets {', '.join(unfit)}, which a {form} does not have")
        if rule.transparent == "required" and not set(self.picture_formats(key)) & SEE_THROUGH:
            raise ValueError(f"pictures.{key} wants transparency, and none of its formats can have it")
        named = [*rule.also_from, *([rule.needs] if rule.needs is not None else [])]
        unknown = [one for one in named if one not in self.pictures or one == key]
        if unknown:
            raise ValueError(f"pictures.{key} names {', '.join(unknown)}, which no other class is called")
        if any(self.picture_form(one) is not form for one in rule.also_from):
            raise ValueError(f"pictures.{key}.also_from names a class of another form")
        if rule.needs is not None and self.picture_form(rule.needs) is not PictureForm.PICTURE:
            raise ValueError(f"pictures.{key}.needs names a class of films")
