"""The catalogue: what stores ask about an app, by meaning.

A store's field says what it means, so that what means the same is entered once, whatever each store
calls it. What only one store asks has no entry here and is kept for that store alone.
"""

from __future__ import annotations

import tomllib
from enum import StrEnum
from functools import cache
from importlib.resources import files

from pydantic import BaseModel, ConfigDict, Field


class Form(StrEnum):
    """How a text is written."""

    LINE = "line"
    TEXT = "text"
    WORDS = "words"
    ADDRESS = "address"


class Meaning(BaseModel):
    """A field by what it means, with the words that the desk uses for it."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    title: str = Field(min_length=1, max_length=80)
    form: Form = Form.TEXT
    help: str = Field(default="", max_length=400)


class Catalogue(BaseModel):
    """All meanings, in the order in which people meet them."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    fields: dict[str, Meaning]


@cache
def catalogue() -> Catalogue:
    """The catalogue that ships with the desk."""
    text = files("restless_tide.core").joinpath("catalogue.toml").read_text(encoding="utf-8")
    return Catalogue.model_validate(tomllib.loads(text))
