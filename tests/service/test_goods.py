"""Goods sold inside an app: entered once, sent as each store sells them, held, locked, taken from sale, and read back."""

from __future__ import annotations

import hashlib
import io
from contextlib import closing
from decimal import Decimal
from pathlib import Path

import httpx
import pytest
import tomlkit

from restless_tide.cli.exits import Exit
from restless_tide.core.errors import Invalid, NotFound, NotReady, StaleView
from restless_tide.core.good import Good, GoodKind, GoodText, SoldGood
from restless_tide.demo.processes import HOST
from restless_tide.gateways.client import Gateway, read_connection_file
from restless_tide.gateways.protocol import GoodsRequest
from restless_tide.standins import pictures
from restless_tide.wire.goods import GoodsTold, StoreGoodsTold, StoreGoodTold
from tests.harbour import Harbour, until
from tests.patience import OPENLY
from tests.service.test_cli import Terminal
from tests.service.test_pictures import keep
from tests.service.test_questions import berth_of

MAPS = Good(
    kind=GoodKind.KEPT,
    price=Decimal("4.50"),
    currency="EUR",
    texts={"en": GoodText(name="Maps", description="All islands.")},
)


def at(told: GoodsTold, store: str) -> StoreGoodsTold:
    return next(one for one in told.stores if one.store == store)


def of(told: GoodsTold, store: str, reference: str = "maps") -> StoreGoodTold:
    return next(one for one in at(told, store).goods if one.reference == reference)


def with_picture(harbour: Harbour, folder: Path) -> Good:
    (picture,) = keep(harbour, folder, pictures.screen("maps", 900, 900))
    return MAPS.model_copy(update={"picture": picture})


def settled(harbour: Harbour, app: str) -> GoodsTold:
    goods = harbour.tide.dossier.goods
    return until(lambda: goods(app), lambda told: not any(one.differing for one in told.stores))


def held_there(harbour: Harbour, app: str, store: str) -> dict[str, dict[str, object]]:
    """What the store itself holds: the independent witness."""
    berth = berth_of(harbour, app, store)
    found = [one for one in harbour.control(store, "things/dossier") if one["id"] == berth]
    goods: dict[str, dict[str, object]] = found[0]["goods"] if found else {}
    return goods


@pytest.fixture
def bare(harbour: Harbour) -> str:
    return harbour.new_app(dossier=False)


@pytest.fixture
def sold(harbour: Harbour, bare: str, tmp_path: Path) -> str:
    """An app of which both stores hold the good ``maps``."""
    harbour.tide.dossier.write_good(bare, "maps", with_picture(harbour, tmp_path))
    harbour.tide.dossier.send(bare)
    settled(harbour, bare)
    return bare


def test_a_good_is_entered_once_and_every_store_gets_it_as_it_sells_such_goods(harbour: Harbour, sold: str) -> None:
    told = harbour.tide.dossier.goods(sold)
    assert {of(told, store).state for store in ("northgate", "openfield")} == {"accepted"}
    north, open_ = held_there(harbour, sold, "northgate")["maps"], held_there(harbour, sold, "openfield")["maps"]
    assert north["texts"] == open_["texts"] == {"en": {"name": "Maps", "description": "All islands."}}
    assert north["picture"] not in (None, told.goods[0].good.picture)
    assert open_["picture"] is None


def test_a_changed_good_goes_again_and_its_picture_is_not_uploaded_twice(harbour: Harbour, sold: str) -> None:
    good = harbour.tide.dossier.goods(sold).goods[0].good
    before = len(harbour.control("northgate", "things/upload"))
    told = harbour.tide.dossier.write_good(sold, "maps", good.model_copy(update={"price": Decimal(5)}))
    assert of(told, "northgate").state == "changed since sent"
    sent = {one.store: one.goods_sent for one in harbour.tide.dossier.send(sold)}
    assert sent == {"northgate": 1, "openfield": 1}
    settled(harbour, sold)
    assert Decimal(str(held_there(harbour, sold, "northgate")["maps"]["price"])) == 5
    assert len(harbour.control("northgate", "things/upload")) == before


