"""A dossier folder on disk: read with every mistake named by its file, written so that what a person wrote stays.

Comments and the order of lines are kept where a file is there already; a file is touched only when something in it changes.
"""

from __future__ import annotations

import hashlib
import re
import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any

import tomlkit
from pydantic import TypeAdapter, ValidationError
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import String

from restless_tide.core.answer_checks import answer_at
from restless_tide.core.answer_shapes import plain
from restless_tide.core.documents import FileAnswer, read_document
from restless_tide.core.dossier_folder import (
    AGREED_FILE,
    ANSWERS,
    ANSWERS_FILE,
    DOCUMENTS_FOLDER,
    FOLDER_FILE,
    GOODS_FOLDER,
    NO_LOCALE,
    PICTURES_FOLDER,
    STORES_FOLDER,
    TEXTS_FOLDER,
    Answers,
    Fields,
    FolderFile,
    GoodFile,
    NamedFile,
    Place,
    StoreFile,
    format_named,
    format_of,
    in_order,
    name_order,
    unwritten,
    written,
    written_good,
)
from restless_tide.core.errors import Invalid, TooLarge
from restless_tide.core.good import Good, price_text, reference_of
from restless_tide.core.goods import good_at
from restless_tide.core.limits import LARGEST_FILM_BYTES, LONGEST_TEXT
from restless_tide.core.locales import locale_of
from restless_tide.core.picture_sets import pictures_place
from restless_tide.core.texts import text_at
from restless_tide.wire.base import Text

LARGEST_FILE_BYTES = 8_000_000
_HEAD = "# What stores ask about {app}, beside its source. docs/dossier.md explains the folder.\n"
_AGREED_HEAD = "# Kept by tide: how each text and answer was when the desk and this folder last agreed. Do not change it by hand.\n"
_FIELDS, _STORE, _TEXT, _ANSWERS = TypeAdapter(Fields), TypeAdapter(StoreFile), TypeAdapter(Text), TypeAdapter(Answers)
_STORES_ANSWERS, _STORES_PICTURES = "stores-answers", "stores-pictures"


def file_digest(file: Path) -> str:
    """The SHA-256 of a file."""
    with file.open("rb") as source:
        return hashlib.file_digest(source, "sha256").hexdigest()


