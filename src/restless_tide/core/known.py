"""What the desk knows of an app at a store, and what evidence says of each thing: the words that both are told in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from restless_tide.core.answers import NO_ANSWERS, AnswersAt
from restless_tide.core.applying import Case
from restless_tide.core.availability import Availability
from restless_tide.core.berth import BerthState
from restless_tide.core.check import Check
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.errors import Finding
from restless_tide.core.goods import NO_GOODS, GoodsAt
from restless_tide.core.graph import Standing
from restless_tide.core.leg import LegPhase
from restless_tide.core.matter import MatterKnown
from restless_tide.core.packages.facts import Facts
from restless_tide.core.picture_sets import NO_PICTURES, PicturesAt
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.core.signing import NOTHING_EXPECTED, Expected
from restless_tide.core.texts import NO_TEXTS, TextsAt
from restless_tide.core.versions import Held

EVERYWHERE_FREE, NOTHING_BEGUN = Availability(), Standing()


class NodeState(StrEnum):
    """Where a thing stands that a store wants."""

    DONE = "done"
    DOUBTFUL = "doubtful"
    MISSING = "missing"
    WAITING = "waiting"
    LOCKED = "locked"
    NOT_ASKED = "not asked"


FULFILLED = frozenset({NodeState.DONE, NodeState.DOUBTFUL, NodeState.NOT_ASKED})
"""What comes after such a thing may begin."""


class MendAct(StrEnum):
    """The act that helps. Each surface words it for itself: a command, a link."""

    NONE = ""
    OPEN_BERTH = "open berth"
    SIGN_PAPERS = "sign papers"
    PUSH_BUILD = "push build"
    ANSWER_QUESTIONS = "answer questions"
    WRITE_TEXT = "write text"
    SEND_TEXTS = "send texts"
    PUT_PICTURES = "put pictures in"
    SEND_PICTURES = "send pictures"
    ANSWER_TOPICS = "answer topics"
    SEND_ANSWERS = "send answers"
    WRITE_GOODS = "write goods"
    SEND_GOODS = "send goods"
    SET_OFFER = "set offer"
    DRAFT_RELEASE = "draft release"
    WRITE_NOTES = "write notes"
    DECIDE_MATTERS = "decide matters"
    TICK_CHECKS = "tick checks"
    SUBMIT = "submit"
    GO_AHEAD = "go ahead"
    OPEN_TRIAL = "open trial"
    LOOK_THERE = "look at the store"
    WAIT = "wait"


REMEDIES: Mapping[MendAct, str] = {
    MendAct.OPEN_BERTH: "Open the app's place there.",
    MendAct.SIGN_PAPERS: "Sign it on the store's own pages.",
    MendAct.PUSH_BUILD: "Push a build there and wait until the store has processed it.",
    MendAct.ANSWER_QUESTIONS: "Answer the store's questions.",
    MendAct.WRITE_TEXT: "Write the texts that are missing and send them there.",
    MendAct.SEND_TEXTS: "Send the texts there.",
    MendAct.PUT_PICTURES: "Put in the pictures that are missing and send them there.",
    MendAct.SEND_PICTURES: "Send the pictures there.",
    MendAct.ANSWER_TOPICS: "Answer what the store asks and send the answers there.",
    MendAct.SEND_ANSWERS: "Send the answers there.",
    MendAct.WRITE_GOODS: "Enter the goods that are missing, or correct them, and send them there.",
    MendAct.SEND_GOODS: "Send the goods there.",
    MendAct.WAIT: "Wait until the store has confirmed it.",
}
"""What is advised at a hand-in where a thing is not there, in words that fit every surface."""


@dataclass(frozen=True, slots=True)
class Evidence:
    """Where a thing stands. ``reason`` is one sentence; ``changes``: this release has something to do with it.

    ``code`` is that of the finding which says at a hand-in that the thing is not there.
    """

    state: NodeState
    reason: str = ""
    findings: tuple[Finding, ...] = ()
    mend: MendAct = MendAct.NONE
    changes: bool = False
    code: str = ""


@dataclass(frozen=True, slots=True)
class Paper:
    """A contract of the account; ``blocks`` are the keys of the things that need it."""

    name: str
    state: str
    until: datetime | None = None
    blocks: tuple[str, ...] = ()

    @property
    def valid(self) -> bool:
        return self.state == "valid"


@dataclass(frozen=True, slots=True)
class BuildKnown:
    """The build that is to go there. ``state`` None: it was never sent; ``held`` is what the store has of the app.

    Without ``facts`` nothing is known of its packages, and nothing is said of them.
    """

    label: str
    version: str
    facts: tuple[Facts, ...]
    state: ConsignmentState | None = None
    reason: str = ""
    held: tuple[Held, ...] = ()
    expected: Expected = NOTHING_EXPECTED


@dataclass(frozen=True, slots=True)
class LegKnown:
    """The release at this store. ``notes`` None: its track shows none; ``reasons`` are those of the last rejection, and
    ``matters`` what was made of all of them; ``checks`` are what earlier refusals have taught.
    """

    version: str
    phase: LegPhase
    notes: Mapping[str, str] | None
    track: str = PRODUCTION
    waits_for: tuple[str, ...] = ()
    reasons: tuple[str, ...] = ()
    matters: tuple[MatterKnown, ...] = ()
    checks: tuple[Check, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Known:
    """All that the desk knows of one app at one store. ``day`` is when the release is planned to go there.

    ``berth`` None: nobody has asked for a place there. ``papers`` None: the desk cannot see the account.
    ``offer_settled``: the store was last seen to offer the app as ordered.
    """

    now: datetime
    day: datetime
    identifier: str
    berth: BerthState | None = None
    berth_refused: str = ""
    papers: tuple[Paper, ...] | None = None
    build: BuildKnown | None = None
    leg: LegKnown | None = None
    texts: TextsAt = NO_TEXTS
    pictures: PicturesAt = NO_PICTURES
    answers: AnswersAt = NO_ANSWERS
    goods: GoodsAt = NO_GOODS
    offered: Availability = EVERYWHERE_FREE
    wanted_offer: Availability | None = None
    offer_settled: bool = True
    standing: Standing = NOTHING_BEGUN
    trials_opened: int = 0


def case_of(known: Known) -> Case:
    """What the conditions of a rulebook are held against."""
    facts = known.build.facts if known.build is not None else ()
    return Case(facts=facts or None, offer=known.offered)
