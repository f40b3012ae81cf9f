"""The catalogue: what stores ask about an app, by meaning.

A store's field or question says what it means, so that what means the same is entered once, whatever each
store calls it. What only one store asks has no entry here and is kept for that store alone.
"""

from __future__ import annotations

import tomllib
from enum import StrEnum
from functools import cache
from importlib.resources import files

from pydantic import BaseModel, ConfigDict, Field, model_validator


class Form(StrEnum):
    """How a text is written."""

    LINE = "line"
    TEXT = "text"
    WORDS = "words"
    ADDRESS = "address"


class AnswerForm(StrEnum):
    """How a question is answered: by one choice, any number of them, in words, by a number, kind by kind, or by a document."""

    CHOICE = "choice"
    CHOICES = "choices"
    TEXT = "text"
    NUMBER = "number"
    GRID = "grid"
    FILE = "file"


class PictureForm(StrEnum):
    """What stands in a class of pictures: stills, or films."""

    PICTURE = "picture"
    FILM = "film"


class Entry(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Meaning(Entry):
    """A field by what it means, with the words that the desk uses for it."""

    title: str = Field(min_length=1, max_length=80)
    form: Form = Form.TEXT
    help: str = Field(default="", max_length=400)


class PictureMeaning(Entry):
    """A class of pictures by what they show."""

    title: str = Field(min_length=1, max_length=80)
    form: PictureForm = PictureForm.PICTURE
    help: str = Field(default="", max_length=400)


class Sign(Entry):
    """What in a package speaks of an answer: any one of the marks that are named.

    Of a topic with choices, ``agrees`` are the choices that fit the mark; of a grid, the ``kind`` is one that the
    package can gather.
    """

    permissions: tuple[str, ...] = ()
    capabilities: tuple[str, ...] = ()
    reasons: tuple[str, ...] = Field(default=(), description="keys under which a package says why it asks for access")
    encryption_exempt: bool | None = None
    agrees: tuple[str, ...] = ()
    kind: str = ""


class Topic(Entry):
    """A question by what it means, with canonical answers: their keys, and the words for them."""

    title: str = Field(min_length=1, max_length=80)
    text: str = Field(min_length=1, max_length=200)
    help: str = Field(default="", max_length=400)
    form: AnswerForm = AnswerForm.CHOICE
    choices: dict[str, str] = Field(default_factory=dict)
    kinds: dict[str, str] = Field(default_factory=dict, description="of a grid: its rows")
    attributes: dict[str, str] = Field(default_factory=dict, description="of a grid: what holds for a row or does not")
    signs: tuple[Sign, ...] = ()

    @model_validator(mode="after")
    def _signs_name_what_is_there(self) -> Topic:
        for sign in self.signs:
            strange = [name for name in sign.agrees if name not in self.choices]
            strange += [sign.kind] if sign.kind and sign.kind not in self.kinds else []
            if strange or bool(sign.agrees) == bool(sign.kind):
                raise ValueError(f"a sign of {self.title} names {', '.join(strange) or 'neither choices nor a kind'}")
        return self


class Catalogue(Entry):
    """All meanings, in the order in which people meet them."""

    fields: dict[str, Meaning]
    pictures: dict[str, PictureMeaning]
    topics: dict[str, Topic]


@cache
def catalogue() -> Catalogue:
    """The catalogue that ships with the desk."""
    text = files("restless_tide.core").joinpath("catalogue.toml").read_text(encoding="utf-8")
    return Catalogue.model_validate(tomllib.loads(text))
