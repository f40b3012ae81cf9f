"""Pictures and films: put in once, made to fit every store, sent where they differ, held, and read back."""

from __future__ import annotations

import io
import shutil
import sqlite3
from pathlib import Path

import httpx
import pytest
from PIL import Image

from restless_tide.cli.exits import Exit
from restless_tide.core.errors import Invalid, NotFound, NotReady, StaleView, TooLarge
from restless_tide.demo.processes import HOST
from restless_tide.standins import pictures
from restless_tide.wire.pictures import PicturesTold, StorePicturesTold, StoreSetTold
from tests.harbour import Harbour, sample_pictures, until
from tests.patience import OPENLY
from tests.service.test_cli import Terminal
from tests.service.test_questions import berth_of


def at(told: PicturesTold, store: str) -> StorePicturesTold:
    return next(one for one in told.stores if one.store == store)


def of(told: PicturesTold, store: str, picture_class: str, locale: str = "en") -> StoreSetTold:
    return next(one for one in at(told, store).sets if (one.picture_class, one.locale) == (picture_class, locale))


def keep(harbour: Harbour, folder: Path, *contents: bytes, ending: str = "png") -> list[str]:
    """Put files in; their digests."""
    kept = []
    for number, content in enumerate(contents, 1):
        file = folder / f"{number}.{ending}"
        file.write_bytes(content)
        kept.append(harbour.tide.dossier.keep_picture(file).sha256)
    return kept


def codes(told: PicturesTold, store: str, level: str = "blocker") -> list[str]:
    return [one.code for one in at(told, store).findings if one.level == level]


@pytest.fixture(scope="module")
def app(harbour: Harbour) -> str:
    """An app whose stores hold the sample pictures."""
    return harbour.new_app()


@pytest.fixture
def bare(harbour: Harbour) -> str:
    return harbour.new_app(dossier=False)


def test_each_store_gets_a_picture_in_its_own_size_and_holds_it(harbour: Harbour, app: str) -> None:
    told = harbour.tide.dossier.pictures(app)
    assert {one.state for store in told.stores for one in store.sets} == {"accepted"}
    badge, mark = of(told, "northgate", "badge"), of(told, "openfield", "mark")
    assert [(one.width, one.height, one.as_it_is) for one in badge.pieces] == [(640, 640, False)]
    assert [(one.width, one.height, one.as_it_is) for one in mark.pieces] == [(900, 900, True)]
    scenes, small = of(told, "northgate", "scenes"), of(told, "northgate", "scenes-small")
    assert [one.as_it_is for one in scenes.pieces] == [True, True]
    assert (small.serves, [(one.width, one.height) for one in small.pieces]) == ("scenes", [(780, 1660)] * 2)
    assert small.held == [one.file for one in small.pieces]


def test_a_made_file_is_what_the_store_was_said_to_get_and_holds_only_pixels(
    harbour: Harbour, app: str, tmp_path: Path
) -> None:
    (piece, _) = of(harbour.tide.dossier.pictures(app), "northgate", "scenes-small").pieces
    file = harbour.tide.dossier.fetch_picture(piece.file, tmp_path / "made.png")
    with Image.open(file) as made:
        assert (made.size, made.mode, made.format) == ((780, 1660), "RGB", "PNG")
        assert not made.info.keys() - {"dpi"}


def test_only_what_differs_is_sent_and_a_file_that_a_store_holds_is_not_uploaded_again(
    harbour: Harbour, bare: str, tmp_path: Path
) -> None:
    harbour.write_dossier(bare)
    (sent,) = harbour.tide.dossier.send(bare, store="openfield")
    assert (sent.pictures_sent, sent.sent) == (0, 0)
    before = uploads(harbour)
    phone = [one.sha256 for one in next(
        found for found in harbour.tide.dossier.pictures(bare).sets if found.picture_class == "phone"
    ).pictures]  # fmt: skip
    told = harbour.tide.dossier.put_pictures(bare, "en", "phone", phone[::-1])
    assert of(told, "openfield", "views").state == "changed since sent"
    (sent,) = harbour.tide.dossier.send(bare, store="openfield")
    assert sent.pictures_sent == 2
    until(lambda: at(harbour.tide.dossier.pictures(bare), "openfield").differing, lambda count: not count)
    assert uploads(harbour) == before


