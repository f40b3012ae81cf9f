"""A sheet of names and values in two columns, printed without loading what draws tables: that takes longer than reading a package."""

from __future__ import annotations

import shutil
import sys
import unicodedata
from collections.abc import Iterator, Sequence

PIPE_COLUMNS = 160
_BETWEEN = 3
_LEAST_COLUMNS = 20


def lines(rows: Sequence[tuple[str, str]], columns: int) -> Iterator[str]:
    """The lines of a sheet that is so many columns wide; what is longer is folded below itself."""
    margin = max((_width(name) for name, _ in rows), default=0) + _BETWEEN
    room = max(columns - margin, _LEAST_COLUMNS)
    for name, value in rows:
        for at, part in enumerate(part for line in value.split("\n") for part in _folded(line, room)):
            yield f"{name + ' ' * (margin - _width(name)) if at == 0 else ' ' * margin}{part}".rstrip()


def show(rows: Sequence[tuple[str, str]]) -> None:
    """Print a sheet as wide as the terminal, or as PIPE_COLUMNS."""
    columns = shutil.get_terminal_size().columns if sys.stdout.isatty() else PIPE_COLUMNS
    for line in lines(rows, columns):
        print(line)


def _folded(line: str, room: int) -> Iterator[str]:
    if len(line) * 2 <= room or _width(line) <= room:
        yield line
        return
    begun, width = "", 0
    for sign in line:
        if width + _width(sign) > room:
            yield begun
            begun, width = "", 0
        begun, width = begun + sign, width + _width(sign)
    yield begun


def _width(text: str) -> int:
    """How many columns of a terminal a text takes (UAX #11)."""
    if text.isascii():
        return len(text)
    return sum(
        0 if unicodedata.combining(sign) else 2 if unicodedata.east_asian_width(sign) in "WF" else 1 for sign in text
    )
