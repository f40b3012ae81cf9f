"""tide build compare: what is different between two builds, as files or at the desk."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

from restless_tide.cli import facts as sheets
from restless_tide.cli.call import Call, cell, file_argument
from restless_tide.cli.naming import BUILD_HELP, build_of, where_arguments
from restless_tide.cli.parsing import Nouns
from restless_tide.core.packages import Facts
from restless_tide.core.packages.compare import Difference, Grown, compare, growth
from restless_tide.core.sizes import size

_GROWN_SHOWN = 8


def add(nouns: Nouns) -> None:
    nouns.noun("build")
    commands(nouns)


def commands(nouns: Nouns) -> None:
    parser = nouns.command(
        "build compare",
        _compare,
        "two builds side by side: what must be noticed first",
        description=f"Takes package files, or builds at the desk: {BUILD_HELP}.",
    )
    parser.add_argument("before", help="the earlier one: a file, or a build")
    parser.add_argument("after", help="the later one: a file, or a build")
    where_arguments(parser)


def _compare(call: Call) -> None:
    before, after = _packages(call, call.given.before), _packages(call, call.given.after)
    differences, grown = compare(before, after), growth(before, after)
    told = {"differences": [asdict(one) for one in differences], "grown": [asdict(one) for one in grown]}
    call.answer(told, lambda: _show_comparison(call, differences, grown))


def _packages(call: Call, name: str) -> list[Facts]:
    """The packages of a build at the desk, or of the file that is named."""
    if "/" in name or Path(name).is_file() or Path(name).suffix[1:].isalpha():  # 2.4.0 is a version
        return [sheets.read(file_argument(name))]
    return build_of(call, name).packages


def _show_comparison(call: Call, differences: list[Difference], grown: list[Grown]) -> None:
    table = call.table("", "WHAT", "BEFORE", "AFTER")
    for entry in differences:
        table.add_row(
            f"{sheets.LEVEL_MARKS[entry.level]} {entry.level}",
            entry.title,
            cell(_bytes(entry.before)),
            cell(_bytes(entry.after)),
        )
    call.show(table, empty="No difference that a person would notice.")
    if grown:
        parts = call.table("PART OF THE FILE", "BY")
        for part in sorted(grown, key=lambda part: -abs(part.by_bytes))[:_GROWN_SHOWN]:
            parts.add_row(cell(part.name), f"{'+' if part.by_bytes > 0 else '−'}{size(abs(part.by_bytes))}")
        call.console.print()
        call.console.print(parts)


def _bytes(text: str) -> str:
    count, _, word = text.partition(" ")
    return size(int(count)) if word == "bytes" and count.isdecimal() else text