def uploads(harbour: Harbour) -> int:
    """How many uploads a store has ever begun."""
    with sqlite3.connect(harbour.processes.folder / "openfield" / "store.sqlite") as shelf:
        return int(shelf.execute("SELECT count(*) FROM things WHERE kind = 'upload'").fetchone()[0])


def test_two_people_at_one_set_both_see_both(harbour: Harbour, bare: str, tmp_path: Path) -> None:
    one, two, three = keep(harbour, tmp_path, *(pictures.screen(seed, 600, 1200) for seed in "abc"))
    harbour.tide.dossier.put_pictures(bare, "en", "phone", [one], revision=0)
    harbour.tide.dossier.put_pictures(bare, "en", "phone", [one, two], revision=1)
    with pytest.raises(StaleView) as refused:
        harbour.tide.dossier.put_pictures(bare, "en", "phone", [three], revision=1)
    assert [found.detail for found in refused.value.findings] == [f"{one[:12]}, {two[:12]}", three[:12]]
    harbour.tide.dossier.put_pictures(bare, "en", "phone", [], revision=2)
    with pytest.raises(StaleView):
        harbour.tide.dossier.put_pictures(bare, "en", "phone", [three], revision=2)
    told = harbour.tide.dossier.put_pictures(bare, "en", "phone", [three], revision=0)
    assert [file.sha256 for found in told.sets for file in found.pictures] == [three]


@pytest.mark.parametrize(
    ("content", "kind", "code"),
    [
        (pictures.screen("cut off", 400, 800)[:3000], Invalid, "picture-unreadable"),
        (pictures.moving(), Invalid, "picture-animated"),
        (b"This is a text.", Invalid, "picture-unreadable"),
        (b"", Invalid, "file-empty"),
    ],
    ids=["cut off", "animated", "no picture", "empty"],
)
def test_what_is_no_picture_to_use_is_refused_with_the_reason(
    harbour: Harbour, tmp_path: Path, content: bytes, kind: type[Exception], code: str
) -> None:
    with pytest.raises(kind) as refused:
        keep(harbour, tmp_path, content)
    assert getattr(refused.value, "code", "") == code


def test_a_huge_picture_is_refused_before_it_is_drawn(harbour: Harbour, tmp_path: Path) -> None:
    out = io.BytesIO()
    Image.new("1", (30_000, 30_000)).save(out, "PNG")
    with pytest.raises(TooLarge, match="30,000 × 30,000 pixels; 60 million"):
        keep(harbour, tmp_path, out.getvalue())


def test_a_picture_is_neither_enlarged_nor_distorted_and_it_is_said_what_is_cut(
    harbour: Harbour, bare: str, tmp_path: Path
) -> None:
    small, wide, tall = keep(
        harbour, tmp_path,
        pictures.screen("small", 300, 640), pictures.screen("wide", 2000, 1200), pictures.screen("tall", 1400, 3400),
    )  # fmt: skip
    told = harbour.tide.dossier.put_pictures(bare, "en", "phone", [small, wide])
    assert {"picture-too-small", "picture-wrong-shape"} & {*codes(told, "northgate")} == {"picture-too-small"}
    assert any("nothing is enlarged" in one.detail for one in at(told, "northgate").findings)
    told = harbour.tide.dossier.put_pictures(bare, "en", "phone", [tall])
    (piece,) = of(told, "northgate", "scenes").pieces
    assert (piece.width, piece.height, round(piece.cut, 2)) == (1360, 2900, 0.12)
    assert "picture-cut" in codes(told, "northgate", "caution")
    harbour.tide.dossier.put_pictures(bare, "en", "phone", [small])
    with pytest.raises(NotReady):
        harbour.tide.dossier.send(bare)


def test_colours_for_print_and_transparency_become_what_a_store_takes(
    harbour: Harbour, bare: str, tmp_path: Path
) -> None:
    (paper,) = keep(harbour, tmp_path, pictures.screen("p", 1080, 2300, format="JPEG", mode="CMYK"), ending="jpg")
    (clear,) = keep(harbour, tmp_path, pictures.screen("c", 1080, 2300, transparent=True))
    told = harbour.tide.dossier.put_pictures(bare, "en", "phone", [paper, clear])
    cautions = codes(told, "northgate", "caution")
    assert {"picture-redrawn", "picture-flat"} <= {*cautions}
    for piece in of(told, "northgate", "scenes").pieces:
        with Image.open(harbour.tide.dossier.fetch_picture(piece.file, tmp_path / piece.file)) as made:
            assert made.mode == "RGB"


