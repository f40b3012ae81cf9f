"""The dossier of an app, and the readiness sheet of its releases."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from restless_tide.client.line import Answer
from restless_tide.client.noun import Noun
from restless_tide.core.good import Good
from restless_tide.wire.dossier import (
    AnswersWanted,
    CheckTextsWanted,
    DocumentTold,
    LocaleCopyWanted,
    QuestionsTold,
    SendingTold,
    SendTextsWanted,
    StoreCheckTold,
    TakenOverTold,
    TakeOverWanted,
    TextsTold,
    TextsWanted,
    WrittenTextTold,
)
from restless_tide.wire.folders import FolderCheckTold, FolderTakenTold
from restless_tide.wire.goods import GoodsTold, GoodWanted
from restless_tide.wire.pictures import (
    ImportedFile,
    PictureFileTold,
    PictureImportTold,
    PictureImportWanted,
    PicturesTold,
    PicturesWanted,
)
from restless_tide.wire.readiness import ReadinessTold


class Dossier(Noun):
    def ready(
        self, app: str, version: str | None = None, *, store: str | None = None, on: datetime | None = None
    ) -> ReadinessTold:
        """What stops a release, store by store; without a version, what the app needs for the release to come."""
        release = f"/releases/{version}" if version is not None else ""
        day = on.isoformat() if on is not None else None
        return self._line.get(f"/v1/apps/{app}{release}/readiness", ReadinessTold, store=store, on=day)

    def texts(self, app: str) -> TextsTold:
        """Every text as it is written, and what each store gets of it."""
        return self._line.get(f"/v1/apps/{app}/dossier/texts", TextsTold)

    def write(
        self,
        app: str,
        locale: str,
        texts: Mapping[str, str],
        *,
        store: str | None = None,
        revision: int | None = None,
    ) -> list[WrittenTextTold]:
        """Write texts of one locale, for all stores or one alone. Raises StaleView when ``revision`` is no longer that of
        the one text."""
        headers = {"If-Match": f'"{revision}"'} if revision is not None else None
        body = TextsWanted(texts=dict(texts), store=store)
        return self._line.put(f"/v1/apps/{app}/dossier/texts/{locale}", list[WrittenTextTold], body, headers=headers)

    def copy_locale(self, app: str, source: str, locale: str) -> TextsTold:
        """Copy the texts of one locale to another, where that has none."""
        body = LocaleCopyWanted(source=source)
        return self._line.post(f"/v1/apps/{app}/dossier/texts/{locale}/copies", TextsTold, body)

    def drop_locale(self, app: str, locale: str) -> TextsTold:
        """Take out every text of a locale."""
        return self._line.delete_for(f"/v1/apps/{app}/dossier/texts/{locale}", TextsTold)

    def pictures(self, app: str) -> PicturesTold:
        """The pictures of an app as they are put in, and what each store gets of them."""
        return self._line.get(f"/v1/apps/{app}/dossier/pictures", PicturesTold)

    def keep_picture(self, file: Path) -> PictureFileTold:
        """Send the file of a picture or a film, so that a set can name it by its digest. Raises Invalid or TooLarge."""
        with file.open("rb") as source:
            return self._line.send_file("/v1/pictures", PictureFileTold, source, file.stat().st_size)

    def keep_document(self, file: Path) -> DocumentTold:
        """Send a document, so that an answer can name it as it is told here. Raises Invalid or TooLarge."""
        with file.open("rb") as source:
            place = f"/v1/documents?{urlencode({'name': file.name})}"
            return self._line.send_file(place, DocumentTold, source, file.stat().st_size)

    def fetch_document(self, sha256: str, to: Path) -> Path:
        """Fetch a document, whole, into ``to``."""
        self._line.fetch(f"/v1/documents/{sha256}", to)
        return to

    def put_pictures(
        self,
        app: str,
        locale: str,
        picture_class: str,
        pictures: Sequence[str],
        *,
        store: str | None = None,
        revision: int | None = None,
    ) -> PicturesTold:
        """Have these files be a set, in this order, for all stores or one alone; none takes it out. Raises StaleView when
        ``revision`` is no longer that of the set."""
        headers = {"If-Match": f'"{revision}"'} if revision is not None else None
        body = PicturesWanted(pictures=list(pictures), store=store)
        path = f"/v1/apps/{app}/dossier/pictures/{locale}/{picture_class}"
        return self._line.put(path, PicturesTold, body, headers=headers)

    def import_pictures(
        self, app: str, files: Mapping[str, str], *, instead: bool = False, trial: bool = False
    ) -> PictureImportTold:
        """Put files in where they belong by their sides and names. ``files``: digests by name within their folder."""
        named = [ImportedFile(sha256=sha256, name=name) for name, sha256 in files.items()]
        body = PictureImportWanted(files=named, instead=instead, trial=trial)
        return self._line.post(f"/v1/apps/{app}/dossier/picture-imports", PictureImportTold, body)

    def fetch_picture(self, sha256: str, to: Path) -> Path:
        """Fetch a file that was put in, or made for a store, whole, into ``to``."""
        self._line.fetch(f"/v1/pictures/{sha256}", to)
        return to

    def questions(self, app: str) -> QuestionsTold:
        """What stores ask about an app, what is answered, what each gets of it, and the ratings that follow."""
        return self._line.get(f"/v1/apps/{app}/dossier/questions", QuestionsTold)

    def answer(
        self, app: str, answers: Mapping[str, Any], *, store: str | None = None, revision: int | None = None
    ) -> QuestionsTold:
        """Answer topics for all stores, or the questions of one alone; None takes an answer out. Raises StaleView when
        ``revision`` is no longer that of the one answer."""
        headers = {"If-Match": f'"{revision}"'} if revision is not None else None
        body = AnswersWanted(answers=dict(answers), store=store)
        return self._line.patch(f"/v1/apps/{app}/dossier/answers", QuestionsTold, body, headers=headers)

    def goods(self, app: str) -> GoodsTold:
        """What is sold inside an app, and what each store gets of it."""
        return self._line.get(f"/v1/apps/{app}/dossier/goods", GoodsTold)

    def write_good(self, app: str, reference: str, good: Good | None, *, revision: int | None = None) -> GoodsTold:
        """Enter a good, or change it, whole; None takes it out. Raises StaleView when ``revision`` is no longer that of it."""
        headers = {"If-Match": f'"{revision}"'} if revision is not None else None
        path = f"/v1/apps/{app}/dossier/goods/{reference}"
        return self._line.put(path, GoodsTold, GoodWanted(good=good), headers=headers)

    def check(
        self,
        app: str,
        texts: Mapping[str, dict[str, str]],
        own: Mapping[str, dict[str, dict[str, str]]] | None = None,
        *,
        pictures: Mapping[str, dict[str, list[str]]] | None = None,
        own_pictures: Mapping[str, dict[str, dict[str, list[str]]]] | None = None,
        answers: Mapping[str, Any] | None = None,
        own_answers: Mapping[str, dict[str, Any]] | None = None,
        goods: Mapping[str, Good] | None = None,
    ) -> list[StoreCheckTold]:
        """What each store would say of texts, pictures, answers and goods that are not at the desk yet; the files of pictures are."""
        body = CheckTextsWanted(
            texts=dict(texts),
            own=dict(own or {}),
            pictures=dict(pictures or {}),
            own_pictures=dict(own_pictures or {}),
            answers=dict(answers or {}),
            own_answers=dict(own_answers or {}),
            goods=dict(goods or {}),
        )
        return self._line.post(f"/v1/apps/{app}/dossier/checks", list[StoreCheckTold], body)

    def fetch_folder(self, app: str, to: Path, *, store: str | None = None) -> Path:
        """Fetch the dossier as a folder in a ZIP archive; with a store, what that store gets."""
        about = f"?{urlencode({'store': store})}" if store else ""
        self._line.fetch(f"/v1/apps/{app}/dossier/folder{about}", to)
        return to

    def check_folder(self, app: str, packed: Path) -> FolderCheckTold:
        """Hold a folder in a ZIP archive against the desk; nothing is written."""
        return self._send_folder(f"/v1/apps/{app}/dossier/folder-checks", FolderCheckTold, packed)

    def take_folder(self, app: str, packed: Path) -> FolderTakenTold:
        """Write at the desk what was changed in a folder in a ZIP archive. Raises Conflict for what both changed."""
        return self._send_folder(f"/v1/apps/{app}/dossier/folders", FolderTakenTold, packed)

    def _send_folder(self, path: str, kind: type[Answer], packed: Path) -> Answer:
        with packed.open("rb") as source:
            return self._line.send_file(path, kind, source, packed.stat().st_size)

    def take_over(self, app: str, store: str) -> TakenOverTold:
        """Take over here the texts, pictures, answers and goods that a store holds and nobody put in here."""
        return self._line.post(f"/v1/apps/{app}/dossier/take-overs", TakenOverTold, TakeOverWanted(store=store))

    def send(self, app: str, *, store: str | None = None) -> list[SendingTold]:
        """Order the texts, pictures, answers and goods that differ to a store or to all. Raises NotReady with what a store would refuse."""
        return self._line.post(f"/v1/apps/{app}/dossier/sendings", list[SendingTold], SendTextsWanted(store=store))
