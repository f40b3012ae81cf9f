"""Evidence and the sheet: where each thing stands that a store wants, and what a release waits for."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from restless_tide.core.answers import AnswersAt
from restless_tide.core.availability import Availability
from restless_tide.core.berth import BerthState
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.evidence import EVIDENCE, evidence
from restless_tide.core.graph import Standing
from restless_tide.core.known import BuildKnown, Evidence, Known, LegKnown, MendAct, NodeState, Paper
from restless_tide.core.leg import LegPhase
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.packages import Facts
from restless_tide.core.picture_sets import PicturesAt
from restless_tide.core.rulebook import Rulebook, ThingKind, read_rulebook
from restless_tide.core.sheet import Verdict, offer_findings, sheet
from restless_tide.core.texts import TextsAt
from tests.answering import mild
from tests.core.test_steering import NOW, rulebook

NORTHGATE, OPENFIELD, SLATEHOUSE = (rulebook(name) for name in ("northgate", "openfield", "slatehouse"))
FACTS = Facts(
    format="apk",
    identifier="org.example.a",
    version="1.0.0",
    number=BuildNumber(1),
    target_platform="34",
    size_bytes=1,
    sha256="0" * 64,
)
TEXTS = {"en": {"summary": "A diary.", "description": "For walks."}}
WRITTEN = TextsAt(language="en", common=TEXTS, own={}, held=TEXTS, ordered={}, name="Marram")
READY = BuildKnown("Build 1.0.0 (1)", "1.0.0", (FACTS,), ConsignmentState.READY)
DRAFT = LegKnown("1.0.0", LegPhase.DRAFT, {"en": "New."})
ANSWERED = AnswersAt(held=mild(NORTHGATE) | mild(OPENFIELD) | mild(SLATEHOUSE))
SHOWN = PicturesAt(
    held={"en": dict.fromkeys((*NORTHGATE.listing.pictures, "mark", "views", "tile", "emblem", "screens"), ("f" * 64,))}
)
COMPLETE = Known(
    now=NOW,
    day=NOW,
    identifier="org.example.a",
    berth=BerthState.OPEN,
    papers=(),
    build=READY,
    leg=DRAFT,
    texts=WRITTEN,
    pictures=SHOWN,
    answers=ANSWERED,
)
S, M = NodeState, MendAct


def stands(rules: Rulebook, key: str, **changed: Any) -> Evidence:
    return evidence(rules, key, replace(COMPLETE, **changed))


def test_every_kind_of_thing_has_its_evidence() -> None:
    assert set(EVIDENCE) == set(ThingKind)


LATER = NOW + timedelta(days=30)
PAPER = Paper("Contract", "valid", until=LATER, blocks=("price",))


@pytest.mark.parametrize(
    ("key", "changed", "state", "mend"),
    [
        ("berth", {}, S.DONE, M.NONE),
        ("berth", {"berth": BerthState.ORDERED}, S.WAITING, M.WAIT),
        ("berth", {"berth": BerthState.REFUSED, "berth_refused": "taken"}, S.MISSING, M.OPEN_BERTH),
        ("berth", {"berth": None}, S.MISSING, M.OPEN_BERTH),
        ("papers", {"papers": (PAPER,)}, S.DONE, M.NONE),
        ("papers", {"papers": (replace(PAPER, state="missing"),)}, S.MISSING, M.SIGN_PAPERS),
        ("papers", {"papers": (PAPER,), "day": LATER + timedelta(days=1)}, S.DOUBTFUL, M.SIGN_PAPERS),
        ("papers", {"papers": None}, S.DOUBTFUL, M.LOOK_THERE),
        ("build", {}, S.DONE, M.NONE),
        ("build", {"build": None}, S.MISSING, M.PUSH_BUILD),
        ("build", {"build": replace(READY, state=None)}, S.MISSING, M.PUSH_BUILD),
        ("build", {"build": replace(READY, state=ConsignmentState.PROCESSING)}, S.WAITING, M.WAIT),
        ("build", {"build": replace(READY, state=ConsignmentState.HELD)}, S.MISSING, M.ANSWER_QUESTIONS),
        ("build", {"build": replace(READY, state=ConsignmentState.REFUSED)}, S.MISSING, M.PUSH_BUILD),
        ("build", {"build": replace(READY, state=ConsignmentState.EXPIRED)}, S.MISSING, M.PUSH_BUILD),
        ("countries", {}, S.DONE, M.NONE),
        ("countries", {"offer_settled": False}, S.WAITING, M.WAIT),
        ("countries", {"berth": None}, S.MISSING, M.OPEN_BERTH),
        ("guest-trial", {}, S.MISSING, M.OPEN_TRIAL),
        ("guest-trial", {"trials_opened": 1}, S.DONE, M.NONE),
        ("network-page", {}, S.NOT_ASKED, M.NONE),
        ("network-page", {"day": datetime(2031, 3, 2, tzinfo=UTC)}, S.DOUBTFUL, M.LOOK_THERE),
        ("network-page", {"day": datetime(2031, 3, 2, tzinfo=UTC), "standing": Standing(live=True)}, S.DONE, M.NONE),
        ("review", {}, S.MISSING, M.SUBMIT),
        ("review", {"leg": None}, S.MISSING, M.DRAFT_RELEASE),
        ("review", {"leg": replace(DRAFT, notes={})}, S.MISSING, M.WRITE_NOTES),
        ("review", {"leg": replace(DRAFT, phase=LegPhase.UNDER_REVIEW)}, S.WAITING, M.WAIT),
        ("review", {"leg": replace(DRAFT, phase=LegPhase.REJECTED, reasons=("No.",))}, S.MISSING, M.SUBMIT),
        ("review", {"leg": replace(DRAFT, phase=LegPhase.APPROVED)}, S.DONE, M.NONE),
        ("launch", {}, S.MISSING, M.NONE),
        ("launch", {"leg": replace(DRAFT, phase=LegPhase.APPROVED, waits_for=("the go-ahead",))}, S.WAITING, M.GO_AHEAD),
        ("launch", {"leg": replace(DRAFT, phase=LegPhase.RISING)}, S.DONE, M.NONE),
    ],
)  # fmt: skip
def test_where_a_thing_stands_follows_from_what_is_known(
    key: str, changed: dict[str, Any], state: NodeState, mend: MendAct
) -> None:
    found = stands(OPENFIELD, key, **changed)
    assert (found.state, found.mend) == (state, mend)


HELD_PART = {"en": {"summary": "A diary."}}


@pytest.mark.parametrize(
    ("texts", "state", "codes", "mend"),
    [
        ({}, S.DONE, [], M.NONE),
        ({"held": {}}, S.MISSING, ["text-not-sent", "text-not-sent"], M.SEND_TEXTS),
        ({"held": {}, "common": {}}, S.MISSING, ["text-missing", "text-missing"], M.WRITE_TEXT),
        ({"held": {}, "ordered": TEXTS}, S.WAITING, [], M.WAIT),
        ({"held": HELD_PART, "common": HELD_PART}, S.MISSING, ["text-missing"], M.WRITE_TEXT),
        ({"common": {"en": TEXTS["en"] | {"summary": "Another."}}}, S.DOUBTFUL, [], M.SEND_TEXTS),
        ({"common": {"en": TEXTS["en"] | {"summary": "x" * 999}}}, S.DOUBTFUL, ["text-too-long"], M.SEND_TEXTS),
        ({"held": {}, "common": {"en": TEXTS["en"] | {"summary": "x" * 999}}}, S.MISSING,
         ["text-too-long", "text-not-sent"], M.WRITE_TEXT),
        ({"common": {"en": TEXTS["en"] | {"summary": "Another."}}, "kept": frozenset({("en", "summary")})}, S.DONE, [], M.NONE),
        ({"held": TEXTS | {"de": {"summary": "Tagebuch."}}}, S.MISSING, ["text-missing"], M.WRITE_TEXT),
        ({"common": {}}, S.DONE, [], M.NONE),
    ],
)  # fmt: skip
def test_texts_block_a_release_only_where_the_store_holds_nothing_better(
    texts: dict[str, Any], state: NodeState, codes: list[str], mend: MendAct
) -> None:
    found = stands(OPENFIELD, "texts", texts=replace(WRITTEN, **texts))
    assert (found.state, [one.code for one in found.findings if one.level != "note"], found.mend) == (
        state,
        codes,
        mend,
    )


def test_a_remark_on_a_text_that_the_store_holds_as_it_is_weighs_nothing_any_more() -> None:
    shouted = {"en": TEXTS["en"] | {"summary": "Get it!!!"}}
    assert stands(OPENFIELD, "texts", texts=replace(WRITTEN, common=shouted, held=shouted)).state is S.DONE
    assert stands(OPENFIELD, "texts", texts=replace(WRITTEN, common=shouted)).state is S.DOUBTFUL


def test_a_build_that_the_store_took_is_blocked_no_more_and_what_to_look_at_stays() -> None:
    odd = replace(READY, facts=(replace(FACTS, debuggable=True),))
    ready = stands(OPENFIELD, "build", build=odd)
    assert [(one.code, str(one.level)) for one in ready.findings if one.code == "debug-build"] == [
        ("debug-build", "caution")
    ]
    unsent = stands(OPENFIELD, "build", build=replace(odd, state=None))
    assert [str(one.level) for one in unsent.findings if one.code == "debug-build"] == ["blocker"]


def test_another_offer_is_judged_by_the_things_that_decide_it() -> None:
    paid = Availability(price=Decimal("2.99"), currency="EUR")
    missing = Paper("Contract", "missing", blocks=("price",))
    known = replace(COMPLETE, wanted_offer=paid, papers=(missing,))
    assert [found.code for found in offer_findings(OPENFIELD, known)] == ["paper-missing"]
    assert offer_findings(OPENFIELD, replace(known, papers=())) == []
    assert offer_findings(OPENFIELD, replace(known, wanted_offer=Availability())) == []
    closed = replace(COMPLETE, wanted_offer=Availability(closed=True))
    assert [found.code for found in offer_findings(SLATEHOUSE, closed)] == ["cannot-close"]


def test_a_complete_release_is_ready_and_its_sheet_counts_what_is_needed() -> None:
    made = sheet(OPENFIELD, COMPLETE)
    assert made.verdict is Verdict.READY
    assert made.findings() == []
    assert [line.key for line in made.lines if line.needed] == [
        "berth",
        "answers",
        "build",
        "texts",
        "pictures",
        "clip",
        "review",
        "launch",
    ]
    assert (made.done, made.needed) == (6, 8)
    assert made.usual_hours == OPENFIELD.graph["review"].usually_takes_hours


def test_what_cannot_be_seen_makes_cautions_and_what_is_missing_blocks() -> None:
    facts = replace(FACTS, format="ipa")
    known = replace(COMPLETE, build=replace(READY, facts=(facts,)))
    assert evidence(NORTHGATE, "pictures", known).state is S.DONE
    unsaid = NORTHGATE.model_copy(update={"listing": NORTHGATE.listing.model_copy(update={"pictures": {}})})
    assert evidence(unsaid, "pictures", known).state is S.DOUBTFUL
    assert sheet(unsaid, known).verdict is Verdict.CAUTIONS
    assert sheet(OPENFIELD, replace(known, build=None)).verdict is Verdict.BLOCKED


def test_what_a_release_waits_for_is_told_at_the_hand_in_with_its_code() -> None:
    made = sheet(OPENFIELD, replace(COMPLETE, build=replace(READY, state=ConsignmentState.HELD)))
    assert [(found.code, found.remedy) for found in made.findings()] == [
        ("build-not-ready", "Answer the store's questions.")
    ]
    line = next(line for line in made.lines if line.key == "review")
    assert (line.state, line.waits_for) == (S.LOCKED, ("A build that is ready",))


def test_a_release_on_another_track_needs_no_texts() -> None:
    known = replace(COMPLETE, leg=replace(DRAFT, track="early"), texts=replace(WRITTEN, held={}))
    made = sheet(OPENFIELD, known)
    assert made.verdict is Verdict.READY
    assert [line.key for line in made.lines if line.needed] == ["berth", "build", "review"]


def test_the_hundredth_release_folds_what_it_does_not_change() -> None:
    made = sheet(NORTHGATE, replace(COMPLETE, standing=Standing(live=True)))
    assert {line.key for line in made.lines if line.needed and not line.folded} == {"build", "review", "launch"}
    first = sheet(NORTHGATE, COMPLETE)
    assert not any(line.folded for line in first.lines)


def test_a_rule_that_applies_by_the_planned_day_is_asked_for_and_says_since_when() -> None:
    made = sheet(OPENFIELD, replace(COMPLETE, day=datetime(2031, 3, 2, tzinfo=UTC)))
    line = next(line for line in made.lines if line.key == "network-page")
    assert line.state is S.DOUBTFUL
    assert "from 01 Mar 2031 on, before the planned day" in line.reason
    assert made.verdict is Verdict.CAUTIONS


def test_a_rulebook_without_things_has_a_graph_of_its_own() -> None:
    text = (Path(__file__).parents[2] / "src/restless_tide/demo/wrackline.toml").read_text(encoding="utf-8")
    bare = read_rulebook(text[: text.index("[things.berth]")])
    assert list(bare.graph) == ["berth", "build", "texts", "pictures", "answers", "review", "launch"]
    assert sheet(bare, replace(COMPLETE, answers=AnswersAt(held=mild(bare)))).verdict is Verdict.READY
