"""The dossier as a folder in a ZIP archive: fetched whole, held against the desk, and its changes written."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

import pytest

from restless_tide.core.errors import Conflict, Invalid, NotFound, TooLarge
from restless_tide.folders.archive import pack, unpack
from restless_tide.standins import pictures
from tests.harbour import Harbour, sample_pictures
from tests.service.test_cli import Terminal
from tests.service.test_documents import PDF
from tests.service.test_goods import MAPS, with_picture


@pytest.fixture
def app(harbour: Harbour, tmp_path: Path) -> str:
    """An app with something of every part."""
    name = harbour.new_app()
    (tmp_path / "letter.pdf").write_bytes(PDF)
    paper = harbour.tide.dossier.keep_document(tmp_path / "letter.pdf")
    harbour.tide.dossier.answer(name, {"third-party-content": "allowed", "rights-paper": dict(paper)})
    harbour.tide.dossier.write_good(name, "maps", with_picture(harbour, tmp_path))
    return name


def fetched(harbour: Harbour, app: str, folder: Path) -> Path:
    """The dossier of an app, fetched and unpacked."""
    packed = harbour.tide.dossier.fetch_folder(app, folder / "packed.zip")
    return unpack(packed, folder / "unpacked")


def packed(folder: Path) -> Path:
    into = folder.parent / "again.zip"
    pack(folder, into)
    return into


def test_a_folder_is_the_same_by_archive_and_by_command(harbour: Harbour, app: str, tmp_path: Path) -> None:
    folder = fetched(harbour, app, tmp_path)
    assert Terminal(harbour, tmp_path)("dossier", "fetch", "other", "--app", app).returncode == 0
    mine = {one.relative_to(folder).as_posix(): one.read_bytes() for one in folder.rglob("*") if one.is_file()}
    other = tmp_path / "other"
    assert mine == {one.relative_to(other).as_posix(): one.read_bytes() for one in other.rglob("*") if one.is_file()}
    assert {"documents/letter.pdf", "goods/maps.png", "answers.toml", "texts/en.toml"} <= mine.keys()
    told = harbour.tide.dossier.check_folder(app, packed(folder))
    assert told.changes == []
    assert {store.store for store in told.stores} >= {"northgate", "openfield"}
    assert harbour.tide.dossier.take_folder(app, packed(folder)).written == []


def test_what_a_folder_changes_is_shown_first_and_then_written(harbour: Harbour, app: str, tmp_path: Path) -> None:
    folder = fetched(harbour, app, tmp_path)
    text = folder / "texts" / "en.toml"
    text.write_text(text.read_text().replace("A diary", "A notebook"), encoding="utf-8")
    (folder / "goods" / "cards.toml").write_text(
        'kind = "kept"\nprice = "0.05"\ncurrency = "EUR"\n[texts.en]\nname = "Cards"\n', encoding="utf-8"
    )
    (folder / "pictures" / "phone" / "en" / "03.png").write_bytes(pictures.screen("three", 1080, 2300))
    told = harbour.tide.dossier.check_folder(app, packed(folder))
    assert {(one.place, str(one.side)) for one in told.changes} == {
        ("texts/en.toml, description", "changed here"),
        ("goods/cards.toml", "changed here"),
        ("pictures/phone/en", "changed here"),
    }
    said = {(one.place, one.code) for store in told.stores for one in store.findings}
    assert ("goods/cards.toml", "good-price") in said
    assert {one.reference for one in harbour.tide.dossier.goods(app).goods} == {"maps"}
    written = harbour.tide.dossier.take_folder(app, packed(folder)).written
    assert len(written) == 3
    assert {one.reference for one in harbour.tide.dossier.goods(app).goods} == {"cards", "maps"}
    (phone,) = (one for one in harbour.tide.dossier.pictures(app).sets if one.picture_class == "phone")
    assert len(phone.pictures) == len(sample_pictures()["phone"]) + 1
    assert harbour.tide.dossier.check_folder(app, packed(folder)).changes == []


def test_what_both_have_changed_stops_it_before_anything_is_written(harbour: Harbour, app: str, tmp_path: Path) -> None:
    folder = fetched(harbour, app, tmp_path)
    for name in ("summary", "description"):
        text = (folder / "texts" / "en.toml").read_text()
        (folder / "texts" / "en.toml").write_text(text.replace(f'{name} = "', f'{name} = "Theirs: '), encoding="utf-8")
    harbour.tide.dossier.write(app, "en", {"summary": "Ours."})
    sides = {one.place: str(one.side) for one in harbour.tide.dossier.check_folder(app, packed(folder)).changes}
    assert sides == {"texts/en.toml, summary": "changed at both", "texts/en.toml, description": "changed here"}
    with pytest.raises(Conflict, match=r"texts/en\.toml, summary"):
        harbour.tide.dossier.take_folder(app, packed(folder))
    now = {one.field: one.text for one in harbour.tide.dossier.texts(app).texts}
    assert (now["summary"], "Theirs" in now["description"]) == ("Ours.", False)


def test_what_one_store_gets_is_fetched_under_its_own_names(harbour: Harbour, app: str, tmp_path: Path) -> None:
    got = unpack(harbour.tide.dossier.fetch_folder(app, tmp_path / "n.zip", store="northgate"), tmp_path / "n")
    assert (got / "pictures" / "scenes-small" / "en" / "01.png").is_file()
    assert "rough-scenes" in (got / "answers.toml").read_text()
    with pytest.raises(NotFound, match="asks for nothing"):
        harbour.tide.dossier.fetch_folder(app, tmp_path / "x.zip", store="nowhere")


def archive(**files: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name, content in files.items():
            made.writestr(name.replace("__", "/"), content)
    return out.getvalue()


def damaged(content: bytes) -> bytes:
    """The same with other bytes where the first file is packed."""
    begin = content.index(b"dossier.toml") + len("dossier.toml")
    return content[:begin] + bytes(255 - byte for byte in content[begin : begin + 9]) + content[begin + 9 :]


_ABOUT = b'format = 1\napp = "%s"\n'


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"no archive", "no ZIP archive"),
        (archive()[:10], "no ZIP archive"),
        (archive(readme=b"hello"), "no dossier.toml in it"),
        (archive(**{"..__dossier.toml": _ABOUT}), "lies outside it"),
        (archive(**{"dossier__dossier.toml": b'format = 1\napp = "another"\n'}), "folder of another, not of"),
        (archive(**{"dossier.toml": b"= nothing"}), "^dossier.toml is no TOML"),
        (archive(**{"dossier.toml": b"app = 3"}), "^dossier.toml: app"),
        (archive(**{"x__dossier.toml": _ABOUT, "x": b"a file"}), "no ZIP archive"),
        (archive(**{f"{'n' * 201}": b"", "dossier.toml": _ABOUT}), "is too long"),
        (damaged(archive(**{"dossier.toml": _ABOUT * 9})), "no ZIP archive"),
    ],
)
def test_what_is_no_dossier_folder_is_refused(
    harbour: Harbour, app: str, tmp_path: Path, content: bytes, said: str
) -> None:
    (tmp_path / "wrong.zip").write_bytes(content)
    for act in (harbour.tide.dossier.check_folder, harbour.tide.dossier.take_folder):
        with pytest.raises(Invalid, match=said) as wrong:
            act(app, tmp_path / "wrong.zip")
        assert "tide-folder" not in wrong.value.detail  # where it lies at the desk concerns nobody


def test_an_archive_is_bounded_and_its_words_on_sizes_are_not_believed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("restless_tide.folders.archive.MOST_UNPACKED_BYTES", 1_000)
    (tmp_path / "bomb.zip").write_bytes(archive(**{"dossier.toml": b"\n" * 2_000}))
    with pytest.raises(TooLarge, match="1,000 bytes"):
        unpack(tmp_path / "bomb.zip", tmp_path / "out")
    lying = bytearray(archive(**{"dossier.toml": b"\n" * 900}))
    for mark, at in ((b"PK\x03\x04", 22), (b"PK\x01\x02", 24)):
        place = lying.index(mark) + at
        lying[place : place + 4] = (10).to_bytes(4, "little")
    (tmp_path / "lying.zip").write_bytes(bytes(lying))
    with pytest.raises(Invalid):
        unpack(tmp_path / "lying.zip", tmp_path / "out2")


def test_a_good_of_a_folder_is_whole(harbour: Harbour, app: str, tmp_path: Path) -> None:
    folder = fetched(harbour, app, tmp_path)
    harbour.tide.dossier.write_good(app, "maps", None)
    taken = harbour.tide.dossier.check_folder(app, packed(folder))
    assert [(one.place, str(one.side), one.desk) for one in taken.changes] == [("goods/maps.toml", "changed at the desk", "")]  # fmt: skip
    assert MAPS.texts["en"].name in taken.changes[0].here
