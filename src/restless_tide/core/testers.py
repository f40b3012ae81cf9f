"""Lists of testers: read from CSV as people's programs write it, and written so that no program trips over it.

Reading follows RFC 4180 and forgives what is common beside it: other delimiters, other encodings, a
byte order mark, a header in other words or none at all. Every row comes out with what will become of it,
every bad one with its reason; nothing is guessed silently. Writing puts an apostrophe before whatever a
spreadsheet would take for a formula; reading takes it off again.
"""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum

from restless_tide.core.errors import Invalid
from restless_tide.core.numbers import whole_number

LARGEST_BYTES = 8 * 1024 * 1024
MOST_ROWS = 50_000
MOST_COLUMNS = 100
LONGEST_LINE = 64 * 1024
LONGEST_CELL = 1000

FIELDS = ("address", "name", "platforms", "languages", "tags", "devices", "consented")
_HEADERS = {
    "address": "address email e-mail mail mailaddress emailaddress e-mailadresse mailadresse adresse adressemail courriel",
    "name": "name fullname displayname person vollername nom",
    "platforms": "platform platforms system os plattform plattformen plateforme",
    "languages": "language languages locale locales sprache sprachen langue",
    "tags": "tag tags label labels group groups gruppe gruppen",
    "devices": "device devices model geraet gerät geräte appareil",
    "consented": "consent consented consentdate agreed einwilligung consentement",
}
_FIRST, _LAST = (
    ("firstname", "givenname", "vorname", "prenom", "prénom"),
    ("lastname", "surname", "familyname", "nachname"),
)
_KNOWN = {word: name for name, words in _HEADERS.items() for word in words.split()}
_DELIMITERS = ",;\t|"
_PLATFORMS = {
    "android": "android", "ios": "ios", "iphone": "ios", "ipad": "ios", "ipados": "ios",
    "desktop": "desktop", "windows": "desktop", "pc": "desktop",
}  # fmt: skip
PLATFORMS = tuple(dict.fromkeys(_PLATFORMS.values()))
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


class RowKind(StrEnum):
    """What becomes of a row."""

    NEW = "new"
    KNOWN = "known"
    ALREADY = "already there"
    TWICE = "twice"
    BAD = "bad"


@dataclass(frozen=True)
class Row:
    """A row of the list. ``line`` counts the lines of the file from 1; ``said`` is the reason or what to know."""

    line: int
    kind: RowKind
    address: str = ""
    name: str = ""
    platforms: tuple[str, ...] = ()
    languages: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
    devices: tuple[str, ...] = ()
    consented: str = ""
    said: str = ""
    raw: str = ""


@dataclass(frozen=True)
class Sheet:
    """A list as it was understood: how it is written, which column is what, and every row."""

    encoding: str
    delimiter: str
    columns: Mapping[str, str]
    ignored: tuple[str, ...]
    rows: tuple[Row, ...]
    said: tuple[str, ...] = field(default=())

    def of(self, *kinds: RowKind) -> list[Row]:
        return [row for row in self.rows if row.kind in kinds]


def lookalike(address: str) -> str:
    """One form for addresses that many mail servers deliver to one person: no dots, no ``+`` part, lower case.

    Only a hint: other servers tell them apart, so nobody is merged by it.
    """
    local, _, domain = address.lower().rpartition("@")
    return f"{local.partition('+')[0].replace('.', '')}@{domain}"


