"""The pictures and films of an app: put in once, and what each store gets of them."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import Field

from restless_tide.core.catalogue import PictureForm
from restless_tide.core.limits import MOST_LOCALES, MOST_PICTURE_CLASSES, MOST_PICTURES
from restless_tide.core.picture_rules import PictureFormat
from restless_tide.core.texts import Origin, TextState
from restless_tide.wire.base import OneLine, Told, Wanted
from restless_tide.wire.problems import FindingTold

Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$", description="SHA-256 in hexadecimal digits")]
Digests = Annotated[list[Digest], Field(max_length=MOST_PICTURES)]
SetsByLocale = Annotated[
    dict[OneLine, Annotated[dict[OneLine, Digests], Field(max_length=MOST_PICTURE_CLASSES)]],
    Field(max_length=MOST_LOCALES),
]
"""Pictures by locale and class, in their order."""
MOST_IMPORTED = 400


class PictureFileTold(Told):
    """A file that was put in, with what was read out of it. Fetch it at ``/v1/pictures/{sha256}``."""

    sha256: str
    form: PictureForm
    format: str
    media_type: str
    width: int
    height: int
    size_bytes: int
    transparent: bool
    plain: bool = Field(description="false: written for print, or lying on its side; stores get it redrawn")
    seconds: float | None
    codec: str | None


class PicturesWanted(Wanted):
    """A whole set in its order, by files that were put in before; without any, the set is taken out."""

    pictures: Digests
    store: OneLine | None = Field(default=None, description="for this store alone, by its own classes; none: for all")


class ImportedFile(Wanted):
    sha256: Digest
    name: OneLine = Field(description="within its folder, slashes between, such as phone/en/01.png")


class PictureImportWanted(Wanted):
    """Files that the desk shall put in automatically where they belong."""

    files: list[ImportedFile] = Field(min_length=1, max_length=MOST_IMPORTED)
    instead: bool = Field(default=False, description="they take the place of what is there; else they come after it")
    trial: bool = Field(default=False, description="say where they belong, and put nothing in")


class RecognisedTold(Told):
    """Where a file belongs; with ``why`` nobody can tell, and it was not put in."""

    name: str
    sha256: str
    locale: str
    picture_class: str
    why: str


class PictureClassTold(Told):
    """A class that all stores share, by its meaning."""

    key: str
    title: str
    help: str
    form: PictureForm


class PictureSetTold(Told):
    """A set as it is put in here. Its revision is its ETag."""

    locale: str
    picture_class: str
    store: str | None = Field(description="the store it is for; none: for all")
    pictures: list[PictureFileTold]
    revision: int
    changed_at: datetime
    changed_by: str


class StoreClassTold(Told):
    """How a store takes a class of pictures."""

    key: str = Field(description="the store's own key")
    means: str | None = Field(description="the class of all stores that it is; none: only this store asks for it")
    title: str
    help: str
    form: PictureForm
    formats: list[PictureFormat]
    sides: str = Field(description="what sides it takes, in words; pixels")
    every_size: bool
    fewest: int
    most: int
    transparent: str
    largest_bytes: int
    by_locale: bool
    also_from: list[str]
    needs: str | None
    lock: str = Field(description="why it cannot change now, or when it locks; empty: it may change any time")


class PieceTold(Told):
    """One file of a set as a store gets it. ``file`` empty: it is not made yet, or ``why`` says why it does not fit."""

    original: str
    file: str
    as_it_is: bool
    format: str
    width: int
    height: int
    size_bytes: int
    cut: float = Field(description="share of the original's area that is cut off")
    flat: bool = Field(description="its transparent parts become white")
    why: str


class StoreSetTold(Told):
    """A set as a store gets it, and where it stands there."""

    locale: str
    picture_class: str
    origin: Origin | None = Field(description="none: nothing is put in for it, the store alone holds it")
    serves: str = Field(description="the store's class whose pictures serve here, too; else its own")
    state: TextState
    pieces: list[PieceTold]
    held: list[str] = Field(description="the digests of the files that the store was last seen to hold")


class StorePicturesTold(Told):
    """The pictures of an app at one store."""

    store: str
    store_title: str
    language: str
    locales: list[str] = Field(description="the locales that the store takes; empty: any")
    classes: list[StoreClassTold]
    sets: list[StoreSetTold]
    findings: list[FindingTold]
    unwritten: int = Field(description="how many sets the store holds that nobody put in here; they stay there")
    differing: int = Field(description="how many sets differ from what the store holds")
    refused_because: str = Field(description="why the store did not take the pictures it was sent last")
    hand_carried: bool


class IconsTold(Told):
    """The icon that is put in beside the one inside the newest package."""

    original: str
    package: str = Field(description="the package's digest; its icon is at /v1/packages/{sha256}/icon")
    apart: float | None = Field(description="mean CIE 1976 colour difference of small copies; none: not comparable")
    alike: bool | None


class PicturesTold(Told):
    app: str
    locales: list[str]
    classes: list[PictureClassTold]
    sets: list[PictureSetTold]
    stores: list[StorePicturesTold]
    icons: IconsTold | None


class PictureImportTold(Told):
    """What became of files that were to be put in automatically."""

    files: list[RecognisedTold]
    put_in: int
