"""A stand-in's own view of where, for how much and to whom an app is offered, and of what is told about it."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

from restless_tide.core.rulebook import LocksAt, OfferPart, ThingKind
from restless_tide.gateways import protocol
from restless_tide.standins import asking, judgement, looking, selling
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.shelf import Thing
from restless_tide.standins.store import EMPTY_DOSSIER, SimulatedStore

_FREE = protocol.AvailabilityMessage().model_dump(mode="json")


def availability(store: SimulatedStore, berth_id: str) -> Thing:
    return store.needed("berth", berth_id).get("availability") or dict(_FREE)


def set_availability(store: SimulatedStore, berth_id: str, wanted: protocol.AvailabilityMessage) -> Thing:
    berth = store.needed("berth", berth_id)
    before, after = availability(store, berth_id), wanted.model_dump(mode="json")
    _demand_known(store, after)
    _demand_open(store, berth_id, before, after)
    told = store.tell("berth", berth | {"availability": after, "state": "open"})
    return after | {"sequence": told["sequence"]}


def _demand_known(store: SimulatedStore, after: Thing) -> None:
    rules = store.rules.availability
    if after["who"] not in [str(who) for who in rules.who]:
        raise Refusal("who-unknown", f"We offer apps to {', '.join(rules.who)}.")
    if (after["who"] == "named organisations") != bool(after["organisations"]):
        raise Refusal("organisations-unfit", "Named organisations need names, and only they.")
    if (after["price"] is None) != (after["currency"] is None):
        raise Refusal("price-unfit", "A price needs a currency, and a currency a price.")
    if after["price"] is not None:
        price = Decimal(after["price"])
        if not rules.paid:
            raise Refusal("paid-not-taken", "We carry free apps only.")
        if rules.currencies and after["currency"] not in rules.currencies:
            raise Refusal("currency-not-taken", f"We take {', '.join(rules.currencies)}.")
        too_low = rules.lowest_price is not None and price < rules.lowest_price
        if price <= 0 or too_low or (rules.highest_price is not None and price > rules.highest_price):
            raise Refusal("price-unfit", "The price lies outside what we take.")
    if after["closed"] and not rules.may_close:
        raise Refusal("cannot-close", "An app cannot be closed here.")


def _demand_open(store: SimulatedStore, berth_id: str, before: Thing, after: Thing) -> None:
    """Locks and one-way changes, by what has happened at this berth."""
    rounds = [entry for entry in store.shelf.all("submission") if entry["berth"] == berth_id]
    live = store.live(berth_id) is not None
    was, becomes = before["price"] is not None, after["price"] is not None
    allowed = store.rules.availability
    if live and was and not becomes and not allowed.paid_to_free:
        raise Refusal("one-way", "A paid app stays paid here.")
    if live and becomes and not was and not allowed.free_to_paid:
        raise Refusal("one-way", "An app that was free stays free here.")
    touched = {
        OfferPart.WHO: before["who"] != after["who"] or before["organisations"] != after["organisations"],
        OfferPart.PRICE: was and becomes and before["price"] != after["price"],
        OfferPart.COUNTRIES: before["countries"] != after["countries"],
        OfferPart.PAYMENT: was != becomes,
    }
    unsigned = {key for paper in store.account()["papers"] if paper["state"] != "valid" for key in paper["blocks"]}
    for key, thing in store.rules.things.items():
        if thing.part is None or not touched[thing.part]:
            continue
        if key in unsigned:
            raise Refusal("paper-missing", f"{thing.title} needs a contract that is not signed.")
        if _locked(thing.locks_at, rounds, store, berth_id):
            raise Refusal("locked", f"{thing.title} cannot be changed any more, or not now.")
        rises = thing.part is OfferPart.PRICE and Decimal(after["price"]) > Decimal(before["price"])
        if thing.locks_at is LocksAt.ONLY_DOWNWARDS and live and rises:
            raise Refusal("only-downwards", "A price only goes down once people have the app.")


def _locked(locks_at: LocksAt, rounds: list[Thing], store: SimulatedStore, berth_id: str) -> bool:
    if locks_at is LocksAt.FIRST_REVIEW:
        return bool(rounds)
    if locks_at is LocksAt.FIRST_BUILD:
        return any(entry["berth"] == berth_id for entry in store.shelf.all("consignment"))
    return locks_at is LocksAt.EACH_VERSION and any(entry["state"] in ("queued", "in hand") for entry in rounds)


def dossier(store: SimulatedStore, berth_id: str) -> Thing:
    store.needed("berth", berth_id)
    return {"id": berth_id, **EMPTY_DOSSIER, **(store.shelf.get("dossier", berth_id) or {})}


def write_texts(store: SimulatedStore, berth_id: str, wanted: protocol.TextsRequest) -> Thing:
    """Take the texts that are named; all of them or none."""
    held, whim = dossier(store, berth_id), store.setting("refuse_texts", "")
    if whim:
        store.shelf.keep_setting("refuse_texts", "")
        raise Refusal("texts-refused", whim)
    listing, begun = (
        store.rules.listing,
        [entry for entry in store.shelf.all("submission") if entry["berth"] == berth_id],
    )
    for locale, texts in wanted.texts.items():
        if listing.locales and locale not in listing.locales:
            raise Refusal("locale-not-taken", f"We show no texts in {locale}.")
        for field, text in texts.items():
            judgement.demand_text(store.rules, field, locale, text)
            if _locked(_lock_of(store, field), begun, store, berth_id):
                raise Refusal("locked", f"{field} is fixed and cannot be changed now.")
    kept: dict[str, dict[str, str]] = {locale: dict(fields) for locale, fields in held["texts"].items()}
    for locale, given in wanted.texts.items():
        kept[locale] = {name: text for name, text in (kept.get(locale, {}) | given).items() if text}
    store.shelf.put("dossier", held | {"texts": {locale: fields for locale, fields in kept.items() if fields}})
    told = {"state": "open", "texts": wanted.texts}
    return {"texts": wanted.texts, "sequence": store.event("berth.changed", berth_id, told)}


def write_pictures(store: SimulatedStore, berth_id: str, wanted: protocol.PicturesRequest) -> Thing:
    """Take the sets that are named, each whole; all of them or none."""
    held, whim = dossier(store, berth_id), store.setting("refuse_pictures", "")
    if whim:
        store.shelf.keep_setting("refuse_pictures", "")
        raise Refusal("pictures-refused", whim)
    begun = [entry for entry in store.shelf.all("submission") if entry["berth"] == berth_id]
    known = {one for sets in held["pictures"].values() for files in sets.values() for one in files}
    arrived: dict[str, Path] = {}
    for locale, sets in wanted.pictures.items():
        for key, files in sets.items():
            paths = [
                arrived_file(store, one.sha256, one.upload, known, arrived, protocol.PICTURE_UNKNOWN) for one in files
            ]
            seen = [looking.look(path) for path in paths]
            looking.demand_set(store.rules, locale, key, seen)
            if _locked(_lock_of_picture(store, key), begun, store, berth_id):
                raise Refusal("locked", f"{key} is fixed and cannot be changed now.")
    keep_files(store, arrived)
    named = wanted.digests()
    kept: dict[str, dict[str, list[str]]] = {locale: dict(sets) for locale, sets in held["pictures"].items()}
    for locale, given in named.items():
        kept[locale] = {key: files for key, files in (kept.get(locale, {}) | given).items() if files}
    store.shelf.put("dossier", held | {"pictures": {locale: sets for locale, sets in kept.items() if sets}})
    told = {"state": "open", "pictures": named}
    return {"pictures": named, "sequence": store.event("berth.changed", berth_id, told)}


def kept_file(store: SimulatedStore, sha256: str) -> Path:
    return store.file(sha256)


def keep_files(store: SimulatedStore, arrived: dict[str, Path]) -> None:
    """Keep what has arrived, by its digest."""
    for sha256, upload in arrived.items():
        kept_file(store, sha256).parent.mkdir(exist_ok=True)
        upload.replace(kept_file(store, sha256))


def arrived_file(
    store: SimulatedStore, sha256: str, upload: str | None, known: set[str], arrived: dict[str, Path], unknown: str
) -> Path:
    """Where the bytes of a file lie that a request names."""
    if sha256 in arrived:
        return arrived[sha256]
    if upload is None:
        if sha256 not in known:
            raise Refusal(unknown, f"We hold no file {sha256[:12]} of this app; upload it.")
        return kept_file(store, sha256)
    kept, path = store.needed("upload", upload), store.uploads / upload
    if not path.exists() and kept_file(store, sha256).exists():  # kept before we were interrupted
        return kept_file(store, sha256)
    if path.stat().st_size != kept["length"]:
        raise Refusal("upload-incomplete", f"Upload {upload} has not arrived whole.")
    if looking.digest(path) != sha256:
        raise Refusal("file-differs", f"Upload {upload} is not the file that was named.")
    arrived[sha256] = path
    return path


def _lock_of_picture(store: SimulatedStore, key: str) -> LocksAt:
    things = [thing for thing in store.rules.things.values() if thing.kind is ThingKind.PICTURE]
    naming = [thing for thing in things if key in thing.pictures] or [thing for thing in things if not thing.pictures]
    return naming[0].locks_at if naming else LocksAt.NEVER


def write_answers(store: SimulatedStore, berth_id: str, wanted: protocol.DossierAnswersRequest) -> Thing:
    """Take the answers that are named; all of them or none."""
    held, whim = dossier(store, berth_id), store.setting("refuse_answers", "")
    if whim:
        store.shelf.keep_setting("refuse_answers", "")
        raise Refusal("answers-refused", whim)
    begun = [entry for entry in store.shelf.all("submission") if entry["berth"] == berth_id]
    answers = wanted.model_dump(mode="json")["answers"]
    known = {one["sha256"] for one in held["answers"].values() if isinstance(one, dict) and "sha256" in one}
    arrived: dict[str, Path] = {}
    for question, answer in answers.items():
        asking.demand_answer(store.rules, question, answer)
        if isinstance(answer, dict) and "sha256" in answer:
            upload = wanted.uploads.get(answer["sha256"])
            path = arrived_file(store, answer["sha256"], upload, known, arrived, protocol.DOCUMENT_UNKNOWN)
            asking.demand_document(store.rules, question, path)
        if _locked(_lock_of_answer(store, question), begun, store, berth_id):
            raise Refusal("locked", f"The answer to {question} is fixed and cannot be changed now.")
    keep_files(store, arrived)
    store.shelf.put("dossier", held | {"answers": held["answers"] | answers})
    told = {"state": "open", "answers": answers}
    return {"answers": answers, "sequence": store.event("berth.changed", berth_id, told)}


def write_goods(store: SimulatedStore, berth_id: str, wanted: protocol.GoodsRequest) -> Thing:
    """Take the goods that are named; all of them or none."""
    held, whim = dossier(store, berth_id), store.setting("refuse_goods", "")
    if whim:
        store.shelf.keep_setting("refuse_goods", "")
        raise Refusal("goods-refused", whim)
    begun = [entry for entry in store.shelf.all("submission") if entry["berth"] == berth_id]
    locks = [thing.locks_at for thing in store.rules.things.values() if thing.kind is ThingKind.GOODS]
    if any(_locked(lock, begun, store, berth_id) for lock in locks):
        raise Refusal("locked", "Goods are fixed and cannot be changed now.")
    language = store.needed("berth", berth_id).get("language", "")
    known = {good["picture"] for good in held["goods"].values() if good["picture"]}
    arrived: dict[str, Path] = {}
    for reference, good in wanted.goods.items():
        selling.demand_good(store.rules, reference, good, language)
        upload = wanted.uploads.get(good.picture or "")
        file = None
        if good.picture is not None:
            file = arrived_file(store, good.picture, upload, known, arrived, protocol.PICTURE_UNKNOWN)
        selling.demand_picture(store.rules, reference, file)
    named = wanted.model_dump(mode="json")["goods"]
    selling.demand_count(store.rules, held["goods"] | named)
    keep_files(store, arrived)
    store.shelf.put("dossier", held | {"goods": held["goods"] | named})
    told = {"state": "open", "goods": named}
    return {"goods": named, "sequence": store.event("berth.changed", berth_id, told)}


def _lock_of_answer(store: SimulatedStore, question: str) -> LocksAt:
    things = [thing for thing in store.rules.things.values() if thing.kind is ThingKind.ANSWERS]
    naming = [thing for thing in things if question in thing.questions] or [
        thing for thing in things if not thing.questions
    ]
    return naming[0].locks_at if naming else LocksAt.NEVER


def _lock_of(store: SimulatedStore, field: str) -> LocksAt:
    own = store.rules.listing.fields[field].locks_at
    if own is not None:
        return own
    things = [thing for thing in store.rules.things.values() if thing.kind is ThingKind.TEXT]
    naming = [thing for thing in things if field in thing.fields] or [thing for thing in things if not thing.fields]
    return naming[0].locks_at if naming else LocksAt.NEVER