def read_testers(
    content: bytes,
    address_of: Callable[[str], str],
    *,
    known: Collection[str] = (),
    already: Collection[str] = (),
    mapping: Mapping[str, str] | None = None,
) -> Sheet:
    """Read a list of testers.

    ``address_of`` brings an address into its normal form and raises Invalid; ``known`` are addresses the
    desk knows, ``already`` those that are in the cohort. ``mapping`` says which column holds a field where
    the header does not say it: field to header or to a column's number from 1.

    Raises Invalid where the file as a whole cannot be read: too large, no text, no column of addresses.
    """
    if len(content) > LARGEST_BYTES:
        raise Invalid(
            f"The list has {len(content)} bytes; {LARGEST_BYTES} are taken at once.",
            remedy="Split it.",
            code="list-too-large",
        )
    text, encoding, said = _decoded(content)
    lines = text.splitlines()
    for number, line in enumerate(lines, 1):
        if len(line) > LONGEST_LINE:
            raise Invalid(
                f"Line {number} has {len(line)} characters; no line of a list has more than {LONGEST_LINE}.",
                remedy="Check that the file is CSV, with one person on each line.",
                code="list-unreadable",
            )
    delimiter = _delimiter(lines)
    table = list(_cells(text, delimiter))
    if not table:
        raise Invalid("The list is empty.", remedy="One person on each line, with an address.", code="list-empty")
    widest = max(table, key=lambda entry: len(entry[1]))
    if len(widest[1]) > MOST_COLUMNS:
        raise Invalid(
            f"Line {widest[0]} has {len(widest[1])} columns; {MOST_COLUMNS} are read.",
            remedy="Keep the columns with address, name, platform, language and tags.",
            code="list-unreadable",
        )
    header, columns = _columns(table, mapping or {})
    body = table[1:] if header else table
    if len(body) > MOST_ROWS:
        raise Invalid(
            f"The list has {len(body)} rows; {MOST_ROWS} are taken at once.", remedy="Split it.", code="list-too-large"
        )
    rows = tuple(_judged(body, columns, address_of, set(known), set(already)))
    names = header or [f"column {place}" for place in range(1, len(widest[1]) + 1)]
    used = {place for places in columns.values() for place in places}
    told = {name: " and ".join(names[place] for place in places) for name, places in columns.items()}
    ignored = tuple(name for place, name in enumerate(names) if place not in used and name.strip())
    return Sheet(encoding, _delimiter_told(delimiter), told, ignored, rows, said)


def _decoded(content: bytes) -> tuple[str, str, tuple[str, ...]]:
    for mark, name in (
        (codecs.BOM_UTF8, "utf-8"),
        (codecs.BOM_UTF16_LE, "utf-16-le"),
        (codecs.BOM_UTF16_BE, "utf-16-be"),
    ):
        if content.startswith(mark):
            try:
                return content[len(mark) :].decode(name), name.upper().replace("-LE", "").replace("-BE", ""), ()
            except UnicodeDecodeError as wrong:
                raise _unreadable(name, wrong.start) from None
    if b"\0" in content[:4096]:
        raise Invalid(
            "This is no text file.",
            remedy="Save the list as CSV from your spreadsheet and import that.",
            code="list-unreadable",
        )
    try:
        return content.decode("utf-8"), "UTF-8", ()
    except UnicodeDecodeError:
        said = "The file is not UTF-8; it was read as Windows-1252. Look whether names with accents are right."
        return content.decode("cp1252", errors="replace"), "Windows-1252", (said,)


def _unreadable(encoding: str, place: int) -> Invalid:
    return Invalid(
        f"The file says that it is {encoding}, and is not at byte {place}.",
        remedy="Save the list anew as CSV in UTF-8.",
        code="list-unreadable",
    )


def _delimiter(lines: Sequence[str]) -> str:
    """The delimiter that stands in every one of the first lines and most often in the very first; a comma where none does."""
    sample = [line for line in lines[:20] if line.strip()]
    if not sample:
        return _DELIMITERS[0]

    def fit(delimiter: str) -> tuple[bool, int]:
        first = sample[0].count(delimiter)
        return first > 0 and all(delimiter in line for line in sample), first

    return max(_DELIMITERS, key=fit)


def _delimiter_told(delimiter: str) -> str:
    return {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar"}[delimiter]


def _cells(text: str, delimiter: str) -> Iterator[tuple[int, list[str]]]:
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=False)
    try:
        begun = 1
        for cells in reader:
            if any(cell.strip() for cell in cells):
                yield begun, [plain_cell(cell) for cell in cells]
            begun = reader.line_num + 1
    except csv.Error as wrong:
        raise Invalid(
            f"Line {reader.line_num} is no CSV: {wrong}.",
            remedy="Look for a quote that is not closed.",
            code="list-unreadable",
        ) from None


def _columns(
    table: Sequence[tuple[int, list[str]]], mapping: Mapping[str, str]
) -> tuple[list[str] | None, dict[str, tuple[int, ...]]]:
    first = table[0][1]
    words = [re.sub(r"[\s_.-]", "", cell.lower()) for cell in first]
    has_header = not any("@" in cell for cell in first)
    columns: dict[str, tuple[int, ...]] = {}
    if has_header:
        for place, word in enumerate(words):
            name = _KNOWN.get(word) or _KNOWN.get(first[place].strip().lower())
            if name is not None and name not in columns:
                columns[name] = (place,)
        if "name" not in columns:
            parts = [place for kind in (_FIRST, _LAST) for place, word in enumerate(words) if word in kind]
            if parts:
                columns["name"] = tuple(parts)
    for name, where in mapping.items():
        if name not in FIELDS:
            raise Invalid(
                f"A tester has no {name!r}.", remedy=f"Fields are {', '.join(FIELDS)}.", code="column-unknown"
            )
        columns[name] = (_place(where, first),)
    if "address" not in columns:
        found = next(
            (
                place
                for place in range(len(first))
                if any(place < len(cells) and "@" in cells[place] for _, cells in table[:20])
            ),
            None,
        )
        if found is None:
            raise Invalid(
                "No column of the list holds mail addresses.",
                remedy="Name the column: --column address=HEADER (or its number).",
                code="column-missing",
            )
        columns["address"] = (found,)
        if not has_header and "name" not in columns and len(first) > 1:
            columns["name"] = (1 if found == 0 else 0,)
    return (list(first) if has_header else None), columns