def test_a_good_that_is_taken_out_is_taken_from_sale_and_can_be_entered_again(harbour: Harbour, sold: str) -> None:
    good = harbour.tide.dossier.goods(sold).goods[0].good
    told = harbour.tide.dossier.write_good(sold, "maps", None)
    assert told.goods == []
    harbour.tide.dossier.send(sold)
    settled(harbour, sold)
    assert held_there(harbour, sold, "openfield")["maps"]["on_sale"] is False
    again = harbour.tide.dossier.write_good(sold, "maps", good, revision=0)
    assert of(again, "openfield").state == "changed since sent"


def test_what_a_store_would_refuse_stops_the_sending_and_names_the_good(harbour: Harbour, bare: str) -> None:
    harbour.tide.dossier.write_good(bare, "maps", MAPS)
    with pytest.raises(NotReady) as wrong:
        harbour.tide.dossier.send(bare)
    assert [(found.code, found.place) for found in wrong.value.findings] == [("good-picture-missing", "goods.maps")]
    harbour.tide.dossier.write_good(bare, "maps", MAPS.model_copy(update={"stores": ("openfield",)}))
    harbour.tide.dossier.send(bare)
    settled(harbour, bare)
    assert held_there(harbour, bare, "northgate") == {}
    assert "maps" in held_there(harbour, bare, "openfield")


