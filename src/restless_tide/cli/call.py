"""One call of the command line: what was given, the desk it goes to, and how it is answered."""

from __future__ import annotations

import argparse
import json
import os
import sys
import time
from collections.abc import Callable, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from restless_tide.cli import remembered
from restless_tide.cli.sheet import PIPE_COLUMNS
from restless_tide.core.errors import Invalid, Unauthenticated

if TYPE_CHECKING:
    from pydantic import BaseModel
    from rich.console import Console
    from rich.table import Table

    from restless_tide.client import Tide

Seen = TypeVar("Seen")

_POLL_SECONDS = 0.2


def _as_json(value: object) -> object:
    """What JSON knows for a value that it has no form for."""
    from pydantic_core import to_jsonable_python  # only where there is one

    return to_jsonable_python(value)


class Call:
    """``given`` are the parsed arguments. Tables go to a terminal, one JSON document to a program."""

    def __init__(self, given: argparse.Namespace) -> None:
        self.given = given

    @cached_property
    def console(self) -> Console:
        from rich.console import Console

        width = None if sys.stdout.isatty() else PIPE_COLUMNS
        return Console(width=width, highlight=False, soft_wrap=False)

    @cached_property
    def aside(self) -> Console:
        from rich.console import Console

        return Console(stderr=True, highlight=False)

    @property
    def url(self) -> str:
        return self.given.url or os.environ.get("TIDE_URL") or remembered.desk().url

    @cached_property
    def tide(self) -> Tide:
        """The client of the desk this call goes to. Raises Unauthenticated without a token."""
        token = self.given.token or os.environ.get("TIDE_TOKEN") or remembered.desk().token
        if not token:
            raise Unauthenticated("No token is known.", remedy="Sign in with: tide sign-in, or set TIDE_TOKEN.")
        from restless_tide.client.tide import Tide

        return Tide(self.url, token=token)

    def answer(
        self, told: BaseModel | Sequence[BaseModel] | dict[str, Any] | list[Any], shown: Callable[[], None]
    ) -> None:
        """Print ``told`` as JSON when that was asked for, else call ``shown``."""
        if self.given.json:
            print(json.dumps(told, indent=2, ensure_ascii=False, default=_as_json))
        else:
            shown()

    def say(self, text: str) -> None:
        self.console.print(escaped(text), soft_wrap=True)

    def table(self, *columns: str) -> Table:
        from rich.table import Table

        table = Table(box=None, pad_edge=False, header_style="bold", padding=(0, 3, 0, 0))
        for column in columns:
            table.add_column(column, overflow="fold")
        return table

    def show(self, table: Table, *, empty: str) -> None:
        """Print the table, or what to do first when it holds nothing."""
        if table.row_count:
            self.console.print(table)
        else:
            self.say(empty)

    @property
    def asks(self) -> bool:
        """Whether a person sits at a terminal and is asked; scripts and --yes go straight on."""
        return not getattr(self.given, "yes", False) and sys.stdin.isatty() and sys.stdout.isatty()

    def confirm(self, consequence: str) -> bool:
        """Ask a person, where one can be asked."""
        if not self.asks:
            return True
        self.say(consequence)
        return input("Go on? [y/N] ").strip().lower() in ("y", "yes")

    def demand_confirmation(self, consequence: str) -> None:
        """The same, where nothing is left to do without it. Raises Invalid when the person says no."""
        if not self.confirm(consequence):
            raise Invalid("Nothing was changed.", code="not-confirmed")

    def wait_until(self, look: Callable[[], Seen], settled: Callable[[Seen], bool], seconds: float) -> Seen:
        """Look again and again until it is settled or the time is over; returns what was seen last."""
        deadline = time.monotonic() + seconds
        seen = look()
        while not settled(seen) and time.monotonic() < deadline:
            time.sleep(_POLL_SECONDS)
            seen = look()
        return seen


_FIRST_CHARACTERS = 48


def begun(text: str) -> str:
    """The beginning of a text, in one line of a table."""
    line = text.replace("\n", " ⏎ ")
    return line if len(line) <= _FIRST_CHARACTERS else f"{line[:_FIRST_CHARACTERS]}…"


def cell(value: object) -> str:
    """A value as a table's cell, with nothing in it read as markup."""
    return escaped("" if value is None else str(value))


def escaped(text: str) -> str:
    """A text in which nothing is read as markup."""
    from rich.markup import escape

    return escape(text)


def text_argument(word: str) -> str:
    """A text as it was written: ``-`` reads it from a pipe, ``@FILE`` from a file. Raises Invalid."""
    if word == "-":
        return sys.stdin.read().rstrip("\n")
    if not word.startswith("@"):
        return word
    try:
        return file_argument(word[1:]).read_text(encoding="utf-8").rstrip("\n")
    except UnicodeDecodeError:
        raise Invalid(f"{word[1:]} is no text in UTF-8.", code="file-unreadable") from None


def file_argument(text: str) -> Path:
    """Raises Invalid when there is no such file."""
    path = Path(text)
    if not path.is_file():
        raise Invalid(f"There is no file at {text}.", remedy="Check the path.", code="file-missing")
    return path
