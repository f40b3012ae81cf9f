"""Every command that a message or a document advises exists, with those options."""

from __future__ import annotations

import argparse
import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from restless_tide.cli.main import NOUNS, parser

ROOT = Path(__file__).parents[2]
ADVICE = re.compile(rf"\btide ((?:{'|'.join(NOUNS)})\b[^`\n;|·\]]*)")
PLACEHOLDER = "X"
MANY = 300
"""So many lines are advised at the least; fewer would mean that they are not found."""


def texts(path: Path) -> Iterator[str]:
    """The strings of a Python file, what is put in replaced; or a document as it stands."""
    content = path.read_text(encoding="utf-8")
    if path.suffix != ".py":
        yield content
        return
    nodes = [*ast.walk(ast.parse(content))]
    inside = {id(part) for node in nodes if isinstance(node, ast.JoinedStr) for part in node.values}
    for node in nodes:
        if isinstance(node, ast.JoinedStr):
            yield "".join(part.value if isinstance(part, ast.Constant) else PLACEHOLDER for part in node.values)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in inside:
            yield node.value


def advised() -> dict[str, str]:
    """Every advised command line, and where it stands."""
    found: dict[str, str] = {}
    places = [*(ROOT / "src").rglob("*.py"), *(ROOT / "docs").glob("*.md"), ROOT / "README.md"]
    for path in places:
        for text in texts(path):
            for line in ADVICE.findall(text.replace("\\\n", " ")):
                found.setdefault(line.strip(), str(path.relative_to(ROOT)))
    return found


def commands() -> dict[str, argparse.ArgumentParser]:
    """The parser of each command by its words."""
    found: dict[str, argparse.ArgumentParser] = {}

    def walk(here: argparse.ArgumentParser, words: str) -> None:
        below = [action for action in here._actions if isinstance(action, argparse._SubParsersAction)]
        if not below:
            found[words] = here
        for action in below:
            for name, child in action.choices.items():
                walk(child, f"{words} {name}".strip())

    walk(parser(), "")
    return found


KNOWN = commands()


def wrong_with(line: str) -> str | None:
    """What is wrong with an advised command line; None where it is well."""
    words = line.split()
    two, one = " ".join(words[:2]).rstrip(".,:)"), words[0].rstrip(".,:)")
    if one in KNOWN:
        command, rest = KNOWN[one], words[1:]
    elif two in KNOWN:
        command, rest = KNOWN[two], words[2:]
    elif len(words) == 1 or words[0] != one or words[1] == "and" or not re.match(r"[a-z]", words[1]):
        return None  # the noun alone is spoken of
    else:
        return f"no command is called {two!r}"
    options = {option for action in command._actions for option in action.option_strings}
    for word in rest:
        if word.startswith("--"):
            option = re.match(r"--[a-z-]+", word)
            if option and option[0] not in options:
                return f"{option[0]} is no option of {command.prog}"
        if word[-1] in ".:" and not word.startswith("-"):
            break  # the sentence ends here
    return None


def test_what_is_advised_exists() -> None:
    found = advised()
    assert len(found) > MANY
    wrong = {f"{place}: tide {line}": what for line, place in found.items() if (what := wrong_with(line))}
    assert wrong == {}


def test_what_does_not_exist_is_found() -> None:
    assert wrong_with("release draft --app marram --version 1.0.0") == "--version is no option of tide release draft"
    assert wrong_with("build teleport") == "no command is called 'build teleport'"
    assert wrong_with("release draft 1.0.0 --app marram") is None


@pytest.mark.parametrize("words", [words for words in commands() if words.endswith(" list")])
def test_every_list_takes_the_same_options(words: str) -> None:
    options = {option for action in commands()[words]._actions for option in action.option_strings}
    assert {"--find", "--sort", "--limit", "--json"} <= options
