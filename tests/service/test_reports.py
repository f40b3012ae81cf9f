"""Field reports over a real desk: from the tester's page, from stores and by the API; sorted, answered, exported."""

from __future__ import annotations

import base64
import csv
import io
import re
import smtplib
from collections.abc import Callable
from email.message import EmailMessage
from pathlib import Path

import httpx
import pytest
from PIL import Image, PngImagePlugin

from restless_tide.client import Conflict, ImpossibleAct, Invalid, NotFound
from restless_tide.demo.processes import HOST
from restless_tide.desk.pictures import draw_anew
from restless_tide.wire.errors import TideError
from tests.harbour import Harbour, until
from tests.patience import OPENLY, PATIENCE_SECONDS

STACK = "java.lang.IllegalStateException: tile {n} is empty\n\tat b.c.a(SourceFile:31)\n\tat b.d.b(SourceFile:88)\n"
NAMES = b"org.example.marram.TileStore -> b.c:\n    10:40:org.example.marram.Tile open(int,int):112:142 -> a\n"


def running(harbour: Harbour, *who: str) -> tuple[str, str, str, list[str]]:
    """An app with an open trial; returns app, build, trial and the addresses."""
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    harbour.tide.testing.make_cohort(app, "crew")
    addresses = [f"{entry}.{app}@example.org" for entry in who]
    for address in addresses:
        harbour.tide.testing.add_tester(app, "crew", address, name=address.partition(".")[0].title())
    trial = harbour.tide.testing.open_trial(
        app, cohort="crew", build=build, store="openfield", notes="Look.", contact="ida@example.org"
    )
    until(lambda: harbour.tide.testing.trial(trial.id), lambda seen: seen.invited == {"sent": len(addresses)})
    return app, build, trial.id, addresses


def jpeg_with_a_place() -> bytes:
    image = Image.new("RGB", (400, 200), "#8fc9c3")
    exif = Image.Exif()
    exif[0x0110] = "SECRET-CAMERA-MODEL"
    exif[0x0112] = 6
    exif.get_ifd(0x8825)[2] = (53.0, 34.0, 12.0)
    out = io.BytesIO()
    image.save(out, "JPEG", exif=exif, comment=b"SECRET-COMMENT")
    return out.getvalue()


def test_a_remark_with_a_picture_lands_beside_its_build_and_the_answer_goes_back_and_forth(harbour: Harbour) -> None:
    app, build, trial, (wren,) = running(harbour, "wren")
    link = harbour.link_of(wren)
    httpx.post(link, data={"answer": "accept"}, **OPENLY)
    sent = httpx.post(
        f"{link}/remarks",
        data={"text": "The map is upside down.", "device": "Wavelet 9", "system": "Android 15"},
        files={"picture": ("map.jpg", jpeg_with_a_place(), "image/jpeg")},
        **OPENLY,
        follow_redirects=True,
    )
    assert "Thank you, it has arrived." in sent.text
    assert "The map is upside down." in sent.text
    (report,) = harbour.tide.reports.some(app=app)
    assert (report.build, report.trial, report.cohort, report.device) == (build, trial, "crew", "Wavelet 9")
    (picture,) = report.pictures
    assert (picture.width, picture.height) == (200, 400), "turned upright as the camera said"
    content = harbour.tide.reports.picture(report.id, 1)
    with Image.open(io.BytesIO(content)) as drawn:
        assert not drawn.getexif()
    assert b"SECRET" not in content
    harbour.tide.reports.reply(report.id, "Which phone?")
    mails = until(lambda: harbour.mails(wren), lambda found: len(found) == 2)
    assert "Which phone?" in mails[1]["text"]
    assert "> The map is upside down." in mails[1]["text"]
    answer = EmailMessage()
    answer["Subject"] = "Re: " + mails[1]["subject"]
    answer["From"] = wren
    answer.set_content("A Wavelet 9.\n\nOn Mon, 23 Nov 2026 Ida wrote:\n> Which phone?\n")
    answer.add_attachment(jpeg_with_a_place(), maintype="image", subtype="jpeg", filename="again.jpg")
    with smtplib.SMTP(HOST, harbour.processes.ports.inlet, timeout=PATIENCE_SECONDS) as server:
        server.send_message(answer, from_addr=wren, to_addrs=[mails[1]["headers"]["Reply-To"]])
    seen = harbour.tide.reports.one(report.id)
    assert [(word.from_desk, word.text) for word in seen.words] == [(True, "Which phone?"), (False, "A Wavelet 9.")]
    assert len(seen.pictures) == 2
    assert "Which phone?" in httpx.get(link, **OPENLY).text


def test_what_is_no_picture_is_refused_and_the_remark_is_not_lost(harbour: Harbour) -> None:
    app, _, _, (wren,) = running(harbour, "wren")
    link = harbour.link_of(wren)
    httpx.post(link, data={"answer": "accept"}, **OPENLY)
    answer = httpx.post(
        f"{link}/remarks",
        data={"text": "Words I do not want to type again."},
        files={"picture": ("x.png", b"<script>alert(1)</script>", "image/png")},
        **OPENLY,
    )
    assert answer.status_code == 422
    assert "no picture that can be read" in answer.text
    assert "Words I do not want to type again." in answer.text
    assert harbour.tide.reports.some(app=app) == []
    assert httpx.post(f"{link}/remarks", data={"text": " "}, **OPENLY).status_code == 422


