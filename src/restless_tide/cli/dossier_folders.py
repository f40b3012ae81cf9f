"""tide dossier fetch, check, compare, export: the dossier as a folder beside the source."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from pathlib import Path

from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.facts import exit_of, show_sheet
from restless_tide.cli.parsing import Nouns, Parser, app_argument, store_argument
from restless_tide.core.dossier_folder import Difference, Side
from restless_tide.core.errors import Conflict, Invalid
from restless_tide.folders import exchange
from restless_tide.folders.exchange import counted_places
from restless_tide.folders.files import DossierFolder


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "dossier fetch",
        _fetch,
        "write the desk's dossier to a folder, or bring a folder up to date",
        description="Write the texts, pictures and answers of an app to a folder of files, or bring one up to date. What was changed there\n"
        "stays; what was changed at both is told line by line and left as it is (exit code 1).",
    )
    _folder_argument(parser)
    parser.add_argument("--app", metavar="APP", help="the app's short name; needed for a new folder")
    parser = nouns.command("dossier check", _check, "what each store would say of a folder, before anything is sent")
    _folder_argument(parser)
    parser = nouns.command("dossier compare", _compare, "how a folder and the desk differ, line by line")
    _folder_argument(parser)
    parser.add_argument("--names", action="store_true", help="only what differs")
    parser = nouns.command(
        "dossier export", _export, "write what one store gets to a new folder, under its own fields and questions"
    )
    _folder_argument(parser)
    app_argument(parser)
    store_argument(parser)


def _folder_argument(parser: Parser) -> None:
    parser.add_argument("folder", metavar="FOLDER", help="such as dossier, beside the app's source")


def _fetch(call: Call) -> Exit | None:
    given = call.given
    folder = DossierFolder(Path(given.folder))
    found = exchange.fetch(call.tide.dossier, folder, given.app or folder.app())
    conflicts = [one for one in found.left if one.side is Side.BOTH]

    def shown() -> None:
        call.say(f"{counted_places(found.taken).capitalize()} written to {given.folder}.")
        mine = [one for one in found.left if one.side is Side.HERE]
        if mine:
            call.say(
                f"{counted_places(one.place for one in mine).capitalize()} changed here stay as they are; send them with: tide dossier send {given.folder}"
            )
        _tell(call, conflicts)

    call.answer({"written": [place.told() for place in found.taken], "left": _document(found.left)}, shown)
    return Exit.REFUSED if conflicts else None


def _check(call: Call) -> Exit | None:
    folder = DossierFolder(Path(call.given.folder))
    sheets = exchange.check(call.tide.dossier, folder)

    def shown() -> None:
        call.say(f"{folder.app()}: {counted_places(folder.texts())} read.")
        for sheet in sheets:
            show_sheet(call, sheet.store_title, sheet.findings)

    call.answer(sheets, shown)
    return exit_of([found for sheet in sheets for found in sheet.findings])


def _compare(call: Call) -> Exit | None:
    folder = DossierFolder(Path(call.given.folder))
    found = exchange.differences(call.tide.dossier, folder)

    def shown() -> None:
        if not found:
            call.say(f"{call.given.folder} and the desk hold the same.")
        if call.given.names:
            table = call.table("PLACE", "CHANGED")
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
    try:
        changed = exchange.hand_over(call.tide.dossier, folder)
    except Conflict as both:
        remedy = f"Look at both with: tide dossier compare {name}. Then write what is wanted on both sides."
        raise Conflict(both.detail, remedy=remedy, code=both.code) from None
    if not call.given.json:
        call.say(f"{counted_places(changed).capitalize()} of {name} written at the desk.")
    return about


def _export(call: Call) -> None:
    given = call.given
    target = Path(given.folder)
    if target.exists() and any(target.iterdir()):
        raise Invalid(f"{given.folder} is not empty.", remedy="Name a new folder.", code="folder-unfit")
    places = exchange.export(call.tide.dossier, DossierFolder(target), given.app, given.store)
    call.answer(
        {"written": [place.told() for place in places]},
        lambda: call.say(
            f"{counted_places(places).capitalize()} written to {given.folder}, as {given.store} gets them."
        ),
    )
