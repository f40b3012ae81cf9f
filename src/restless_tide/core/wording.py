"""What a careful reader would remark on a text before people see it. These are cautions: a store may take it all the same."""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from itertools import pairwise
from typing import NamedTuple
from urllib.parse import urlsplit

from restless_tide.core.catalogue import Form
from restless_tide.core.locales import language_of

_WORD = re.compile(r"[^\W\d_]+(?:['’][^\W\d_]+)*")
_ADDRESS = re.compile(r"\bhttps?://\S*", re.IGNORECASE)
_HOST = re.compile(r"[a-z0-9]([a-z0-9-]*[a-z0-9])?(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)+", re.IGNORECASE)
_TURNS_DIRECTION = frozenset("\u202a\u202b\u202d\u202e\u2066\u2067\u2068\u200e\u200f\u061c")
_LONG_WORD_LETTERS, _STUFFED_TIMES, _STUFFED_SHARE = 4, 6, 0.08
_SHOUTED_WORDS, _SHOUTED_LETTERS, _SHOUTED_SIGNS = 3, 4, 3
_LEFT_IN_CHARACTERS = 20
_QUOTED_WORDS = 5


def is_web_address(text: str) -> bool:
    """Whether a text is one whole web address (RFC 3986) that a browser can open from anywhere."""
    if not text.isascii() or any(sign.isspace() for sign in text):
        return False
    try:
        parts = urlsplit(text)
        port = parts.port
    except ValueError:
        return False
    host = parts.hostname or ""
    return parts.scheme.lower() in ("http", "https") and bool(_HOST.fullmatch(host)) and port != 0


def search_words(text: str) -> list[str]:
    """The search words of a text that keeps them with commas between."""
    return [word.strip() for word in re.split(r"[,\n]", text) if word.strip()]


class Remark(NamedTuple):
    """One thing to look at: a sentence that quotes the ``words`` it is about, as they stand in the text."""

    said: str
    words: tuple[str, ...] = ()


def remarks(text: str, form: Form, locale: str, elsewhere: Mapping[str, str], name: str = "") -> list[Remark]:
    """One remark for each thing to look at.

    ``elsewhere`` holds the same field in other locales; ``name`` is the app's name there.
    """
    return [*_remarks(text, form, locale, elsewhere, name)]


def _remarks(text: str, form: Form, locale: str, elsewhere: Mapping[str, str], name: str) -> Iterator[Remark]:
    turning = sorted({f"U+{ord(sign):04X}" for sign in text if sign in _TURNS_DIRECTION})
    if turning:
        yield Remark(
            f"It holds signs that change the direction of writing ({', '.join(turning)}); people cannot see them."
        )
    invisible = sorted({f"U+{ord(sign):04X}" for sign in text if unicodedata.category(sign) == "Cf"} - set(turning))
    if invisible:
        yield Remark(f"It holds signs that nobody sees ({', '.join(invisible)}).")
    if form is Form.ADDRESS:
        return
    broken = [address for address in _addresses(text) if not is_web_address(address)]
    if broken:
        yield Remark(f"This is no web address that a browser opens: {_quoted(broken)}.", tuple(broken))
    if form is Form.WORDS:
        yield from _of_search_words(text, name)
        return
    words = _WORD.findall(_ADDRESS.sub(" ", text))
    twice = [f"{one} {other}" for one, other in pairwise(words) if one.casefold() == other.casefold()]
    if twice:
        yield Remark(f"A word stands twice in a row: {_quoted(twice)}.", tuple(twice))
    counted = Counter(word.casefold() for word in words if len(word) >= _LONG_WORD_LETTERS)
    stuffed = {
        word: times
        for word, times in counted.most_common(_QUOTED_WORDS)
        if times >= _STUFFED_TIMES and times / len(words) >= _STUFFED_SHARE
    }
    if stuffed:
        told = _quoted(f"{word} ({times} times)" for word, times in stuffed.items())
        yield Remark(f"It reads as if it were stuffed with search words: {told}.", tuple(stuffed))
    shouted = _shouted(words)
    if shouted:
        yield Remark(f"It shouts: {_quoted([shouted])}.", (shouted,))
    signs = re.findall(rf"[!?]{{{_SHOUTED_SIGNS},}}", text)
    if signs:
        yield Remark(f"It shouts: {_quoted(signs)}.", tuple(dict.fromkeys(signs)))
    same = [
        other
        for other, said in elsewhere.items()
        if said == text and language_of(other) != language_of(locale) and len(text) >= _LEFT_IN_CHARACTERS
    ]
    if same:
        yield Remark(f"It is word for word the text of {', '.join(same)}; is it translated?")


def _of_search_words(text: str, name: str) -> Iterator[Remark]:
    words = [word.casefold() for word in search_words(text)]
    twice = [word for word, times in Counter(words).items() if times > 1]
    if twice:
        yield Remark(f"These search words stand there more than once: {_quoted(twice)}.", tuple(twice))
    in_name = {word.casefold() for word in _WORD.findall(name)}
    needless = [word for word in words if word in in_name]
    if needless:
        named = tuple(dict.fromkeys(needless))
        yield Remark(f"These search words are in the app's name already: {_quoted(named)}.", named)


def _addresses(text: str) -> list[str]:
    return [found.rstrip(".,;:!?)]}»”'\"") for found in _ADDRESS.findall(text)]


def _shouted(words: list[str]) -> str:
    run: list[str] = []
    for word in [*words, ""]:
        if len(word) >= _SHOUTED_LETTERS and word.isupper():
            run.append(word)
        elif len(run) >= _SHOUTED_WORDS:
            return " ".join(run)
        else:
            run = []
    return ""


def _quoted(words: Iterable[str]) -> str:
    found = [f"“{word}”" for word in dict.fromkeys(words)]
    more = len(found) - _QUOTED_WORDS
    return ", ".join(found[:_QUOTED_WORDS]) + (f" and {more} more" if more > 0 else "")