class DossierFolder:
    """The folder of one app at ``path``."""

    def __init__(self, path: Path) -> None:
        self.path = path

    @property
    def exists(self) -> bool:
        return (self.path / FOLDER_FILE).is_file()

    def app(self) -> str:
        """The app that the folder is about. Raises Invalid where there is no dossier folder."""
        file = self.path / FOLDER_FILE
        if not file.is_file():
            raise Invalid(
                f"{self.path} is no dossier folder: {FOLDER_FILE} is missing.",
                remedy="Make one with: tide dossier fetch FOLDER --app APP",
                code="folder-unfit",
            )
        about: FolderFile = self._said_in(file, FolderFile)
        return about.app

    def begin(self, app: str) -> None:
        """Make the folder, where it is not there. Raises Invalid for one of another app."""
        if self.exists:
            if self.app() != app:
                raise Invalid(f"{self.path} is the folder of {self.app()}, not of {app}.", code="folder-unfit")
            return
        self.path.mkdir(parents=True, exist_ok=True)
        text = _HEAD.format(app=app) + tomlkit.dumps({"format": 1, "app": app})
        (self.path / FOLDER_FILE).write_text(text, encoding="utf-8")

    def texts(self) -> dict[Place, str]:
        """Every text of the folder. Raises Invalid naming the file of each mistake."""
        found: dict[Place, str] = {}
        files: dict[tuple[str | None, str], Path] = {}
        for file, store, locale, fields in self._all():
            before = files.setdefault((store, locale), file)
            if before != file:
                raise Invalid(
                    f"{before.relative_to(self.path)} and {file.relative_to(self.path)} are both about {locale}.",
                    remedy="Put them into one file.",
                    code="folder-unfit",
                )
            for field, text in fields.items():
                place = Place(locale, field, store)
                if place in found:
                    raise Invalid(
                        f"{file.relative_to(self.path)} names {field} for {locale} twice.",
                        remedy="Keep one of the two.",
                        code="folder-unfit",
                    )
                found[place] = self._fit(file, field, text)
        return {place: text for place, text in found.items() if text} | self._sets() | self._answers() | self._goods()

    def _goods(self) -> dict[Place, str]:
        """Every good of the folder."""
        return {place: written_good(self._good(file)) for place, file in self._good_files()}

    def _good_files(self) -> Iterator[tuple[Place, Path]]:
        for file in sorted((self.path / GOODS_FOLDER).glob("*.toml")):
            yield Place(NO_LOCALE, self._reference(file), is_good=True), file

    def _good(self, file: Path) -> Good:
        said: GoodFile = self._said_in(file, GoodFile)
        picture = file.with_name(said.picture) if said.picture is not None else None
        if picture is not None and not picture.is_file():
            raise Invalid(
                f"{file.relative_to(self.path)} names {said.picture}, which is not there.", code="folder-unfit"
            )
        return Good(**{**said.model_dump(), "picture": file_digest(picture) if picture is not None else None})

    def good_picture(self, place: Place) -> Path | None:
        """The picture of a good."""
        file = self._file(place)
        said: GoodFile = self._said_in(file, GoodFile)
        return file.with_name(said.picture) if said.picture is not None else None

    def write_good(self, place: Place, good: Good | None, picture: tuple[str, Path] | None) -> None:
        """Have a good be this one; its picture, with its format, is moved here. None takes it out."""
        file = self._file(place)
        before = self.good_picture(place) if file.is_file() else None
        if good is None:
            file.unlink(missing_ok=True)
            if before is not None:
                before.unlink(missing_ok=True)
            return
        file.parent.mkdir(parents=True, exist_ok=True)
        told = good.model_dump(mode="json", exclude_defaults=True, exclude={"picture"})
        told["price"] = price_text(good.price)
        if picture is not None:
            target = file.with_name(f"{place.field}.{picture[0]}")
            if before is not None and before != target:
                before.unlink(missing_ok=True)
            shutil.move(picture[1], target)
            told["picture"] = target.name
        document = _document(file)
        for name in [name for name in document if name not in told]:
            del document[name]
        for name, value in told.items():
            if name not in document or document[name] != value:
                document[name] = value
        file.write_text(tomlkit.dumps(document), encoding="utf-8")

    def _sets(self) -> dict[Place, str]:
        """Every set of pictures: the digests of its files, a line each."""
        return {
            place: "\n".join(file_digest(file) for file in files)
            for place, files in ((place, self.pictures(place)) for place in self._set_places())
            if files
        }

    def _set_places(self) -> Iterator[Place]:
        stores: list[tuple[str | None, Path]] = [(None, self.path / PICTURES_FOLDER)]
        stores += [(folder.name, folder) for folder in sorted((self.path / STORES_FOLDER).glob("*")) if folder.is_dir()]
        for store, folder in stores:
            for locale_folder in sorted(folder.glob("*/*")):
                if locale_folder.is_dir():
                    locale = self._locale(locale_folder, locale_folder.name)
                    yield Place(locale, locale_folder.parent.name, store, is_set=True)

    def pictures(self, place: Place) -> list[Path]:
        """The files of a set in the order of their names. Raises Invalid naming each mistake."""
        folder = self._file(place)
        files = [file for file in folder.glob("*") if file.is_file() and not file.name.startswith(".")]
        files.sort(key=lambda file: name_order(file.name))
        stems: dict[str, Path] = {}
        for file in files:
            name = file.relative_to(self.path).as_posix()
            other = stems.setdefault(file.stem, file)
            if other is not file:
                raise Invalid(
                    f"{name} and {other.name} have the same place in their order.",
                    remedy="Give one of them another number.",
                    code="folder-unfit",
                )
            if file.stat().st_size > LARGEST_FILM_BYTES:
                raise Invalid(f"{name} is larger than {LARGEST_FILM_BYTES:,} bytes.", code="folder-unfit")
            with file.open("rb") as source:
                kind = format_of(source.read(16))
            if not kind:
                raise Invalid(f"{name} is no picture and no film that is known here.", code="folder-unfit")
            if kind != format_named(file.suffix):
                raise Invalid(
                    f"{name} is written as {kind}, and its name says {file.suffix or 'nothing'}.",
                    remedy=f"Rename it: {file.stem}.{kind}",
                    code="folder-unfit",
                )
        return files

    def write_set(self, place: Place, files: Sequence[tuple[str, Path]]) -> None:
        """Have a set be these files, each with its format; they are moved here. Without any, the set is taken out."""
        folder = self._file(place)
        for file in self.pictures(place):
            file.unlink()
        if files:
            folder.mkdir(parents=True, exist_ok=True)
        for at, (kind, file) in enumerate(files, 1):
            shutil.move(file, folder / f"{at:02}.{kind}")
        if not files and folder.is_dir() and not any(folder.iterdir()):
            folder.rmdir()

    def _answers(self) -> dict[Place, str]:
        """Every answer of the folder, those for one store among them."""
        file, found = self.path / ANSWERS_FILE, dict[Place, str]()
        if file.is_file():
            shared = self._said_in(file, _ANSWERS)
            found |= {Place(NO_LOCALE, key): self._said(file, answer) for key, answer in shared.items()}
        for file in sorted((self.path / STORES_FOLDER).glob("*.toml")):
            own = self._said_in(file, _STORE).answers
            found |= {Place(NO_LOCALE, key, file.stem): self._said(file, answer) for key, answer in own.items()}
        return found

    def _said(self, file: Path, answer: Any) -> str:
        """An answer of a file as one text; of a document what it is. Raises Invalid for one that is not there, or is none."""
        if not isinstance(answer, NamedFile):
            return written(answer)
        place = self.path / answer.file
        if ".." in place.parts or not place.is_file():
            raise Invalid(
                f"{file.relative_to(self.path)} names {answer.file}, which is not there.", code="folder-unfit"
            )
        try:
            return written(plain(read_document(place, place.name)))
        except (Invalid, TooLarge) as wrong:
            raise Invalid(f"{answer.file}: {wrong.detail}", remedy=wrong.remedy, code="folder-unfit") from None

    def documents(self) -> dict[Place, Path]:
        """Where the file of each answer lies that is a document."""
        files: list[tuple[str | None, Path]] = [(None, self.path / ANSWERS_FILE)]
        files += [(file.stem, file) for file in sorted((self.path / STORES_FOLDER).glob("*.toml"))]
        return {
            Place(NO_LOCALE, key, store): self.path / answer.file
            for store, file in files
            if file.is_file()
            for key, answer in self._answers_of(file, store).items()
            if isinstance(answer, NamedFile)
        }

    def _answers_of(self, file: Path, store: str | None) -> Mapping[str, Any]:
        found: Answers = self._said_in(file, _ANSWERS) if store is None else self._said_in(file, _STORE).answers
        return found

    def write_document(self, place: Place, answer: FileAnswer, file: Path) -> None:
        """Have an answer be this document; its file is moved here. One that nothing else names goes."""
        others = {path for other, path in self.documents().items() if other != place}
        before = self.documents().get(place)
        target = self.path / DOCUMENTS_FOLDER / answer.name
        if target in others or (target.exists() and target != before and file_digest(target) != answer.sha256):
            target = self.path / DOCUMENTS_FOLDER / "-".join(filter(None, (place.store, place.field))) / answer.name
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.move(file, target)
        if before is not None and before != target and before not in others:
            before.unlink(missing_ok=True)
        document = _document(self._file(place))
        named = tomlkit.inline_table()
        named["file"] = target.relative_to(self.path).as_posix()
        self._table(document, place)[place.field] = named
        self._file(place).parent.mkdir(parents=True, exist_ok=True)
        self._file(place).write_text(tomlkit.dumps(document), encoding="utf-8")

    def _all(self) -> Iterator[tuple[Path, str | None, str, Mapping[str, str]]]:
        for file in sorted((self.path / TEXTS_FOLDER).glob("*.toml")):
            yield file, None, self._locale(file, file.stem), self._said_in(file, _FIELDS)
        for file in sorted((self.path / STORES_FOLDER).glob("*.toml")):
            for locale, fields in self._said_in(file, _STORE).texts.items():
                yield file, file.stem, self._locale(file, locale), fields

    def _locale(self, file: Path, name: str) -> str:
        return self._named(file, name, locale_of)

    def _reference(self, file: Path) -> str:
        return self._named(file, file.stem, reference_of)

    def _named(self, file: Path, name: str, read: Callable[[str], str]) -> str:
        try:
            return read(name)
        except Invalid as wrong:
            raise Invalid(
                f"{file.relative_to(self.path)}: {wrong.detail}", remedy=wrong.remedy, code=wrong.code
            ) from None

    def _fit(self, file: Path, field: str, text: str) -> str:
        try:
            return _TEXT.validate_python(text)
        except ValidationError as wrong:
            told = wrong.errors()[0]["msg"].removeprefix("Value error, ")
            raise Invalid(f"{file.relative_to(self.path)}, {field}: {told}.", code="folder-unfit") from None

    def agreed(self) -> dict[Place, str]:
        """The digest of each text as both sides last agreed on it."""
        file = self.path / AGREED_FILE
        if not file.is_file():
            return {}
        held, found = self._read(file), dict[Place, str]()
        found |= {Place(NO_LOCALE, key): str(digest) for key, digest in held.get(ANSWERS, {}).items()}
        for store, answers in held.get(_STORES_ANSWERS, {}).items():
            found |= {Place(NO_LOCALE, key, store): str(digest) for key, digest in answers.items()}
        for locale, classes in held.get(PICTURES_FOLDER, {}).items():
            found |= {Place(locale, key, None, True): str(digest) for key, digest in classes.items()}
        found |= {
            Place(NO_LOCALE, key, is_good=True): str(digest) for key, digest in held.get(GOODS_FOLDER, {}).items()
        }
        for store, locales in held.get(_STORES_PICTURES, {}).items():
            for locale, classes in locales.items():
                found |= {Place(locale, key, store, True): str(digest) for key, digest in classes.items()}
        for locale, fields in held.get(TEXTS_FOLDER, {}).items():
            found |= {Place(locale, field): str(digest) for field, digest in fields.items()}
        for store, locales in held.get(STORES_FOLDER, {}).items():
            for locale, fields in locales.items():
                found |= {Place(locale, field, store): str(digest) for field, digest in fields.items()}
        return found

    def write(self, texts: Mapping[Place, str], order: Sequence[str] = ()) -> None:
        """Write these texts and answers, no sets; an empty one is taken out. ``order`` is the sequence of the fields in a new file."""
        for place, text in texts.items():
            if place.is_answer and not text and (gone := self.documents().get(place)) is not None:
                gone.unlink(missing_ok=True)
        for file in sorted({self._file(place) for place in texts}):
            document = _document(file)
            wanted = {place: text for place, text in texts.items() if self._file(place) == file}
            rank = {field: at for at, field in enumerate(order)}
            for place in sorted(
                wanted, key=lambda place: (place.locale, rank.get(place.field, len(rank)), place.field)
            ):
                table = self._table(document, place)
                if wanted[place] and place.is_answer:
                    table[place.field] = unwritten(wanted[place])
                elif wanted[place]:
                    table[place.field] = _string(wanted[place])
                else:
                    table.pop(place.field, None)
            file.parent.mkdir(parents=True, exist_ok=True)
            if _is_empty(document):
                file.unlink(missing_ok=True)
            else:
                file.write_text(tomlkit.dumps(document), encoding="utf-8")

    def _table(self, document: Any, place: Place) -> Any:
        """Where in its file a text or an answer stands."""
        if place.store is None:
            return document
        return _inner(document, ANSWERS) if place.is_answer else _inner(document, TEXTS_FOLDER, place.locale)

    def agree(self, digests: Mapping[Place, str]) -> None:
        """Keep how each text was when both sides last agreed, by its digest; an empty one is not kept."""
        held: dict[str, Any] = {}
        for place in sorted(digests, key=in_order):
            if not digests[place]:
                continue
            area = (ANSWERS, _STORES_ANSWERS) if place.is_answer else (TEXTS_FOLDER, STORES_FOLDER)
            area = (PICTURES_FOLDER, _STORES_PICTURES) if place.is_set else area
            area = (GOODS_FOLDER, GOODS_FOLDER) if place.is_good else area
            table = held.setdefault(area[place.store is not None], {})
            if place.store is not None:
                table = table.setdefault(place.store, {})
            if place.locale != NO_LOCALE:
                table = table.setdefault(place.locale, {})
            table[place.field] = digests[place]
        text = _AGREED_HEAD + tomlkit.dumps(held)
        file = self.path / AGREED_FILE
        if not file.is_file() or file.read_text(encoding="utf-8") != text:
            file.write_text(text, encoding="utf-8")

    def meant(
        self, place: str, store: str, means: Mapping[str, str], shows: Mapping[str, str], topics: Mapping[str, str]
    ) -> str:
        """The file and the line that a finding of a store is about, or the folder of a set; its place as it is where that
        is none of them.

        ``means``, ``shows`` and ``topics`` lead from the store's own fields, classes of pictures and questions to those
        that all stores share.
        """
        about, question, pictures = text_at(place), answer_at(place), pictures_place(place)
        if (reference := good_at(place)) is not None:
            return Place(NO_LOCALE, reference, is_good=True).told()
        if pictures is not None:
            locale, key = pictures
            mine, common = Place(locale, key, store, True), Place(locale, shows.get(key, key), None, True)
            return (mine if mine in self._here or key not in shows else common).told()
        if about is not None:
            locale, field = about
            own, shared = Place(locale, field, store), means.get(field, field)
        elif question is not None:
            own, shared = Place(NO_LOCALE, question, store), topics.get(question, question)
        else:
            return place
        common = Place(own.locale, shared)
        alone = own.field not in (topics if own.is_answer else means) and common not in self._here
        return self.where(own if alone or own in self._here else common)

    @cached_property
    def _here(self) -> dict[Place, str]:
        return self.texts()

    def where(self, place: Place) -> str:
        """The file and the line of a text, such as ``texts/en.toml:3``; the file alone where it is not there."""
        inner = ANSWERS if place.is_answer else f"{TEXTS_FOLDER}.{place.locale}"
        file, table, wanted = self._file(place), "", inner if place.store else ""
        name = file.relative_to(self.path).as_posix()
        if not file.is_file():
            return name
        for number, line in enumerate(file.read_text(encoding="utf-8").splitlines(), 1):
            header = re.match(r"\s*\[([^\[\]]+)\]", line)
            table = header.group(1).replace('"', "").strip() if header else table
            if header and place.is_answer and table == ".".join(filter(None, (wanted, place.field))):
                return f"{name}:{number}"
            if table == wanted and re.match(rf"\s*{re.escape(place.field)}\s*=", line):
                return f"{name}:{number}"
        return name

    def _file(self, place: Place) -> Path:
        if place.is_set or place.is_good:
            return self.path / place.told()
        if place.store is None and place.is_answer:
            return self.path / ANSWERS_FILE
        if place.store is None:
            known = [
                file for file in (self.path / TEXTS_FOLDER).glob("*.toml") if file.stem.lower() == place.locale.lower()
            ]
            return known[0] if known else self.path / TEXTS_FOLDER / f"{place.locale}.toml"
        return self.path / STORES_FOLDER / f"{place.store}.toml"

    def _read(self, file: Path) -> dict[str, Any]:
        """The TOML of a file. Raises Invalid naming the file within the folder."""
        name = file.relative_to(self.path)
        if file.stat().st_size > LARGEST_FILE_BYTES:
            raise Invalid(f"{name} is larger than {LARGEST_FILE_BYTES:,} bytes.", code="folder-unfit")
        try:
            return tomlkit.parse(file.read_text(encoding="utf-8")).unwrap()
        except (TOMLKitError, ValueError, RecursionError) as wrong:
            raise Invalid(f"{name} is no TOML in UTF-8: {wrong}", code="folder-unfit") from None

    def _said_in(self, file: Path, kind: Any) -> Any:
        """What a file says, as ``kind`` reads it. Raises Invalid with each mistake."""
        held = self._read(file)
        try:
            return kind.validate_python(held) if isinstance(kind, TypeAdapter) else kind.model_validate(held)
        except ValidationError as wrong:
            told = "; ".join(
                f"{'.'.join(map(str, error['loc'])) or 'the file'}: {error['msg'].removeprefix('Value error, ')}"
                for error in wrong.errors()[:5]
            )
            raise Invalid(
                f"{file.relative_to(self.path)}: {told}.",
                remedy=f"docs/dossier.md explains the folder; a text has {LONGEST_TEXT:,} characters at most.",
                code="folder-unfit",
            ) from None


def _is_empty(document: Mapping[str, Any]) -> bool:
    """Whether a file holds no text any more."""
    return all(isinstance(value, Mapping) and _is_empty(value) for value in document.values())


def _document(file: Path) -> tomlkit.TOMLDocument:
    return tomlkit.parse(file.read_text(encoding="utf-8")) if file.is_file() else tomlkit.document()


def _inner(document: Any, *keys: str) -> Any:
    for key in keys:
        if key not in document:
            document[key] = tomlkit.table(is_super_table=key == TEXTS_FOLDER)
        document = document[key]
    return document


def _string(text: str) -> String:
    """In lines where it has lines; a text that such a form would change stays in one."""
    lines = "\n" in text and not text.startswith("\n")
    return tomlkit.string(text, multiline=lines)
