"""The dossier of an app: its texts, entered once, and what each store gets of them."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import Field

from restless_tide.core.catalogue import Form
from restless_tide.core.limits import MOST_FIELDS, MOST_LOCALES
from restless_tide.core.texts import Origin, TextState
from restless_tide.wire.base import OneLine, Text, Told, Wanted
from restless_tide.wire.problems import FindingTold

TextsByField = Annotated[dict[OneLine, Text], Field(max_length=MOST_FIELDS)]


class TextsWanted(Wanted):
    """Texts of one locale by field; an empty one is taken out. What is not named stays as it is."""

    texts: TextsByField = Field(min_length=1)
    store: OneLine | None = Field(default=None, description="for this store alone, by its own fields; none: for all")


class LocaleCopyWanted(Wanted):
    source: OneLine = Field(description="the locale to copy from; what is written in the other stays")


TextsByLocale = Annotated[dict[OneLine, TextsByField], Field(max_length=MOST_LOCALES)]


class CheckTextsWanted(Wanted):
    """Texts as they are to be, for instance in a folder: of all stores, and of single ones by their own fields."""

    texts: TextsByLocale = Field(default_factory=dict)
    own: dict[OneLine, TextsByLocale] = Field(default_factory=dict, max_length=100)


class StoreCheckTold(Told):
    """What one store would say of the texts. ``means`` leads from the store's own fields to those that all stores share."""

    store: str
    store_title: str
    means: dict[str, str]
    findings: list[FindingTold]


class TakeOverWanted(Wanted):
    store: OneLine = Field(description="the store whose texts become ours where nothing is written here")


class SendTextsWanted(Wanted):
    store: OneLine | None = Field(default=None, description="none: every store where the app has a place")


class FieldTold(Told):
    """A field that all stores share, by its meaning."""

    key: str
    title: str
    help: str
    form: Form


class WrittenTextTold(Told):
    """A text as it is written here. Its revision is its ETag."""

    locale: str
    field: str
    store: str | None = Field(description="the store it is for; none: for all")
    text: str
    revision: int
    changed_at: datetime
    changed_by: str


class StoreFieldTold(Told):
    """How a store takes a field."""

    key: str = Field(description="the store's own key")
    means: str | None = Field(description="the field of all stores that it is; none: only this store asks for it")
    title: str
    help: str
    form: Form
    limit: int
    counted_in: str
    required: bool
    locales_required: list[str]
    lock: str = Field(description="why it cannot change now, or when it locks; empty: it may change any time")


class StoreTextTold(Told):
    """A text as a store gets it, and where it stands there."""

    locale: str
    field: str
    text: str
    origin: Origin | None = Field(description="none: nothing is written for it, the store alone holds it")
    state: TextState
    length: int
    left: int = Field(description="how much more the store takes; negative: so much is too much")
    held: str = Field(description="what the store was last seen to hold")


class StoreTextsTold(Told):
    """The texts of an app at one store."""

    store: str
    store_title: str
    language: str
    locales: list[str] = Field(description="the locales that the store takes; empty: any")
    fields: list[StoreFieldTold]
    texts: list[StoreTextTold]
    findings: list[FindingTold]
    unwritten: int = Field(description="how many texts the store holds that nobody wrote here; they stay there")
    differing: int = Field(description="how many texts differ from what the store holds")
    refused_because: str = Field(description="why the store did not take the texts it was sent last")
    hand_carried: bool


class TextsTold(Told):
    app: str
    locales: list[str]
    fields: list[FieldTold]
    texts: list[WrittenTextTold]
    stores: list[StoreTextsTold]


class SendingTold(Told):
    """What became of the texts for one store: ordered now, and kept until a lock opens."""

    store: str
    store_title: str
    sent: int
    kept: int
