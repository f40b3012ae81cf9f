"""argparse with the manners of this command line: the nearest word when one is mistyped, problems in one line."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Callable, Mapping
from datetime import datetime
from difflib import get_close_matches
from typing import TYPE_CHECKING, Any, NamedTuple, NoReturn

from restless_tide.core.numbers import whole_number

if TYPE_CHECKING:
    from restless_tide.cli.call import Call
    from restless_tide.cli.exits import Exit

    Run = Callable[[Call], Exit | None]


class Noun(NamedTuple):
    """A first word: the module with its commands, and what it is about."""

    module: str
    summary: str


def count(text: str) -> int:
    """How many: a whole number from 1 on."""
    number = whole_number(text)
    if not number:
        raise argparse.ArgumentTypeError(f"{text!r} is no whole number from 1 on")
    return number


def span(text: str) -> float:
    """How long, in the unit that the option names: never below zero, never without end."""
    try:
        length = float(text)
    except ValueError:
        length = -1.0
    if not 0 <= length < float("inf"):
        raise argparse.ArgumentTypeError(f"{text!r} is no length of time; write a number such as 30")
    return length


class UsageError(Exception):
    """The command line is wrong; ``hint`` says what was meant, perhaps."""


class Parser(argparse.ArgumentParser):
    def __init__(self, *args: Any, **kwargs: Any) -> None:
        kwargs.setdefault("allow_abbrev", False)
        kwargs.setdefault("formatter_class", argparse.RawDescriptionHelpFormatter)
        self._words: list[str] = []
        super().__init__(*args, **kwargs)

    def parse_known_args(self, args: Any = None, namespace: Any = None) -> Any:
        self._words = list(args if args is not None else sys.argv[1:])
        return super().parse_known_args(args, namespace)

    def error(self, message: str) -> NoReturn:
        known = [option for action in self._actions for option in action.option_strings]
        mistyped = [word for word in self._words if word.startswith("--") and word.partition("=")[0] not in known]
        if mistyped and not self._has_verbs():
            self.unknown_options(mistyped)
        raise UsageError(f"{self._told(message)}\nSee: {self.prog} --help")

    def _told(self, message: str) -> str:
        chosen = re.search(r"invalid choice: '([^']*)' \(choose from (.*)\)", message)
        if not chosen:
            return message[:1].upper() + message[1:] + "."
        word, choices = chosen.group(1), [choice.strip("'") for choice in chosen.group(2).split(", ")]
        return f"{word!r} is not known here." + (_nearest(word, choices) or f" Choose from {', '.join(choices)}.")

    def _has_verbs(self) -> bool:
        return any(isinstance(action, argparse._SubParsersAction) for action in self._actions)

    def unknown_options(self, words: list[str]) -> NoReturn:
        known = [option for action in self._actions for option in action.option_strings]
        told = [f"{word} is not known here.{_nearest(word.split('=')[0], known)}" for word in words]
        raise UsageError(" ".join(told) + f"\nSee: {self.prog} --help")


def _nearest(word: str, choices: list[str]) -> str:
    near = get_close_matches(word, choices, n=1, cutoff=0.5)
    return f" Did you mean {near[0]}?" if near else ""


class Nouns:
    """The commands by noun and verb: ``tide NOUN VERB …``; a noun without verbs is a command of its own."""

    def __init__(self, root: Parser, known: Mapping[str, Noun]) -> None:
        self._known = known
        self._nouns = root.add_subparsers(metavar="COMMAND", required=True, title="commands")
        self._verbs: dict[str, Any] = {}
        self.common = Parser(add_help=False)
        where = self.common.add_argument_group("for every command")
        where.add_argument("--json", action="store_true", help="print one JSON document and nothing else")
        where.add_argument("--url", help="the desk's address (or TIDE_URL)")
        where.add_argument("--token", help="a bearer token (or TIDE_TOKEN)")

    def name_all(self) -> None:
        """Only name them, for help and for the nearest word."""
        for name, noun in self._known.items():
            self._nouns.add_parser(name, help=noun.summary)

    def noun(self, name: str) -> None:
        summary = self._known[name].summary
        parser = self._nouns.add_parser(name, help=summary, description=summary)
        self._verbs[name] = parser.add_subparsers(metavar="VERB", required=True, title="verbs")

    def command(self, words: str, run: Run, summary: str = "", *, description: str = "") -> Parser:
        """Add a command such as ``build push``; returns its parser for the arguments."""
        noun, _, verb = words.partition(" ")
        summary = summary or self._known[noun].summary
        home = self._verbs[noun] if verb else self._nouns
        parser: Parser = home.add_parser(
            verb or noun, help=summary, description=description or summary, parents=[self.common]
        )
        parser.set_defaults(run=run, parser=parser)
        return parser


def app_argument(parser: Parser) -> None:
    parser.add_argument("--app", required=True, metavar="APP", help="the app's short name")


def store_argument(parser: Parser, *, required: bool = True) -> None:
    parser.add_argument("--store", required=required, metavar="STORE", help="the store's short name")


def place_argument(parser: Parser, *, required: bool = True) -> None:
    parser.add_argument(
        "--store",
        required=required,
        metavar="STORE[/TRACK]",
        help="the store's short name; with a track, such as openfield/early, where it is not about production",
    )


def stores_argument(parser: Parser) -> None:
    parser.add_argument(
        "--store",
        action="append",
        default=[],
        metavar="STORE",
        help="may be given again; without it, wherever the app has a berth",
    )


def instant_argument(parser: Parser, option: str, help_text: str) -> None:
    """An instant: ISO 8601; without a zone it is meant in the person's own."""
    parser.add_argument(option, type=_instant, metavar="INSTANT", help=f"{help_text}; such as 2026-12-01T09:00")


def _instant(text: str) -> datetime:
    try:
        return datetime.fromisoformat(text).astimezone()
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is no instant; write it like 2026-12-01T09:00") from None
