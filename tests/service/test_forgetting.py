"""A person forgotten is found nowhere: not in the database's file, its log, the stored files or the logs; counts stay."""

from __future__ import annotations

import base64
import io
from pathlib import Path

import httpx
import pytest
from PIL import Image

from restless_tide.client import Conflict, NotFound
from tests.harbour import Harbour, until
from tests.patience import OPENLY

NAME, DEVICE, REMARK = "Quendolina Ysbrandt", "Zephyr Nineteen", "My neighbour Ottokar saw it, too."


def places_of(folder: Path, *marks: str) -> list[str]:
    """Every file of the desk in which one of these stands, as UTF-8, UTF-16, base64 or by another spelling of its letters."""
    needles = []
    for mark in marks:
        for text in (mark, mark.lower(), mark.upper(), mark.replace("@", "%40")):
            needles += [text.encode(), text.encode("utf-16-le"), base64.b64encode(text.encode()).rstrip(b"=")[:-1]]
    found = []
    for path in [*folder.glob("desk.log"), *(folder / "desk").rglob("*")]:
        if path.is_file():
            content = path.read_bytes()
            found += [f"{path.relative_to(folder)}: {needle!r}" for needle in needles if needle in content]
    return found


def test_a_person_forgotten_is_found_nowhere_and_the_chain_still_holds(own_harbour: Harbour) -> None:
    harbour = own_harbour
    app = harbour.new_app()
    address = "quendolina.ysbrandt@example.org"
    tide = harbour.tide
    tide.testing.make_cohort(app, "crew")
    tester = tide.testing.add_tester(app, "crew", address, name=NAME, tags=["ysbrandt-family"], languages=["de"])
    tide.testing.add_tester(app, "crew", f"other.{app}@example.org")
    tide.stores.carry(
        "wrackline", (Path(__file__).parents[2] / "src/restless_tide/demo/wrackline.toml").read_text(encoding="utf-8")
    )
    build = harbour.ready_build(app, "openfield")
    trial = tide.testing.open_trial(
        app, cohort="crew", build=build, store="openfield", notes="Look.", contact="ida@example.org"
    )
    until(lambda: tide.testing.trial(trial.id), lambda seen: seen.invited == {"sent": 2})
    link = harbour.link_of(address)
    httpx.post(link, data={"answer": "accept"}, **OPENLY)
    reference = (tide.testing.trial(trial.id).store_page or "").rpartition("/")[2]
    harbour.control("openfield", f"testers/{reference}", {"address": address, "act": "install", "device": DEVICE})
    out = io.BytesIO()
    Image.new("RGB", (64, 64), "#a1b2c3").save(out, "PNG")
    httpx.post(
        f"{link}/remarks",
        data={"text": REMARK},
        files={"picture": ("x.png", out.getvalue(), "image/png")},
        **OPENLY,
    )
    (report,) = tide.reports.some(app=app)
    tide.reports.reply(report.id, f"Dear {NAME}, thank you.")
    until(lambda: harbour.mails(address), lambda found: len(found) == 2)
    tide.reports.file(app, text=f"{NAME} told me by phone: {address} gets no mail.")
    until(lambda: tide.testing.members(app, "crew", state="installed"), lambda found: found)
    tide.testing.tester(address)
    assert places_of(harbour.folder, address, NAME), "otherwise this test proves nothing"
    picture = next((harbour.folder / "desk/pictures").rglob("*/*"))

    left = tide.testing.forget(address, reason="she asked for it")

    assert left == tester.id
    until(lambda: tide.stores.one("openfield"), lambda store: store.pending_orders == 0)
    until(lambda: places_of(harbour.folder, address, NAME, DEVICE, REMARK, "ysbrandt"), lambda found: not found)
    assert not picture.exists()
    assert harbour.control("openfield", "things/trial")[-1]["testers"] == [f"other.{app}@example.org"]
    seen = tide.testing.trial(trial.id)
    assert sum(seen.invited.values()) == 2, "the counts stay"
    kept = tide.reports.one(report.id)
    assert (kept.text, kept.tester, kept.build, kept.pictures) == ("(forgotten)", None, build, [])
    assert [word.text for word in kept.words] == ["(forgotten)"]
    assert tide.watching.verify_logbook().first_broken is None
    forgotten = next(line for line in tide.watching.logbook() if line.act == "tester forgotten")
    assert (forgotten.subject, forgotten.reason) == (f"tester {tester.id}", "she asked for it")
    assert any(line.person == f"tester:{tester.id}" for line in tide.watching.logbook(app=app))
    assert httpx.get(link, **OPENLY).status_code == 404
    assert tide.testing.testers("ysbrandt") == []
    with pytest.raises(NotFound):
        tide.testing.forget(address)
    again = tide.testing.add_tester(app, "crew", address)
    assert again.id != tester.id, "whoever comes back is someone new"


def test_somebody_who_sits_in_a_trial_keeps_the_address_until_they_are_out_of_it(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    harbour.tide.testing.make_cohort(app, "crew")
    address = f"wren.{app}@example.org"
    harbour.tide.testing.add_tester(app, "crew", address)
    harbour.tide.testing.open_trial(
        app, cohort="crew", build=build, store="openfield", notes="Look.", contact="ida@example.org"
    )
    with pytest.raises(Conflict, match="sits in a trial"):
        harbour.tide.testing.change_tester(address, email=f"new.{app}@example.org")
    harbour.tide.testing.remove_tester(app, "crew", address)
    changed = harbour.tide.testing.change_tester(address, email=f"new.{app}@example.org")
    assert changed.email == f"new.{app}@example.org"
