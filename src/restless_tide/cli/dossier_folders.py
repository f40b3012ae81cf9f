"""tide dossier fetch, check, compare, export: the dossier as a folder beside the source."""

from __future__ import annotations

import difflib
import tempfile
from collections.abc import Collection, Iterable, Sequence
from pathlib import Path
from typing import Any, TypeVar

from restless_tide.cli.call import Call, cell
from restless_tide.cli.dossier_files import DossierFolder
from restless_tide.cli.exits import Exit
from restless_tide.cli.facts import exit_of, show_sheet
from restless_tide.cli.parsing import Nouns, Parser, app_argument, store_argument
from restless_tide.core.answer_shapes import thawed
from restless_tide.core.documents import FileAnswer
from restless_tide.core.dossier_folder import (
    NO_LOCALE,
    Difference,
    Place,
    Side,
    compare,
    digest_of,
    format_of,
    unwritten,
    unwritten_good,
    written,
    written_good,
)
from restless_tide.core.errors import Conflict, Invalid, NotFound, TooLarge
from restless_tide.core.good import Good
from restless_tide.wire.dossier import StoreCheckTold, StoreQuestionsTold, StoreTextsTold
from restless_tide.wire.goods import StoreGoodsTold
from restless_tide.wire.pictures import StorePicturesTold


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


AtStore = TypeVar("AtStore", StoreTextsTold, StorePicturesTold, StoreQuestionsTold, StoreGoodsTold)


def store_of(stores: Sequence[AtStore], name: str) -> AtStore:
    """What one store asks for. Raises NotFound for a store that asks for nothing of the app."""
    found = next((store for store in stores if store.store == name), None)
    if found is not None:
        return found
    names = ", ".join(store.store for store in stores) or "no store"
    raise NotFound(f"{name} asks for nothing here.", remedy=f"These do: {names}.", code="store-unknown")


class _Desk:
    """A dossier as it stands at the desk: each text, set of pictures and answer, and its revision."""

    def __init__(self, call: Call, app: str) -> None:
        texts, asked = call.tide.dossier.texts(app), call.tide.dossier.questions(app)
        shown = call.tide.dossier.pictures(app)
        self.formats = {one.sha256: one.format for found in shown.sets for one in found.pictures}
        self.app = texts.app
        self.order = [*(field.key for field in texts.fields), *(topic.key for topic in asked.topics)]
        self.held = {Place(text.locale, text.field, text.store): text.text for text in texts.texts}
        self.revisions = {Place(text.locale, text.field, text.store): text.revision for text in texts.texts}
        for found in shown.sets:
            place = Place(found.locale, found.picture_class, found.store, is_set=True)
            self.held[place] = "\n".join(one.sha256 for one in found.pictures)
            self.revisions[place] = found.revision
        for topic in asked.topics:
            self._note(Place(NO_LOCALE, topic.key), topic.answer, topic.revision)
        for store in asked.stores:
            for one in (*store.questions, *store.coming, *store.unasked):
                if one.revision:
                    self._note(Place(NO_LOCALE, one.key, store.store), one.answer, one.revision)
        for sold in call.tide.dossier.goods(app).goods:
            place = Place(NO_LOCALE, sold.reference, is_good=True)
            self.held[place], self.revisions[place] = written_good(sold.good), sold.revision

    def _note(self, place: Place, answer: Any, revision: int) -> None:
        if revision:
            self.revisions[place] = revision
        if answer is not None:
            self.held[place] = written(answer)


def counted(texts: int, sets: int, answers: int, goods: int) -> str:
    """Such as ``3 texts, 1 set of pictures and 2 answers``; nothing where there is none of them."""
    each = [(texts, "text", ""), (sets, "set", " of pictures"), (answers, "answer", ""), (goods, "good", "")]
    told = [f"{count} {noun}{'' if count == 1 else 's'}{more}" for count, noun, more in each if count]
    return " and ".join([*([", ".join(told[:-1])] if len(told) > 1 else []), *told[-1:]])