def bomb() -> bytes:
    """A small file that would become an enormous picture."""
    out = io.BytesIO()
    Image.new("1", (20_000, 20_000)).save(out, "PNG")
    return out.getvalue()


@pytest.mark.parametrize(
    ("content", "complaint"),
    [
        (b"", "no picture"),
        (b"GIF89a", "no picture"),
        (b"%PDF-1.7 not a picture", "no picture"),
        (b"<svg xmlns='http://www.w3.org/2000/svg'/>", "no picture"),
        (b"\x89PNG\r\n\x1a\n" + b"\0" * 50, "no picture"),
        (bomb, "picture|pixels"),
        (b"\xff\xd8" * 7_000_000, "bytes"),
    ],
)
def test_hostile_pictures_are_refused(content: bytes | Callable[[], bytes], complaint: str) -> None:
    with pytest.raises(TideError, match=complaint):
        draw_anew(content() if callable(content) else content)


def test_a_picture_keeps_its_pixels_and_nothing_else() -> None:
    image = Image.new("RGBA", (30, 20), (10, 20, 30, 128))
    told = PngImagePlugin.PngInfo()
    told.add_text("Author", "SECRET")
    out = io.BytesIO()
    image.save(out, "PNG", pnginfo=told)
    drawn = draw_anew(out.getvalue())
    assert b"SECRET" not in drawn.content
    with Image.open(io.BytesIO(drawn.content)) as again:
        assert again.getpixel((0, 0)) == (10, 20, 30, 128)
    large = io.BytesIO()
    Image.new("RGB", (5200, 100)).save(large, "PNG")
    assert draw_anew(large.getvalue()).width == 2560


def test_a_store_hands_reports_on_once_and_names_come_back_when_the_symbols_do(
    harbour: Harbour, tmp_path: Path
) -> None:
    app, build, trial, addresses = running(harbour, "wren", "tam")
    reference = (harbour.tide.testing.trial(trial).store_page or "").rpartition("/")[2]
    for place, address in enumerate(addresses):
        wish = {"trial": reference, "address": address, "kind": "crash", "stack": STACK.format(n=place)}
        harbour.control("openfield", "reports", wish | {"device": "Knot Pro", "system": "Android 16"})
    wish = {"trial": reference, "address": "stranger@example.org", "text": "Nice.", "language": "de"}
    harbour.control("openfield", "reports", wish | {"pictures": [base64.b64encode(jpeg_with_a_place()).decode(), "no"]})
    found = until(
        lambda: harbour.tide.reports.some(app=app), lambda seen: len(seen) == 3 and any(row.pictures for row in seen)
    )
    remark = next(row for row in found if row.kind == "remark")
    assert (remark.tester, remark.source, len(remark.pictures)) == (None, "store", 1)
    (group,) = harbour.tide.reports.groups(app)
    assert (group.count, group.people, group.symbolised, group.headline) == (
        2,
        2,
        False,
        "IllegalStateException in c.a",
    )
    file = tmp_path / "names.txt"
    file.write_bytes(NAMES)
    assert harbour.tide.reports.keep_symbols(build, file).named == 2
    (group,) = harbour.tide.reports.groups(app, build=build)
    assert (group.count, group.headline) == (2, "IllegalStateException in TileStore.open")
    detail = harbour.tide.reports.one(group.newest)
    assert detail.frames[0].told == "org.example.marram.TileStore.open (TileStore:133)"
    assert detail.alike == 2
    late = harbour.tide.reports.file(
        app, kind="crash", stack=STACK.format(n=9), version="1.0.0", number=1, platform="android"
    )
    assert late.fingerprint == group.fingerprint
    assert late.symbolised
    with pytest.raises(Conflict, match="has this file already"):
        harbour.tide.reports.keep_symbols(build, file)
    file.write_bytes(b"nothing")
    with pytest.raises(Invalid, match="brings no names"):
        harbour.tide.reports.keep_symbols(build, file)
    with pytest.raises(Conflict, match="Nobody is known"):
        harbour.tide.reports.reply(remark.id, "Thank you")


