"""The dossier as files: what stands where in its folder, and what differs from the desk since both last agreed.

A folder beside an app's source holds ``dossier.toml`` (which app), ``texts/LOCALE.toml`` (what all stores share, by
field), ``goods/REFERENCE.toml`` (what is sold inside the app, its picture beside it), ``pictures/CLASS/LOCALE/NN.png`` (the pictures and films of a class, in the order of their names),
``answers.toml`` (the answers by topic), ``documents/NAME`` (the files of those that are documents), ``stores/STORE.toml`` (what one store gets instead or alone, by that store's own
fields and questions), ``stores/STORE/CLASS/LOCALE/NN.png`` (pictures for it alone), and ``agreed.toml``: the digest of each text, set of pictures
and answer as desk and folder last agreed on it. With it every difference has a side: changed here, changed at the desk, or
changed at both, which nobody but a person can settle.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from enum import StrEnum
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import BaseModel, ConfigDict, Field

from restless_tide.core.documents import is_document
from restless_tide.core.good import Good, price_text
from restless_tide.core.limits import (
    LARGEST_NUMBER,
    LONGEST_FILE_NAME,
    LONGEST_TEXT,
    MOST_CHOICES,
    MOST_FIELDS,
    MOST_LOCALES,
    MOST_QUESTIONS,
)
from restless_tide.core.locales import LONGEST_TAG

FOLDER_FILE, AGREED_FILE, TEXTS_FOLDER, STORES_FOLDER = "dossier.toml", "agreed.toml", "texts", "stores"
PICTURES_FOLDER = "pictures"
ANSWERS, ANSWERS_FILE = "answers", "answers.toml"
GOODS_FOLDER = "goods"
NO_LOCALE = ""
"""Of an answer or a good: it is in no single language."""
_DIGEST_LETTERS = 16
DOCUMENTS_FOLDER = "documents"
_FIGURES = re.compile(r"(\d+)")

FieldKey = Annotated[str, Field(max_length=100, pattern=r"^[a-z0-9][a-z0-9-]*$")]
LocaleKey = Annotated[str, Field(max_length=LONGEST_TAG)]
FileText = Annotated[str, Field(max_length=LONGEST_TEXT)]
Fields = Annotated[dict[FieldKey, FileText], Field(max_length=MOST_FIELDS)]
Locales = Annotated[dict[LocaleKey, Fields], Field(max_length=MOST_LOCALES)]


class NamedFile(BaseModel):
    """An answer that is a document: where its file lies within the folder."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    file: str = Field(
        max_length=LONGEST_FILE_NAME * 4, pattern=r"^documents/[^\\]+$", description="such as documents/permission.pdf"
    )


Rows = Annotated[dict[FieldKey, list[FieldKey]], Field(max_length=MOST_CHOICES)]
AnswerInFile = (
    Annotated[int, Field(strict=True, ge=-LARGEST_NUMBER, le=LARGEST_NUMBER)]
    | FileText
    | Annotated[list[FieldKey], Field(max_length=MOST_CHOICES)]
    | Rows
    | NamedFile
)
Answers = Annotated[dict[FieldKey, AnswerInFile], Field(max_length=MOST_QUESTIONS)]