def _counted(places: Iterable[Place]) -> str:
    """The same of places of a folder; ``nothing`` where there is none."""
    every = list(places)
    sets, answers = sum(place.is_set for place in every), sum(place.is_answer for place in every)
    goods = sum(place.is_good for place in every)
    return counted(len(every) - sets - answers - goods, sets, answers, goods) or "nothing"


def _fetch(call: Call) -> Exit | None:
    given = call.given
    folder = DossierFolder(Path(given.folder))
    app = given.app or folder.app()
    there = _Desk(call, app)
    folder.begin(there.app)
    here, desk = folder.texts(), there.held
    found = compare(folder.agreed(), here, desk)
    taken = {one.place: one.desk for one in found if one.side is Side.DESK}
    papers = {place: paper for place, text in taken.items() if (paper := _paper(place, text)) is not None}
    plain = {
        place: text for place, text in taken.items() if not (place.is_set or place.is_good) and place not in papers
    }
    folder.write(plain, there.order)
    for place, paper in papers.items():
        _fetch_document(call, folder, place, paper)
    for place, text in taken.items():
        if place.is_good:
            _fetch_good(call, folder, place, unwritten_good(text))
    for place, files in taken.items():
        if place.is_set:
            _fetch_set(call, folder, place, [(one, there.formats[one]) for one in files.split()])
    _agree(folder, {place: text for place, text in {**here, **taken}.items() if text}, desk)
    left = [one for one in found if one.side is not Side.DESK]
    conflicts = [one for one in left if one.side is Side.BOTH]

    def shown() -> None:
        call.say(f"{_counted(taken).capitalize()} written to {given.folder}.")
        mine = [one for one in left if one.side is Side.HERE]
        if mine:
            call.say(
                f"{_counted(one.place for one in mine).capitalize()} changed here stay as they are; send them with: tide dossier send {given.folder}"
            )
        _tell(call, conflicts)

    call.answer({"written": [place.told() for place in taken], "left": _document(left)}, shown)
    return Exit.REFUSED if conflicts else None


def _fetch_set(call: Call, folder: DossierFolder, place: Place, files: Sequence[tuple[str, str]]) -> None:
    """Fetch the files of a set before anything of the folder is touched; ``files`` are digests and formats."""
    with tempfile.TemporaryDirectory() as around:
        fetched = [(kind, call.tide.dossier.fetch_picture(one, Path(around) / one)) for one, kind in files]
        folder.write_set(place, fetched)


def _paper(place: Place, text: str) -> FileAnswer | None:
    """The document that an answer is; None where it is none."""
    answer = thawed(unwritten(text)) if place.is_answer and text else None
    return answer if isinstance(answer, FileAnswer) else None


def _fetch_document(call: Call, folder: DossierFolder, place: Place, paper: FileAnswer) -> None:
    with tempfile.TemporaryDirectory() as around:
        file = call.tide.dossier.fetch_document(paper.sha256, Path(around) / paper.sha256)
        folder.write_document(place, paper, file)


def _fetch_good(call: Call, folder: DossierFolder, place: Place, good: Good | None) -> None:
    with tempfile.TemporaryDirectory() as around:
        picture = None
        if good is not None and good.picture is not None:
            file = call.tide.dossier.fetch_picture(good.picture, Path(around) / good.picture)
            with file.open("rb") as source:
                picture = format_of(source.read(16)), file
        folder.write_good(place, good, picture)


def _agree(folder: DossierFolder, here: dict[Place, str], desk: dict[Place, str]) -> None:
    """Where both sides hold the same now, that is what they agree on; elsewhere the last agreement stands."""
    same = {place: desk.get(place, "") for place in here.keys() | desk.keys() if here.get(place) == desk.get(place)}
    gone = {place: "" for place in folder.agreed() if place not in here and place not in desk}
    folder.agree(folder.agreed() | {place: digest_of(text) for place, text in {**same, **gone}.items()})


