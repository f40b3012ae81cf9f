"""Documents that answer questions: sent to the desk, to stores, into folders, and back."""

from __future__ import annotations

import hashlib
import io
from contextlib import closing
from pathlib import Path

import httpx
import pytest
from PIL import Image

from restless_tide.cli.exits import Exit
from restless_tide.core.documents import DocumentFormat
from restless_tide.core.errors import Invalid, NotFound, NotReady, StoreRefused, TooLarge
from restless_tide.core.limits import LARGEST_DOCUMENT_BYTES
from restless_tide.demo.processes import HOST
from restless_tide.gateways.clauses import sample_document
from restless_tide.gateways.client import Gateway, read_connection_file
from restless_tide.gateways.protocol import DocumentNamed, DossierAnswersRequest
from restless_tide.wire.dossier import DocumentTold
from tests.harbour import Harbour, until
from tests.patience import OPENLY
from tests.service.test_cli import Terminal
from tests.service.test_questions import asked_by, berth_of, held, question

PDF = sample_document(DocumentFormat.PDF)


@pytest.fixture
def app(harbour: Harbour) -> str:
    """An app that shows what others own, so that Openfield asks for their permission."""
    name = harbour.new_app(dossier=False)
    harbour.tide.dossier.answer(name, {"third-party-content": "allowed"})
    return name


def keep(harbour: Harbour, folder: Path, content: bytes = PDF, name: str = "letter.pdf") -> DocumentTold:
    file = folder / name
    file.write_bytes(content)
    return harbour.tide.dossier.keep_document(file)


def test_a_document_answers_a_question_and_the_store_holds_its_bytes(
    harbour: Harbour, app: str, tmp_path: Path
) -> None:
    told = keep(harbour, tmp_path)
    harbour.tide.dossier.answer(app, {"rights-paper": dict(told)})
    harbour.tide.dossier.send(app, store="openfield")
    until(lambda: question(harbour, app, "openfield", "allowed-by").state, lambda state: state == "accepted")
    assert held(harbour, app, "openfield")["allowed-by"] == dict(told)
    kept = harbour.processes.folder / "openfield" / "files" / told["sha256"]
    assert kept.read_bytes() == PDF
    fetched = harbour.tide.dossier.fetch_document(told["sha256"], tmp_path / "back.pdf")
    assert fetched.read_bytes() == PDF


@pytest.mark.parametrize(
    ("kind", "size", "code"),
    [(DocumentFormat.TEXT, 0, "document-wrong-format"), (DocumentFormat.PDF, 95_000, "document-too-large")],
)
def test_a_document_that_a_store_does_not_take_stops_the_sending(
    harbour: Harbour, app: str, tmp_path: Path, kind: DocumentFormat, size: int, code: str
) -> None:
    content = sample_document(kind).replace(b"endobj", b"endobj\n%" + b"x" * size)
    harbour.tide.dossier.answer(app, {"rights-paper": dict(keep(harbour, tmp_path, content))})
    with pytest.raises(NotReady) as wrong:
        harbour.tide.dossier.send(app, store="openfield")
    assert code in [found.code for found in wrong.value.findings]


