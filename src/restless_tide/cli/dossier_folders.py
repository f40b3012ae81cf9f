"""tide dossier fetch, check, compare, export: the dossier as a folder beside the source."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from pathlib import Path

from restless_tide.cli.call import Call, cell
from restless_tide.cli.dossier_files import DossierFolder
from restless_tide.cli.exits import Exit
from restless_tide.cli.facts import exit_of, show_sheet
from restless_tide.cli.parsing import Nouns, Parser, app_argument, store_argument
from restless_tide.core.dossier_folder import Difference, Place, Side, compare, digest_of
from restless_tide.core.errors import Conflict, Invalid, NotFound
from restless_tide.core.texts import text_at
from restless_tide.wire.dossier import StoreCheckTold, StoreTextsTold, TextsTold


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "dossier fetch",
        _fetch,
        "write the desk's texts to a folder, or bring a folder up to date",
        description="Write the texts of an app to a folder of TOML files, or bring one up to date. What was changed in the folder\n"
        "stays; what was changed at both is told line by line and left as it is (exit code 1).",
    )
    _folder_argument(parser)
    parser.add_argument("--app", metavar="APP", help="the app's short name; needed for a new folder")
    parser = nouns.command(
        "dossier check", _check, "what each store would say of a folder's texts, before anything is sent"
    )
    _folder_argument(parser)
    parser = nouns.command("dossier compare", _compare, "how a folder and the desk differ, line by line")
    _folder_argument(parser)
    parser.add_argument("--names", action="store_true", help="only which texts differ")
    parser = nouns.command(
        "dossier export", _export, "write what one store gets to a new folder, under the store's own fields"
    )
    _folder_argument(parser)
    app_argument(parser)
    store_argument(parser)


def _folder_argument(parser: Parser) -> None:
    parser.add_argument("folder", metavar="FOLDER", help="such as dossier, beside the app's source")


def store_of(told: TextsTold, name: str) -> StoreTextsTold:
    """What one store gets. Raises NotFound for a store that asks for no texts of the app."""
    found = next((store for store in told.stores if store.store == name), None)
    if found is not None:
        return found
    names = ", ".join(store.store for store in told.stores) or "no store"
    raise NotFound(f"{name} asks for no texts of {told.app}.", remedy=f"These do: {names}.", code="store-unknown")


def _desk_texts(told: TextsTold) -> dict[Place, str]:
    return {Place(text.locale, text.field, text.store): text.text for text in told.texts}


def _fields(told: TextsTold) -> list[str]:
    return [field.key for field in told.fields]


def _fetch(call: Call) -> Exit | None:
    given = call.given
    folder = DossierFolder(Path(given.folder))
    app = given.app or folder.app()
    told = call.tide.dossier.texts(app)
    folder.begin(told.app)
    here, desk = folder.texts(), _desk_texts(told)
    found = compare(folder.agreed(), here, desk)
    taken = {one.place: one.desk for one in found if one.side is Side.DESK}
    folder.write(taken, _fields(told))
    _agree(folder, {place: text for place, text in {**here, **taken}.items() if text}, desk)
    left = [one for one in found if one.side is not Side.DESK]
    conflicts = [one for one in left if one.side is Side.BOTH]

    def shown() -> None:
        call.say(f"{len(taken)} {'text' if len(taken) == 1 else 'texts'} written to {given.folder}.")
        mine = [one for one in left if one.side is Side.HERE]
        if mine:
            call.say(f"{len(mine)} changed here stay as they are; send them with: tide dossier send {given.folder}")
        _tell(call, conflicts)

    call.answer({"written": [place.told() for place in taken], "left": _document(left)}, shown)
    return Exit.REFUSED if conflicts else None


def _agree(folder: DossierFolder, here: dict[Place, str], desk: dict[Place, str]) -> None:
    """Where both sides hold the same now, that is what they agree on; elsewhere the last agreement stands."""
    same = {place: desk.get(place, "") for place in here.keys() | desk.keys() if here.get(place) == desk.get(place)}
    gone = {place: "" for place in folder.agreed() if place not in here and place not in desk}
    folder.agree(folder.agreed() | {place: digest_of(text) for place, text in {**same, **gone}.items()})


def _check(call: Call) -> Exit | None:
    folder = DossierFolder(Path(call.given.folder))
    app, here = folder.app(), folder.texts()
    sheets = [_placed(folder, here, sheet) for sheet in call.tide.dossier.check(app, _common(here), _own(here))]

    def shown() -> None:
        call.say(f"{len(here)} texts of {app} are read.")
        for sheet in sheets:
            show_sheet(call, sheet.store_title, sheet.findings)

    call.answer(sheets, shown)
    return exit_of([found for sheet in sheets for found in sheet.findings])


def _placed(folder: DossierFolder, here: dict[Place, str], sheet: StoreCheckTold) -> StoreCheckTold:
    """Each finding at the file and the line that it is about."""

    def where(place: str) -> str:
        about = text_at(place)
        if about is None:
            return place
        locale, field = about
        own = Place(locale, field, sheet.store)
        return folder.where(own if own in here else Place(locale, sheet.means.get(field, field)))

    placed = [found.model_copy(update={"place": where(found.place)}) for found in sheet.findings]
    return sheet.model_copy(update={"findings": placed})


def _common(texts: dict[Place, str]) -> dict[str, dict[str, str]]:
    found: dict[str, dict[str, str]] = {}
    for place, text in texts.items():
        if place.store is None:
            found.setdefault(place.locale, {})[place.field] = text
    return found


def _own(texts: dict[Place, str]) -> dict[str, dict[str, dict[str, str]]]:
    found: dict[str, dict[str, dict[str, str]]] = {}
    for place, text in texts.items():
        if place.store is not None:
            found.setdefault(place.store, {}).setdefault(place.locale, {})[place.field] = text
    return found


def _compare(call: Call) -> Exit | None:
    folder = DossierFolder(Path(call.given.folder))
    told = call.tide.dossier.texts(folder.app())
    found = compare(folder.agreed(), folder.texts(), _desk_texts(told))

    def shown() -> None:
        if not found:
            call.say(f"{call.given.folder} and the desk hold the same texts.")
        if call.given.names:
            table = call.table("TEXT", "CHANGED")
            for one in found:
                table.add_row(cell(one.place.told()), one.side)
            call.show(table, empty="")
        else:
            _tell(call, found)

    call.answer(_document(found), shown)
    return Exit.REFUSED if any(one.side is Side.BOTH for one in found) else None


def _document(found: Sequence[Difference]) -> list[dict[str, str | None]]:
    return [
        {**one.place._asdict(), "place": one.place.told(), "changed": str(one.side), "here": one.here, "desk": one.desk}
        for one in found
    ]


def _tell(call: Call, found: Sequence[Difference]) -> None:
    for one in found:
        call.say(f"\n{one.place.told()}: {one.side}")
        lines = difflib.unified_diff(
            one.desk.splitlines(), one.here.splitlines(), "at the desk", "here", lineterm="", n=1
        )
        for line in lines:
            call.say(f"  {line}")


def hand_over(call: Call, name: str, app: str | None) -> str:
    """Write a folder's changes at the desk; returns the app. Raises Conflict where both sides have changed a text."""
    folder = DossierFolder(Path(name))
    about = folder.app()
    if app is not None and app != about:
        raise Invalid(f"{name} is the folder of {about}, not of {app}.", code="folder-unfit")
    told = call.tide.dossier.texts(about)
    here, desk = folder.texts(), _desk_texts(told)
    found = compare(folder.agreed(), here, desk)
    conflicts = [one for one in found if one.side is Side.BOTH]
    if conflicts:
        raise Conflict(
            f"These texts were changed here and at the desk: {', '.join(one.place.told() for one in conflicts)}.",
            remedy=f"Look at both with: tide dossier compare {name}. Then write the text that is wanted on both sides.",
            code="dossier-conflict",
        )
    mine = [one for one in found if one.side is Side.HERE]
    revisions = {Place(text.locale, text.field, text.store): text.revision for text in told.texts}
    for one in mine:
        place = one.place
        known = revisions.get(place)
        call.tide.dossier.write(about, place.locale, {place.field: one.here}, store=place.store, revision=known)
    written = {one.place: one.here for one in mine}
    _agree(folder, here, {place: text for place, text in {**desk, **written}.items() if text})
    if not call.given.json:
        call.say(f"{len(mine)} {'text' if len(mine) == 1 else 'texts'} of {name} written at the desk.")
    return about


def _export(call: Call) -> None:
    given = call.given
    target = Path(given.folder)
    if target.exists() and any(target.iterdir()):
        raise Invalid(f"{given.folder} is not empty.", remedy="Name a new folder.", code="folder-unfit")
    told = call.tide.dossier.texts(given.app)
    store = store_of(told, given.store)
    got = {Place(text.locale, text.field): text.text for text in store.texts if text.text}
    folder = DossierFolder(target)
    folder.begin(told.app)
    folder.write(got, [field.key for field in store.fields])
    call.answer(
        {"written": [place.told() for place in got]},
        lambda: call.say(f"{len(got)} texts written to {given.folder}, as {store.store_title} gets them."),
    )