class _File(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class FolderFile(_File):
    """``dossier.toml``: which app the folder is about."""

    format: Literal[1] = Field(default=1, description="the version of this layout")
    app: str = Field(min_length=1, max_length=100, description="the app's short name")


class StoreFile(_File):
    """``stores/STORE.toml``: what this store gets instead or alone, by its own fields and questions, in its own choices."""

    texts: Locales = Field(default_factory=dict)
    answers: Answers = Field(default_factory=dict)


class GoodFile(Good):
    """``goods/REFERENCE.toml``: a good that is sold inside the app."""

    picture: str | None = Field(
        default=None, max_length=LONGEST_FILE_NAME, pattern=r"^[^/\\.][^/\\]*$", description="a file in the same folder"
    )


class DossierFiles(_File):
    """The files of a dossier folder. ``texts_file`` is one ``texts/LOCALE.toml``: a text by field. ``answers_file`` is
    ``answers.toml``: by topic a choice, a text, a number, several choices, of a grid the attributes by kind, or where a document
    lies: ``{ file = "documents/NAME" }``."""

    dossier: FolderFile
    texts_file: Fields = Field(default_factory=dict)
    answers_file: Answers = Field(default_factory=dict)
    store_file: StoreFile = StoreFile()
    good_file: GoodFile | None = None


class Place(NamedTuple):
    """Where a text, a set of pictures, an answer or a good stands; the last two have no locale. ``store`` None: it is for all stores.

    Of a set ``field`` is its class; its content is the digests of its files, a line each. Of a good ``field`` is its
    reference; its content is the good as JSON.
    """

    locale: str
    field: str
    store: str | None = None
    is_set: bool = False
    is_good: bool = False

    @property
    def is_answer(self) -> bool:
        return self.locale == NO_LOCALE and not self.is_good

    @property
    def is_text(self) -> bool:
        return self.locale != NO_LOCALE and not self.is_set

    def told(self) -> str:
        """The file, and where in it; of a set its folder."""
        if self.is_set:
            where = PICTURES_FOLDER if self.store is None else f"{STORES_FOLDER}/{self.store}"
            return f"{where}/{self.field}/{self.locale}"
        if self.is_good:
            return f"{GOODS_FOLDER}/{self.field}.toml"
        if self.is_answer:
            return (
                f"{STORES_FOLDER}/{self.store}.toml, {ANSWERS}.{self.field}"
                if self.store
                else f"{ANSWERS_FILE}, {self.field}"
            )
        if self.store is None:
            return f"{TEXTS_FOLDER}/{self.locale}.toml, {self.field}"
        return f"{STORES_FOLDER}/{self.store}.toml, texts.{self.locale}.{self.field}"


def written(answer: Any) -> str:
    """An answer as one text, the same whatever the order of its choices and rows."""
    if is_document(answer):
        return json.dumps(answer, ensure_ascii=False, sort_keys=True)
    if isinstance(answer, Mapping):
        answer = {kind: sorted(answer[kind]) for kind in sorted(answer)}
    elif isinstance(answer, list | tuple):
        answer = sorted(answer)
    return json.dumps(answer, ensure_ascii=False)


def written_good(good: Good) -> str:
    """A good as one text, the same whatever the order of what is said of it."""
    told = good.model_dump(mode="json", exclude_defaults=True)
    told["price"] = price_text(good.price)
    return json.dumps(told, ensure_ascii=False, sort_keys=True, indent=1)


def unwritten_good(text: str) -> Good | None:
    """The good that such a text says; None for an empty one."""
    return Good.model_validate_json(text) if text else None


def unwritten(text: str) -> Any:
    """The answer that such a text says."""
    return json.loads(text)


_STARTS = {b"\x89PNG\r\n\x1a\n": "png", b"\xff\xd8\xff": "jpeg", b"GIF8": "gif", b"\x1aE\xdf\xa3": "webm"}
_SUFFIXES = {"jpg": "jpeg", "m4v": "mp4", "mov": "mp4"}


def format_of(start: bytes) -> str:
    """The format of a picture or a film by the first 16 bytes of its file; empty: none that is known here."""
    if start[:4] == b"RIFF" and start[8:12] == b"WEBP":
        return "webp"
    if start[4:8] == b"ftyp":
        return "mp4"
    return next((kind for mark, kind in _STARTS.items() if start.startswith(mark)), "")


def format_named(suffix: str) -> str:
    """The format that a file's name says it has, such as ``jpeg`` for ``.jpg``."""
    said = suffix.lower().lstrip(".")
    return _SUFFIXES.get(said, said)


def name_order(name: str) -> list[tuple[int, int, str]]:
    """Names as people sort them: 2 before 10."""
    return [
        (0, int(part), "") if part.isdecimal() else (1, 0, part) for part in _FIGURES.split(name.casefold()) if part
    ]


class Side(StrEnum):
    """Who has changed a text, a set of pictures or an answer since both last agreed."""

    HERE = "changed here"
    DESK = "changed at the desk"
    BOTH = "changed at both"


class Difference(NamedTuple):
    """A text, a set or an answer that folder and desk hold differently; an empty one is not there."""

    place: Place
    side: Side
    here: str
    desk: str


def in_order(place: Place) -> tuple[str, bool, str, str]:
    """What places are sorted by."""
    return place.store or "", place.is_set or place.is_good, place.locale, place.field


def digest_of(text: str) -> str:
    """The digest by which a text is known again; nothing for a text that is not there."""
    return hashlib.sha256(text.encode()).hexdigest()[:_DIGEST_LETTERS] if text else ""


def compare(agreed: Mapping[Place, str], here: Mapping[Place, str], desk: Mapping[Place, str]) -> list[Difference]:
    """Every text, set and answer that differs, by place; ``agreed`` holds digests. What both changed in the same way differs no more."""
    found = []
    for place in sorted(here.keys() | desk.keys(), key=in_order):
        mine, theirs, base = here.get(place, ""), desk.get(place, ""), agreed.get(place, "")
        if mine == theirs:
            continue
        changed_here, changed_there = digest_of(mine) != base, digest_of(theirs) != base
        side = Side.BOTH if changed_here and changed_there else Side.HERE if changed_here else Side.DESK
        found.append(Difference(place, side, mine, theirs))
    return found
