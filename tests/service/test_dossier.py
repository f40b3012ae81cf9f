"""The dossier through the real service: written once, sent to every store, kept while locked, seen when a store changes it."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
import tomlkit
from sqlalchemy import create_engine, text

from restless_tide.cli.exits import Exit
from restless_tide.client import Invalid, NotFound, NotReady, StaleView
from restless_tide.wire.dossier import StoreTextsTold
from restless_tide.wire.readiness import PlaceSheetTold
from tests.harbour import ANSWERS, TEXTS, Harbour, until
from tests.service.test_cli import Terminal
from tests.service.test_from_nothing import write_folder


def at_store(harbour: Harbour, app: str, store: str) -> StoreTextsTold:
    return next(one for one in harbour.tide.dossier.texts(app).stores if one.store == store)


def states(harbour: Harbour, app: str, store: str, locale: str = "en") -> dict[str, str]:
    return {one.field: one.state for one in at_store(harbour, app, store).texts if one.locale == locale}


def held(harbour: Harbour, app: str, store: str) -> dict[str, dict[str, str]]:
    """What the store itself holds: the independent witness."""
    berth = berth_at(harbour, app, store)
    found = [one for one in harbour.control(store, "things/dossier") if one["id"] == berth]
    return found[0]["texts"] if found else {}


def berth_at(harbour: Harbour, app: str, store: str) -> str:
    return next(one["id"] for one in harbour.control(store, "things/berth") if one["reference"] == app)


def place(harbour: Harbour, app: str, version: str | None, store: str, **asked: Any) -> PlaceSheetTold:
    return harbour.tide.dossier.ready(app, version, store=store, **asked).places[0]


def settled(harbour: Harbour, app: str) -> None:
    until(lambda: harbour.tide.dossier.texts(app).stores, lambda stores: not any(one.differing for one in stores))


def test_a_text_is_written_once_and_goes_to_every_store_under_its_own_key(harbour: Harbour) -> None:
    app, page = harbour.new_app(), "https://saltgrass.example.org/help"
    harbour.tide.dossier.write(app, "en", {"support-page": page, "privacy-page": page})
    assert states(harbour, app, "northgate")["help-page"] == "complete"
    harbour.tide.dossier.send(app)
    settled(harbour, app)
    assert held(harbour, app, "northgate")["en"] == TEXTS | {"help-page": page}
    assert held(harbour, app, "openfield")["en"] == TEXTS | {"data-page": page}
    assert set(states(harbour, app, "openfield").values()) == {"accepted"}
    again = harbour.tide.dossier.send(app)
    assert [(one.sent, one.kept) for one in again] == [(0, 0), (0, 0)], "only what differs is sent"


def test_one_store_gets_a_text_of_its_own_until_it_is_taken_out(harbour: Harbour) -> None:
    app, dossier = harbour.new_app(), harbour.tide.dossier
    dossier.write(app, "en", {"summary": "Only here."}, store="openfield")
    assert [(one.store, one.sent) for one in dossier.send(app)] == [("northgate", 0), ("openfield", 1)]
    settled(harbour, app)
    assert held(harbour, app, "openfield")["en"]["summary"] == "Only here."
    assert held(harbour, app, "northgate")["en"]["summary"] == TEXTS["summary"]
    dossier.write(app, "en", {"summary": ""}, store="openfield")
    dossier.send(app, store="openfield")
    settled(harbour, app)
    assert held(harbour, app, "openfield")["en"]["summary"] == TEXTS["summary"]


def test_a_locale_is_added_for_all_stores_in_one_act_and_taken_out_again(harbour: Harbour) -> None:
    app, dossier = harbour.new_app(), harbour.tide.dossier
    assert dossier.copy_locale(app, "en", "DE-at").locales == ["de-AT", "en"]
    dossier.send(app)
    settled(harbour, app)
    assert set(held(harbour, app, "northgate")) == {"de-AT", "en"}
    assert dossier.drop_locale(app, "de-AT").locales == ["en"]
    dossier.send(app)
    settled(harbour, app)
    assert set(held(harbour, app, "northgate")) == {"en"}
    with pytest.raises(NotFound, match="has no texts in de-AT"):
        dossier.drop_locale(app, "de-AT")
    with pytest.raises(NotFound, match="has no texts in fr"):
        dossier.copy_locale(app, "fr", "nb")


@pytest.mark.parametrize(
    ("locale", "texts", "told"),
    [
        ("english", {"summary": "x"}, "is no locale"),
        ("en", {"colour": "x"}, "There is no field 'colour'"),
        ("en", {"summary": "a\u0007b"}, "control character"),
    ],
)
def test_bad_input_is_refused_with_its_reason_and_nothing_is_written(
    harbour: Harbour, locale: str, texts: dict[str, str], told: str
) -> None:
    app = harbour.new_app()
    before = harbour.tide.dossier.texts(app).texts
    with pytest.raises((Invalid, ValueError), match=told):
        harbour.tide.dossier.write(app, locale, texts | {"description": "lost?"})
    assert harbour.tide.dossier.texts(app).texts == before


def test_what_a_store_would_refuse_is_sent_nowhere(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.tide.dossier.write(app, "en", {"summary": "x" * 200, "support-page": "not an address"})
    with pytest.raises(NotReady) as refused:
        harbour.tide.dossier.send(app)
    assert {found.code for found in refused.value.findings} == {"text-too-long", "text-no-address"}
    assert held(harbour, app, "northgate")["en"] == TEXTS


def test_two_people_who_write_one_text_lose_none_of_it(harbour: Harbour) -> None:
    app, dossier = harbour.new_app(), harbour.tide.dossier
    (first,) = dossier.write(app, "nb", {"summary": "En."}, revision=0)
    dossier.write(app, "nb", {"summary": "To."}, revision=first.revision)
    with pytest.raises(StaleView, match="Ida Fenwick has changed summary in nb meanwhile") as stale:
        dossier.write(app, "nb", {"summary": "Tre."}, revision=first.revision)
    assert [found.detail for found in stale.value.findings] == ["To.", "Tre."]


def test_a_locked_change_is_kept_and_goes_along_by_itself_after_the_review(harbour: Harbour) -> None:
    app, dossier = harbour.new_app(), harbour.tide.dossier
    harbour.draft(app, stores=("openfield",))
    harbour.submit(app, "1.0.0")
    harbour.all_confirmed(app)
    dossier.write(app, "en", {"summary": "Changed.", "privacy-page": "https://saltgrass.example.org/data"})
    sent = {one.store: (one.sent, one.kept) for one in dossier.send(app)}
    assert sent["openfield"] == (1, 1), "one may change any time, one is locked"
    until(lambda: held(harbour, app, "openfield")["en"], lambda texts: "data-page" in texts)
    assert states(harbour, app, "openfield")["summary"] == "waits for the review to end"
    assert held(harbour, app, "openfield")["en"]["summary"] == TEXTS["summary"]
    harbour.pass_hours(30, desk=False)
    until(lambda: held(harbour, app, "openfield")["en"], lambda texts: texts["summary"] == "Changed.")
    settled(harbour, app)


def test_a_change_on_the_stores_own_pages_is_seen_and_shown_as_a_difference(harbour: Harbour) -> None:
    app = harbour.new_app()
    berth = berth_at(harbour, app, "northgate")
    harbour.control(
        "northgate", f"texts/{berth}", {"texts": {"en": {"summary": "By hand."}, "fi": {"summary": "Käsin."}}}
    )
    seen = until(lambda: at_store(harbour, app, "northgate"), lambda store: store.differing)
    (changed,) = [one for one in seen.texts if one.held == "By hand."]
    assert (changed.text, changed.state) == (TEXTS["summary"], "changed since sent")
    assert seen.unwritten == 1, "what nobody wrote here stays there"
    harbour.tide.dossier.send(app)
    settled(harbour, app)
    assert held(harbour, app, "northgate")["fi"] == {"summary": "Käsin."}
    harbour.tide.dossier.take_over(app, "northgate")
    assert at_store(harbour, app, "northgate").unwritten == 0
    assert "fi" in harbour.tide.dossier.texts(app).locales


def test_what_a_store_refuses_is_told_in_its_words(harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    store = at_store(harbour, app, "openfield")
    assert store.refused_because == ""
    harbour.tide.dossier.write(app, "en", {"privacy-page": "https://saltgrass.example.org/data"})
    harbour.control("openfield", "mischief", {"refuse_texts": "We do not like this page."})
    done = Terminal(harbour, tmp_path)("dossier", "send", "--app", app, "--store", "openfield")
    assert (done.returncode, "Openfield: it refused 1 text." in done.stdout) == (Exit.REFUSED, True)
    seen = until(lambda: at_store(harbour, app, "openfield"), lambda store: store.refused_because)
    assert seen.refused_because == "We do not like this page."
    assert states(harbour, app, "openfield")["data-page"] == "refused"
    harbour.tide.dossier.send(app)
    settled(harbour, app)
    assert at_store(harbour, app, "openfield").refused_because == ""


def test_texts_of_a_desk_that_never_read_them_are_read_from_the_store(own_harbour: Harbour) -> None:
    app = own_harbour.new_app()
    own_harbour.processes.kill("desk")
    database = create_engine(f"sqlite:///{own_harbour.folder / 'desk' / 'desk.sqlite'}")
    with database.begin() as connection:
        for table in ("held_texts", "app_texts"):
            connection.execute(text(f"DELETE FROM {table}"))
        connection.execute(text("UPDATE berths SET texts_seen_at = NULL"))
    database.dispose()
    own_harbour.processes.start("desk")
    seen = until(lambda: at_store(own_harbour, app, "northgate"), lambda store: store.unwritten)
    assert (seen.unwritten, seen.differing) == (2, 0)
    assert (
        next(line for line in place(own_harbour, app, None, "northgate").things if line.key == "texts").state == "done"
    )
    own_harbour.tide.dossier.take_over(app, "northgate")
    written = {one.field: one.text for one in own_harbour.tide.dossier.texts(app).texts}
    assert written == TEXTS


# the readiness sheet


def test_the_sheet_of_a_release_and_its_hand_in_say_the_same(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("openfield",))
    harbour.tide.dossier.write(app, "en", {"description": ""})
    harbour.tide.dossier.send(app)
    settled(harbour, app)
    sheet = harbour.tide.dossier.ready(app, "1.0.0")
    assert (sheet.verdict, sheet.drafted, [one.place for one in sheet.places]) == ("blocked", True, ["openfield"])
    (missing,) = [found for thing in sheet.places[0].things for found in thing.findings if found.level == "blocker"]
    assert (missing.code, missing.place) == ("text-missing", "texts.en.description")
    with pytest.raises(NotReady) as refused:
        harbour.submit(app, "1.0.0")
    assert [found.detail for found in refused.value.findings] == [missing.detail]
    harbour.write_dossier(app)
    harbour.approve(app)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising")


def test_a_sheet_is_by_the_rules_of_the_planned_day(harbour: Harbour) -> None:
    app = harbour.new_app()
    now = place(harbour, app, None, "openfield")
    then = place(harbour, app, None, "openfield", on=datetime(2031, 4, 1, tzinfo=UTC))
    page = (
        {one.key: one.state for one in now.things}["network-page"],
        {one.key: one.state for one in then.things}["network-page"],
    )
    assert page == ("not asked", "doubtful")
    with pytest.raises(NotFound, match="has no sheet for nowhere"):
        harbour.tide.dossier.ready(app, "1.0.0", store="nowhere")


# the folder beside the source


def test_a_folder_is_fetched_changed_checked_compared_and_sent(harbour: Harbour, tmp_path: Path) -> None:
    app, tide = harbour.new_app(), Terminal(harbour, tmp_path)
    harbour.tide.dossier.write(app, "en", {"summary": "Only there."}, store="openfield")
    folder = tmp_path / "dossier"
    assert tide("dossier", "fetch", "dossier", "--app", app).returncode == 0
    before = {file: file.read_bytes() for file in folder.rglob("*.toml")}
    assert {file.relative_to(folder).as_posix() for file in before} == {
        "dossier.toml", "agreed.toml", "texts/en.toml", "answers.toml", "stores/openfield.toml", "stores/northgate.toml",
    }  # fmt: skip
    revisions = {text.field: text.revision for text in harbour.tide.dossier.texts(app).texts}
    assert "Nothing of dossier written at the desk" in tide("dossier", "send", "dossier").stdout
    assert tide("dossier", "fetch", "dossier").returncode == 0
    assert {file: file.read_bytes() for file in folder.rglob("*.toml")} == before, "the round trip changes nothing"
    assert {text.field: text.revision for text in harbour.tide.dossier.texts(app).texts} == revisions

    file = folder / "texts" / "en.toml"
    file.write_text(file.read_text(encoding="utf-8").replace(TEXTS["description"], "x" * 3000), encoding="utf-8")
    checked = tide("dossier", "check", "dossier")
    assert checked.returncode == Exit.REFUSED
    assert "has 3000 characters; Openfield takes 2600" in checked.stdout
    assert re.search(r"texts/en\.toml:\d", checked.stdout)
    file.write_text(file.read_text(encoding="utf-8").replace("x" * 3000, "For walks."), encoding="utf-8")
    assert tide("dossier", "check", "dossier").returncode == Exit.DONE
    shown = tide("dossier", "compare", "dossier").stdout
    assert "texts/en.toml, description: changed here" in shown
    assert "+For walks." in shown
    done = tide("dossier", "send", "dossier")
    assert "1 text of dossier written at the desk" in done.stdout
    settled(harbour, app)
    assert held(harbour, app, "northgate")["en"]["description"] == "For walks."
    assert held(harbour, app, "openfield")["en"]["summary"] == "Only there."
    assert "hold the same." in tide("dossier", "compare", "dossier").stdout


def test_what_was_changed_at_both_is_told_line_by_line_and_nothing_is_written(harbour: Harbour, tmp_path: Path) -> None:
    app, tide = harbour.new_app(), Terminal(harbour, tmp_path)
    tide("dossier", "fetch", "dossier", "--app", app)
    file = tmp_path / "dossier" / "texts" / "en.toml"
    file.write_text(file.read_text(encoding="utf-8").replace(TEXTS["summary"], "Ours."), encoding="utf-8")
    harbour.tide.dossier.write(app, "en", {"summary": "Theirs.", "description": "Newer."})
    for words in (("dossier", "fetch", "dossier"), ("dossier", "compare", "dossier")):
        done = tide(*words)
        assert done.returncode == Exit.REFUSED
        assert "-Theirs." in done.stdout
        assert "+Ours." in done.stdout
    refused = tide("dossier", "send", "dossier")
    assert refused.returncode == Exit.REFUSED
    assert "changed here and at the desk: texts/en.toml, summary" in refused.stderr
    written = {one.field: one.text for one in harbour.tide.dossier.texts(app).texts}
    assert written == {"summary": "Theirs.", "description": "Newer."}
    assert 'summary = "Ours."' in file.read_text(encoding="utf-8")
    assert 'description = "Newer."' in file.read_text(encoding="utf-8"), "what only the desk changed came along"


def test_a_folder_is_checked_sent_exported_and_named_by_file_and_line(harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app(dossier=False)
    harbour.draft(app, stores=("openfield", "northgate"))
    folder = tmp_path / "dossier" / "texts"
    write_folder(tmp_path / "dossier", app)
    tide = Terminal(harbour, tmp_path)
    assert tide("dossier", "check", "dossier").returncode == Exit.DONE
    assert tide("dossier", "send", "dossier").returncode == Exit.DONE
    settled(harbour, app)
    sheet = harbour.tide.dossier.ready(app, "1.0.0")
    assert {place.store: str(place.verdict) for place in sheet.places} == {
        "openfield": "ready",
        "northgate": "ready",
    }
    assert tide("dossier", "export", "out", "--app", app, "--store", "northgate").returncode == 0
    assert (
        (tmp_path / "out" / "texts" / "en.toml")
        .read_text(encoding="utf-8")
        .startswith(f'summary = "{TEXTS["summary"]}"')
    )
    (folder / "de.toml").write_text('summary = "Ein Tagebuch."\n', encoding="utf-8")
    (tmp_path / "dossier" / "answers.toml").write_text(
        tomlkit.dumps(ANSWERS | {"advertising": "own"}), encoding="utf-8"
    )
    tide("dossier", "send", "dossier")
    settled(harbour, app)
    told = tide("release", "ready", "1.0.0", "--app", app, "--store", "openfield", "--folder", "dossier")
    assert told.returncode == Exit.REFUSED
    assert re.search(r"Openfield wants Description in de\.\s+\(texts/de\.toml\)", told.stdout)
    assert "(stores/openfield.toml" in told.stdout
    assert f"→ tide dossier write de description=TEXT --app {app}" in told.stdout
    again = tide("dossier", "export", "out", "--app", app, "--store", "northgate")
    assert (again.returncode, "is not empty" in again.stderr) == (Exit.REFUSED, True)
