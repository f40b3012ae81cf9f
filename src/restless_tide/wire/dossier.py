"""The dossier of an app: its texts, entered once, and what each store gets of them."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import Field
from typing_extensions import TypedDict

from restless_tide.core.answers import AnswerState
from restless_tide.core.catalogue import AnswerForm, Form
from restless_tide.core.documents import DocumentFormat
from restless_tide.core.limits import (
    LARGEST_DOCUMENT_BYTES,
    LARGEST_NUMBER,
    MOST_CHOICES,
    MOST_FIELDS,
    MOST_LOCALES,
    MOST_QUESTIONS,
)
from restless_tide.core.texts import Origin, TextState
from restless_tide.wire.base import OneLine, Text, Told, Wanted
from restless_tide.wire.goods import GoodsByReference
from restless_tide.wire.pictures import Digest, SetsByLocale
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
    """A dossier as it is to be, for instance in a folder: of all stores, and of single ones by their own fields."""

    texts: TextsByLocale = Field(default_factory=dict)
    own: dict[OneLine, TextsByLocale] = Field(default_factory=dict, max_length=100)
    pictures: SetsByLocale = Field(default_factory=dict, description="by files that were sent before")
    own_pictures: dict[OneLine, SetsByLocale] = Field(default_factory=dict, max_length=100)
    answers: AnswersByQuestion = Field(default_factory=dict)
    own_answers: dict[OneLine, AnswersByQuestion] = Field(default_factory=dict, max_length=100)
    goods: GoodsByReference = Field(default_factory=dict)


class StoreCheckTold(Told):
    """What one store would say of texts, pictures, answers and goods. ``means`` leads from the store's own fields to those that
    all stores share."""

    store: str
    store_title: str
    means: dict[str, str]
    shows: dict[str, str] = Field(description="from the store's own classes of pictures to those that all stores share")
    topics: dict[str, str] = Field(description="from the store's own questions to the topics that all stores share")
    findings: list[FindingTold]


class DocumentTold(TypedDict):
    """A document that was sent before: its digest, and what is known of it. Fetch it at ``/v1/documents/{sha256}``."""

    sha256: Digest
    name: OneLine
    format: DocumentFormat
    size_bytes: Annotated[int, Field(ge=0, le=LARGEST_DOCUMENT_BYTES)]


AnswerValue = (
    Text
    | Annotated[int, Field(strict=True, ge=-LARGEST_NUMBER, le=LARGEST_NUMBER)]
    | Annotated[list[OneLine], Field(max_length=MOST_CHOICES)]
    | Annotated[dict[OneLine, Annotated[list[OneLine], Field(max_length=MOST_CHOICES)]], Field(max_length=MOST_CHOICES)]
    | DocumentTold
)
"""A choice or words, a whole number, several choices, of a grid the attributes by kind, or a document."""
AnswersByQuestion = Annotated[dict[OneLine, AnswerValue | None], Field(max_length=MOST_QUESTIONS)]


class AnswersWanted(Wanted):
    """Answers by topic, or by one store's own questions; null takes an answer out. What is not named stays as it is."""

    answers: AnswersByQuestion = Field(min_length=1)
    store: OneLine | None = Field(default=None, description="for this store alone, by its own questions; none: for all")


class TakeOverWanted(Wanted):
    store: OneLine = Field(description="the store whose dossier becomes ours where there is nothing here")


class TakenOverTold(Told):
    """How much became ours."""

    texts: int
    pictures: int = Field(description="sets of them")
    answers: int
    goods: int


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
    """What became of the dossier for one store: texts, sets of pictures, answers and goods: ordered now, and kept."""

    store: str
    store_title: str
    sent: int
    kept: int
    pictures_sent: int
    pictures_kept: int
    answers_sent: int
    answers_kept: int
    goods_sent: int
    goods_kept: int


class ShapeTold(Told):
    """What is asked, and how it may be answered."""

    key: str
    text: str
    help: str
    form: AnswerForm
    choices: dict[str, str] = Field(description="with the words for them")
    kinds: dict[str, str] = Field(description="of a grid: its rows")
    attributes: dict[str, str] = Field(description="of a grid: its columns")


class TopicTold(ShapeTold):
    """A question that stores share, by its meaning, and the answer as it is given here. Its revision is its ETag."""

    title: str
    answer: AnswerValue | None
    revision: int
    changed_at: datetime | None
    changed_by: str


class QuestionTold(ShapeTold):
    """A question as one store asks it, by its own key; what the store gets for it, and where that stands there."""

    topic: str | None = Field(description="the topic that it means; none: only this store asks for it")
    lowest: int
    highest: int
    limit: int
    counted_in: str
    formats: list[DocumentFormat] = Field(description="of a document")
    largest_bytes: int = Field(description="of a document")
    required: bool
    refused_answers: list[str] = Field(description="choices with which the store takes no app")
    surely: bool = Field(description="false: it is asked only if something that is not known yet turns out so")
    new: bool = Field(description="it came up after the store had taken answers")
    applies_from: datetime | None = Field(description="asked from then on")
    answer: AnswerValue | None = Field(description="in the store's own choices")
    origin: Origin
    revision: int = Field(description="of the store's own answer; 0: it has none")
    changed_by: str = Field(description="who gave the store's own answer")
    state: AnswerState
    held: AnswerValue | None
    lock: str = Field(description="why it cannot change now, or when it locks; empty: it may change any time")


class RatingTold(Told):
    """What follows from the answers in one region. ``grade`` none: an answer is missing."""

    region: str
    title: str
    countries: list[str] = Field(description="none: all that no other region has")
    grade: str | None
    grade_title: str


class StoreQuestionsTold(Told):
    """What one store asks about an app."""

    store: str
    store_title: str
    state: AnswerState
    questions: list[QuestionTold]
    coming: list[QuestionTold] = Field(description="asked later, by the rules as they are known")
    unasked: list[QuestionTold] = Field(description="not asked of this app as it is; an answer is kept all the same")
    ratings: list[RatingTold]
    findings: list[FindingTold]
    differing: int = Field(description="how many answers differ from what the store holds")
    unwritten: int = Field(description="how many answers the store holds that nobody gave here")
    refused_because: str = Field(description="why the store did not take the answers it was sent last")
    hand_carried: bool


class QuestionsTold(Told):
    app: str
    topics: list[TopicTold] = Field(description="those that a store of this app asks about, in the catalogue's order")
    remarks: list[FindingTold] = Field(description="what the newest builds say against the answers that stores share")
    stores: list[StoreQuestionsTold]
