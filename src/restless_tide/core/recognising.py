"""Pictures made by a script: for which class and locale a file is, known by its sides and by where it lies.

The name of a folder says the locale (``en-GB/01-diary.png``), and may say the class (``phone/en/01.png``). So does a part of
the file's own name (``01_diary.de.png``), where the app is known to have that locale: many words look like one. Where no folder says the class, the sides say it: the class in which
some store takes the file as it is. The order is that of the names.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass
from pathlib import PurePosixPath

import pycountry

from restless_tide.core.catalogue import catalogue
from restless_tide.core.dossier_folder import name_order
from restless_tide.core.errors import Invalid
from restless_tide.core.locales import locale_of
from restless_tide.core.pictures import PictureFacts, as_it_is, fits
from restless_tide.core.rulebook import Rulebook

_PARTS = re.compile(r"[._ ]+")


@dataclass(frozen=True, slots=True)
class Found:
    """A file with its name within the folder, slashes between, and what it is."""

    name: str
    facts: PictureFacts


@dataclass(frozen=True, slots=True)
class Recognised:
    """Where a file belongs; ``why`` says why nobody can tell, and is empty otherwise."""

    name: str
    sha256: str
    locale: str = ""
    picture_class: str = ""
    why: str = ""


def recognise(
    books: Sequence[Rulebook], files: Iterable[Found], language: str, known: Collection[str] = ()
) -> list[Recognised]:
    """Where each file belongs, in the order of the names; what names no locale is in ``language``.

    ``known`` are the locales that the app has.
    """
    return [_recognised(books, one, language, known) for one in sorted(files, key=lambda one: name_order(one.name))]


def _recognised(books: Sequence[Rulebook], one: Found, language: str, known: Collection[str]) -> Recognised:
    path = PurePosixPath(one.name)
    folders, parts = [*reversed(path.parts[:-1])], _PARTS.split(path.name)[:-1]
    words = [*folders, *parts]
    said = [*map(_locale, folders), *(found for part in parts if (found := _locale(part)) in known)]
    locale = next(filter(None, said), language)
    named = [key for key in catalogue().pictures if key in words and catalogue().pictures[key].form is one.facts.form]
    fitting = named[:1] or _classes(books, one.facts)
    if len(fitting) == 1:
        return Recognised(one.name, one.facts.sha256, locale, fitting[0])
    if fitting:
        why = f"its sides ({one.facts.told()}) fit {', '.join(fitting)}"
    else:
        why = f"no store takes {one.facts.told()} for anything"
    return Recognised(
        one.name, one.facts.sha256, locale, "", f"{why}; put it into a folder that is called as its class is"
    )


def _locale(word: str) -> str:
    if word in catalogue().pictures:
        return ""
    language = word.partition("-")[0].lower()
    known = (
        pycountry.languages.get(**{"alpha_2" if len(language) == 2 else "alpha_3": language})
        if 2 <= len(language) <= 3
        else None
    )
    try:
        return locale_of(word) if known is not None else ""
    except Invalid:
        return ""


def _classes(books: Sequence[Rulebook], facts: PictureFacts) -> list[str]:
    """The classes that name just these sides; without any, those that take the file as it is, or into which it can be made."""
    ways: tuple[Callable[[Rulebook, str], bool], ...] = (
        lambda rules, key: (
            (facts.width, facts.height) in rules.listing.pictures[key].sizes
            and all(not fit.code for fit in fits(rules.listing, key, facts))
        ),
        lambda rules, key: as_it_is(rules.listing, key, facts),
        lambda rules, key: all(not fit.code for fit in fits(rules.listing, key, facts)),
    )
    return next((found for way in ways if (found := _meanings(books, way))), [])


def _meanings(books: Sequence[Rulebook], way: Callable[[Rulebook, str], bool]) -> list[str]:
    found = {meaning for rules in books for key, meaning in rules.listing.picture_meanings().items() if way(rules, key)}
    return [meaning for meaning in catalogue().pictures if meaning in found]
