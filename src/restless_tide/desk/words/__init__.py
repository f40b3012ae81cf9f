"""What testers read, in their language: mails and the pages that need no sign-in.

A language is a TOML file here; en.toml is whole, and what another one lacks is taken from it.
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import Any

FALLBACK = "en"
_FOLDER = Path(__file__).parent


@cache
def languages() -> tuple[str, ...]:
    """The languages there are, the one that everything falls back to first."""
    found = sorted(path.stem for path in _FOLDER.glob("*.toml"))
    return (FALLBACK, *(language for language in found if language != FALLBACK))


@cache
def words(language: str) -> Mapping[str, Any]:
    """All words of a language, by table and name."""
    whole = _read(FALLBACK)
    if language == FALLBACK:
        return whole
    own = _read(language)
    return {table: {**entries, **own.get(table, {})} for table, entries in whole.items()}


def _read(language: str) -> dict[str, Any]:
    return tomllib.loads((_FOLDER / f"{language}.toml").read_text(encoding="utf-8"))


def language_of(wanted: Iterable[str]) -> str:
    """The first of the wanted languages (BCP 47) that there is."""
    for tag in wanted:
        plain = tag.strip().lower().partition("-")[0]
        if plain in languages():
            return plain
    return FALLBACK


def accepted_languages(header: str) -> list[str]:
    """The languages of an Accept-Language header (RFC 9110, section 12.5.4), the preferred one first."""
    weighed = []
    for place, part in enumerate(header.split(",")[:20]):
        tag, _, weight = part.strip().partition(";q=")
        try:
            quality = float(weight) if weight else 1.0
        except ValueError:
            quality = 0.0
        if tag and tag != "*":
            weighed.append((-quality, place, tag))
    return [tag for _, _, tag in sorted(weighed)]


def text_for(texts: Mapping[str, str], wanted: Sequence[str]) -> str:
    """The text in the preferred language that has one; English else, else whatever there is."""
    for tag in (*wanted, FALLBACK):
        for locale, text in texts.items():
            if locale.lower() == tag.lower() or locale.lower().partition("-")[0] == tag.lower().partition("-")[0]:
                return text
    return next(iter(texts.values()), "")


def steps_for(platform: str, language: str, named: Mapping[str, object], *, has_page: bool) -> list[str]:
    """What a tester does on their platform, step by step."""
    said = words(language)["steps"]
    found = [said[f"{platform}_{place}"] for place in (1, 2, 3) if f"{platform}_{place}" in said]
    if has_page:
        found.insert(1, said["link"])
    return [text.format(**named) for text in (*found, said["last"])]
