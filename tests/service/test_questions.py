"""Questions about an app: answered once, sent as each store asks them, kept while locked, and what stores say of them."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest

from restless_tide.cli.exits import Exit
from restless_tide.core.errors import Invalid, NotReady, StaleView
from restless_tide.core.rulebook import read_rulebook
from restless_tide.standins.__main__ import RULEBOOKS
from restless_tide.wire.dossier import QuestionTold, StoreQuestionsTold
from tests.harbour import Harbour, until
from tests.service.test_cli import Terminal


def held(harbour: Harbour, app: str, store: str) -> dict[str, Any]:
    """What the store itself holds: the independent witness."""
    berth = next(one["id"] for one in harbour.control(store, "things/berth") if one["reference"] == app)
    found = [one for one in harbour.control(store, "things/dossier") if one["id"] == berth]
    return found[0]["answers"] if found else {}


def berth_of(harbour: Harbour, app: str, store: str) -> str:
    return next(one["id"] for one in harbour.control(store, "things/berth") if one["reference"] == app)


def asked_by(harbour: Harbour, app: str, store: str) -> StoreQuestionsTold:
    return next(one for one in harbour.tide.dossier.questions(app).stores if one.store == store)


def question(harbour: Harbour, app: str, store: str, key: str) -> QuestionTold:
    there = asked_by(harbour, app, store)
    return next(one for one in (*there.questions, *there.coming) if one.key == key)


def test_a_topic_is_answered_once_and_every_store_gets_it_as_it_asks(harbour: Harbour) -> None:
    app = harbour.new_app()
    grid = {"location": ["gathered"], "pictures": ["gathered", "passed-on"]}
    harbour.tide.dossier.answer(app, {"violence": "mild", "encryption": "system"})
    before = {topic.key: topic.answer for topic in harbour.tide.dossier.questions(app).topics}
    harbour.tide.dossier.answer(app, {"gathered-data": before["gathered-data"] | grid})
    assert {one.differing for one in harbour.tide.dossier.questions(app).stores} == {2}
    sent = harbour.tide.dossier.send(app)
    assert {one.store: (one.answers_sent, one.sent) for one in sent} == {"northgate": (2, 0), "openfield": (2, 0)}
    harbour.until_held(app)
    assert held(harbour, app, "northgate")["rough-scenes"] == "seldom"
    assert held(harbour, app, "northgate")["what-is-kept"] == {
        "whereabouts": ["kept"], "images": ["kept", "handed-on"], "recordings": [], "body": [],
    }  # fmt: skip
    assert held(harbour, app, "openfield")["cipher"] == "borrowed"
    assert held(harbour, app, "openfield")["gathering"]["media"] == ["taken", "shared"]
    assert asked_by(harbour, app, "northgate").state == "accepted"
    assert [one.grade for one in asked_by(harbour, app, "northgate").ratings] == ["guided", "guided"]
    again = harbour.tide.dossier.send(app)
    assert {(one.answers_sent, one.answers_kept) for one in again} == {(0, 0)}, "only what differs is sent"


def test_a_release_waits_for_the_answers_and_for_what_they_lead_to(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("openfield",))
    harbour.tide.dossier.answer(app, {"advertising": "own"})
    harbour.tide.dossier.send(app)
    harbour.until_held(app)
    with pytest.raises(NotReady) as refused:
        harbour.submit(app, "1.0.0")
    assert [(found.code, found.place) for found in refused.value.findings] == [
        ("answer-missing", "answers.hidden-cost")
    ]
    harbour.tide.dossier.answer(app, {"hidden-cost": "yes"}, store="openfield")
    harbour.tide.dossier.send(app)
    harbour.until_held(app)
    with pytest.raises(NotReady) as refused:
        harbour.submit(app, "1.0.0")
    assert [found.code for found in refused.value.findings] == ["answer-refused"]
    harbour.tide.dossier.answer(app, {"hidden-cost": "no"}, store="openfield")
    harbour.tide.dossier.send(app)
    harbour.until_held(app)
    harbour.approve(app)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising")


def test_answers_that_are_locked_are_kept_and_go_when_the_review_has_ended(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",))
    harbour.submit(app, "1.0.0")
    until(lambda: harbour.leg(app, "northgate"), lambda leg: leg.phase == "under review" and leg.confirmed)
    harbour.tide.dossier.answer(app, {"violence": "strong"})
    (sent,) = harbour.tide.dossier.send(app, store="northgate")
    assert (sent.answers_sent, sent.answers_kept) == (0, 1)
    assert question(harbour, app, "northgate", "rough-scenes").state == "waits for the review to end"
    assert held(harbour, app, "northgate")["rough-scenes"] == "never"
    harbour.pass_hours(60, desk=False)
    until(lambda: held(harbour, app, "northgate")["rough-scenes"], lambda seen: seen == "often")
    until(lambda: question(harbour, app, "northgate", "rough-scenes").state, lambda state: state == "accepted")


def test_what_a_store_refuses_is_told_with_its_words_and_can_be_sent_again(harbour: Harbour, tmp_path: Path) -> None:
    app, tide = harbour.new_app(), Terminal(harbour, tmp_path)
    harbour.control("openfield", "mischief", {"refuse_answers": "We want to hear more of that."})
    assert tide("dossier", "answer", "encryption=own", "--app", app).returncode == Exit.DONE
    done = tide("dossier", "send", "--app", app)
    assert (done.returncode, "Openfield: it refused 1 answer." in done.stdout) == (Exit.REFUSED, True)
    told = tide("dossier", "questions", "--app", app, "--store", "openfield").stdout
    assert "Openfield refused the answers it was sent last: We want to hear more of that." in told
    assert question(harbour, app, "openfield", "cipher").state == "refused"
    harbour.tide.dossier.answer(app, {"encryption": "system"})
    assert "Openfield: 1 answer held there now." in tide("dossier", "send", "--app", app).stdout


def test_what_someone_answers_at_the_store_is_seen_and_taken_over_where_nobody_answered_here(harbour: Harbour) -> None:
    app = harbour.new_app()
    berth = berth_of(harbour, app, "northgate")
    changed = {"ground": "yes", "ground-warning": "Mind the tide.", "rough-scenes": "often"}
    harbour.control("northgate", f"dossier-answers/{berth}", {"answers": changed})
    until(lambda: question(harbour, app, "northgate", "rough-scenes").held, lambda seen: seen == "often")
    assert question(harbour, app, "northgate", "rough-scenes").state == "changed since sent"
    assert asked_by(harbour, app, "northgate").unwritten == 1
    taken = harbour.tide.dossier.take_over(app, "northgate")
    assert (taken.texts, taken.answers) == (0, 1)
    harbour.tide.dossier.answer(app, {"ground": "yes"}, store="northgate")
    assert question(harbour, app, "northgate", "ground-warning").answer == "Mind the tide."
    assert [line.act for line in harbour.tide.watching.logbook(app=app, limit=9)].count(
        "answers changed at the store"
    ) == 1


def test_two_people_at_one_answer_both_see_both(harbour: Harbour) -> None:
    app = harbour.new_app()
    seen = {topic.key: topic.revision for topic in harbour.tide.dossier.questions(app).topics}
    harbour.tide.dossier.answer(app, {"violence": "mild"}, revision=seen["violence"])
    with pytest.raises(StaleView) as stale:
        harbour.tide.dossier.answer(app, {"violence": "strong"}, revision=seen["violence"])
    assert [found.detail for found in stale.value.findings] == [
        "Mild: nobody is hurt for long",
        "Strong: people or animals are hurt or killed",
    ]
    assert "Ida Fenwick has changed Violence meanwhile" in stale.value.detail


@pytest.mark.parametrize(
    ("answers", "store", "told"),
    [
        ({"weather": "fine"}, None, "There is no question 'weather'"),
        ({"violence": "much"}, None, "violence cannot be 'much'"),
        ({"ground": "perhaps"}, "northgate", "ground cannot be 'perhaps'"),
        ({"cipher": "borrowed"}, "northgate", "There is no question 'cipher'"),
        ({"violence": "none", "news": "some"}, None, "news cannot be"),
    ],
)
def test_what_is_no_answer_is_refused_and_nothing_is_written(
    harbour: Harbour, answers: dict[str, Any], store: str | None, told: str
) -> None:
    app = harbour.new_app(dossier=False)
    with pytest.raises(Invalid, match=re.escape(told)) as wrong:
        harbour.tide.dossier.answer(app, answers, store=store)
    assert wrong.value.remedy
    assert all(topic.answer is None for topic in harbour.tide.dossier.questions(app).topics)


def test_an_answer_against_the_newest_build_is_told_with_both_names(harbour: Harbour, tmp_path: Path) -> None:
    app, tide = harbour.new_app(), Terminal(harbour, tmp_path)
    harbour.processing(harbour.package(app, "openfield", permissions=("android.permission.CAMERA",)), app, "openfield")
    (remark,) = harbour.tide.dossier.questions(app).remarks
    assert "android.permission.CAMERA, and Data gathered says: Pictures and films: not gathered" in remark.detail
    shown = tide("dossier", "questions", "--app", app).stdout
    assert "Held against the newest builds" in shown
    changed = tide("dossier", "answer", "gathered-data.pictures=gathered,optional", "--app", app)
    assert "Pictures and films: Gathered, People can refuse" in changed.stdout
    assert harbour.tide.dossier.questions(app).remarks == []


def test_a_store_that_asks_more_meanwhile_keeps_the_answers_and_marks_what_is_new(own_harbour: Harbour) -> None:
    harbour = own_harbour
    app = harbour.new_app()
    text = (RULEBOOKS / "northgate.toml").read_text(encoding="utf-8")
    rules = read_rulebook(text).model_dump(mode="json") | {"revision": "99"}
    rules["questionnaire"]["questions"]["tides"] = {
        "form": "choice", "text": "Does it know the tides?", "choices": {"no": "No", "yes": "Yes"},
    }  # fmt: skip
    harbour.control("northgate", "rulebook", {"rulebook": rules, "in_hours": 1})
    harbour.pass_hours(2, desk=False)
    found = until(lambda: [one for one in asked_by(harbour, app, "northgate").questions if one.new], bool)
    assert [(one.key, one.state) for one in found] == [("tides", "untouched")]
    assert question(harbour, app, "northgate", "rough-scenes").state == "accepted"
    sheet = harbour.tide.dossier.ready(app, store="northgate").places[0]
    assert {found.place for thing in sheet.things for found in thing.findings if found.level == "blocker"} == {
        "answers.tides"
    }


def test_an_answer_to_what_a_store_does_not_ask_now_is_kept(harbour: Harbour, tmp_path: Path) -> None:
    app, tide = harbour.new_app(), Terminal(harbour, tmp_path)
    done = tide("dossier", "answer", "hidden-cost=no", "--app", app, "--store", "openfield")
    assert (done.returncode, "hidden-cost is answered: No." in done.stdout) == (Exit.DONE, True)
    assert "hidden-cost" in {one.key for one in asked_by(harbour, app, "openfield").unasked}
    assert harbour.tide.dossier.send(app, store="openfield")[0].answers_sent == 0
    tide("dossier", "fetch", "dossier", "--app", app)
    assert "hold the same." in tide("dossier", "compare", "dossier").stdout
    harbour.tide.dossier.answer(app, {"advertising": "own"})
    assert harbour.tide.dossier.send(app, store="openfield")[0].answers_sent == 2


def test_answers_of_a_folder_come_back_as_they_were_sent_and_a_mistake_has_its_line(
    harbour: Harbour, tmp_path: Path
) -> None:
    app, tide = harbour.new_app(), Terminal(harbour, tmp_path)
    assert tide("dossier", "fetch", "dossier", "--app", app).returncode == Exit.DONE
    folder = tmp_path / "dossier"
    before = {file: file.read_bytes() for file in folder.rglob("*.toml")}
    assert 'ground = "no"' in (folder / "stores" / "northgate.toml").read_text(encoding="utf-8")
    assert tide("dossier", "send", "dossier").returncode == Exit.DONE
    assert tide("dossier", "fetch", "dossier").returncode == Exit.DONE
    assert {file: file.read_bytes() for file in folder.rglob("*.toml")} == before, "the round trip changes nothing"

    file = folder / "answers.toml"
    text = file.read_text(encoding="utf-8")
    file.write_text(text.replace('violence = "none"', 'violence = "much"'), encoding="utf-8")
    checked = tide("dossier", "check", "dossier")
    assert (checked.returncode, "violence cannot be 'much'" in checked.stdout) == (Exit.REFUSED, True)
    assert re.search(r"answers\.toml:\d", checked.stdout)
    file.write_text(text.replace('violence = "none"', 'violence = "strong"'), encoding="utf-8")
    assert "answers.toml, violence: changed here" in tide("dossier", "compare", "dossier").stdout
    done = tide("dossier", "send", "dossier")
    assert "1 answer of dossier written at the desk." in done.stdout
    harbour.until_held(app)
    assert held(harbour, app, "northgate")["rough-scenes"] == "often"
    assert "hold the same." in tide("dossier", "compare", "dossier").stdout

    file.write_text(
        file.read_text(encoding="utf-8").replace('violence = "strong"', 'violence = "mild"'), encoding="utf-8"
    )
    harbour.tide.dossier.answer(app, {"violence": "none"})
    refused = tide("dossier", "send", "dossier")
    assert refused.returncode == Exit.REFUSED
    assert "changed here and at the desk: answers.toml, violence" in refused.stderr
