"""A dossier folder and a desk: what each holds, what one gives the other, and what stores would say of a folder."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol, TypeVar

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
from restless_tide.core.words import listed
from restless_tide.folders.files import DossierFolder
from restless_tide.wire.dossier import (
    DocumentTold,
    QuestionsTold,
    StoreCheckTold,
    StoreQuestionsTold,
    StoreTextsTold,
    TextsTold,
)
from restless_tide.wire.goods import GoodsTold, StoreGoodsTold
from restless_tide.wire.pictures import PictureFileTold, PicturesTold, StorePicturesTold


class DossierDesk(Protocol):
    """What a desk does with a dossier: asked through the client, or by the service itself."""

    def texts(self, app: str, /) -> TextsTold: ...

    def pictures(self, app: str, /) -> PicturesTold: ...

    def questions(self, app: str, /) -> QuestionsTold: ...

    def goods(self, app: str, /) -> GoodsTold: ...

    def keep_picture(self, file: Path, /) -> PictureFileTold: ...

    def keep_document(self, file: Path, /) -> DocumentTold: ...

    def fetch_picture(self, sha256: str, to: Path, /) -> Path: ...

    def fetch_document(self, sha256: str, to: Path, /) -> Path: ...

    def write(
        self, app: str, locale: str, texts: Mapping[str, str], /, *, store: str | None, revision: int | None
    ) -> object: ...

    def put_pictures(
        self,
        app: str,
        locale: str,
        picture_class: str,
        pictures: Sequence[str],
        /,
        *,
        store: str | None,
        revision: int | None,
    ) -> object: ...

    def answer(self, app: str, answers: Mapping[str, Any], /, *, store: str | None, revision: int | None) -> object: ...

    def write_good(self, app: str, reference: str, good: Good | None, /, *, revision: int | None) -> object: ...

    def check(
        self,
        app: str,
        texts: Mapping[str, dict[str, str]],
        own: Mapping[str, dict[str, dict[str, str]]],
        /,
        *,
        pictures: Mapping[str, dict[str, list[str]]],
        own_pictures: Mapping[str, dict[str, dict[str, list[str]]]],
        answers: Mapping[str, Any],
        own_answers: Mapping[str, dict[str, Any]],
        goods: Mapping[str, Good],
    ) -> list[StoreCheckTold]: ...


@dataclass(frozen=True)
class Fetched:
    """What of a desk was written to a folder, and what was left as it is there: changed there, or at both."""

    taken: Mapping[Place, str]
    left: Sequence[Difference]


AtStore = TypeVar("AtStore", StoreTextsTold, StorePicturesTold, StoreQuestionsTold, StoreGoodsTold)


def store_of(stores: Sequence[AtStore], name: str) -> AtStore:
    """What one store asks for. Raises NotFound for a store that asks for nothing of the app."""
    found = next((store for store in stores if store.store == name), None)
    if found is not None:
        return found
    names = ", ".join(store.store for store in stores) or "no store"
    raise NotFound(f"{name} asks for nothing here.", remedy=f"These do: {names}.", code="store-unknown")


class DeskSide:
    """A dossier as it stands at the desk: each text, set of pictures, answer and good, and its revision."""

    def __init__(self, desk: DossierDesk, app: str) -> None:
        texts, asked = desk.texts(app), desk.questions(app)
        shown = desk.pictures(app)
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
        for sold in desk.goods(app).goods:
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
    return listed(told)


def counted_places(places: Iterable[Place]) -> str:
    """The same of places of a folder; ``nothing`` where there is none."""
    every = list(places)
    sets, answers = sum(place.is_set for place in every), sum(place.is_answer for place in every)
    goods = sum(place.is_good for place in every)
    return counted(len(every) - sets - answers - goods, sets, answers, goods) or "nothing"


def _fetch_set(desk: DossierDesk, folder: DossierFolder, place: Place, files: Sequence[tuple[str, str]]) -> None:
    """Fetch the files of a set before anything of the folder is touched; ``files`` are digests and formats."""
    with tempfile.TemporaryDirectory() as around:
        fetched = [(kind, desk.fetch_picture(one, Path(around) / one)) for one, kind in files]
        folder.write_set(place, fetched)


def _paper(place: Place, text: str) -> FileAnswer | None:
    """The document that an answer is; None where it is none."""
    answer = thawed(unwritten(text)) if place.is_answer and text else None
    return answer if isinstance(answer, FileAnswer) else None


def _fetch_document(desk: DossierDesk, folder: DossierFolder, place: Place, paper: FileAnswer) -> None:
    with tempfile.TemporaryDirectory() as around:
        file = desk.fetch_document(paper.sha256, Path(around) / paper.sha256)
        folder.write_document(place, paper, file)


def _fetch_good(desk: DossierDesk, folder: DossierFolder, place: Place, good: Good | None) -> None:
    with tempfile.TemporaryDirectory() as around:
        picture = None
        if good is not None and good.picture is not None:
            file = desk.fetch_picture(good.picture, Path(around) / good.picture)
            with file.open("rb") as source:
                picture = format_of(source.read(16)), file
        folder.write_good(place, good, picture)


def _agree(folder: DossierFolder, here: dict[Place, str], desk: dict[Place, str]) -> None:
    """Where both sides hold the same now, that is what they agree on; elsewhere the last agreement stands."""
    same = {place: desk.get(place, "") for place in here.keys() | desk.keys() if here.get(place) == desk.get(place)}
    gone = {place: "" for place in folder.agreed() if place not in here and place not in desk}
    folder.agree(folder.agreed() | {place: digest_of(text) for place, text in {**same, **gone}.items()})


def _placed(folder: DossierFolder, sheet: StoreCheckTold) -> StoreCheckTold:
    """Each finding at the file and the line that it is about."""
    placed = [
        found.model_copy(
            update={"place": folder.meant(found.place, sheet.store, sheet.means, sheet.shows, sheet.topics)}
        )
        for found in sheet.findings
    ]
    return sheet.model_copy(update={"findings": placed})


def _texts(here: Mapping[Place, str]) -> tuple[dict[str, dict[str, str]], dict[str, dict[str, dict[str, str]]]]:
    """The texts that all stores share, and those of single stores."""
    common: dict[str, dict[str, str]] = {}
    own: dict[str, dict[str, dict[str, str]]] = {}
    for place, text in here.items():
        if place.is_text:
            texts = common if place.store is None else own.setdefault(place.store, {})
            texts.setdefault(place.locale, {})[place.field] = text
    return common, own


_Sets = dict[str, dict[str, list[str]]]


def _kept_sets(desk: DossierDesk, folder: DossierFolder, here: dict[Place, str]) -> tuple[_Sets, dict[str, _Sets]]:
    """The sets that all stores share, and those of single stores; their files are sent to the desk, and put in nowhere yet."""
    common: _Sets = {}
    own: dict[str, _Sets] = {}
    for place in here:
        if place.is_set:
            sets = common if place.store is None else own.setdefault(place.store, {})
            sets.setdefault(place.locale, {})[place.field] = _kept_files(desk, folder, place)
    return common, own


K = TypeVar("K")


def _kept(folder: DossierFolder, file: Path, keep: Callable[[Path], K]) -> K:
    """Send a file to the desk. Raises Invalid or TooLarge naming the file that is unfit."""
    try:
        return keep(file)
    except (Invalid, TooLarge) as wrong:
        name = file.relative_to(folder.path).as_posix()
        raise type(wrong)(f"{name}: {wrong.detail}", remedy=wrong.remedy, code=wrong.code) from None


def _kept_files(desk: DossierDesk, folder: DossierFolder, place: Place) -> list[str]:
    """Send the files of a set to the desk; their digests."""
    return [_kept(folder, file, desk.keep_picture).sha256 for file in folder.pictures(place)]


def _keep_documents(desk: DossierDesk, folder: DossierFolder, places: Collection[Place]) -> None:
    """Send the documents of a folder to the desk; no answer names them yet."""
    for place, file in folder.documents().items():
        if place in places:
            _kept(folder, file, desk.keep_document)


def _keep_good_picture(desk: DossierDesk, folder: DossierFolder, place: Place, text: str) -> None:
    """Send the picture of a good to the desk."""
    file = folder.good_picture(place) if text else None
    if file is not None:
        _kept(folder, file, desk.keep_picture)


def _kept_goods(desk: DossierDesk, folder: DossierFolder, here: dict[Place, str]) -> dict[str, Good]:
    """The goods of a folder; their pictures are sent to the desk, and named nowhere yet."""
    found: dict[str, Good] = {}
    for place, text in here.items():
        good = unwritten_good(text) if place.is_good else None
        if good is not None:
            _keep_good_picture(desk, folder, place, text)
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


def fetch(desk: DossierDesk, folder: DossierFolder, app: str) -> Fetched:
    """Write a desk's dossier to a folder, or bring a folder up to date; what was changed there stays."""
    there = DeskSide(desk, app)
    folder.begin(there.app)
    here = folder.texts()
    found = compare(folder.agreed(), here, there.held)
    taken = {one.place: one.desk for one in found if one.side is Side.DESK}
    papers = {place: paper for place, text in taken.items() if (paper := _paper(place, text)) is not None}
    folder.write(
        {place: text for place, text in taken.items() if not (place.is_set or place.is_good) and place not in papers},
        there.order,
    )
    for place, paper in papers.items():
        _fetch_document(desk, folder, place, paper)
    for place, text in taken.items():
        if place.is_good:
            _fetch_good(desk, folder, place, unwritten_good(text))
        if place.is_set:
            _fetch_set(desk, folder, place, [(one, there.formats[one]) for one in text.split()])
    _agree(folder, {place: text for place, text in {**here, **taken}.items() if text}, there.held)
    return Fetched(taken, [one for one in found if one.side is not Side.DESK])