def test_a_picture_that_cannot_be_made_says_so_and_another_try_mends_it(
    harbour: Harbour, bare: str, tmp_path: Path
) -> None:
    content = pictures.screen(f"lost {bare}", 1440, 3060)
    (kept,) = keep(harbour, tmp_path, content)
    (file,) = (harbour.processes.folder / "desk" / "dossier-files").rglob(kept)
    file.rename(tmp_path / "away")
    told = harbour.tide.dossier.put_pictures(bare, "en", "phone", [kept])
    assert {"picture-not-made"} <= {*codes(told, "northgate"), *codes(told, "openfield")}
    (tmp_path / "away").rename(file)
    more = keep(harbour, tmp_path, pictures.screen("another", 1440, 3060))
    harbour.tide.dossier.put_pictures(bare, "en", "phone", [kept, *more])
    assert "picture-not-made" in codes(harbour.tide.dossier.pictures(bare), "northgate")


def test_films_are_read_for_length_size_and_codec(harbour: Harbour, bare: str, tmp_path: Path) -> None:
    film = pictures.film(tmp_path / "film.mp4", 9)
    told = harbour.tide.dossier.keep_picture(film)
    assert (told.form, told.codec, told.seconds, told.width, told.height) == ("film", "h264", 9.0, 640, 1280)
    short = harbour.tide.dossier.keep_picture(pictures.film(tmp_path / "short.mp4", 2)).sha256
    after = harbour.tide.dossier.put_pictures(bare, "en", "phone-film", [short])
    assert {"film-wrong-length", "film-without-pictures"} == {
        one for one in codes(after, "northgate") if one.startswith("film")
    }
    harbour.put_pictures(bare)
    harbour.tide.dossier.put_pictures(bare, "en", "phone-film", [told.sha256])
    harbour.tide.dossier.send(bare)
    until(lambda: of(harbour.tide.dossier.pictures(bare), "openfield", "clip").state, lambda state: state == "accepted")
    (tmp_path / "cut.mp4").write_bytes(film.read_bytes()[:-9000])
    with pytest.raises(Invalid, match="cut off"):
        harbour.tide.dossier.keep_picture(tmp_path / "cut.mp4")
    with pytest.raises(Invalid, match="no picture"):
        harbour.tide.dossier.keep_picture(shutil.copy(__file__, tmp_path / "film.webm"))


def test_the_icon_is_held_against_the_one_inside_the_newest_package(harbour: Harbour, app: str, tmp_path: Path) -> None:
    build = harbour.ready_build(app, "openfield")
    assert build
    icons = until(lambda: harbour.tide.dossier.pictures(app).icons, lambda found: found and found.apart is not None)
    assert icons is not None
    assert (icons.alike, icons.apart) == (True, 0.0)
    (other,) = keep(harbour, tmp_path, pictures.screen("another", 900, 900))
    mine = harbour.tide.dossier.put_pictures(app, "en", "icon", [other])
    assert mine.icons is not None
    assert mine.icons.alike is False
    assert "icon-differs" in codes(mine, "openfield", "caution")
    harbour.put_pictures(app)


def test_what_someone_puts_in_at_the_store_comes_back_and_can_be_taken_over(
    harbour: Harbour, bare: str, tmp_path: Path
) -> None:
    content = pictures.screen("theirs", 700, 1400)
    port, berth = harbour.processes.ports.stores["openfield"], berth_of(harbour, bare, "openfield")
    place = f"http://{HOST}:{port}/control/pictures/{berth}/en/views"
    assert httpx.post(place, content=content, **OPENLY).status_code == 200
    until(lambda: at(harbour.tide.dossier.pictures(bare), "openfield").unwritten, lambda count: count == 1)
    taken = harbour.tide.dossier.take_over(bare, "openfield")
    assert taken.pictures == 1
    told = harbour.tide.dossier.pictures(bare)
    assert [found.picture_class for found in told.sets] == ["phone"]
    assert of(told, "openfield", "views").state == "accepted"
    file = harbour.tide.dossier.fetch_picture(told.sets[0].pictures[0].sha256, tmp_path / "theirs.png")
    assert file.read_bytes() == content


