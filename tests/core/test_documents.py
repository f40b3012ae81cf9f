"""Documents that answer questions: what is one, and what stands against one."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from restless_tide.core.answer_checks import against_answers
from restless_tide.core.answer_shapes import plain, read_answer, shape_of_topic, thawed, worded
from restless_tide.core.answers import AnswersAt
from restless_tide.core.documents import DocumentFormat, FileAnswer, document_name, read_document
from restless_tide.core.dossier_folder import unwritten, written
from restless_tide.core.errors import Invalid, TooLarge
from restless_tide.core.limits import LARGEST_DOCUMENT_BYTES
from restless_tide.core.rulebook import read_rulebook
from restless_tide.gateways.clauses import sample_document
from restless_tide.standins.__main__ import RULEBOOKS

OPENFIELD = read_rulebook((RULEBOOKS / "openfield.toml").read_text(encoding="utf-8"))
LETTER = FileAnswer("0" * 64, "letter.pdf", DocumentFormat.PDF, 2_400)


@pytest.mark.parametrize("kind", list(DocumentFormat))
def test_a_document_is_known_by_its_content_whatever_its_name_says(kind: DocumentFormat, tmp_path: Path) -> None:
    file = tmp_path / "file"
    file.write_bytes(sample_document(kind))
    found = read_document(file, "letter.bin")
    assert (found.format, found.name, found.size_bytes) == (kind, "letter.bin", file.stat().st_size)


@pytest.mark.parametrize(
    ("content", "told"),
    [
        (b"%PDF-1.4\nnothing more", "cut off"),
        (b"\x00\x01\x02", "no document that stores take"),
        (b"\xff\xfe w i d e", "no document that stores take"),
        (b"", "no document that stores take"),
        (b" \n ", "no document that stores take"),
        (b"PK\x03\x04 an archive \xe9", "no document that stores take"),
    ],
)
def test_what_is_no_document_is_refused(content: bytes, told: str, tmp_path: Path) -> None:
    file = tmp_path / "file"
    file.write_bytes(content)
    with pytest.raises(Invalid, match=told):
        read_document(file, "letter.pdf")


def test_a_document_has_so_many_bytes_at_most(tmp_path: Path) -> None:
    file = tmp_path / "file"
    with file.open("wb") as out:
        out.truncate(LARGEST_DOCUMENT_BYTES + 1)
    with pytest.raises(TooLarge, match="20,000,000 at most"):
        read_document(file, "letter.txt")


@pytest.mark.parametrize("name", ["", "../letter.pdf", "a\\b", ".hidden", "two\nlines", " x", "x" * 121])
def test_a_document_has_a_name_that_a_folder_can_hold(name: str) -> None:
    with pytest.raises(Invalid, match="no name of a document"):
        document_name(name)


def test_a_document_is_an_answer_that_goes_through_json_and_a_folder() -> None:
    assert thawed(plain(LETTER)) == LETTER
    assert thawed(unwritten(written(plain(LETTER)))) == LETTER
    assert worded(shape_of_topic("rights-paper"), LETTER) == "letter.pdf (2.4 kB)"
    assert read_answer(shape_of_topic("rights-paper"), plain(LETTER), "it") == LETTER


@pytest.mark.parametrize(
    "value",
    [
        "letter.pdf",
        {"sha256": "0" * 64},
        plain(LETTER) | {"sha256": "short"},
        plain(LETTER) | {"format": "docx"},
        plain(LETTER) | {"name": "a/b"},
    ],
)
def test_what_names_no_document_is_refused(value: object) -> None:
    with pytest.raises(Invalid):
        read_answer(shape_of_topic("rights-paper"), value, "rights-paper")


@pytest.mark.parametrize(
    ("answer", "codes"),
    [
        (LETTER, []),
        (replace(LETTER, format=DocumentFormat.TEXT), ["document-wrong-format"]),
        (replace(LETTER, size_bytes=90_001), ["document-too-large"]),
    ],
)
def test_a_store_says_which_documents_it_takes(answer: FileAnswer, codes: list[str]) -> None:
    given = AnswersAt(common={"rights-paper": answer})
    assert [found.code for found in against_answers(OPENFIELD, given, ["allowed-by"])] == codes


def test_only_what_is_answered_by_a_document_has_formats() -> None:
    text = (RULEBOOKS / "openfield.toml").read_text(encoding="utf-8")
    with pytest.raises(Invalid, match="has formats"):
        read_rulebook(text.replace('means = "advertising"', 'means = "advertising"\nformats = ["pdf"]'))