def check(desk: DossierDesk, folder: DossierFolder) -> list[StoreCheckTold]:
    """What each store would say of a folder, each finding at its file and line. Files are kept at the desk, and named nowhere."""
    app, here = folder.app(), folder.texts()
    _keep_documents(desk, folder, here)
    answers, own_answers = _answers(here)
    pictures, own_pictures = _kept_sets(desk, folder, here)
    told = desk.check(
        app,
        *_texts(here),
        pictures=pictures,
        own_pictures=own_pictures,
        answers=answers,
        own_answers=own_answers,
        goods=_kept_goods(desk, folder, here),
    )
    return [_placed(folder, sheet) for sheet in told]


def differences(desk: DossierDesk, folder: DossierFolder) -> list[Difference]:
    """How a folder and a desk differ."""
    return compare(folder.agreed(), folder.texts(), DeskSide(desk, folder.app()).held)


def hand_over(desk: DossierDesk, folder: DossierFolder) -> dict[Place, str]:
    """Write a folder's changes at a desk; returns them. Raises Conflict where both sides have changed a text, before anything
    is written."""
    about = folder.app()
    there = DeskSide(desk, about)
    here, held = folder.texts(), there.held
    found = compare(folder.agreed(), here, held)
    conflicts = [one for one in found if one.side is Side.BOTH]
    if conflicts:
        raise Conflict(
            f"These were changed here and at the desk: {', '.join(one.place.told() for one in conflicts)}.",
            remedy="Look at both, and write what is wanted on both sides.",
            code="dossier-conflict",
        )
    mine = [one for one in found if one.side is Side.HERE]
    for one in mine:
        place, known = one.place, there.revisions.get(one.place, 0)
        if place.is_set:
            kept = _kept_files(desk, folder, place) if one.here else []
            desk.put_pictures(about, place.locale, place.field, kept, store=place.store, revision=known)
        elif place.is_good:
            _keep_good_picture(desk, folder, place, one.here)
            desk.write_good(about, place.field, unwritten_good(one.here), revision=known)
        elif place.is_answer:
            _keep_documents(desk, folder, {place})
            answer = {place.field: unwritten(one.here) if one.here else None}
            desk.answer(about, answer, store=place.store, revision=known)
        else:
            desk.write(about, place.locale, {place.field: one.here}, store=place.store, revision=known)
    changed = {one.place: one.here for one in mine}
    _agree(folder, here, {place: text for place, text in {**held, **changed}.items() if text})
    return changed


