"""tide build inspect: what a package file is. It needs no desk, and loads only what reads a file."""

from __future__ import annotations

from restless_tide.cli import facts as sheets
from restless_tide.cli.call import Call, file_argument
from restless_tide.cli.parsing import Nouns


def add(nouns: Nouns) -> None:
    nouns.noun("build")
    commands(nouns)


def commands(nouns: Nouns) -> None:
    parser = nouns.command("build inspect", _inspect, "read what a package file is, without a desk")
    parser.add_argument("file", nargs="+", help="an APK, AAB, IPA, MSIX or MSIX bundle; several for a build of several")


def _inspect(call: Call) -> None:
    found = [sheets.read(file_argument(name)) for name in call.given.file]

    def shown() -> None:
        for facts in found:
            sheets.show_facts(facts)

    told = [facts.document() for facts in found]
    call.answer(told if len(told) > 1 else told[0], shown)
