"""The review desk: the last look, what goes together, what reviewers are told and write."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import Field

from restless_tide.core.correspondence import LONGEST_MESSAGE, MOST_FILES, MessageKind
from restless_tide.core.look import LookPart
from restless_tide.core.review_items import MOST_ITEMS
from restless_tide.core.round import RoundState
from restless_tide.wire.base import OneLine, Told, Wanted, Words
from restless_tide.wire.cohorts import SignInWanted
from restless_tide.wire.pictures import Digest
from restless_tide.wire.problems import FindingTold

Files = Annotated[list[Digest], Field(max_length=MOST_FILES, description="documents that were sent to the desk")]
MessageWords = Annotated[str, Field(min_length=1, max_length=LONGEST_MESSAGE)]


class BriefWanted(Wanted):
    """What reviewers are told; what is left out stays as it is."""

    note: Words | None = Field(default=None, description="empty takes it out")
    sign_in: SignInWanted | None = Field(default=None, description="with all of it empty, it is taken out")
    files: Files | None = Field(default=None, description="all of them; an empty list takes them out")


class SubmitWanted(Wanted):
    store: OneLine | None = Field(
        default=None, description="a store, or store/track; none: every leg that can be handed in"
    )
    looked: Annotated[str, Field(max_length=40)] | None = Field(
        default=None, description="the revision of the last look at it; without it nothing is handed in"
    )
    without: list[OneLine] = Field(
        default_factory=list, max_length=MOST_ITEMS, description="items that are kept back, such as goods/summer-pass"
    )
    for_reviewer: Words | None = Field(
        default=None, description="a note for the reviewer; none: the one that is drafted from the matters"
    )
    brief: BriefWanted = Field(
        default_factory=BriefWanted, description="what the reviewer is told in this round instead of what stands"
    )
    in_spite_of: Words = Field(default="", description="why it is handed in while a matter is open")


class FileTold(Told):
    """A file that went to a reviewer, or came from one."""

    sha256: str
    name: str
    size_bytes: int
    kept: bool = Field(default=True, description="whether the desk has it")
    trouble: str = Field(default="", description="why a reviewer's file is not here")


class ItemTold(Told):
    """One item of a submission."""

    item: str = Field(description="as it is written, such as goods/summer-pass")
    told: str
    must_go: bool = Field(description="it cannot be kept back")
    state: str = Field(description="approved or rejected, where the store decided about it alone; else empty")


class LookLineTold(Told):
    """One thing that is seen, as it will be and as it is live; none: it is not there."""

    part: LookPart
    part_title: str
    place: str
    title: str
    new: str | None
    live: str | None
    new_members: list[str] = Field(description="where it is a list: permissions, countries, digests of pictures")
    live_members: list[str]
    added: list[str]
    removed: list[str]
    changed: bool


class LegLookTold(Told):
    place: str
    place_title: str
    revision: str = Field(description="of this place alone")
    open: bool = Field(description="whether it can be handed in now")
    live_version: str | None = Field(description="what people are offered there now; none: nothing")
    live_known: bool = Field(description="whether the desk knows what people see of it; if not, all counts as new")
    items: list[ItemTold]
    lines: list[LookLineTold]
    findings: list[FindingTold]


class LookTold(Told):
    """All that people and reviewers will see of a release, beside what is live."""

    app: str
    app_title: str
    version: str
    revision: str = Field(description="of all places together; handing in asks for it")
    looked_at: datetime
    legs: list[LegLookTold]


class BriefTold(Told):
    """What reviewers are told in every round. The sign-in is sealed; its name is shown."""

    store: str
    store_title: str
    note: str
    sign_in: str
    files: list[FileTold]
    changed_at: datetime | None
    changed_by: str | None


class MessageWanted(Wanted):
    words: MessageWords
    files: Files = Field(default_factory=list)


class ReceivedWanted(MessageWanted):
    asks: bool = Field(default=False, description="the review waits for the answer")


class MessageTold(Told):
    id: str
    kind: MessageKind
    who: str = Field(description="who wrote it, or entered it")
    words: str
    at: datetime
    files: list[FileTold]
    arrived: bool | None = Field(description="whether the store has it; none: it was refused there")
    trouble: str = Field(description="why the store has not taken it; empty: it has, or it is on its way")


class ThreadTold(Told):
    """The correspondence of one round."""

    round: int
    state: RoundState
    messages: list[MessageTold]
    waits: bool = Field(description="the reviewer waits for an answer")
    open_to_words: bool
    against_appeal: str = Field(description="why it cannot be appealed; empty: it can")