def export(desk: DossierDesk, folder: DossierFolder, app: str, store_name: str) -> list[Place]:
    """Write what one store gets to a new folder, under its own fields and questions; returns what was written."""
    told, asked, shown, sold = desk.texts(app), desk.questions(app), desk.pictures(app), desk.goods(app)
    store = store_of(told.stores, store_name)
    got = {Place(text.locale, text.field): text.text for text in store.texts if text.text}
    questions = [one for there in asked.stores if there.store == store_name for one in there.questions]
    got |= {Place(NO_LOCALE, one.key): written(one.answer) for one in questions if one.answer is not None}
    folder.begin(told.app)
    places = list(got)
    for one in (one for there in shown.stores if there.store == store_name for one in there.sets):
        files = [(piece.file, piece.format) for piece in one.pieces if piece.file]
        if files:
            place = Place(one.locale, one.picture_class, is_set=True)
            _fetch_set(desk, folder, place, files)
            places.append(place)
    papers = {place: paper for place, text in got.items() if (paper := _paper(place, text)) is not None}
    for place, paper in papers.items():
        _fetch_document(desk, folder, place, paper)
    folder.write(
        {place: text for place, text in got.items() if place not in papers},
        [*(field.key for field in store.fields), *(question.key for question in questions)],
    )
    for good in (good for there in sold.stores if there.store == store_name for good in there.goods):
        if good.good is not None:
            place = Place(NO_LOCALE, good.reference, is_good=True)
            _fetch_good(desk, folder, place, Good(**good.good.model_dump()))
            places.append(place)
    return places
