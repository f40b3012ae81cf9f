"""Rulebooks: read with a line for each mistake, compared in words, their graph walked, their offers judged."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis.strategies import booleans, lists

from restless_tide.core.availability import Availability, check_change, consequences
from restless_tide.core.breaker import FAILURES_TO_OPEN, LONGEST_REST_SECONDS, Breaker, BreakerState
from restless_tide.core.errors import Invalid
from restless_tide.core.graph import Standing, locked_because, missing_before, usual_hours, way_to, will_lock
from restless_tide.core.notice import expiry_mark
from restless_tide.core.packages import Facts
from restless_tide.core.questions import foreseen
from restless_tide.core.revision import compare
from restless_tide.core.rulebook import Rulebook, read_rulebook, read_served_rulebook
from restless_tide.core.rules_told import told_rules
from restless_tide.core.step import reminders_due

FOLDER = Path(__file__).parents[2] / "src" / "restless_tide"
NOW = datetime(2026, 11, 23, 9, 0, tzinfo=UTC)
TEXTS = {place.stem: place.read_text(encoding="utf-8") for place in (FOLDER / "standins" / "rulebooks").glob("*.toml")}
NORTHGATE, OPENFIELD, SLATEHOUSE = (read_rulebook(TEXTS[name]) for name in ("northgate", "openfield", "slatehouse"))
WRACKLINE = read_rulebook((FOLDER / "demo" / "wrackline.toml").read_text(encoding="utf-8"))


def test_the_stores_differ_wherever_stores_differ() -> None:
    every = (NORTHGATE, OPENFIELD, SLATEHOUSE)
    assert len({rules.numbers.numbering for rules in every}) == 3
    assert len({rules.packages.formats for rules in every}) == 3
    assert len({tuple(told_rules(rules)) for rules in every}) == 3
    assert [bool(rules.rollout.dictated_ladder) for rules in every] == [False, True, False]
    assert [rules.packages.first_build_by_hand for rules in every] == [True, False, False]
    assert [bool(rules.name.expires_unused_days) for rules in every] == [True, False, False]
    assert [len(rules.processing.questions) for rules in every] == [0, 4, 1]


@pytest.mark.parametrize(
    ("changed", "told"),
    [
        (("usual_hours = 48", 'usual_hours = "soon"'), r"line 20, review\.usual_hours"),
        (("revision =", "revisoin ="), r"revisoin.*Extra inputs|revision: Field required"),
        (('formats = ["apk"]', "formats = []"), r"line 8, packages\.formats"),
        (('numbering = "rises for ever"', 'numbering = "at will"'), r"line 11, numbers\.numbering"),
        (('opens_after = ["review"]', 'opens_after = ["reviews"]'), "names reviews, which no thing is called"),
        (('opens_after = ["berth"]', 'opens_after = ["launch"]'), "in a circle"),
        (("usual_minutes = 30", "usual_minutes = -1"), "greater than 0"),
        (('kind = "berth"\n', ""), r"things\.berth\.kind: Field required"),
        (('kind = "build"', 'kind = "offer"'), "a thing of kind offer names its part"),
        (('kind = "build"', 'kind = "build"\npart = "price"'), "and no other does"),
        (
            ('kind = "build"', 'kind = "offer"\npart = "who"\ntitle = "A"\n\n[things.b]\nkind = "offer"\npart = "who"'),
            "several things decide who",
        ),
        (("2026-03-01T00:00:00Z", "2026-03-01T00:00:00"), "timezone"),
        (("[packages]", "[packages"), "is not TOML"),
    ],
)
def test_a_rulebook_that_breaks_its_schema_is_refused_with_line_and_reason(changed: tuple[str, str], told: str) -> None:
    text = (FOLDER / "demo" / "wrackline.toml").read_text(encoding="utf-8")
    with pytest.raises(Invalid, match=told) as refused:
        read_rulebook(text.replace(*changed), "mine.toml")
    assert refused.value.code == "rulebook-broken"
    assert refused.value.detail.startswith("mine.toml")


def test_the_rules_that_are_told_count_notes_as_the_store_counts_them() -> None:
    told = {rules.store: " ".join(told_rules(rules)) for rules in (NORTHGATE, OPENFIELD, SLATEHOUSE)}
    assert "notes up to 1250 UTF-16 units." in told["Northgate"]
    assert "notes up to 650 characters." in told["Openfield"]
    assert "notes up to 1100 bytes." in told["Slatehouse"]


def test_a_question_can_only_follow_one_that_is_asked_before_it() -> None:
    document = OPENFIELD.model_dump(mode="json")
    document["processing"]["questions"].reverse()
    with pytest.raises(Invalid, match="is not asked before it"):
        read_served_rulebook(json.dumps(document), "openfield")


def test_a_served_rulebook_reads_as_the_file_it_was_made_of() -> None:
    for rules in (NORTHGATE, OPENFIELD, SLATEHOUSE):
        assert read_served_rulebook(rules.model_dump_json(), rules.store) == rules


def test_two_revisions_are_compared_in_words() -> None:
    announced = read_rulebook((FOLDER / "standins" / "rulebooks" / "announced" / "slatehouse.toml").read_text())
    assert [change.told() for change in compare(SLATEHOUSE, announced)] == [
        "Crew testers, seats: 25 → 20",
        f"Longest release notes: {SLATEHOUSE.review.notes_limit_characters} → 60",
        "Locales that need release notes: en → en, de",
        "Pauses per rollout: 5 → 1",
        "Pictures stills, fewest: 1 → 2",
    ]
    assert compare(SLATEHOUSE, SLATEHOUSE) == []
    fewer = OPENFIELD.model_copy(update={"processing": OPENFIELD.processing.model_copy(update={"questions": ()})})
    told = [change.told() for change in compare(fewer, OPENFIELD)]
    assert told[-1].startswith("Question without-network: not asked → Does the app say")
    assert "from 01 Mar 2031 on" in told[-1]


def facts(**changed: Any) -> Facts:
    usual = {
        "format": "apk",
        "identifier": "org.example.a",
        "version": "1.0.0",
        "number": 1,
        "target_platform": "34",
        "size_bytes": 1,
        "sha256": "0" * 64,
    }
    return Facts.of(usual | changed)


PLACE = ("android.permission.VIBRATE",)


@pytest.mark.parametrize(
    ("package", "answers", "now", "codes"),
    [
        (facts(), {}, NOW, []),
        (facts(permissions=PLACE), {}, NOW, ["rings-when-locked"]),
        (facts(permissions=PLACE), {"rings-when-locked": "no"}, NOW, []),
        (facts(permissions=PLACE), {"rings-when-locked": "yes"}, NOW, ["ringing-can-be-stopped"]),
        (facts(target_platform="35"), {}, NOW, ["large-letters"]),
        (facts(target_platform=None), {}, NOW, []),
        (facts(), {}, datetime(2031, 3, 1, tzinfo=UTC), ["without-network"]),
        (facts(), {}, datetime(2031, 2, 28, 23, 59, tzinfo=UTC), []),
    ],
)
def test_questions_follow_facts_earlier_answers_and_dates(
    package: Facts, answers: dict[str, str], now: datetime, codes: list[str]
) -> None:
    assert [question.code for question in foreseen(OPENFIELD, [package], now, answers)] == codes


def test_the_way_to_a_launch_follows_the_graph_and_its_longest_path() -> None:
    things = NORTHGATE.things
    way = [step.key for step in way_to(things, "launch", {"berth"}, NOW)]
    assert set(way) == {"build", "texts", "pictures", "answers", "goods", "review", "launch"}
    assert way.index("texts") < way.index("pictures") < way.index("review") < way.index("launch")
    assert usual_hours(things, "launch", {"berth"}, NOW) == pytest.approx(
        NORTHGATE.review.usual_hours + things["build"].usually_takes_hours
    )
    assert (
        usual_hours(things, "launch", {"berth", "build", "texts", "pictures", "answers"}, NOW)
        == NORTHGATE.review.usual_hours
    )
    assert way_to(things, "launch", {"launch"}, NOW) == []
    assert way_to(things, "nothing", set(), NOW) == []


def test_a_rule_that_applies_later_is_no_hindrance_before_its_date() -> None:
    things, later = OPENFIELD.things, datetime(2031, 3, 2, tzinfo=UTC)
    done = {"berth", "build", "texts", "pictures", "clip", "answers"}
    assert missing_before(things, "review", done, NOW) == []
    assert missing_before(things, "review", done, later) == ["The page on use without a network"]
    assert missing_before(things, "nothing", done, NOW) == []


@pytest.mark.parametrize(
    ("rules", "key", "standing", "locked", "warned"),
    [
        (NORTHGATE, "who", Standing(), False, True),
        (NORTHGATE, "who", Standing(first_review_begun=True), True, False),
        (NORTHGATE, "texts", Standing(version_in_review=True), True, True),
        (NORTHGATE, "texts", Standing(first_review_begun=True), False, True),
        (NORTHGATE, "countries", Standing(live=True, first_review_begun=True), False, False),
        (NORTHGATE, "name", Standing(), False, True),
        (NORTHGATE, "name", Standing(first_build_in=True), True, False),
        (OPENFIELD, "price", Standing(live=True), False, True),
    ],
)
def test_things_lock_when_the_graph_says(
    rules: Rulebook, key: str, standing: Standing, locked: bool, warned: bool
) -> None:
    assert bool(locked_because(rules.things[key], standing)) is locked
    assert bool(will_lock(rules.things[key], standing)) is warned


FREE = Availability()
PAID = Availability(price=Decimal("2.99"), currency="EUR")
LIVE = Standing(first_build_in=True, first_review_begun=True, live=True)


@pytest.mark.parametrize(
    ("rules", "before", "after", "standing", "codes"),
    [
        (NORTHGATE, FREE, PAID, Standing(), []),
        (NORTHGATE, FREE, PAID, LIVE, ["one-way"]),
        (NORTHGATE, PAID, FREE, LIVE, []),
        (SLATEHOUSE, PAID, FREE, LIVE, ["one-way"]),
        (SLATEHOUSE, FREE, PAID, LIVE, []),
        (OPENFIELD, PAID, PAID.model_copy(update={"price": Decimal(4)}), LIVE, ["only-downwards"]),
        (OPENFIELD, PAID, PAID.model_copy(update={"price": Decimal(1)}), LIVE, []),
        (OPENFIELD, PAID, PAID.model_copy(update={"price": Decimal("0.10")}), LIVE, ["price-too-low"]),
        (SLATEHOUSE, FREE, PAID.model_copy(update={"price": Decimal(9000)}), LIVE, ["price-too-high"]),
        (OPENFIELD, FREE, PAID.model_copy(update={"currency": "GBP"}), Standing(), ["currency-not-taken"]),
        (WRACKLINE, FREE, PAID, Standing(), ["paid-not-taken"]),
        (SLATEHOUSE, FREE, Availability(who="named organisations", organisations=("A",)), Standing(), ["who-unknown"]),
        (OPENFIELD, FREE, Availability(who="named organisations", organisations=("A",)), LIVE, ["locked"]),
        (SLATEHOUSE, FREE, Availability(closed=True), LIVE, ["cannot-close"]),
        (OPENFIELD, FREE, Availability(closed=True), LIVE, []),
        (SLATEHOUSE, PAID, PAID.model_copy(update={"price": Decimal(4)}), Standing(version_in_review=True), ["locked"]),
    ],
)
def test_an_offer_is_judged_by_locks_and_one_way_changes(
    rules: Rulebook, before: Availability, after: Availability, standing: Standing, codes: list[str]
) -> None:
    assert [finding.code for finding in check_change(rules, before, after, standing)] == codes


def test_what_cannot_be_taken_back_is_said_before() -> None:
    told = " ".join(consequences(NORTHGATE, PAID, FREE, Standing()))
    assert "It becomes free. Northgate does not let this be taken back once live." in told
    assert "Nobody new gets it in DE" in " ".join(
        consequences(NORTHGATE, Availability(countries=("DE", "NO")), Availability(countries=("NO",)), LIVE)
    )
    assert "until the first review begins" in " ".join(
        consequences(NORTHGATE, FREE, Availability(who="named organisations", organisations=("A",)), Standing())
    )
    assert consequences(NORTHGATE, FREE, FREE, LIVE) == []


@pytest.mark.parametrize(
    "unfit",
    [
        {"price": "1"},
        {"currency": "EUR"},
        {"who": "named organisations"},
        {"organisations": ["A"]},
        {"price": "-1", "currency": "EUR"},
    ],
)
def test_an_offer_that_does_not_fit_together_is_no_offer(unfit: dict[str, Any]) -> None:
    with pytest.raises(ValueError, match=r"needs|need|greater"):
        Availability.model_validate(unfit)


@given(lists(booleans(), max_size=40))
def test_a_breaker_opens_only_after_failures_in_a_row_and_always_tries_again(outcomes: list[bool]) -> None:
    breaker, now, in_a_row = Breaker(), NOW, 0
    for well in outcomes:
        while breaker.state(now) is BreakerState.OPEN:
            now += timedelta(seconds=1)
        assert breaker.state(now) in (BreakerState.CLOSED, BreakerState.TRYING)
        breaker = breaker.after_success() if well else breaker.after_failure(now)
        in_a_row = 0 if well else in_a_row + 1
        assert (breaker.state(now) is BreakerState.OPEN) is (in_a_row >= FAILURES_TO_OPEN)
        assert breaker.rests_until is None or breaker.rests_until - now <= timedelta(seconds=LONGEST_REST_SECONDS)


def test_what_lapses_is_noticed_at_each_mark_once() -> None:
    assert [expiry_mark(days) for days in (60, 45, 20, 14, 5, 3, 0.5, 0, -2)] == [None, 45, 45, 14, 14, 3, 3, 0, 0]


def test_reminders_come_sooner_for_what_is_urgent_and_then_daily() -> None:
    assert [reminders_due(hours, urgent=False) for hours in (0.5, 1, 8, 24, 47, 48, 72)] == [0, 1, 2, 3, 3, 4, 5]
    assert reminders_due(0.2, urgent=True) == 1
    assert reminders_due(1, urgent=True) == 3