def _check(call: Call) -> Exit | None:
    folder = DossierFolder(Path(call.given.folder))
    app, here = folder.app(), folder.texts()
    _keep_documents(call, folder, here)
    answers, own_answers = _answers(here)
    pictures, own_pictures = _kept_sets(call, folder, here)
    told = call.tide.dossier.check(
        app,
        _common(here),
        _own(here),
        pictures=pictures,
        own_pictures=own_pictures,
        answers=answers,
        own_answers=own_answers,
        goods=_kept_goods(call, folder, here),
    )
    sheets = [_placed(folder, sheet) for sheet in told]

    def shown() -> None:
        call.say(f"{app}: {_counted(here)} read.")
        for sheet in sheets:
            show_sheet(call, sheet.store_title, sheet.findings)

    call.answer(sheets, shown)
    return exit_of([found for sheet in sheets for found in sheet.findings])


def _placed(folder: DossierFolder, sheet: StoreCheckTold) -> StoreCheckTold:
    """Each finding at the file and the line that it is about."""
    placed = [
        found.model_copy(
            update={"place": folder.meant(found.place, sheet.store, sheet.means, sheet.shows, sheet.topics)}
        )
        for found in sheet.findings
    ]
    return sheet.model_copy(update={"findings": placed})


def _common(texts: dict[Place, str]) -> dict[str, dict[str, str]]:
    found: dict[str, dict[str, str]] = {}
    for place, text in texts.items():
        if place.store is None and place.locale != NO_LOCALE and not place.is_set:
            found.setdefault(place.locale, {})[place.field] = text
    return found


def _own(texts: dict[Place, str]) -> dict[str, dict[str, dict[str, str]]]:
    found: dict[str, dict[str, dict[str, str]]] = {}
    for place, text in texts.items():
        if place.store is not None and place.locale != NO_LOCALE and not place.is_set:
            found.setdefault(place.store, {}).setdefault(place.locale, {})[place.field] = text
    return found


_Sets = dict[str, dict[str, list[str]]]


def _kept_sets(call: Call, folder: DossierFolder, here: dict[Place, str]) -> tuple[_Sets, dict[str, _Sets]]:
    """The sets that all stores share, and those of single stores; their files are sent to the desk, and put in nowhere yet."""
    common: _Sets = {}
    own: dict[str, _Sets] = {}
    for place in here:
        if place.is_set:
            sets = common if place.store is None else own.setdefault(place.store, {})
            sets.setdefault(place.locale, {})[place.field] = _kept_files(call, folder, place)
    return common, own


def _kept_files(call: Call, folder: DossierFolder, place: Place) -> list[str]:
    """Send the files of a set to the desk; their digests. Raises Invalid naming the file that is no picture."""
    kept = []
    for file in folder.pictures(place):
        try:
            kept.append(call.tide.dossier.keep_picture(file).sha256)
        except (Invalid, TooLarge) as wrong:
            name = file.relative_to(folder.path).as_posix()
            raise type(wrong)(f"{name}: {wrong.detail}", remedy=wrong.remedy, code=wrong.code) from None
    return kept


def _keep_documents(call: Call, folder: DossierFolder, places: Collection[Place]) -> None:
    """Send the documents of a folder to the desk; no answer names them yet."""
    for place, file in folder.documents().items():
        if place in places:
            call.tide.dossier.keep_document(file)


def _keep_good_picture(call: Call, folder: DossierFolder, place: Place, text: str) -> None:
    """Send the picture of a good to the desk. Raises Invalid naming the file that is none."""
    file = folder.good_picture(place) if text else None
    if file is None:
        return
    try:
        call.tide.dossier.keep_picture(file)
    except (Invalid, TooLarge) as wrong:
        name = file.relative_to(folder.path).as_posix()
        raise type(wrong)(f"{name}: {wrong.detail}", remedy=wrong.remedy, code=wrong.code) from None


def _kept_goods(call: Call, folder: DossierFolder, here: dict[Place, str]) -> dict[str, Good]:
    """The goods of a folder; their pictures are sent to the desk, and named nowhere yet."""
    found: dict[str, Good] = {}
    for place, text in here.items():
        good = unwritten_good(text) if place.is_good else None
        if good is not None:
            _keep_good_picture(call, folder, place, text)
            found[place.field] = good
    return found


