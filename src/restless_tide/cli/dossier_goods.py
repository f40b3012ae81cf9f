"""tide dossier goods: what is sold inside an app, entered once, and what each store gets of it."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from restless_tide.cli.call import Call, cell, text_argument
from restless_tide.cli.facts import show_sheet
from restless_tide.cli.parsing import Nouns, app_argument, store_argument
from restless_tide.core.errors import Invalid
from restless_tide.core.good import Good, GoodKind, GoodText, SoldGood, price_text
from restless_tide.core.goods import every_so_often, good_told
from restless_tide.core.locales import locale_of
from restless_tide.folders.exchange import store_of
from restless_tide.wire.goods import GoodsTold, StoreGoodTold


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "dossier goods",
        _show,
        "what is sold inside an app, and where it stands at each store",
        description="What is sold inside an app, and where it stands at each store. With --store, what that store gets of it,\n"
        "what it wants of goods, and what differs from what it holds.",
    )
    app_argument(parser)
    store_argument(parser, required=False)
    parser = nouns.command(
        "dossier write-good",
        _write,
        "enter a good that is sold inside the app, or change one",
        description="Enter a good that is sold inside the app, or change what is named of one that is there. Every store that sells\n"
        "such goods gets it, or only those that --only names. Stores get it with: tide dossier send",
    )
    parser.add_argument("reference", metavar="REFERENCE", help="it stays for ever, such as map-of-the-north")
    app_argument(parser)
    parser.add_argument("--kind", choices=[*GoodKind], help="what becomes of it after someone has bought it")
    parser.add_argument("--price", metavar="PRICE", help="such as 4.50 EUR or 4.50")
    parser.add_argument("--months", type=int, metavar="NUMBER", help="of a renewed good: after how many months")
    parser.add_argument("--name", action="append", default=[], metavar="LOCALE=NAME", help="such as en='Maps'")
    parser.add_argument(
        "--description", action="append", default=[], metavar="LOCALE=TEXT", help="@FILE reads a file, - a pipe"
    )
    parser.add_argument("--drop-locale", action="append", default=[], metavar="LOCALE", help="take its texts out")
    picture = parser.add_mutually_exclusive_group()
    picture.add_argument("--picture", metavar="FILE", help="one square picture; stores get it in the size they want")
    picture.add_argument("--no-picture", action="store_true", help="take its picture out")
    sale = parser.add_mutually_exclusive_group()
    sale.add_argument("--on-sale", dest="on_sale", action="store_true", default=None, help="people can buy it")
    sale.add_argument("--off-sale", dest="on_sale", action="store_false", help="nobody new can buy it")
    where = parser.add_mutually_exclusive_group()
    where.add_argument("--only", action="append", default=[], metavar="STORE", help="only these stores sell it")
    where.add_argument("--everywhere", action="store_true", help="every store that sells such goods")
    parser = nouns.command("dossier drop-good", _drop, "take a good out; stores that hold it take it from sale")
    parser.add_argument("reference", metavar="REFERENCE")
    app_argument(parser)
    parser.add_argument("--yes", action="store_true", help="do not ask first")


def _show(call: Call) -> None:
    told = call.tide.dossier.goods(call.given.app)
    call.answer(told, lambda: _tell_store(call, told) if call.given.store else _tell(call, told))


def _tell(call: Call, told: GoodsTold) -> None:
    table = call.table("REFERENCE", "KIND", "PRICE", "NAMES", "PICTURE", "SOLD AT", "CHANGED BY")
    for one in told.goods:
        good = one.good
        table.add_row(
            cell(one.reference + ("" if good.on_sale else " (off sale)")),
            cell(_kind(good)),
            f"{price_text(good.price)} {good.currency}",
            cell("; ".join(f"{locale}: {text.name}" for locale, text in good.texts.items())),
            "yes" if good.picture else "",
            cell(", ".join(good.stores) or "all stores"),
            cell(one.changed_by),
        )
    begin = f"tide dossier write-good REFERENCE --kind kept --price '4.50 EUR' --name en=NAME --app {told.app}"
    call.show(table, empty=f"Nothing is sold inside it. Begin with: {begin}")
    call.say("")
    table = call.table("STORE", "GOODS", "DIFFER", "TAKES")
    for store in told.stores:
        table.add_row(cell(store.store), str(len(store.goods)), str(store.differing or ""), cell(store.rules.told))
    call.show(table, empty="No store where the app has a place sells goods inside apps.")


def _kind(good: SoldGood) -> str:
    return f"{good.kind}, {every_so_often(good.months)}" if good.months else str(good.kind)


def _tell_store(call: Call, told: GoodsTold) -> None:
    store = store_of(told.stores, call.given.store)
    table = call.table("REFERENCE", "STATE", "WHAT THE STORE GETS")
    for one in store.goods:
        table.add_row(cell(one.reference), one.state, cell(_gets(one)))
    call.show(table, empty=f"{store.store_title} gets no goods.")
    call.say(f"{store.store_title} takes: {store.rules.told}. {store.lock or 'Goods may change any time.'}")
    if store.unwritten:
        count = "1 good" if store.unwritten == 1 else f"{store.unwritten} goods"
        call.say(f"It holds {count} that nobody entered here. Take them over with: "
                 f"tide dossier take --app {told.app} --store {store.store}")  # fmt: skip
    if store.refused_because:
        call.say(f"{store.store_title} refused the goods it was sent last: {store.refused_because}")
    if store.findings:
        call.say("")
        show_sheet(call, store.store_title, store.findings)


def _gets(one: StoreGoodTold) -> str:
    if one.good is not None:
        return good_told(one.good)
    if not one.entered:
        return f"nobody entered it here; it holds {good_told(one.held)}"
    return "it cannot go as it is; see below"


def _write(call: Call) -> None:
    given = call.given
    told = call.tide.dossier.goods(given.app)
    known = next((one for one in told.goods if one.reference == given.reference), None)
    good = _wanted(call, known.good if known is not None else None)
    after = call.tide.dossier.write_good(
        given.app, given.reference, good, revision=known.revision if known is not None else 0
    )

    def shown() -> None:
        call.say(f"{given.reference} is {'changed' if known is not None else 'entered'}: {good_told(good)}.")
        for store in after.stores:
            against = [found for found in store.findings if found.place.endswith(f".{given.reference}")]
            if against:
                show_sheet(call, store.store_title, against)
        call.say(f"Send it with: tide dossier send --app {given.app}")

    call.answer(after, shown)


def _wanted(call: Call, before: Good | None) -> Good:
    """The good that the command line says, beginning with the one that is there. Raises Invalid with what is missing."""
    given = call.given
    if before is None:
        missing = [option for option, value in (("--kind", given.kind), ("--price", given.price), ("--name", given.name)) if not value]  # fmt: skip
        if missing:
            raise Invalid(
                f"A new good needs {', '.join(missing)}.",
                remedy="Such as: --kind kept --price '4.50 EUR' --name en='Maps of the islands'",
                code="argument-unfit",
            )
    wanted: dict[str, Any] = before.model_dump() if before is not None else {"texts": {}, "currency": ""}
    if given.kind:
        wanted["kind"] = given.kind
        if given.kind != GoodKind.RENEWED:
            wanted["months"] = None
    if given.months is not None:
        wanted["months"] = given.months
    if given.price:
        wanted["price"], wanted["currency"] = _price(given.price, wanted["currency"])
    if given.on_sale is not None:
        wanted["on_sale"] = given.on_sale
    if given.only or given.everywhere:
        wanted["stores"] = tuple(given.only)
    if given.no_picture:
        wanted["picture"] = None
    wanted["texts"] = _texts(call, wanted["texts"])
    try:
        good = Good.model_validate(wanted)
    except ValidationError as wrong:
        told = "; ".join(
            f"{'.'.join(map(str, error['loc'])) or 'the good'}: {error['msg'].removeprefix('Value error, ')}"
            for error in wrong.errors()[:5]
        )
        raise Invalid(f"That is no good: {told}.", code="good-unfit") from None
    if given.picture:
        file = Path(given.picture)
        if not file.is_file():
            raise Invalid(f"There is no file {given.picture!r}.", code="argument-unfit")
        good = good.model_copy(update={"picture": call.tide.dossier.keep_picture(file).sha256})
    return good


def _price(text: str, currency: str) -> tuple[Decimal, str]:
    number, _, code = text.strip().partition(" ")
    try:
        price = Decimal(number)
    except InvalidOperation:
        price = Decimal("NaN")
    code = code.strip().upper() or currency
    if not price.is_finite() or not code:
        raise Invalid(
            f"{text!r} is no price.", remedy="Write the number and the currency: '4.50 EUR'.", code="argument-unfit"
        )
    return price, code


def _texts(call: Call, before: dict[str, dict[str, str]]) -> dict[str, dict[str, str]]:
    found = {locale: dict(text) for locale, text in before.items()}
    for part, words in (("name", call.given.name), ("description", call.given.description)):
        for word in words:
            locale, equals, text = word.partition("=")
            if not equals:
                raise Invalid(f"Write it as LOCALE=TEXT: {word}", code="argument-unfit")
            found.setdefault(locale_of(locale), {})[part] = text_argument(text)
    for locale in call.given.drop_locale:
        found.pop(locale_of(locale), None)
    nameless = [locale for locale, text in found.items() if not text.get("name")]
    if nameless:
        raise Invalid(
            f"It has no name in {', '.join(nameless)}.",
            remedy=f"Give one: --name {nameless[0]}=NAME",
            code="argument-unfit",
        )
    return {locale: GoodText(**text).model_dump() for locale, text in found.items()}


def _drop(call: Call) -> None:
    given = call.given
    call.demand_confirmation(f"{given.reference} is taken out of {given.app}; stores that hold it take it from sale with the next sending.")  # fmt: skip
    told = call.tide.dossier.goods(given.app)
    known = next((one for one in told.goods if one.reference == given.reference), None)
    if known is None:
        raise Invalid(f"There is no good {given.reference!r}.", remedy=f"There are: {', '.join(one.reference for one in told.goods) or 'none'}.", code="good-unknown")  # fmt: skip
    after = call.tide.dossier.write_good(given.app, given.reference, None, revision=known.revision)
    call.answer(after, lambda: call.say(f"{given.reference} is taken out. Send it with: tide dossier send --app {given.app}"))  # fmt: skip