def test_a_release_of_an_app_that_sells_something_waits_for_a_good_on_sale(harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    harbour.draft(app)
    harbour.tide.dossier.answer(app, {"selling": "goods"})
    (there,) = (
        thing
        for place in harbour.tide.dossier.ready(app, "1.0.0", store="northgate").places
        for thing in place.things
        if thing.key == "goods"
    )
    assert (there.state, there.mend) == ("missing", "write goods")
    harbour.tide.dossier.write_good(app, "maps", with_picture(harbour, tmp_path))
    harbour.tide.dossier.send(app)
    settled(harbour, app)
    until(
        lambda: harbour.tide.dossier.ready(app, "1.0.0", store="northgate").verdict, lambda verdict: verdict == "ready"
    )


def test_locked_goods_wait_for_the_end_of_the_review(harbour: Harbour, tmp_path: Path) -> None:
    app = harbour.new_app()
    harbour.draft(app)
    harbour.submit(app, "1.0.0")
    harbour.all_confirmed(app)
    harbour.tide.dossier.write_good(app, "maps", with_picture(harbour, tmp_path))
    sent = {one.store: (one.goods_sent, one.goods_kept) for one in harbour.tide.dossier.send(app)}
    assert sent == {"northgate": (0, 1), "openfield": (1, 0)}
    assert of(harbour.tide.dossier.goods(app), "northgate").state == "waits for the review to end"
    harbour.pass_hours(60, desk=False)
    settled(harbour, app)


def test_a_refusal_says_why_and_can_be_sent_again(harbour: Harbour, bare: str, tmp_path: Path) -> None:
    harbour.tide.dossier.write_good(bare, "maps", with_picture(harbour, tmp_path))
    harbour.control("openfield", "mischief", {"refuse_goods": "We know a good of this name."})
    tide = Terminal(harbour, tmp_path)
    done = tide("dossier", "send", "--app", bare, "--store", "openfield")
    assert done.returncode == Exit.REFUSED
    assert f"it refused 1 good. See why with: tide dossier goods --app {bare} --store openfield" in done.stdout
    shown = " ".join(tide("dossier", "goods", "--app", bare, "--store", "openfield").stdout.split())
    assert "We know a good of this name." in shown
    assert tide("dossier", "send", "--app", bare, "--store", "openfield").returncode == Exit.DONE


def test_what_someone_enters_at_the_store_comes_back_and_is_taken_over_with_its_picture(
    harbour: Harbour, bare: str, tmp_path: Path
) -> None:
    content = pictures.screen("theirs", 640, 640)
    sha256 = hashlib.sha256(content).hexdigest()
    theirs = SoldGood(**MAPS.model_dump(exclude={"stores", "picture"}), picture=sha256)
    berth = berth_of(harbour, bare, "northgate")
    address = f"http://{HOST}:{harbour.processes.ports.stores['northgate']}"
    connection = httpx.post(f"{address}/control/connections", json={}, **OPENLY).text
    with closing(Gateway(read_connection_file(connection), name="another tool")) as other:
        upload = other.send_package(berth, io.BytesIO(content), len(content), f"{bare}-1")
        other.write_goods(berth, GoodsRequest.of({"theirs": theirs}, {sha256: upload}), f"{bare}-2")
    until(lambda: at(harbour.tide.dossier.goods(bare), "northgate").unwritten, lambda count: count == 1)
    assert harbour.tide.dossier.take_over(bare, "northgate").goods == 1
    told = harbour.tide.dossier.goods(bare)
    assert told.goods[0].good == Good(**theirs.model_dump(), stores=("northgate",))
    assert of(told, "northgate", "theirs").state == "accepted"
    assert harbour.tide.dossier.fetch_picture(sha256, tmp_path / "theirs.png").read_bytes() == content


def test_two_people_at_one_good_both_see_both(harbour: Harbour, bare: str) -> None:
    harbour.tide.dossier.write_good(bare, "maps", MAPS, revision=0)
    other = MAPS.model_copy(update={"price": Decimal(9)})
    with pytest.raises(StaleView) as stale:
        harbour.tide.dossier.write_good(bare, "maps", other, revision=0)
    assert [("4.50" in found.detail, "9.00" in found.detail) for found in stale.value.findings] == [
        (True, False), (False, True),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("reference", "change", "kind", "said"),
    [
        ("Maps", {}, Invalid, "no reference"),
        ("maps", {"stores": ("nowhere",)}, Invalid, "not carried by nowhere"),
        ("maps", {"picture": "0" * 64}, NotFound, "was not put in"),
    ],
)
def test_what_is_no_good_is_refused_and_nothing_is_written(
    harbour: Harbour, bare: str, reference: str, change: dict[str, object], kind: type[Exception], said: str
) -> None:
    with pytest.raises(kind, match=said):
        harbour.tide.dossier.write_good(bare, reference, MAPS.model_copy(update=change))
    assert harbour.tide.dossier.goods(bare).goods == []


def test_goods_by_commands(harbour: Harbour, bare: str, tmp_path: Path) -> None:
    tide = Terminal(harbour, tmp_path)
    (tmp_path / "maps.png").write_bytes(pictures.screen("maps", 900, 900))
    assert "Nothing is sold inside it" in tide("dossier", "goods", "--app", bare).stdout
    new = tide("dossier", "write-good", "maps", "--app", bare)
    assert (new.returncode, "A new good needs --kind, --price, --name" in new.stderr) == (Exit.REFUSED, True)
    done = tide(
        "dossier", "write-good", "maps", "--app", bare, "--kind", "renewed", "--months", "12", "--price", "6 EUR",
        "--name", "en=Tides", "--description", "en=All of them.", "--picture", "maps.png",
    )  # fmt: skip
    assert done.returncode == Exit.DONE, done.stderr
    assert "maps is entered: renewed, 6.00 EUR every 12 months; en: Tides." in done.stdout
    changed = tide("dossier", "write-good", "maps", "--app", bare, "--price", "6.5", "--only", "openfield")
    assert "6.50 EUR every 12 months" in changed.stdout
    listed = " ".join(tide("dossier", "goods", "--app", bare).stdout.split())
    assert "renewed, every 12 months 6.50 EUR en: Tides yes openfield" in listed
    wrong = tide("dossier", "write-good", "maps", "--app", bare, "--price", "six")
    assert (wrong.returncode, "is no price" in wrong.stderr) == (Exit.REFUSED, True)
    assert tide("dossier", "send", "--app", bare).returncode == Exit.DONE
    assert "accepted" in tide("dossier", "goods", "--app", bare, "--store", "openfield").stdout
    assert tide("dossier", "drop-good", "maps", "--app", bare, "--yes").returncode == Exit.DONE
    assert tide("dossier", "drop-good", "maps", "--app", bare, "--yes").returncode == Exit.REFUSED
    assert tide("dossier", "send", "--app", bare).returncode == Exit.DONE
    assert held_there(harbour, bare, "openfield")["maps"]["on_sale"] is False


def test_a_folder_with_goods_comes_back_as_it_was_and_says_what_a_store_minds(
    harbour: Harbour, bare: str, tmp_path: Path
) -> None:
    tide = Terminal(harbour, tmp_path)
    harbour.tide.dossier.write_good(bare, "maps", with_picture(harbour, tmp_path))
    assert "1 good written" in tide("dossier", "fetch", "dossier", "--app", bare).stdout
    file = tmp_path / "dossier" / "goods" / "maps.toml"
    assert file.with_name("maps.png").is_file()
    before = {one: one.read_bytes() for one in file.parents[1].rglob("*") if one.is_file()}
    assert "hold the same" in tide("dossier", "compare", "dossier").stdout
    tide("dossier", "send", "dossier", "--wait", "0")
    tide("dossier", "fetch", "dossier")
    assert {one: one.read_bytes() for one in file.parents[1].rglob("*") if one.is_file()} == before
    file.write_text(file.read_text().replace('"4.50"', '"0.20"  # a trial'), encoding="utf-8")
    assert "goods/maps.toml: changed here" in tide("dossier", "compare", "dossier").stdout
    checked = tide("dossier", "check", "dossier")
    assert (checked.returncode, "goods/maps.toml" in checked.stdout) == (Exit.REFUSED, True)
    file.write_text(file.read_text().replace("0.20", "7.00"), encoding="utf-8")
    tide("dossier", "send", "dossier", "--wait", "0")
    assert harbour.tide.dossier.goods(bare).goods[0].good.price == 7
    harbour.tide.dossier.write_good(bare, "maps", None)
    tide("dossier", "fetch", "dossier")
    assert not file.exists()
    assert not file.with_name("maps.png").exists()


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"kind": "rented"}, "goods/maps.toml: kind"),
        ({"picture": "none.png"}, "names none.png, which is not there"),
        ({"months": 2}, "a renewed good says after how many months"),
        ({"texts": {"english": {"name": "x"}}}, "goods/maps.toml: texts"),
    ],
)
def test_a_mistake_in_a_folder_of_goods_is_named_by_its_file(
    harbour: Harbour, bare: str, tmp_path: Path, change: dict[str, object], said: str
) -> None:
    folder = tmp_path / "dossier"
    (folder / "goods").mkdir(parents=True)
    (folder / "dossier.toml").write_text(f'format = 1\napp = "{bare}"\n', encoding="utf-8")
    good = MAPS.model_dump(mode="json", exclude_defaults=True) | change
    (folder / "goods" / "maps.toml").write_text(tomlkit.dumps(good), encoding="utf-8")
    done = Terminal(harbour, tmp_path)("dossier", "check", "dossier")
    assert done.returncode == Exit.REFUSED
    assert said in " ".join(done.stderr.split())


def test_what_one_store_gets_is_exported_with_its_picture(harbour: Harbour, bare: str, tmp_path: Path) -> None:
    harbour.tide.dossier.write_good(bare, "maps", with_picture(harbour, tmp_path))
    exported = Terminal(harbour, tmp_path)("dossier", "export", "out", "--app", bare, "--store", "northgate")
    assert exported.returncode == Exit.DONE
    assert (tmp_path / "out" / "goods" / "maps.png").is_file()
