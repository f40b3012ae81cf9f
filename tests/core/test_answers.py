"""Questions about an app: answered once by topic, translated for each store, held against the package and rated."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from decimal import Decimal
from itertools import product
from typing import Any

import pytest
from hypothesis import given as drawn
from hypothesis import strategies as st

from restless_tide.core.answer_checks import against_package, check_answers, rated
from restless_tide.core.answer_shapes import (
    plain,
    read_answer,
    shape_at,
    shape_of_topic,
    thawed,
    translated,
    untranslated,
    worded,
)
from restless_tide.core.answers import (
    AnswersAt,
    AnswerState,
    Asked,
    asked,
    coming,
    differing_answers,
    state_of_all,
    ungiven,
)
from restless_tide.core.applying import Answer, Case
from restless_tide.core.availability import Availability
from restless_tide.core.catalogue import AnswerForm, catalogue
from restless_tide.core.documents import DocumentFormat
from restless_tide.core.errors import Invalid, Level
from restless_tide.core.evidence import evidence
from restless_tide.core.known import MendAct, NodeState
from restless_tide.core.revision import compare
from restless_tide.core.rulebook import Rulebook, read_rulebook
from tests.answering import HARMLESS, mild
from tests.core.test_evidence import COMPLETE, FACTS, READY
from tests.core.test_steering import NOW, rulebook

NORTHGATE, OPENFIELD, SLATEHOUSE = (rulebook(name) for name in ("northgate", "openfield", "slatehouse"))
STORES = (NORTHGATE, OPENFIELD, SLATEHOUSE)
COMMON: dict[str, Answer | None] = HARMLESS | {"youngest-age": 3, "audience": ("children",)}
FREE, PAID = Availability(), Availability(price=Decimal("2.00"), currency="EUR")
LATER = datetime(2031, 3, 2, tzinfo=UTC)
S, A = NodeState, AnswerState

BARE = """
store = "Bare"
revision = "1"
in_force_since = 2026-01-01T00:00:00Z
platforms = ["android"]
cohorts = {}
rollout = {}
[packages]
formats = ["apk"]
[numbers]
numbering = "rises for ever"
[processing]
usual_minutes = 1
[review]
usual_hours = 1
"""


def keys(rules: Rulebook, given: AnswersAt, case: Case, day: datetime = NOW) -> dict[str, bool]:
    return {one.key: one.surely for one in asked(rules, given, case, day)}


def case(offer: Availability = FREE, **facts: Any) -> Case:
    return Case(facts=(replace(FACTS, **facts),), offer=offer)


def test_a_topic_is_answered_once_and_every_store_gets_it_in_its_own_choices() -> None:
    given = AnswersAt(common={"violence": "mild", "encryption": "own", "audience": ("children", "adults")})
    got = {
        rules.store: {one.key: one.answer for one in asked(rules, given, case(), NOW) if one.answer is not None}
        for rules in STORES
    }
    assert got == {
        "Northgate": {"rough-scenes": "seldom", "made-for": ("small", "grown")},
        "Openfield": {"cipher": "home-made"},
        "Slatehouse": {"violence": "mild"},
    }


def test_several_rows_of_ours_can_be_one_of_a_store_and_one_open_row_leaves_it_open() -> None:
    grid = {"pictures": ("gathered", "optional"), "sound": ("passed-on",), "location": ()}
    assert translated(OPENFIELD, "gathering", grid) == {"place": (), "media": ("taken", "shared", "refusable")}
    assert translated(OPENFIELD, "gathering", {"pictures": ("gathered",)}) is None
    assert translated(NORTHGATE, "what-is-kept", {"purchases": ("gathered",)}) is None


def test_an_answer_of_one_stores_own_stands_before_that_of_all() -> None:
    given = AnswersAt(common={"violence": "none"}, own={"rough-scenes": "often", "ground": "no"})
    here = {one.key: (one.answer, one.origin) for one in asked(NORTHGATE, given, case(), NOW)}
    assert here["rough-scenes"] == ("often", "own")
    assert here["ground"] == ("no", "own")


@pytest.mark.parametrize(
    ("rules", "given", "about", "question", "expected"),
    [
        (NORTHGATE, {"ground": "yes"}, case(), "ground-warning", True),
        (NORTHGATE, {"ground": "no"}, case(), "ground-warning", None),
        (NORTHGATE, {}, case(), "ground-warning", False),
        (OPENFIELD, {}, case(permissions=("android.permission.VIBRATE",)), "calls-a-day", True),
        (OPENFIELD, {}, case(), "calls-a-day", None),
        (OPENFIELD, {}, Case(offer=FREE), "calls-a-day", False),
        (OPENFIELD, {"promotion": "some"}, case(), "hidden-cost", True),
        (OPENFIELD, {"promotion": "none"}, case(), "hidden-cost", None),
        (SLATEHOUSE, {}, case(PAID), "give-back", True),
        (SLATEHOUSE, {}, case(FREE), "give-back", None),
        (SLATEHOUSE, {}, Case(facts=(FACTS,)), "give-back", False),
    ],
)
def test_a_question_appears_by_earlier_answers_the_builds_facts_and_the_offer(
    rules: Rulebook, given: dict[str, Answer], about: Case, question: str, expected: bool | None
) -> None:
    assert keys(rules, AnswersAt(own=given), about).get(question) is expected


def test_an_answer_that_is_no_longer_asked_for_makes_no_other_question_appear() -> None:
    text = BARE + (
        '[questionnaire.questions.a]\nform = "choice"\nchoices = { no = "No", yes = "Yes" }\n'
        '[questionnaire.questions.b]\nform = "choice"\nchoices = { no = "No", yes = "Yes" }\n'
        'when = { answer = "a", one_of = ["yes"] }\n'
        '[questionnaire.questions.c]\nform = "text"\nwhen = { answer = "b", one_of = ["yes"] }\n'
    )
    rules = read_rulebook(text)
    assert list(keys(rules, AnswersAt(own={"a": "yes", "b": "yes"}), case())) == ["a", "b", "c"]
    assert list(keys(rules, AnswersAt(own={"a": "no", "b": "yes"}), case())) == ["a"]


def test_a_question_that_applies_later_is_asked_from_that_day_on() -> None:
    assert "low-battery" not in keys(OPENFIELD, AnswersAt(), case())
    assert keys(OPENFIELD, AnswersAt(), case(), LATER)["low-battery"] is True


@pytest.mark.parametrize(
    ("topic", "value", "told"),
    [
        ("violence", "much", "one of none, mild, strong"),
        ("violence", ["none"], "one of none"),
        ("audience", [], "one or more of"),
        ("audience", ["adults", "cats"], "one or more of"),
        ("youngest-age", "seven", "a whole number"),
        ("youngest-age", True, "a whole number"),
        ("youngest-age", 10**12, "a whole number"),
        ("reviewer-hint", " ", "a text of 1 to"),
        ("reviewer-hint", "x" * 5000, "a text of 1 to"),
        ("gathered-data", {}, "for each of location"),
        ("gathered-data", {"moods": []}, "for each of location"),
        ("gathered-data", {"location": ["sold"]}, "an empty one says none"),
        ("gathered-data", {"location": "gathered"}, "a list of gathered"),
        ("gathered-data", "nothing", "for each of location"),
    ],
)
def test_what_is_no_answer_is_refused_with_what_would_be_one(topic: str, value: Any, told: str) -> None:
    with pytest.raises(Invalid) as wrong:
        read_answer(shape_of_topic(topic), value, topic)
    assert told in wrong.value.remedy
    assert topic in wrong.value.detail


@drawn(st.data())
def test_every_answer_of_a_topic_is_read_as_it_is_written(data: st.DataObject) -> None:
    shape = shape_of_topic(data.draw(st.sampled_from(list(catalogue().topics))))
    some = st.lists(st.sampled_from(list(shape.attributes) or [""]), unique=True)
    value = data.draw(
        {
            AnswerForm.CHOICE: st.sampled_from(list(shape.choices) or [""]),
            AnswerForm.CHOICES: st.lists(st.sampled_from(list(shape.choices) or [""]), min_size=1, unique=True),
            AnswerForm.NUMBER: st.integers(0, 999),
            AnswerForm.TEXT: st.text(min_size=1).filter(str.strip),
            AnswerForm.GRID: st.dictionaries(st.sampled_from(list(shape.kinds) or [""]), some, min_size=1),
            AnswerForm.FILE: st.fixed_dictionaries(
                {
                    "sha256": st.text("0123456789abcdef", min_size=64, max_size=64),
                    "name": st.sampled_from(["letter.pdf", "Brief (neu).txt"]),
                    "format": st.sampled_from([str(one) for one in DocumentFormat]),
                    "size_bytes": st.integers(1, 9_000),
                }
            ),
        }[shape.form]
    )
    read = read_answer(shape, value, "it")
    assert thawed(plain(read)) == read
    assert read_answer(shape, plain(read), "it") == read
    assert worded(shape, read)


def test_the_answer_that_a_store_holds_is_known_again_where_it_stands_for_one_alone() -> None:
    assert untranslated(NORTHGATE, "rough-scenes", "seldom") == "mild"
    assert untranslated(NORTHGATE, "made-for", ("small", "grown")) == ("children", "adults")
    assert untranslated(OPENFIELD, "promotion", "some") is None
    assert untranslated(OPENFIELD, "gathering", {"media": ("taken",)}) is None
    assert untranslated(SLATEHOUSE, "youngest", 9) == 9
    assert untranslated(NORTHGATE, "ground", "no") is None


def test_what_a_store_no_longer_takes_of_its_own_answer_is_left_out() -> None:
    grid = {"whereabouts": ("kept", "sold"), "moods": ("kept",)}
    own = {"rough-scenes": "wild", "made-for": ("small", "cats"), "what-is-kept": grid, "ground": 3}
    got = {one.key: one.answer for one in asked(NORTHGATE, AnswersAt(own=own), case(), NOW)}
    assert got == {
        "shelf": None, "rough-scenes": None, "made-for": ("small",), "ground": None, "ground-warning": None,
        "what-is-kept": {"whereabouts": ("kept",)}, "till": None,
    }  # fmt: skip


def test_what_nobody_answered_here_stays_at_the_store_and_counts_there() -> None:
    given = AnswersAt(held={"ground": "yes", "rough-scenes": "often"}, common={"violence": None})
    assert ungiven(NORTHGATE, given) == {"ground": "yes"}
    assert keys(NORTHGATE, given, case())["ground-warning"] is True
    assert differing_answers(NORTHGATE, given, asked(NORTHGATE, given, case(), NOW)) == {}


@pytest.mark.parametrize(
    ("given", "expected"),
    [
        (AnswersAt(), A.UNTOUCHED),
        (AnswersAt(common={"gathered-data": {"location": ()}}), A.BEGUN),
        (AnswersAt(common=COMMON), A.COMPLETE),
        (AnswersAt(common=COMMON, ordered={"what-is-kept": mild(NORTHGATE)["what-is-kept"]}), A.SENT),
        (AnswersAt(common=COMMON, held={"what-is-kept": mild(NORTHGATE)["what-is-kept"]}), A.ACCEPTED),
        (AnswersAt(common=COMMON, held={"what-is-kept": {"body": ("kept",)}}), A.CHANGED),
        (AnswersAt(common=COMMON, kept=frozenset({"what-is-kept"})), A.WAITS),
        (AnswersAt(common=COMMON, refused={"what-is-kept": mild(NORTHGATE)["what-is-kept"]}), A.REFUSED),
        (AnswersAt(held={"what-is-kept": {"body": ("kept",)}}), A.ACCEPTED),
    ],
)
def test_each_state_of_an_answer_is_another_one(given: AnswersAt, expected: AnswerState) -> None:
    states = {one.key: one.state for one in asked(NORTHGATE, given, case(), NOW)}
    assert states["what-is-kept"] is expected


@pytest.mark.parametrize(
    ("states", "expected"),
    [
        ([], A.UNTOUCHED),
        ([A.UNTOUCHED, A.UNTOUCHED], A.UNTOUCHED),
        ([A.UNTOUCHED, A.ACCEPTED], A.BEGUN),
        ([A.BEGUN, A.COMPLETE], A.BEGUN),
        ([A.COMPLETE, A.COMPLETE], A.COMPLETE),
        ([A.COMPLETE, A.ACCEPTED], A.CHANGED),
        ([A.SENT, A.ACCEPTED], A.SENT),
        ([A.ACCEPTED, A.ACCEPTED], A.ACCEPTED),
        ([A.REFUSED, A.CHANGED], A.REFUSED),
    ],
)
def test_a_questionnaire_stands_where_its_questions_do(states: list[AnswerState], expected: AnswerState) -> None:
    assert state_of_all(states) is expected


def test_what_is_new_since_the_store_took_answers_is_marked() -> None:
    given = AnswersAt(held={"cipher": "nothing"})
    new = {one.key for one in asked(OPENFIELD, given, case(), LATER) if one.new}
    assert "low-battery" in new
    assert "cipher" not in new
    assert not any(one.new for one in asked(OPENFIELD, AnswersAt(), case(), LATER))


CAMERA = ("android.permission.CAMERA",)


@pytest.mark.parametrize(
    ("common", "facts", "expected"),
    [
        ({"gathered-data": {"pictures": ()}}, {"permissions": CAMERA}, ("answer-against-package", Level.CAUTION)),
        ({"gathered-data": {"pictures": ("gathered",)}}, {"permissions": CAMERA}, None),
        ({"gathered-data": {"sound": ()}}, {"permissions": CAMERA}, None),
        ({"gathered-data": {"pictures": ("gathered",)}}, {}, ("answer-without-sign", Level.NOTE)),
        ({"gathered-data": {"pictures": ()}}, {"reasons": {"NSCameraUsageDescription": "To look."}}, ("answer-against-package", Level.CAUTION)),
        ({"encryption": "none"}, {"encryption_exempt": False}, ("answer-against-package", Level.CAUTION)),
        ({"encryption": "own"}, {"encryption_exempt": True}, ("answer-against-package", Level.CAUTION)),
        ({"encryption": "system"}, {"encryption_exempt": True}, None),
        ({"encryption": None}, {"encryption_exempt": True}, None),
    ],
)  # fmt: skip
def test_answers_are_held_against_the_package(
    common: dict[str, Answer | None], facts: dict[str, Any], expected: tuple[str, Level] | None
) -> None:
    found = against_package(common, [replace(FACTS, **facts)], "Build 1.0.0 (1)")
    assert [(one.code, one.level) for one in found] == ([expected] if expected else [])


def test_a_contradiction_names_both_sides() -> None:
    package = replace(FACTS, permissions=CAMERA)
    (found,) = against_package({"gathered-data": {"pictures": ()}}, [package], "Build 1.0.0 (1)")
    assert found.detail == (
        "Build 1.0.0 (1) has android.permission.CAMERA, and Data gathered says: Pictures and films: not gathered."
    )


def test_the_strictest_rule_of_a_region_decides_and_a_missing_answer_leaves_it_open() -> None:
    def grades(**own: Answer) -> dict[str, str | None]:
        given = AnswersAt(own={key.replace("_", "-"): value for key, value in own.items()})
        return rated(NORTHGATE, asked(NORTHGATE, given, case(), NOW))

    assert grades() == {"north": None, "elsewhere": None}
    assert grades(rough_scenes="often") == {"north": "grown", "elsewhere": "grown"}
    assert grades(rough_scenes="never", ground="no") == {"north": "open", "elsewhere": "open"}
    assert grades(rough_scenes="never", ground="yes") == {"north": "open", "elsewhere": "guided"}
    assert grades(rough_scenes="seldom", made_for=("small",), ground="no") == {"north": "grown", "elsewhere": "guided"}
    assert grades(rough_scenes="seldom", ground="no") == {"north": None, "elsewhere": "guided"}


@pytest.mark.parametrize("rules", [NORTHGATE, SLATEHOUSE])
def test_every_way_to_answer_has_a_grade_in_every_region(rules: Rulebook) -> None:
    questions = rules.questionnaire.questions
    whole = {key: one for key, one in mild(rules).items() if not shape_at(rules, key).choices}
    chosen = [key for key in questions if shape_at(rules, key).choices]
    ways = [_ways(rules, key) for key in chosen]
    for answers in product(*ways):
        given = AnswersAt(own=whole | dict(zip(chosen, answers, strict=True)))
        assert None not in rated(rules, asked(rules, given, case(), NOW)).values()


def _ways(rules: Rulebook, key: str) -> list[Answer]:
    shape = shape_at(rules, key)
    return [(choice,) if shape.form is AnswerForm.CHOICES else choice for choice in shape.choices]


YES_NO = 'form = "choice"\nchoices = { no = "No", yes = "Yes" }\n'


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('[questionnaire.questions.a]\nmeans = "weather"\n', "no topic of the catalogue is"),
        ("[questionnaire.questions.a]\n", "so it says its form"),
        ('[questionnaire.questions.violence]\nform = "text"\n', "it names none"),
        ('[questionnaire.questions.a]\nform = "choice"\nchoices = { one = "One" }\n', "fewer than two choices"),
        ('[questionnaire.questions.a]\nform = "grid"\n', "a grid has kinds and attributes"),
        ('[questionnaire.questions.a]\nform = "number"\nlowest = 9\nhighest = 3\n', "lowest is above highest"),
        (f'[questionnaire.questions.a]\n{YES_NO}refused_answers = ["maybe"]\n', "which is no choice"),
        ('[questionnaire.questions.a]\nmeans = "violence"\n[questionnaire.questions.violence]\n', "both mean violence"),
        (
            '[questionnaire.questions.a]\nmeans = "violence"\nchoices = { no = "No", yes = "Yes" }\nmaps = { none = "no" }\n',
            "says nothing of mild, strong",
        ),
        (
            '[questionnaire.questions.violence]\nmaps = { none = "never" }\n',
            "maps names never, which is not there",
        ),
        (
            '[questionnaire.questions.gathered-data]\nkinds = { place = "Place" }\nattributes = { gathered = "Taken" }\n',
            "no answer of the topic leads to place",
        ),
        (
            f'[questionnaire.questions.a]\n{YES_NO}when = {{ answer = "b", one_of = ["yes"] }}\n'
            f'[questionnaire.questions.b]\n{YES_NO}when = {{ answer = "a", one_of = ["yes"] }}\n',
            "asked after each other in a circle",
        ),
        (
            f'[questionnaire.questions.a]\n{YES_NO}when = {{ answer = "c", one_of = ["yes"] }}\n',
            "no question is called",
        ),
        (
            f'[questionnaire.questions.a]\n{YES_NO}[questionnaire.questions.b]\nform = "text"\n'
            'when = { answer = "a", one_of = ["perhaps"] }\n',
            "names perhaps, which a does not have",
        ),
        (
            f'[questionnaire.questions.a]\n{YES_NO}[questionnaire.questions.b]\nform = "text"\n'
            'when = { answer = "a", at_least = 3 }\n',
            "compares a with a number",
        ),
        (f'[questionnaire.questions.a]\n{YES_NO}when = {{ paid = true, permission = "x" }}\n', "this one has 2"),
        (f"[questionnaire.questions.a]\n{YES_NO}when = {{ }}\n", "this one has 0"),
        (f'[questionnaire.questions.a]\n{YES_NO}when = {{ answer = "a" }}\n', "has one_of or at_least"),
        (f"[questionnaire.questions.a]\n{YES_NO}when = {'{ not = ' * 7}{{ paid = true }}{' }' * 7}\n", "8 deep"),
        (
            "[questionnaire.questions.violence]\n[questionnaire.ratings]\n"
            'grades = { calm = "Calm" }\nregions = { all = { title = "All" } }\n'
            'rules = [{ grade = "calm", when = { answer = "violence", one_of = ["none", "mild"] } }]\n',
            "leave a case open in all: violence = strong",
        ),
        (
            "[questionnaire.questions.violence]\n[questionnaire.ratings]\n"
            'grades = { calm = "Calm" }\nregions = { all = { title = "All" } }\nrules = [{ grade = "loud" }]\n',
            "gives the grade 'loud'",
        ),
        (
            "[questionnaire.questions.violence]\n[questionnaire.ratings]\n"
            'grades = { calm = "Calm" }\nregions = { all = { title = "All" } }\n'
            'rules = [{ grade = "calm" }, { grade = "calm", when = { paid = true } }]\n',
            "something else than answers with choices",
        ),
        (
            "[questionnaire.questions.violence]\n[questionnaire.ratings]\n"
            'grades = { calm = "Calm" }\nregions = { all = { title = "All" } }\n'
            'rules = [{ grade = "calm", regions = ["north"] }]\n',
            "names north, which no region is called",
        ),
        (
            '[questionnaire.questions.violence]\n[things.a]\nkind = "answers"\ntitle = "A"\nquestions = ["b"]\n',
            "names b, which no question is called",
        ),
        ('[things.a]\nkind = "berth"\ntitle = "A"\nquestions = ["b"]\n', "only a thing of kind answers"),
        (
            '[questionnaire.questions.violence]\n[things.a]\nkind = "page"\ntitle = "A"\n'
            'when = { answer = "violence", one_of = ["much"] }\n',
            "things.a.when names much, which violence does not have",
        ),
        ('[questionnaire.questions.a]\nform = "number"\nhighest = 9_000_000_000\n', "less than or equal to"),
    ],
)
def test_a_questionnaire_that_cannot_be_asked_or_rated_is_refused(text: str, told: str) -> None:
    with pytest.raises(Invalid) as wrong:
        read_rulebook(BARE + text)
    assert told in wrong.value.detail


def test_a_number_and_words_have_their_limits_at_a_store() -> None:
    given = AnswersAt(common=COMMON | {"youngest-age": 1, "reviewer-sign-in": "yes", "reviewer-hint": "ø" * 251})
    codes = [found.code for found in check_answers(SLATEHOUSE, given, case(), NOW)]
    assert codes == ["answer-out-of-range", "answer-too-long"]


def held(rules: Rulebook, **changed: Answer) -> dict[str, Answer]:
    return mild(rules) | {key.replace("_", "-"): value for key, value in changed.items()}


@pytest.mark.parametrize(
    ("rules", "given", "expected", "mend", "codes"),
    [
        (NORTHGATE, AnswersAt(held=mild(NORTHGATE)), S.DONE, MendAct.NONE, set()),
        (NORTHGATE, AnswersAt(), S.MISSING, MendAct.ANSWER_TOPICS, {"answer-missing", "answer-perhaps"}),
        (SLATEHOUSE, AnswersAt(common=COMMON), S.MISSING, MendAct.SEND_ANSWERS, {"answer-not-sent"}),
        (SLATEHOUSE, AnswersAt(common=COMMON, ordered=mild(SLATEHOUSE)), S.WAITING, MendAct.WAIT, set()),
        (
            SLATEHOUSE, AnswersAt(common=COMMON | {"violence": "mild"}, held=mild(SLATEHOUSE)), S.DOUBTFUL,
            MendAct.SEND_ANSWERS, set(),
        ),
        (OPENFIELD, AnswersAt(held=held(OPENFIELD, promotion="some", hidden_cost="yes")), S.MISSING,
         MendAct.ANSWER_TOPICS, {"answer-refused"}),
        (OPENFIELD, AnswersAt(held=held(OPENFIELD, promotion="none", hidden_cost="yes")), S.DONE, MendAct.NONE, set()),
        (
            NORTHGATE, AnswersAt(own={"ground": "yes"}, held=held(NORTHGATE, ground="no") | {}), S.DOUBTFUL,
            MendAct.SEND_ANSWERS, set(),
        ),
    ],
)  # fmt: skip
def test_the_evidence_of_answers_is_what_the_store_holds(
    rules: Rulebook, given: AnswersAt, expected: NodeState, mend: MendAct, codes: set[str]
) -> None:
    found = evidence(rules, "answers", replace(COMPLETE, answers=given))
    assert (found.state, found.mend) == (expected, mend), found
    assert {one.code for one in found.findings} - {"answer-asked-later"} == codes


def test_a_follow_up_of_a_changed_answer_is_a_caution_until_that_is_sent() -> None:
    there = held(NORTHGATE, ground="no")
    del there["ground-warning"]
    found = evidence(NORTHGATE, "answers", replace(COMPLETE, answers=AnswersAt(own={"ground": "yes"}, held=there)))
    assert [(one.code, one.level) for one in found.findings] == [("answer-missing", Level.CAUTION)]


def test_the_sheet_names_a_question_that_is_announced_and_asks_it_on_the_planned_day() -> None:
    there = mild(OPENFIELD)
    del there["low-battery"]
    today = evidence(OPENFIELD, "answers", replace(COMPLETE, answers=AnswersAt(held=there)))
    assert today.state is S.DONE
    assert [found.detail for found in today.findings if found.code == "answer-asked-later"] == [
        "From 01 Mar 2031 on Openfield asks: What does the app do in the background when the battery is low?"
    ]
    then = evidence(OPENFIELD, "answers", replace(COMPLETE, day=LATER, answers=AnswersAt(held=there)))
    assert then.state is S.MISSING


def test_what_is_asked_later_is_told_with_its_day_also_where_it_only_follows_what_is_asked_later() -> None:
    text = BARE + (
        f"[questionnaire.questions.a]\n{YES_NO}applies_from = 2031-03-01T00:00:00Z\n"
        '[questionnaire.questions.b]\nform = "text"\nwhen = { answer = "a", one_of = ["yes"] }\n'
        '[questionnaire.questions.c]\nform = "text"\nwhen = { paid = true }\napplies_from = 2032-01-01T00:00:00Z\n'
        '[questionnaire.questions.d]\nform = "text"\n'
    )
    rules = read_rulebook(text)
    told = coming(rules, AnswersAt(own={"a": "yes"}), case(), NOW)
    assert [(one.key, one.applies_from.year) for one in told if one.applies_from] == [("a", 2031), ("b", 2031)]
    assert [one.key for one in coming(rules, AnswersAt(own={"a": "no"}), case(PAID), NOW)] == ["a", "c"]


def test_an_answer_that_no_store_takes_is_missing_until_a_better_one_is_sent_and_confirmed() -> None:
    there = held(OPENFIELD, promotion="some", hidden_cost="yes")
    corrected = AnswersAt(own={"hidden-cost": "no"}, held=there)
    states = [
        (found.state, found.mend)
        for given in (AnswersAt(held=there), corrected, replace(corrected, ordered={"hidden-cost": "no"}))
        for found in [evidence(OPENFIELD, "answers", replace(COMPLETE, answers=given))]
    ]
    assert states == [
        (S.MISSING, MendAct.ANSWER_TOPICS),
        (S.MISSING, MendAct.SEND_ANSWERS),
        (S.WAITING, MendAct.WAIT),
    ]


def test_a_thing_may_be_asked_of_some_apps_alone() -> None:
    text = BARE + (
        '[things.berth]\nkind = "berth"\ntitle = "The berth"\n'
        '[things.papers]\nkind = "page"\ntitle = "A page on prices"\nwhen = { paid = true }\n'
        '[things.camera]\nkind = "page"\ntitle = "A page on pictures"\n'
        'when = { any = [{ permission = "android.permission.CAMERA" }, { capability = "camera" }] }\n'
    )
    rules = read_rulebook(text)
    assert evidence(rules, "papers", COMPLETE).state is S.NOT_ASKED
    assert evidence(rules, "papers", replace(COMPLETE, offered=PAID)).state is S.DOUBTFUL
    assert evidence(rules, "camera", COMPLETE).state is S.NOT_ASKED
    assert "may not ask" in evidence(rules, "camera", replace(COMPLETE, build=None)).reason
    taking = replace(READY, facts=(replace(FACTS, permissions=CAMERA),))
    assert evidence(rules, "camera", replace(COMPLETE, build=taking)).state is S.DOUBTFUL


def test_revisions_of_a_questionnaire_are_compared_in_words() -> None:
    document = OPENFIELD.model_dump(mode="json")
    questions = document["questionnaire"]["questions"]
    del questions["low-battery"]
    questions["calls-a-day"]["highest"] = 12
    before = Rulebook.model_validate(document)
    assert [change.told() for change in compare(before, OPENFIELD)] == [
        "Question about the app, calls-a-day, highest: 12 → 48",
        "Question about the app, low-battery: not asked → What does the app do in the background when the battery is low?"
        " from 01 Mar 2031 on",
    ]


def test_an_asked_question_says_what_stands_there() -> None:
    one: Asked = next(
        one for one in asked(NORTHGATE, AnswersAt(held={"ground": "yes"}), case(), NOW) if one.key == "ground"
    )
    assert (one.key, one.answer, one.stands) == ("ground", None, "yes")