def _answers(here: dict[Place, str]) -> tuple[dict[str, Any], dict[str, dict[str, Any]]]:
    """The answers that all stores share, and those of single stores."""
    common: dict[str, Any] = {}
    own: dict[str, dict[str, Any]] = {}
    for place, text in here.items():
        if place.is_answer:
            (common if place.store is None else own.setdefault(place.store, {}))[place.field] = unwritten(text)
    return common, own


def _compare(call: Call) -> Exit | None:
    folder = DossierFolder(Path(call.given.folder))
    found = compare(folder.agreed(), folder.texts(), _Desk(call, folder.app()).held)

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
    there = _Desk(call, about)
    here, desk = folder.texts(), there.held
    found = compare(folder.agreed(), here, desk)
    conflicts = [one for one in found if one.side is Side.BOTH]
    if conflicts:
        raise Conflict(
            f"These were changed here and at the desk: {', '.join(one.place.told() for one in conflicts)}.",
            remedy=f"Look at both with: tide dossier compare {name}. Then write what is wanted on both sides.",
            code="dossier-conflict",
        )
    mine = [one for one in found if one.side is Side.HERE]
    for one in mine:
        place, known = one.place, there.revisions.get(one.place, 0)
        if place.is_set:
            kept = _kept_files(call, folder, place) if one.here else []
            call.tide.dossier.put_pictures(about, place.locale, place.field, kept, store=place.store, revision=known)
        elif place.is_good:
            _keep_good_picture(call, folder, place, one.here)
            call.tide.dossier.write_good(about, place.field, unwritten_good(one.here), revision=known)
        elif place.is_answer:
            _keep_documents(call, folder, {place})
            answer = {place.field: unwritten(one.here) if one.here else None}
            call.tide.dossier.answer(about, answer, store=place.store, revision=known)
        else:
            call.tide.dossier.write(about, place.locale, {place.field: one.here}, store=place.store, revision=known)
    changed = {one.place: one.here for one in mine}
    _agree(folder, here, {place: text for place, text in {**desk, **changed}.items() if text})
    if not call.given.json:
        call.say(f"{_counted(changed).capitalize()} of {name} written at the desk.")
    return about


def _export(call: Call) -> None:
    given = call.given
    target = Path(given.folder)
    if target.exists() and any(target.iterdir()):
        raise Invalid(f"{given.folder} is not empty.", remedy="Name a new folder.", code="folder-unfit")
    told, asked = call.tide.dossier.texts(given.app), call.tide.dossier.questions(given.app)
    store = store_of(told.stores, given.store)
    got = {Place(text.locale, text.field): text.text for text in store.texts if text.text}
    sets: dict[Place, str] = {}
    questions = [one for there in asked.stores if there.store == given.store for one in there.questions]
    got |= {Place(NO_LOCALE, one.key): written(one.answer) for one in questions if one.answer is not None}
    shown = [
        one
        for there in call.tide.dossier.pictures(given.app).stores
        if there.store == given.store
        for one in there.sets
    ]
    folder = DossierFolder(target)
    folder.begin(told.app)
    for one in shown:
        files = [(piece.file, piece.format) for piece in one.pieces if piece.file]
        if files:
            place = Place(one.locale, one.picture_class, is_set=True)
            _fetch_set(call, folder, place, files)
            sets[place] = "\n".join(file for file, _ in files)
    papers = {place: paper for place, text in got.items() if (paper := _paper(place, text)) is not None}
    for place, paper in papers.items():
        _fetch_document(call, folder, place, paper)
    folder.write(
        {place: text for place, text in got.items() if place not in papers},
        [*(field.key for field in store.fields), *(one.key for one in questions)],
    )
    sold = [
        one for there in call.tide.dossier.goods(given.app).stores if there.store == given.store for one in there.goods
    ]
    goods = {Place(NO_LOCALE, one.reference, is_good=True): Good(**one.good.model_dump()) for one in sold if one.good}
    for place, good in goods.items():
        _fetch_good(call, folder, place, good)
    call.answer(
        {"written": [place.told() for place in (*got, *sets, *goods)]},
        lambda: call.say(
            f"{_counted((*got, *sets, *goods)).capitalize()} written to {given.folder}, as {store.store_title} gets them."
        ),
    )
