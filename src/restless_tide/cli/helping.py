"""tide help, open, completion: finding one's way."""

from __future__ import annotations

import argparse
import webbrowser
from collections.abc import Callable, Iterable
from typing import Any
from urllib.parse import quote

from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import MEANINGS
from restless_tide.cli.parsing import Nouns, Parser
from restless_tide.core.errors import TideError
from restless_tide.core.glossary import GLOSSARY
from restless_tide.wire.errors import NotFound

SHELLS = ("bash", "zsh", "fish")
OVERVIEW = "overview"
PAGES = ("apps", "testers", "stores", "steps", "notices", "logbook", "settings", "words")
PAGES_OF_APP = ("releases", "tracks", "builds", "dossier", "cohorts", "reports", "signing")


def add(nouns: Nouns) -> None:
    nouns.noun("help")
    parser = nouns.command("help words", _words, "what the words mean that are this product's own")
    parser.add_argument("word", nargs="?", help="only this one")
    nouns.command("help exit-codes", _exit_codes, "what each exit code means")
    parser = nouns.command(
        "open",
        _open,
        description="Prints the address of a page of the console, and opens it with --browser.",
    )
    parser.add_argument(
        "what",
        nargs="?",
        default=OVERVIEW,
        help=f"a page: {', '.join([OVERVIEW, *PAGES, *PAGES_OF_APP])}; or a version",
    )
    parser.add_argument("--app", metavar="APP", help="the app's short name")
    parser.add_argument("--browser", action="store_true", help="open it, not only print it")
    parser = nouns.command(
        "completion",
        _completion,
        description="Prints what makes a shell complete commands, options and names: eval \"$(tide completion bash)\".",
    )  # fmt: skip
    parser.add_argument("shell", choices=SHELLS)


def _words(call: Call) -> None:
    word = (call.given.word or "").lower()
    found = {name: said for name, said in GLOSSARY.items() if word in ("", name)}
    if not found:
        raise NotFound(f"{word!r} has no explanation here.", remedy="See all: tide help words", code="word-unknown")

    def shown() -> None:
        table = call.table("WORD", "WHAT IT MEANS")
        for name, said in found.items():
            table.add_row(name, cell(said))
        call.show(table, empty="")

    call.answer(dict(found), shown)


def _exit_codes(call: Call) -> None:
    def shown() -> None:
        table = call.table("CODE", "MEANS")
        for code, said in MEANINGS.items():
            table.add_row(str(int(code)), cell(said))
        call.show(table, empty="")

    call.answer({str(int(code)): said for code, said in MEANINGS.items()}, shown)


def _open(call: Call) -> None:
    given = call.given
    address = call.url.rstrip("/") + _place(given.what, given.app)
    if given.browser:
        webbrowser.open(address)
    call.answer({"address": address}, lambda: print(address))


def _place(what: str, app: str | None) -> str:
    if app is None and what == OVERVIEW:
        return "/"
    if app is None and what in PAGES:
        return f"/{what}"
    if app is None:
        raise NotFound(
            f"{what!r} is a page of an app.", remedy=f"Add the app: tide open {what} --app APP", code="usage"
        )
    if what == OVERVIEW or what in PAGES_OF_APP:
        return f"/apps/{quote(app)}/{PAGES_OF_APP[0] if what == OVERVIEW else what}"
    return f"/apps/{quote(app)}/releases/{quote(what)}"


def _completion(call: Call) -> None:
    from argcomplete.shell_integration import shellcode

    print(shellcode(["tide"], shell=call.given.shell))


# completing, each time the key is pressed

LIVE: dict[str, Callable[[Call], Iterable[str]]] = {
    "app": lambda call: (app.name for app in call.tide.apps.every()),
    "store": lambda call: (store.name for store in call.tide.stores.every()),
    "version": lambda call: (release.version for release in call.tide.releases.of_app(call.given.app)),
    "cohort": lambda call: (cohort.name for cohort in call.tide.testing.cohorts(call.given.app)),
    "build": lambda call: ("latest", *(build.label for build in call.tide.builds.of_app(call.given.app))),
    "trial": lambda call: (cohort.name for cohort in call.tide.testing.cohorts(call.given.app)),
    "step": lambda call: (step.id for step in call.tide.steps.waiting()),
}
"""The names that an argument may have, by what the argument is called; of an app where ``--app`` was written before."""


def complete(root: Parser) -> None:
    """Answer a shell that asks how a line may go on, and end."""
    import argcomplete

    for parser in _leaves(root):
        noun = parser.prog.split()[1:2]
        for action in parser._actions:
            kind = noun[0] if action.dest == "name" and noun else action.dest
            if kind in LIVE and action.choices is None:
                action.completer = _completer(LIVE[kind])  # type: ignore[attr-defined]
    argcomplete.autocomplete(root)


def _leaves(parser: argparse.ArgumentParser) -> Iterable[argparse.ArgumentParser]:
    yield parser
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            for inner in action.choices.values():
                yield from _leaves(inner)


def _completer(names: Callable[[Call], Iterable[str]]) -> Callable[..., list[str]]:
    def found(prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
        for name in ("url", "token", "app"):
            if not hasattr(parsed_args, name):
                setattr(parsed_args, name, None)
        try:
            return [name for name in names(Call(parsed_args)) if name.startswith(prefix)]
        except (TideError, OSError, TypeError):
            return []  # a key that is pressed is no place for an error

    return found