def test_a_document_may_be_large_and_a_larger_one_is_refused(harbour: Harbour, tmp_path: Path) -> None:
    line = b"All that we have agreed upon.\n"
    large = line * (LARGEST_DOCUMENT_BYTES // len(line))
    assert keep(harbour, tmp_path, large, "all.txt")["size_bytes"] == len(large)
    with pytest.raises(TooLarge):
        keep(harbour, tmp_path, large + line, "more.txt")


@pytest.mark.parametrize("content", [b"%PDF-1.4 cut", b"\x89PNG\r\n\x1a\n cut off", b"\x00\x00"])
def test_what_is_no_document_is_refused(harbour: Harbour, tmp_path: Path, content: bytes) -> None:
    with pytest.raises(Invalid):
        keep(harbour, tmp_path, content)


def test_an_answer_names_only_documents_that_were_sent(harbour: Harbour, app: str) -> None:
    strange = {"sha256": "0" * 64, "name": "a.pdf", "format": "pdf", "size_bytes": 3}
    with pytest.raises(NotFound, match="was not sent to the desk"):
        harbour.tide.dossier.answer(app, {"rights-paper": strange})
    with pytest.raises(Invalid, match="cannot be"):
        harbour.tide.dossier.answer(app, {"rights-paper": "a.pdf"})


def test_what_an_answer_says_of_a_document_is_what_the_desk_has_read(
    harbour: Harbour, app: str, tmp_path: Path
) -> None:
    told = keep(harbour, tmp_path)
    harbour.tide.dossier.answer(app, {"rights-paper": {**told, "size_bytes": 1, "format": "png"}})
    given = next(one for one in harbour.tide.dossier.questions(app).topics if one.key == "rights-paper")
    assert given.answer == dict(told)


def test_a_document_by_commands_and_in_a_folder(harbour: Harbour, app: str, tmp_path: Path) -> None:
    tide = Terminal(harbour, tmp_path)
    asked = " ".join(tide("dossier", "questions", "--app", app).stdout.split())
    assert f"tide dossier answer rights-paper=@FILE --app {app}" in asked
    wrong = tide("dossier", "answer", "rights-paper=@nothing.pdf", "--app", app)
    assert (wrong.returncode, "There is no file 'nothing.pdf'" in wrong.stderr) == (Exit.REFUSED, True)
    assert "with an @ before it" in tide("dossier", "answer", "rights-paper=letter", "--app", app).stderr
    (tmp_path / "letter.pdf").write_bytes(PDF)
    done = tide("dossier", "answer", "rights-paper=@letter.pdf", "--app", app)
    assert f"rights-paper is answered: letter.pdf ({len(PDF)} B)." in done.stdout
    assert "pdf, png up to 90.0 kB" in " ".join(tide("dossier", "questions", "--app", app, "--store", "openfield").stdout.split())  # fmt: skip

    assert tide("dossier", "fetch", "dossier", "--app", app).returncode == Exit.DONE
    folder = tmp_path / "dossier"
    assert (folder / "documents" / "letter.pdf").read_bytes() == PDF
    before = {one: one.read_bytes() for one in folder.rglob("*") if one.is_file()}
    assert "hold the same" in tide("dossier", "compare", "dossier").stdout
    tide("dossier", "fetch", "dossier")
    assert {one: one.read_bytes() for one in folder.rglob("*") if one.is_file()} == before

    (folder / "documents" / "letter.pdf").write_bytes(PDF + b"% signed\n%%EOF\n")
    assert "answers.toml, rights-paper: changed here" in tide("dossier", "compare", "dossier").stdout
    tide("dossier", "send", "dossier", "--store", "openfield")
    there = held(harbour, app, "openfield")["allowed-by"]
    assert there["sha256"] == hashlib.sha256(PDF + b"% signed\n%%EOF\n").hexdigest()
    (folder / "documents" / "letter.pdf").unlink()
    assert "which is not there" in tide("dossier", "check", "dossier").stderr


def test_a_document_that_someone_gave_at_the_store_is_taken_over_with_its_file(
    harbour: Harbour, tmp_path: Path
) -> None:
    app = harbour.new_app(dossier=False)
    content, berth = PDF + b"% theirs\n%%EOF\n", berth_of(harbour, app, "openfield")
    sha256 = hashlib.sha256(content).hexdigest()
    theirs = DocumentNamed(sha256=sha256, name="theirs.pdf", format=DocumentFormat.PDF, size_bytes=len(content))
    address = f"http://{HOST}:{harbour.processes.ports.stores['openfield']}"
    connection = httpx.post(f"{address}/control/connections", json={}, **OPENLY).text
    with closing(Gateway(read_connection_file(connection), name="another tool")) as other:
        unknown = DossierAnswersRequest(answers={"others-work": "allowed", "allowed-by": theirs})
        with pytest.raises(StoreRefused, match="upload it"):
            other.write_answers(berth, unknown, f"{app}-1")
        upload = other.send_package(berth, io.BytesIO(content), len(content), f"{app}-2")
        other.write_answers(berth, unknown.model_copy(update={"uploads": {sha256: upload}}), f"{app}-3")
    until(lambda: asked_by(harbour, app, "openfield").unwritten, lambda count: count == 2)
    assert harbour.tide.dossier.take_over(app, "openfield").answers == 2
    assert harbour.tide.dossier.fetch_document(sha256, tmp_path / "theirs.pdf").read_bytes() == content
    assert question(harbour, app, "openfield", "allowed-by").state == "accepted"


def test_a_picture_is_a_document_only_whole(harbour: Harbour, tmp_path: Path) -> None:
    file = tmp_path / "stamp.png"
    Image.new("RGB", (40, 30), "teal").save(file)
    assert harbour.tide.dossier.keep_document(file)["format"] == "png"
    file.write_bytes(file.read_bytes()[:60])
    with pytest.raises(Invalid, match=r"stamp\.png"):
        harbour.tide.dossier.keep_document(file)