def test_a_refusal_says_why_and_nothing_is_lost(harbour: Harbour, bare: str, tmp_path: Path) -> None:
    harbour.put_pictures(bare)
    harbour.control("openfield", "mischief", {"refuse_pictures": "The second one shows somebody."})
    tide = Terminal(harbour, tmp_path)
    done = tide("dossier", "send", "--app", bare, "--store", "openfield")
    assert done.returncode == Exit.REFUSED
    assert f"tide dossier pictures --app {bare} --store openfield" in done.stdout
    shown = tide("dossier", "pictures", "--app", bare, "--store", "openfield").stdout
    assert "The second one shows somebody." in " ".join(shown.split())
    assert "refused" in shown
    assert tide("dossier", "send", "--app", bare, "--store", "openfield").returncode == Exit.DONE


def test_locked_pictures_wait_for_the_end_of_the_review(harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    harbour.draft(app)
    harbour.submit(app, "1.0.0")
    harbour.all_confirmed(app)
    (new,) = keep(harbour, tmp_path, pictures.screen("new", 1080, 2300))
    phone = [one.sha256 for one in next(
        found for found in harbour.tide.dossier.pictures(app).sets if found.picture_class == "phone"
    ).pictures]  # fmt: skip
    harbour.tide.dossier.put_pictures(app, "en", "phone", [*phone, new])
    sent = {one.store: (one.pictures_sent, one.pictures_kept) for one in harbour.tide.dossier.send(app)}
    assert sent == {"northgate": (0, 2), "openfield": (2, 0)}
    assert of(harbour.tide.dossier.pictures(app), "northgate", "scenes").state == "waits for the review to end"
    harbour.pass_hours(60, desk=False)
    until(lambda: at(harbour.tide.dossier.pictures(app), "northgate").differing, lambda count: not count)


def test_a_set_names_only_files_that_were_put_in_and_classes_that_are_asked_for(harbour: Harbour, bare: str) -> None:
    with pytest.raises(NotFound, match="was not put in"):
        harbour.tide.dossier.put_pictures(bare, "en", "phone", ["0" * 64])
    with pytest.raises(Invalid, match="no class of pictures 'watch'"):
        harbour.tide.dossier.put_pictures(bare, "en", "watch", [])
    with pytest.raises(Invalid, match="no locale"):
        harbour.tide.dossier.put_pictures(bare, "english", "phone", [])


def test_pictures_of_a_script_are_recognised_by_sides_and_names(harbour: Harbour, bare: str, tmp_path: Path) -> None:
    made = tmp_path / "made"
    harbour.tide.dossier.write(bare, "de", {"summary": "Ein Tagebuch."})
    for name, content in (
        ("en/10-list.png", pictures.screen("list", 1080, 2300)),
        ("en/2-map.png", pictures.screen("map", 1080, 2300)),
        ("start.de.png", pictures.screen("start", 1080, 2300)),
        ("icon/mark.png", pictures.icon(700)),
        ("odd.png", pictures.screen("odd", 60, 20)),
        ("broken.png", b"nothing"),
    ):
        (made / name).parent.mkdir(parents=True, exist_ok=True)
        (made / name).write_bytes(content)
    tide = Terminal(harbour, tmp_path)
    trial = tide("dossier", "import-pictures", "made", "--app", bare, "--trial")
    assert (trial.returncode, "4 files would be put in, 2 left out." in trial.stdout) == (Exit.CAUTION, True)
    assert harbour.tide.dossier.pictures(bare).sets == []
    done = tide("dossier", "import-pictures", "made", "--app", bare)
    assert "broken.png: This is no picture" in " ".join(done.stdout.split())
    sets = {(one.picture_class, one.locale): len(one.pictures) for one in harbour.tide.dossier.pictures(bare).sets}
    assert sets == {("icon", "en"): 1, ("phone", "en"): 2, ("phone", "de"): 1}
    phone = of(harbour.tide.dossier.pictures(bare), "northgate", "scenes")
    first = harbour.tide.dossier.fetch_picture(phone.pieces[0].file, tmp_path / "first.png")
    assert first.read_bytes() == (made / "en/2-map.png").read_bytes()


def test_pictures_are_put_in_ordered_and_taken_out_by_commands(harbour: Harbour, bare: str, tmp_path: Path) -> None:
    tide = Terminal(harbour, tmp_path)
    files = [str(file) for file in sample_pictures()["phone"]]
    done = tide("dossier", "add-pictures", "phone", "en", *files, "--app", bare)
    assert (done.returncode, "2 files put in." in done.stdout) == (Exit.DONE, True)
    (before,) = harbour.tide.dossier.pictures(bare).sets
    assert tide("dossier", "order-pictures", "phone", "en", "2", "1", "--app", bare).returncode == Exit.DONE
    (after,) = harbour.tide.dossier.pictures(bare).sets
    assert [one.sha256 for one in after.pictures] == [one.sha256 for one in before.pictures][::-1]
    assert "1080 × 2300 png" in tide("dossier", "pictures", "--app", bare).stdout
    wrong = tide("dossier", "order-pictures", "phone", "en", "1", "1", "--app", bare)
    assert (wrong.returncode, "name each of 1 to 2 once" in wrong.stderr) == (Exit.REFUSED, True)
    assert tide("dossier", "drop-pictures", "phone", "en", "1", "--app", bare).returncode == Exit.DONE
    assert tide("dossier", "drop-pictures", "phone", "en", "--yes", "--app", bare).returncode == Exit.DONE
    assert harbour.tide.dossier.pictures(bare).sets == []


def test_a_folder_with_pictures_comes_back_as_it_was(harbour: Harbour, bare: str, tmp_path: Path) -> None:
    tide = Terminal(harbour, tmp_path)
    harbour.put_pictures(bare)
    assert "3 sets of pictures written" in tide("dossier", "fetch", "dossier", "--app", bare).stdout
    folder = tmp_path / "dossier"
    assert sorted(one.relative_to(folder).as_posix() for one in folder.rglob("*.png")) == [
        "pictures/desktop/en/01.png", "pictures/icon/en/01.png", "pictures/phone/en/01.png", "pictures/phone/en/02.png",
    ]  # fmt: skip
    before = {one: one.read_bytes() for one in folder.rglob("*") if one.is_file()}
    assert "hold the same" in tide("dossier", "compare", "dossier").stdout
    tide("dossier", "send", "dossier", "--wait", "0")
    tide("dossier", "fetch", "dossier")
    assert {one: one.read_bytes() for one in folder.rglob("*") if one.is_file()} == before
    (folder / "pictures/phone/en/00.png").write_bytes(pictures.screen("first", 1080, 2300))
    assert "changed here" in tide("dossier", "compare", "dossier", "--names").stdout
    tide("dossier", "send", "dossier", "--wait", "0")
    phone = next(one for one in harbour.tide.dossier.pictures(bare).sets if one.picture_class == "phone")
    assert len(phone.pictures) == 3


@pytest.mark.parametrize(
    ("name", "content", "said"),
    [
        ("pictures/phone/english/01.png", pictures.icon(20), "no locale"),
        ("pictures/phone/en/01.jpg", pictures.icon(20), "Rename it: 01.png"),
        ("pictures/phone/en/01.png", b"text", "no picture and no film"),
    ],
)
def test_a_mistake_in_a_folder_of_pictures_is_named_by_its_file(
    harbour: Harbour, bare: str, tmp_path: Path, name: str, content: bytes, said: str
) -> None:
    folder = tmp_path / "dossier"
    (folder / name).parent.mkdir(parents=True)
    (folder / "dossier.toml").write_text(f'format = 1\napp = "{bare}"\n', encoding="utf-8")
    (folder / name).write_bytes(content)
    done = Terminal(harbour, tmp_path)("dossier", "check", "dossier")
    assert done.returncode == Exit.REFUSED
    assert said in " ".join(done.stderr.split())
    assert name.rpartition("/")[0] in done.stderr


def test_two_files_for_one_place_and_a_finding_of_a_folder_are_named(
    harbour: Harbour, bare: str, tmp_path: Path
) -> None:
    folder = tmp_path / "dossier"
    (folder / "pictures/phone/en").mkdir(parents=True)
    (folder / "dossier.toml").write_text(f'format = 1\napp = "{bare}"\n', encoding="utf-8")
    (folder / "pictures/phone/en/01.png").write_bytes(pictures.screen("tiny", 90, 180))
    tide = Terminal(harbour, tmp_path)
    found = " ".join(tide("dossier", "check", "dossier").stdout.split())
    assert "pictures/phone/en" in found
    assert "nothing is enlarged" in found
    (folder / "pictures/phone/en/01.jpeg").write_bytes(pictures.screen("tiny", 90, 180, format="JPEG"))
    assert "the same place in their order" in " ".join(tide("dossier", "check", "dossier").stderr.split())
