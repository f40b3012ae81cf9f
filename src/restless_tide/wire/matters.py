"""Matters, and the standing checks that they teach."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.check import LONGEST_CHECK
from restless_tide.core.check import CheckKind as CheckKind
from restless_tide.core.matter import MatterEvent as MatterEvent
from restless_tide.core.matter import MatterState as MatterState
from restless_tide.wire.base import OneLine, Told, Wanted, Words


class MatterTold(Told):
    """One reason of a store's refusal, as work."""

    id: str
    version: str
    place: str
    place_title: str
    number: int = Field(description="counted within the release at this store")
    words: str = Field(description="the store's own")
    thing: str | None = Field(
        description="the thing of the store's rulebook that it is about, where the store names it"
    )
    thing_title: str = Field(description="how the rulebook calls it; empty: not known")
    item: str | None = Field(description="what of the submission it is about, where the store names it")
    item_told: str = Field(description="the same in words; empty: the release as a whole")
    state: MatterState
    possible: list[MatterEvent] = Field(description="what people may do with it now")
    said: str = Field(description="what was done about it; the reviewer is told")
    first_round: int
    last_round: int
    taken_by: str | None = Field(description="the id of who takes it")
    who: str = Field(description="the name of who takes it; empty: it is not taken")
    ticket: str
    due_on: str | None = Field(description="a day, as 2026-12-01")
    created_at: datetime
    changed_at: datetime


class MatterDecision(Wanted):
    event: MatterEvent
    said: Words = Field(default="", description="what was done; the reviewer is told with the next round")


class MatterArranged(Wanted):
    """What is left out stays; an empty text takes a thing away."""

    taken_by: OneLine | None = Field(default=None, description="an address or an id")
    ticket: OneLine | None = None
    due_on: OneLine | None = Field(default=None, description="a day, as 2026-12-01")


class CheckTold(Told):
    id: str
    kind: CheckKind
    text: str
    matter: str | None = Field(description="the matter that taught it")
    created_at: datetime
    ticked: bool | None = Field(
        description="whether it was answered with yes for the release that was asked for; none: none was"
    )


class CheckWanted(Wanted):
    kind: CheckKind
    text: OneLine = Field(
        max_length=LONGEST_CHECK,
        description="the question, the words, the permission, or a class of pictures and a number",
    )
    matter: OneLine | None = Field(default=None, description="the matter that teaches it")


class NoteTold(Told):
    text: str = Field(description="what the next round would say to the reviewer, drafted from the matters")
