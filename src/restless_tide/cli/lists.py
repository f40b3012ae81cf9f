"""Lists in and out: CSV from a file or a pipe, looked at first, and CSV to a file or a pipe."""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from restless_tide.cli.call import Call, cell, file_argument
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Parser

if TYPE_CHECKING:
    from restless_tide.wire.cohorts import ImportTold  # its models take as long to be made as all the rest of a command

_SHOWN = 25


def import_arguments(parser: Parser) -> None:
    parser.add_argument("file", help="CSV; - reads it from a pipe")
    parser.add_argument("--check", action="store_true", help="only say what would become of each row")
    parser.add_argument("--skip-bad", action="store_true", help="leave out rows that cannot be taken")
    parser.add_argument(
        "--column",
        action="append",
        default=[],
        metavar="FIELD=HEADER",
        help="which column holds address, name, platforms, languages, tags, devices or consented",
    )


def take_list(call: Call, *, app: str | None = None, cohort: str | None = None) -> Exit | None:
    """Look at a list, and import it unless that was all that was asked for, or something blocks it."""
    given = call.given
    content = sys.stdin.buffer.read() if given.file == "-" else file_argument(given.file).read_bytes()
    columns = dict(entry.partition("=")[::2] for entry in given.column)
    testing = call.tide.testing
    seen = testing.import_testers(content, app=app, cohort=cohort, columns=columns)
    stopped = [
        found
        for found in seen.findings
        if found.level == "blocker" and not (found.code == "rows-bad" and given.skip_bad)
    ]
    if given.check or stopped:
        call.answer(seen, lambda: _tell(call, seen))
        return Exit.REFUSED if stopped else None
    done = testing.import_testers(
        content, app=app, cohort=cohort, columns=columns, dry_run=False, skip_bad=given.skip_bad
    )
    call.answer(done, lambda: _tell(call, done))
    return None


def _tell(call: Call, found: ImportTold) -> None:
    counts = ", ".join(f"{count} {kind}" for kind, count in found.counts.items() if count)
    columns = ", ".join(f"{name} from {where!r}" for name, where in found.columns.items())
    call.say(f"{found.encoding}, parted by {found.delimiter}; {columns}.")
    if found.ignored:
        call.say(f"Not read: {', '.join(found.ignored)}.")
    for said in found.said:
        call.say(f"! {said}")
    call.say(f"Rows: {counts or 'none'}.")
    table = call.table("LINE", "ROW", "ADDRESS", "WHY")
    for row in sorted(found.rows, key=lambda row: (row.kind != "bad", row.line))[:_SHOWN]:
        table.add_row(str(row.line), row.kind, cell(row.address or row.raw), cell(row.said))
    if table.row_count:
        call.console.print(table)
    if len(found.rows) > _SHOWN:
        call.say(f"… and {len(found.rows) - _SHOWN} more; --json tells them all.")
    for finding in found.findings:
        call.say(f"✕ {finding.detail} {finding.remedy}")
    if found.applied:
        call.say(f"Imported: {found.entered} new testers, {found.joined} came into the cohort.")
    else:
        call.say("Nothing was changed.")


def write_out(call: Call, fetch: Callable[[Path], None]) -> None:
    """Write a file that the desk makes, or print it."""
    if call.given.to != "-":
        target = Path(call.given.to)
        fetch(target)
        call.answer({"file": str(target)}, lambda: call.say(f"Written to {target}."))
        return
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "out.csv"
        fetch(place)
        sys.stdout.flush()
        sys.stdout.buffer.write(place.read_bytes())
        sys.stdout.buffer.flush()
