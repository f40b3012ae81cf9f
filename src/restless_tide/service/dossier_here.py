"""What a dossier folder asks of a desk, answered by the desk of this service itself, in a person's name."""

from __future__ import annotations

import shutil
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from restless_tide.core.good import Good
from restless_tide.desk import app_answers, app_goods, app_pictures, documents, dossiers, find, texts
from restless_tide.desk.desk import Desk
from restless_tide.records.digest_files import digest_of
from restless_tide.service import shown_dossier, shown_goods, shown_pictures, shown_questions
from restless_tide.wire.dossier import DocumentTold, QuestionsTold, StoreCheckTold, TextsTold
from restless_tide.wire.goods import GoodsTold
from restless_tide.wire.pictures import PictureFileTold, PicturesTold


class DossierHere:
    """The dossiers of this desk, for one person."""

    def __init__(self, desk: Desk, person: str) -> None:
        self._desk, self._person = desk, person

    def texts(self, app: str) -> TextsTold:
        with self._desk.look() as session:
            return shown_dossier.texts_of(session, find.app(session, app))

    def pictures(self, app: str) -> PicturesTold:
        with self._desk.look() as session:
            return shown_pictures.pictures_of(session, find.app(session, app))

    def questions(self, app: str) -> QuestionsTold:
        with self._desk.look() as session:
            return shown_questions.questions_of(session, find.app(session, app), self._desk.clock.now())

    def goods(self, app: str) -> GoodsTold:
        with self._desk.look() as session:
            return shown_goods.goods_of(session, find.app(session, app))

    def keep_picture(self, file: Path) -> PictureFileTold:
        part = self._part(file)
        try:
            return shown_pictures.file(app_pictures.keep_file(self._desk, self._person, part, digest_of(part)))
        finally:
            part.unlink(missing_ok=True)

    def keep_document(self, file: Path) -> DocumentTold:
        part = self._part(file)
        try:
            return shown_questions.document(documents.keep_file(self._desk, self._person, part, file.name))
        finally:
            part.unlink(missing_ok=True)

    def _part(self, file: Path) -> Path:
        part = self._desk.dossier_files.part()
        shutil.copyfile(file, part)
        return part

    def fetch_picture(self, sha256: str, to: Path) -> Path:
        _, place = app_pictures.known_file(self._desk, sha256)
        return Path(shutil.copyfile(place, to))

    def fetch_document(self, sha256: str, to: Path) -> Path:
        _, place = documents.place_of(self._desk, sha256)
        return Path(shutil.copyfile(place, to))

    def write(
        self, app: str, locale: str, wanted: Mapping[str, str], *, store: str | None, revision: int | None
    ) -> None:
        with self._desk.act(self._person) as act:
            texts.write(act, app, locale, dict(wanted), store, revision)

    def put_pictures(
        self, app: str, locale: str, key: str, pictures: Sequence[str], *, store: str | None, revision: int | None
    ) -> None:
        with self._desk.act(self._person) as act:
            app_pictures.put(act, app, locale, key, list(pictures), store, revision)

    def answer(self, app: str, answers: Mapping[str, Any], *, store: str | None, revision: int | None) -> None:
        with self._desk.act(self._person) as act:
            app_answers.answer(act, app, answers, store, revision)

    def write_good(self, app: str, reference: str, good: Good | None, *, revision: int | None) -> None:
        with self._desk.act(self._person) as act:
            app_goods.write(act, app, reference, good, revision)

    def check(
        self,
        app: str,
        common: Mapping[str, dict[str, str]],
        own: Mapping[str, dict[str, dict[str, str]]],
        *,
        pictures: Mapping[str, dict[str, list[str]]],
        own_pictures: Mapping[str, dict[str, dict[str, list[str]]]],
        answers: Mapping[str, Any],
        own_answers: Mapping[str, dict[str, Any]],
        goods: Mapping[str, Good],
    ) -> list[StoreCheckTold]:
        now = self._desk.clock.now()
        with self._desk.look() as session:
            found = dossiers.check(session, app, now, common, own, pictures, own_pictures, answers, own_answers, goods)
            return [shown_dossier.checked(one) for one in found]
