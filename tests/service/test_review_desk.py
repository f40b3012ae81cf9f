"""The review desk: what goes together, the last look, single items refused, what reviewers are told, and what they write."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import httpx
import pytest

from restless_tide.client import ImpossibleAct, Invalid, NotFound, NotReady, StaleView
from restless_tide.core.good import Good, GoodKind, GoodText
from restless_tide.demo.processes import STORES
from restless_tide.standins import pictures
from restless_tide.wire.cohorts import SignInWanted
from restless_tide.wire.releases import LegTold
from restless_tide.wire.reviewing import BriefWanted
from tests.harbour import Harbour, leg_of, until
from tests.patience import OPENLY
from tests.service.test_cli import Terminal
from tests.service.test_pictures import keep
from tests.service.test_questions import berth_of

SECRET = "the-heron-at-low-water"
PDF = b"%PDF-1.4\n1 0 obj\n<<>>\nendobj\ntrailer\n<<>>\n%%EOF\n"


@pytest.fixture(scope="module")
def coast(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Harbour]:
    opened = Harbour.open(tmp_path_factory.mktemp("review"), stores=STORES)
    opened.connect_stores()
    yield opened
    opened.close()


def good(name: str, picture: str | None = None, description: str = "All islands.") -> Good:
    texts = {locale: GoodText(name=name, description=description) for locale in ("en", "de")}
    return Good(kind=GoodKind.KEPT, price=Decimal("4.50"), currency="EUR", texts=texts, picture=picture)


def submission(harbour: Harbour, store: str, app: str) -> dict[str, Any]:
    """The newest that the store holds of an app: the independent witness."""
    berth = berth_of(harbour, app, store)
    return [one for one in harbour.control(store, "things/submission") if one["berth"] == berth][-1]


def settled_dossier(harbour: Harbour, app: str) -> None:
    harbour.tide.dossier.send(app)
    goods, texts, sets = harbour.tide.dossier.goods, harbour.tide.dossier.texts, harbour.tide.dossier.pictures
    until(lambda: goods(app), lambda told: not any(one.differing for one in told.stores))
    until(lambda: texts(app), lambda told: not any(one.differing for one in told.stores))
    until(lambda: sets(app), lambda told: not any(one.differing for one in told.stores))


def items(leg: LegTold) -> dict[str, str]:
    return {one.item: one.state for one in leg.rounds[-1].items}


def decided(harbour: Harbour, app: str, version: str = "1.0.0", *, hours: float = 70) -> None:
    harbour.all_confirmed(app, version)
    harbour.pass_hours(hours, desk=False)
    harbour.released(app, version, lambda seen: all(leg.phase != "under review" for leg in seen.legs))


def test_one_store_approves_all_one_refuses_an_item_and_one_gives_three_reasons(coast: Harbour, tmp_path: Path) -> None:
    tide, app = coast.tide, coast.new_app()
    drawn, blank = pictures.screen("maps", 900, 900), pictures.screen("tides", 900, 900)
    maps, tides = ((one,) for one in keep(coast, tmp_path, drawn, blank))
    tide.dossier.write_good(app, "maps", good("Maps", maps[0]))
    tide.dossier.write_good(app, "tides", good("Tides", tides[0]))
    settled_dossier(coast, app)
    coast.draft(app, stores=STORES, needs_go_ahead=True)
    look = tide.releases.look(app, "1.0.0")
    together = {leg.place: [one.item for one in leg.items] for leg in look.legs}
    assert {"texts", "pictures", "goods/maps", "goods/tides"} <= set(together["northgate"])
    assert "texts" not in together["openfield"], "its rulebook lets texts go alone"
    assert all(leg.live_version is None and all(line.changed for line in leg.lines) for leg in look.legs)

    coast.control("openfield", "mischief", {"reject_item_next": {"goods/tides": ["It does not say which tides."]}})
    three = ["The map is upside down.", "The sign-in fails.", "It asks for a place and takes none."]
    coast.control("slatehouse", "mischief", {"reject_next": three})
    tide.releases.submit(app, "1.0.0", looked=look.revision)
    decided(coast, app)
    seen = {leg.store: leg for leg in tide.releases.one(app, "1.0.0").legs}
    assert {store: leg.phase for store, leg in seen.items()} == {
        "northgate": "approved", "openfield": "approved", "slatehouse": "rejected",
    }  # fmt: skip
    assert set(items(seen["northgate"]).values()) == {"approved"}
    assert {item for item, state in items(seen["openfield"]).items() if state == "rejected"} == {"goods/tides"}
    found = {(one.place, one.item, one.words) for one in tide.matters.of_app(app)}
    assert found == {
        ("openfield", "goods/tides", "It does not say which tides."),
        *(("slatehouse", None, words) for words in three),
    }

    for one in tide.matters.of_app(app):
        if one.place == "slatehouse":
            tide.matters.decide(app, one.id, "fix", f"Done: {one.words}")
    assert tide.releases.look(app, "1.0.0", store="slatehouse").legs[0].findings == []
    coast.submit(app, "1.0.0", store="slatehouse")
    coast.all_confirmed(app)
    assert [one["words"] for one in submission(coast, "slatehouse", app).get("messages", [])] == []
    assert "Done: The map is upside down." in submission(coast, "slatehouse", app)["reviewer_note"]
    decided(coast, app)
    assert coast.leg(app, "slatehouse").phase == "approved"
    assert {one.state for one in tide.matters.of_app(app, settled=True) if one.place == "slatehouse"} == {"settled"}

    tide.releases.give_go_ahead(app, "1.0.0")
    coast.released(app, "1.0.0", lambda seen: all(leg.phase == "rising" and leg.confirmed for leg in seen.legs))
    coast.draft(app, "1.1.0", stores=("openfield",), number=2, needs_go_ahead=True)
    (leg,) = tide.releases.look(app, "1.1.0").legs
    assert (leg.live_version, leg.live_known) == ("1.0.0", True)
    assert [one.item for one in leg.items] == ["build", "notes", "goods/tides"], "the rest is approved as it stands"
    (size,) = [line for line in leg.lines if line.place == "size"]
    rounded = {("build", "size")} if size.new != size.live else set()  # a few bytes may be told as another size
    assert {(line.part, line.place) for line in leg.lines if line.changed} == {("build", "build")} | rounded
    assert [one.code for one in leg.findings] == ["matter-open"], "the item's matter is not done with"
    with pytest.raises(NotReady):
        coast.submit(app, "1.1.0")
    tide.dossier.write_good(app, "tides", good("Tides", tides[0], "High and low water for a week."))
    settled_dossier(coast, app)
    (matter,) = (one for one in tide.matters.of_app(app) if one.item)
    tide.matters.decide(app, matter.id, "fix", "It says which.")
    coast.submit(app, "1.1.0")
    decided(coast, app, "1.1.0")
    assert set(items(coast.leg(app, "openfield", "1.1.0")).values()) == {"approved"}
    assert tide.matters.of_app(app) == [], "the approval of the item has settled it"


def test_nothing_is_handed_in_that_was_not_looked_at_as_it_is_now(coast: Harbour) -> None:
    tide, app = coast.tide, coast.new_app()
    coast.draft(app, stores=("openfield", "slatehouse"), needs_go_ahead=True)
    with pytest.raises(Invalid, match="only after a last look") as unlooked:
        tide.releases.submit(app, "1.0.0")
    assert f"tide release look 1.0.0 --app {app}" in unlooked.value.remedy
    before = tide.releases.look(app, "1.0.0").revision
    assert tide.releases.look(app, "1.0.0").revision == before
    tide.releases.write_notes(app, "1.0.0", "en", "Other notes.")
    with pytest.raises(StaleView, match=f"revision {before}"):
        tide.releases.submit(app, "1.0.0", looked=before)
    alone = tide.releases.look(app, "1.0.0", store="openfield").revision
    with pytest.raises(StaleView):
        tide.releases.submit(app, "1.0.0", store="slatehouse", looked=alone)
    with pytest.raises(Invalid, match="goods/none is not among"):
        coast.submit(app, "1.0.0", without=["goods/none"])
    assert all(leg.phase == "draft" for leg in tide.releases.one(app, "1.0.0").legs), "nothing was handed in"
    both = tide.releases.look(app, "1.0.0").revision
    tide.releases.submit(app, "1.0.0", store="openfield", looked=both)
    decided_leg = coast.released(app, "1.0.0", lambda seen: leg_of(seen, "openfield").phase == "under review")
    assert leg_of(decided_leg, "slatehouse").phase == "draft"
    tide.releases.recall(app, "1.0.0", "openfield")
    coast.all_confirmed(app)


def test_what_must_go_goes_and_the_rest_may_be_kept_back(coast: Harbour, tmp_path: Path) -> None:
    tide, app = coast.tide, coast.new_app()
    tide.dossier.write_good(app, "maps", good("Maps", keep(coast, tmp_path, pictures.screen("m", 900, 900))[0]))
    settled_dossier(coast, app)
    coast.draft(app, stores=("northgate",), needs_go_ahead=True)
    with pytest.raises(Invalid, match="Northgate wants the texts together with the version"):
        coast.submit(app, "1.0.0", without=["texts"])
    coast.submit(app, "1.0.0", without=["goods/maps"])
    coast.all_confirmed(app)
    assert "goods/maps" not in submission(coast, "northgate", app)["items"]
    decided(coast, app)
    assert "goods/maps" not in items(coast.leg(app, "northgate"))


def test_an_item_that_is_kept_back_stands_in_nobodys_way_and_is_not_settled_by_the_rest(
    coast: Harbour, tmp_path: Path
) -> None:
    tide, app = coast.tide, coast.new_app()
    tide.dossier.write_good(app, "maps", good("Maps", keep(coast, tmp_path, pictures.screen("m", 900, 900))[0]))
    settled_dossier(coast, app)
    coast.draft(app, stores=("northgate",), needs_go_ahead=True)
    coast.control("northgate", "mischief", {"reject_item_next": {"goods/maps": ["It does not say which maps."]}})
    coast.submit(app, "1.0.0")
    decided(coast, app)
    assert coast.leg(app, "northgate").phase == "rejected", "its rulebook holds the rest"
    with pytest.raises(NotReady):
        coast.submit(app, "1.0.0")
    coast.submit(app, "1.0.0", without=["goods/maps"])
    decided(coast, app)
    assert coast.leg(app, "northgate").phase == "approved"
    (matter,) = tide.matters.of_app(app)
    assert (matter.item, matter.state) == ("goods/maps", "open")


def test_a_reviewer_finds_by_its_own_reading_what_nobody_could_foresee(coast: Harbour, tmp_path: Path) -> None:
    tide, app = coast.tide, coast.new_app()
    picture = keep(coast, tmp_path, pictures.screen("m", 900, 900))[0]
    tide.dossier.write_good(app, "maps", good("Maps", picture))
    tide.dossier.write_good(app, "more-maps", good("Maps", picture, "See www.example.org"))
    settled_dossier(coast, app)
    coast.draft(app, stores=("openfield",), needs_go_ahead=True)
    coast.submit(app, "1.0.0")
    decided(coast, app)
    told = {(one.item, one.words) for one in tide.matters.of_app(app)}
    assert ("goods/maps", "In en maps is called like more-maps; people cannot tell them apart.") in told
    assert ("goods/more-maps", "The description of more-maps in en leads people elsewhere.") in told
    assert coast.leg(app, "openfield").phase == "approved", "the rest has passed"


def test_what_reviewers_are_told_stands_until_it_is_changed_and_for_one_round_something_else(
    coast: Harbour, tmp_path: Path
) -> None:
    tide, app = coast.tide, coast.new_app()
    file = tmp_path / "guide.pdf"
    file.write_bytes(PDF)
    guide = tide.dossier.keep_document(file)["sha256"]
    told = tide.reviewers.change_brief(
        app, "openfield",
        BriefWanted(note="The map needs no network.", sign_in=SignInWanted(name="rita", password=SECRET), files=[guide]),
    )  # fmt: skip
    assert (told.note, told.sign_in, [one.name for one in told.files]) == (
        "The map needs no network.",
        "rita",
        ["guide.pdf"],
    )
    tide.reviewers.change_brief(app, "openfield", BriefWanted())
    assert [one.note for one in tide.reviewers.briefs(app) if one.store == "openfield"] == ["The map needs no network."]
    with pytest.raises(NotFound, match="no document"):
        tide.reviewers.change_brief(app, "openfield", BriefWanted(files=["0" * 64]))
    coast.draft(app, stores=("openfield",), needs_go_ahead=True)
    before = tide.releases.look(app, "1.0.0")
    seen = {line.place: line.new for line in before.legs[0].lines if line.part == "reviewer"}
    assert seen["standing"] == "The map needs no network."
    assert SECRET not in before.model_dump_json()
    tide.reviewers.change_brief(app, "openfield", BriefWanted(sign_in=SignInWanted(name="rita", password="another")))
    assert tide.releases.look(app, "1.0.0").revision != before.revision, "another password is another look"
    tide.reviewers.change_brief(app, "openfield", BriefWanted(sign_in=SignInWanted(name="rita", password=SECRET)))

    coast.control("openfield", "mischief", {"reject_next": ["The map is upside down."]})
    coast.submit(app, "1.0.0")
    decided(coast, app)
    there = submission(coast, "openfield", app)
    assert (there["reviewer_note"], there["sign_in"]) == (
        "The map needs no network.",
        {"name": "rita", "password": SECRET},
    )
    assert [one["name"] for one in there["attachments"]] == ["guide.pdf"]
    (matter,) = tide.matters.of_app(app)
    tide.matters.decide(app, matter.id, "fix", "It stands upright.")
    other = BriefWanted(note="Only for this round.", sign_in=SignInWanted(), files=[])
    coast.submit(app, "1.0.0", brief=other)
    decided(coast, app)
    there = submission(coast, "openfield", app)
    assert there["reviewer_note"].endswith("It stands upright.\n\nOnly for this round.")
    assert (there["sign_in"], there["attachments"]) == (None, [])
    assert [one.sign_in for one in tide.reviewers.briefs(app) if one.store == "openfield"] == ["rita"], "it stands"
    kept = "".join(
        path.read_text("utf-8", errors="ignore")
        for path in coast.processes.folder.rglob("desk.sqlite*")
        if path.is_file()
    )
    assert SECRET not in kept, "it is sealed"


def test_a_reviewer_asks_back_and_the_review_rests_until_it_is_answered(coast: Harbour, tmp_path: Path) -> None:
    tide, app = coast.tide, coast.new_app()
    coast.draft(app, stores=("openfield",), needs_go_ahead=True)
    address = f"{app}@example.org"
    tide.notices.subscribe("mail", address, kinds=["reviewer wrote"], apps=[app])
    coast.control("openfield", "mischief", {"ask_next": ["Where is the map?"]})
    coast.submit(app, "1.0.0")
    coast.all_confirmed(app)
    coast.pass_hours(40, desk=False)
    (thread,) = until(lambda: tide.reviewers.messages(app, "1.0.0", "openfield"), lambda found: found[0].waits)
    assert [(one.kind, one.words) for one in thread.messages] == [("question", "Where is the map?")]
    assert coast.leg(app, "openfield").rounds[-1].waits_for_answer
    coast.pass_hours(300, desk=False)
    assert coast.leg(app, "openfield").phase == "under review", "it rests"
    assert "asks: Where is the map?" in tide.watching.overview().model_dump_json()
    until(lambda: coast.mails(address), lambda mails: any("Where is the map?" in str(mail) for mail in mails))
    file = tmp_path / "map.png"
    file.write_bytes(pictures.screen("map", 300, 300))
    sha256 = tide.dossier.keep_document(file)["sha256"]
    tide.reviewers.write(app, "1.0.0", "openfield", "On the second page.", [sha256])
    coast.all_confirmed(app)
    (sent,) = submission(coast, "openfield", app)["messages"]
    assert (sent["words"], [one["sha256"] for one in sent["files"]]) == ("On the second page.", [sha256])
    (thread,) = tide.reviewers.messages(app, "1.0.0", "openfield")
    assert (thread.waits, [one.arrived for one in thread.messages]) == (False, [True, True])
    coast.pass_hours(40, desk=False)
    coast.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "approved")
    with pytest.raises(ImpossibleAct, match="takes no more messages"):
        tide.reviewers.write(app, "1.0.0", "openfield", "Thank you.")


def test_a_reviewers_message_twice_late_and_with_hostile_files_is_taken_once_and_does_no_harm(
    coast: Harbour, tmp_path: Path
) -> None:
    tide, app = coast.tide, coast.new_app()
    coast.draft(app, stores=("openfield",), needs_go_ahead=True)
    coast.submit(app, "1.0.0")
    decided(coast, app)
    reference = submission(coast, "openfield", app)["id"]
    files = {
        "../../report.pdf": PDF,
        "run.exe": b"MZ\x00\x01\x02",
        "page.html": b"<script>alert(1)</script>",
        "cut.pdf": PDF[:20],
    }
    wish = {
        "submission": reference, "id": "m-1", "words": "One more thing.\u202e <b>now</b>",
        "files": {name: base64.b64encode(content).decode() for name, content in files.items()},
    }  # fmt: skip
    for _ in range(2):
        coast.control("openfield", "reviewers", wish)
    threads = tide.reviewers.messages
    (message,) = until(
        lambda: threads(app, "1.0.0", "openfield")[0].messages,
        lambda found: found and all(one.kept or one.trouble for one in found[0].files),
    )
    kept = {one.name: one.kept for one in message.files}
    assert kept == {"_.._report.pdf": True, "run.exe": False, "page.html": True, "cut.pdf": False}
    assert "no document" in next(one.trouble for one in message.files if one.name == "run.exe")
    page = next(one for one in message.files if one.name == "page.html")
    url = f"{coast.address}/v1/apps/{app}/review-messages/{message.id}/files/{page.sha256}"
    answer = httpx.get(url, headers={"Authorization": f"Bearer {coast.token}"}, **OPENLY)
    assert answer.headers["content-type"].startswith("text/plain")
    assert "attachment" in answer.headers["content-disposition"]
    assert answer.headers["x-content-type-options"] == "nosniff"
    fetched = tide.reviewers.fetch_file(app, message.id, message.files[0].sha256, tmp_path / "report.pdf")
    assert fetched.read_bytes() == PDF
    run = next(one for one in message.files if one.name == "run.exe")
    with pytest.raises(NotFound):
        tide.reviewers.fetch_file(app, message.id, run.sha256, tmp_path / "run.exe")


def test_a_refusal_is_appealed_as_often_as_the_rulebook_lets(coast: Harbour) -> None:
    tide, app = coast.tide, coast.new_app()
    coast.draft(app, stores=("northgate", "openfield"), needs_go_ahead=True)
    for store in ("northgate", "openfield"):
        coast.control(store, "mischief", {"reject_next": ["It does not start."]})
    coast.submit(app, "1.0.0")
    decided(coast, app)
    with pytest.raises(ImpossibleAct, match="Openfield takes no appeals"):
        tide.reviewers.appeal(app, "1.0.0", "openfield", "It does.")
    coast.control("northgate", "mischief", {"reject_next": ["It does not start, still."]})
    tide.reviewers.appeal(app, "1.0.0", "northgate", "It does start, see the film.")
    assert coast.leg(app, "northgate").phase == "under review"
    rows = [row.model_dump_json() for row in coast.tide.watching.overview().rows]
    assert not any("longer than usual" in row for row in rows if f'"{app}"' in row), "its time counts anew"
    coast.all_confirmed(app)
    coast.pass_hours(70, desk=False)
    again = coast.released(app, "1.0.0", lambda seen: leg_of(seen, "northgate").phase == "rejected")
    assert [one.number for one in leg_of(again, "northgate").rounds] == [1], "an appeal is no new round"
    with pytest.raises(ImpossibleAct, match="are used up"):
        tide.reviewers.appeal(app, "1.0.0", "northgate", "Once more.")
    words = {one.words for one in tide.matters.of_app(app) if one.place == "northgate"}
    assert words == {"It does not start.", "It does not start, still."}


def test_an_appeal_that_is_granted_settles_the_matters(coast: Harbour) -> None:
    tide, app = coast.tide, coast.new_app()
    coast.draft(app, stores=("slatehouse",), needs_go_ahead=True)
    coast.control("slatehouse", "mischief", {"reject_next": ["It does not start."]})
    coast.submit(app, "1.0.0")
    decided(coast, app)
    with pytest.raises(Invalid, match="needs words|at least 1"):
        tide.reviewers.appeal(app, "1.0.0", "slatehouse", " ")
    tide.reviewers.appeal(app, "1.0.0", "slatehouse", "It does.")
    coast.all_confirmed(app)
    coast.pass_hours(70, desk=False)
    coast.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "approved")
    assert [one.state for one in tide.matters.of_app(app, settled=True)] == ["settled"]


def test_the_whole_way_by_commands(coast: Harbour, tmp_path: Path) -> None:
    tide, app = Terminal(coast, tmp_path), coast.new_app()
    coast.draft(app, stores=("slatehouse",), needs_go_ahead=True)
    of = ("--app", app, "--store", "slatehouse")
    guide, mail = tmp_path / "guide.pdf", tmp_path / "mail.txt"
    guide.write_bytes(PDF)
    mail.write_text("We could not sign in.", "utf-8")
    password = tmp_path / "password"
    password.write_text(SECRET, "utf-8")
    briefed = tide(
        "reviewer", "brief", "slatehouse", "--app", app, "--note", "Sign in first.", "--sign-in", "rita",
        "--password-file", str(password), "--file", str(guide),
    )  # fmt: skip
    assert ("rita (sealed)" in briefed.stdout, SECRET in briefed.stdout) == (True, False)
    looked = tide("release", "look", "1.0.0", *of)
    assert "where nothing is live" in looked.stdout
    assert "Goes to review: the build, the release notes" in looked.stdout
    revision = json.loads(tide("release", "look", "1.0.0", *of, "--json").stdout)["revision"]
    stale = tide("release", "submit", "1.0.0", *of, "--looked", "000000000000")
    assert (stale.returncode, "tide release look 1.0.0" in stale.stderr) == (1, True)
    coast.control("slatehouse", "mischief", {"reject_next": ["The sign-in fails."]})
    handed = tide(
        "release", "submit", "1.0.0", *of, "--looked", revision, "--standing", "This time only.", "--no-files"
    )
    assert handed.returncode == 0, handed.stderr
    decided(coast, app)
    there = submission(coast, "slatehouse", app)
    assert (there["reviewer_note"], there["attachments"], there["sign_in"]["name"]) == ("This time only.", [], "rita")
    assert "No messages." in tide("reviewer", "messages", "1.0.0", *of).stdout
    entered = tide("reviewer", "received", "1.0.0", *of, "--words", f"@{mail}", "--file", str(guide))
    assert "We could not sign in." in entered.stdout
    message = json.loads(tide("reviewer", "messages", "1.0.0", *of, "--json").stdout)[0]["messages"][0]["id"]
    out = tmp_path / "back.pdf"
    assert tide("reviewer", "file", message, "guide.pdf", "1.0.0", *of, "--out", str(out)).returncode == 0
    assert out.read_bytes() == PDF
    missing = tide("reviewer", "file", message, "none.pdf", "1.0.0", *of)
    assert f"tide reviewer messages 1.0.0 --app {app}" in missing.stderr
    assert "on its way" in tide("reviewer", "write", "1.0.0", *of, "--words", "The password has changed.").stdout
    coast.all_confirmed(app)
    assert "appeal" in tide("reviewer", "appeal", "1.0.0", *of, "--words", "It works now.").stdout
    coast.all_confirmed(app)
    coast.pass_hours(70, desk=False)
    coast.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "approved")
    words = [one["words"] for one in submission(coast, "slatehouse", app)["messages"]]
    assert words == ["The password has changed.", "It works now."]