def _place(where: str, header: Sequence[str]) -> int:
    for place, name in enumerate(header):
        if name.strip().lower() == where.strip().lower():
            return place
    number = whole_number(where)
    if number is not None and 0 < number <= len(header):
        return number - 1
    raise Invalid(
        f"The list has no column {where!r}.", remedy=f"Columns are {', '.join(header)}.", code="column-unknown"
    )


def _judged(
    body: Iterable[tuple[int, list[str]]],
    columns: Mapping[str, tuple[int, ...]],
    address_of: Callable[[str], str],
    known: set[str],
    already: set[str],
) -> Iterator[Row]:
    seen: dict[str, int] = {}
    alike: dict[str, tuple[int, str]] = {}
    known_alike = {lookalike(address): address for address in known}
    for line, cells in body:

        def cell(name: str, cells: list[str] = cells) -> str:
            return " ".join(cells[place].strip() for place in columns.get(name, ()) if place < len(cells)).strip()

        raw = cell("address")[:LONGEST_CELL]
        if any(len(content) > LONGEST_CELL for content in cells):
            yield Row(line, RowKind.BAD, raw=raw, said=f"a cell has more than {LONGEST_CELL} characters")
            continue
        try:
            if not raw:
                raise Invalid("no address", remedy="", code="address-missing")
            address = address_of(raw)
            platforms = _platforms(cell("platforms"))
        except Invalid as wrong:
            yield Row(line, RowKind.BAD, name=cell("name"), raw=raw, said=wrong.detail.rstrip("."))
            continue
        row = Row(
            line,
            RowKind.NEW,
            address,
            cell("name"),
            platforms,
            _words(cell("languages")),
            _words(cell("tags")),
            tuple(part.strip() for part in re.split(r"[;|/]", cell("devices")) if part.strip()),
            cell("consented"),
            raw=raw,
        )
        if address in seen:
            yield replace(row, kind=RowKind.TWICE, said=f"the same address as on line {seen[address]}")
            continue
        seen[address] = line
        near = alike.get(lookalike(address))
        alike.setdefault(lookalike(address), (line, address))
        if address in already:
            yield replace(row, kind=RowKind.ALREADY, said="in the cohort already")
        elif address in known:
            yield replace(row, kind=RowKind.KNOWN, said="known to the desk")
        elif near is not None:
            yield replace(row, said=f"perhaps the same person as {near[1]} on line {near[0]}")
        elif lookalike(address) in known_alike:
            yield replace(
                row, said=f"perhaps the same person as {known_alike[lookalike(address)]}, whom the desk knows"
            )
        else:
            yield row


def _words(cell: str) -> tuple[str, ...]:
    return tuple(dict.fromkeys(word for word in re.split(r"[\s,;|/]+", cell) if word))


def _platforms(cell: str) -> tuple[str, ...]:
    found = []
    for word in _words(cell.lower()):
        if word not in _PLATFORMS:
            raise Invalid(f"{word!r} is no platform ({', '.join(PLATFORMS)})", remedy="")
        found.append(_PLATFORMS[word])
    return tuple(dict.fromkeys(found))


def plain_cell(cell: str) -> str:
    """A cell without the apostrophe that keeps a spreadsheet from running it."""
    return cell[1:] if cell.startswith("'") and cell[1:].startswith(_FORMULA) else cell


def safe_cell(cell: object) -> str:
    """A cell that no spreadsheet takes for a formula."""
    text = "" if cell is None else str(cell)
    return f"'{text}" if text.startswith(_FORMULA) else text


def write_csv(header: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """CSV by RFC 4180: CRLF, quoted where needed; formulas are neutralised."""
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(header)
    for row in rows:
        writer.writerow([safe_cell(cell) for cell in row])
    return out.getvalue()
