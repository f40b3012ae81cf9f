"""Lists of testers: however they are written, every row comes out with what becomes of it."""

from __future__ import annotations

import csv
import io

import pytest
from hypothesis import given
from hypothesis.strategies import lists, sampled_from, text

from restless_tide.core.errors import Invalid
from restless_tide.core.testers import RowKind, lookalike, plain_cell, read_testers, safe_cell, write_csv
from restless_tide.desk.addresses import mail_address


def kinds(content: bytes, **wish: object) -> list[tuple[str, str]]:
    return [(row.address or row.raw, str(row.kind)) for row in read_testers(content, mail_address, **wish).rows]  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("content", "encoding", "delimiter"),
    [
        (b"address,name\na@example.org,Zo\xc3\xab\n", "UTF-8", "comma"),
        (b"\xef\xbb\xbfaddress;name\r\na@example.org;Zo\xc3\xab\r\n", "UTF-8", "semicolon"),
        ("address\tname\na@example.org\tZoë\n".encode("utf-16"), "UTF-16", "tab"),
        (b"address|name\na@example.org|Zo\xeb\n", "Windows-1252", "bar"),
    ],
)
def test_a_list_is_read_whatever_its_encoding_and_delimiter(content: bytes, encoding: str, delimiter: str) -> None:
    sheet = read_testers(content, mail_address)
    assert (sheet.encoding, sheet.delimiter) == (encoding, delimiter)
    assert [(row.address, row.name) for row in sheet.rows] == [("a@example.org", "Zoë")]
    assert bool(sheet.said) == (encoding == "Windows-1252")


@pytest.mark.parametrize(
    ("header", "columns"),
    [
        ("E-Mail;Vorname;Nachname", {"address": "E-Mail", "name": "Vorname and Nachname"}),
        ("Full Name,Email Address", {"address": "Email Address", "name": "Full Name"}),
        ("mail,platform,language,tags,device", {"address": "mail", "platforms": "platform", "languages": "language"}),
    ],
)
def test_headers_are_known_in_other_words(header: str, columns: dict[str, str]) -> None:
    cells = "a@example.org" if header.lower().startswith(("e-mail", "mail")) else "Ada,a@example.org"
    sheet = read_testers(f"{header}\n{cells}\n".encode(), mail_address)
    assert columns.items() <= sheet.columns.items()


def test_every_row_says_what_becomes_of_it() -> None:
    content = (
        b"address,name,platform\nnew@example.org,New,ios\nknown@example.org,Known,\nin@example.org,In,\n"
        b"NEW@Example.org,Again,\nnot an address,Bad,\n,Nobody,\nodd@example.org,Odd,toaster\n"
        b"n.e.w@example.org,Alike,\n"
    )
    sheet = read_testers(
        content, mail_address, known=["known@example.org", "in@example.org"], already=["in@example.org"]
    )
    assert [row.kind for row in sheet.rows] == [
        RowKind.NEW, RowKind.KNOWN, RowKind.ALREADY, RowKind.TWICE, RowKind.BAD, RowKind.BAD, RowKind.BAD, RowKind.NEW,
    ]  # fmt: skip
    said = {row.line: row.said for row in sheet.rows}
    assert said[5] == "the same address as on line 2"
    assert "no mail address" in said[6]
    assert said[7] == "no address"
    assert "'toaster' is no platform" in said[8]
    assert said[9] == "perhaps the same person as new@example.org on line 2"


def test_a_list_without_a_header_and_one_with_quoted_lines_are_read() -> None:
    assert kinds(b"Ada Lovell,ada@example.org\nBo,bo@example.org\n") == [
        ("ada@example.org", "new"),
        ("bo@example.org", "new"),
    ]
    sheet = read_testers(b'address,name\n"a@example.org","Two\r\nlines"\nb@example.org,"Says ""hi"""\n', mail_address)
    assert [(row.line, row.name) for row in sheet.rows] == [(2, "Two\r\nlines"), (4, 'Says "hi"')]


def test_a_column_can_be_named_by_header_or_number() -> None:
    content = b"who,where\nAda,ada@example.org\n"
    for where in ("where", "WHERE", "2"):
        assert read_testers(content, mail_address, mapping={"address": where}).rows[0].address == "ada@example.org"
    with pytest.raises(Invalid, match="no column 'nowhere'"):
        read_testers(content, mail_address, mapping={"address": "nowhere"})
    with pytest.raises(Invalid, match="has no 'colour'"):
        read_testers(content, mail_address, mapping={"colour": "who"})


@pytest.mark.parametrize(
    ("content", "complaint"),
    [
        (b"", "empty"),
        (b"\n \n", "empty"),
        (b"PK\x03\x04\0\0\0", "no text file"),
        (b"name,town\nAda,Coast\n", "No column"),
        (b"a" * (10 * 1024 * 1024), "bytes"),
        (b"address\n" + b"x" * 100_000, "Line 2 has 100000"),
        (b"address" + b"," * 60_000 + b"\na@example.org\n", "columns"),
        (b"\xff\xfea\0\xd8", "says that it is"),
        (b"address\n" + b"a@example.org\n" * 50_001, "rows"),
    ],
)
def test_what_is_no_list_is_refused_as_a_whole(content: bytes, complaint: str) -> None:
    with pytest.raises(Invalid, match=complaint):
        read_testers(content, mail_address)


@pytest.mark.parametrize("cell", ["=1+1", "+49 30", "-5", "@name", "\tx", "plain", "'quoted", ""])
def test_no_cell_is_a_formula_and_every_cell_comes_back(cell: str) -> None:
    assert not safe_cell(cell).startswith(("=", "+", "-", "@", "\t"))
    assert plain_cell(safe_cell(cell)) == cell


@given(lists(lists(text(max_size=12), min_size=2, max_size=2), max_size=8))
def test_what_is_written_is_read_back_by_any_reader_of_csv(rows: list[list[str]]) -> None:
    written = write_csv(("one", "other"), rows)
    assert list(csv.reader(io.StringIO(written, newline=""))) == [
        ["one", "other"],
        *([safe_cell(cell) for cell in row] for row in rows),
    ]


@given(lists(sampled_from("abc@.+,;\"'\n\t=\x00ä"), max_size=60).map("".join))
def test_whatever_is_in_a_file_it_is_read_or_refused_with_a_reason(content: str) -> None:
    try:
        rows = read_testers(content.encode(), mail_address).rows
    except Invalid:
        rows = ()
    for row in rows:
        assert (row.kind is RowKind.BAD) == (not row.address)
        assert row.said or row.kind is RowKind.NEW


def test_addresses_that_look_alike_are_only_hinted_at() -> None:
    assert lookalike("A.da+test@Example.org") == lookalike("ada@example.org") != lookalike("ada@example.net")