def test_installs_and_use_are_told_by_the_store(harbour: Harbour) -> None:
    app, build, trial, (wren, tam) = running(harbour, "wren", "tam")
    reference = (harbour.tide.testing.trial(trial).store_page or "").rpartition("/")[2]
    act = {"address": wren, "act": "install", "device": "Wavelet 9", "system": "Android 15"}
    harbour.control("openfield", f"testers/{reference}", act)
    harbour.control("openfield", f"testers/{reference}", {"address": tam, "act": "leave"})
    until(lambda: harbour.invited(trial), lambda seen: seen == {wren: "installed", tam: "declined"})
    (member,) = harbour.tide.testing.members(app, "crew", state="installed")
    assert (member.build_label, member.device) == ("1.0.0 (1)", "Wavelet 9")
    assert harbour.tide.testing.tester(wren).devices == ["Wavelet 9"]
    assert [(entry.build, entry.people) for entry in harbour.tide.testing.cohort(app, "crew").have] == [(build, 1)]
    harbour.pass_hours(48)
    (numbers,) = until(lambda: harbour.tide.reports.numbers(app), lambda found: found and found[0].sessions)
    assert (numbers.invited, numbers.installed) == (2, 1)
    assert numbers.crash_free is not None
    assert sum(day.sessions for day in numbers.days) == numbers.sessions


def test_a_report_is_sorted_by_its_life_and_everything_stands_in_the_logbook(harbour: Harbour) -> None:
    app, build, _, _ = running(harbour, "wren")
    tide = harbour.tide.reports
    first = tide.file(app, text="It is slow.", build=build)
    second = tide.file(app, text="So slow!", build=build)
    third = tide.file(app, text="Slow.", build=build)
    assert tide.decide(first.id, "accept").state == "accepted"
    assert tide.decide(second.id, "duplicate", duplicate_of=first.id).duplicate_of == first.id
    assert tide.decide(third.id, "duplicate", duplicate_of=second.id).duplicate_of == first.id, (
        "it follows the one that stands for both"
    )
    assert set(tide.one(first.id).joined) == {second.id, third.id}
    with pytest.raises(Invalid, match="In which build"):
        tide.decide(first.id, "fix")
    fixed = tide.decide(first.id, "fix", build=build)
    assert (fixed.state, fixed.fixed_label) == ("fixed in", "1.0.0 (1)")
    with pytest.raises(ImpossibleAct, match="The report is fixed in: accept is not possible"):
        tide.decide(first.id, "accept")
    with pytest.raises(Conflict, match="same as itself"):
        tide.decide(tide.decide(first.id, "reopen").id, "duplicate", duplicate_of=second.id)
    assert tide.set_ticket(first.id, "https://tickets.example.org/7").ticket.endswith("/7")
    assert tide.counts(app=app) == {"accepted": 1, "duplicate of": 2}
    assert [row.id for row in tide.some(app=app, text="so slow")] == [second.id]
    assert [row.id for row in tide.some(app=app, state=["duplicate of"])] == [third.id, second.id]
    acts = [line.act for line in harbour.tide.watching.logbook(app=app)]
    assert {"report accepted", "report joined to another", "report fixed", "report opened again", "ticket set"} <= set(
        acts
    )
    with pytest.raises(NotFound):
        tide.one("fr-none")


def test_reports_come_in_pages_and_leave_as_csv_that_no_spreadsheet_runs(harbour: Harbour, tmp_path: Path) -> None:
    app, build, _, _ = running(harbour, "wren")
    for place in range(7):
        harbour.tide.reports.file(app, text=f"=cmd|' /C calc'!A{place}", build=build)
    pages = list(harbour.tide._line.each("/v1/reports", dict, app=app, limit=3))
    assert len({entry["id"] for entry in pages}) == 7
    harbour.tide.reports.export(tmp_path / "out.csv", app=app)
    text = (tmp_path / "out.csv").read_bytes().decode()
    rows = list(csv.DictReader(io.StringIO(text, newline="")))
    assert len(rows) == 7
    assert all(row["text"].startswith("'=cmd") for row in rows)


@pytest.mark.parametrize(
    ("told", "complaint"),
    [
        ({"text": "  "}, "says nothing"),
        ({"kind": "crash", "stack": "no frames here"}, "No frame"),
        ({"text": "x" * 10_001}, "10001 characters"),
        ({"kind": "crash", "stack": "x" * 200_001}, "200001 characters"),
        ({"text": "Look.", "build": "b-none"}, "No build"),
        ({"text": "Look.", "tester": "nobody@example.org"}, "No tester"),
    ],
)
def test_a_report_that_cannot_be_taken_says_why(harbour: Harbour, told: dict[str, str], complaint: str) -> None:
    app = harbour.new_app()
    with pytest.raises(TideError, match=complaint):
        harbour.tide.reports.file(app, **told)


def test_a_remark_on_a_build_that_has_expired_is_taken(harbour: Harbour) -> None:
    app, build, trial, (wren,) = running(harbour, "wren")
    link = harbour.link_of(wren)
    httpx.post(link, data={"answer": "accept"}, **OPENLY)
    harbour.tide.testing.close_trial(trial)
    page = httpx.get(link, **OPENLY)
    assert "This test is over." in page.text
    httpx.post(f"{link}/remarks", data={"text": "Too late?"}, **OPENLY)
    (report,) = harbour.tide.reports.some(app=app)
    assert (report.text, report.build) == ("Too late?", build)
    other = re.sub(r"in-\w+", "in-abcdefgh", link)
    assert httpx.post(f"{other}/remarks", data={"text": "Forged."}, **OPENLY).status_code == 404
