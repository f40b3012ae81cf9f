"""Pictures that a script has made: put in where they belong by their sides and their names."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from restless_tide.core.recognising import Found, Recognised, recognise
from restless_tide.desk import app_pictures, retiring, texts
from restless_tide.desk.desk import Act
from restless_tide.desk.stores import carrying, rules_of


@dataclass(frozen=True)
class Named:
    """A file that was put in, with its name within its folder."""

    sha256: str
    name: str


def place(act: Act, app_name: str, files: Sequence[Named], *, instead: bool, trial: bool) -> list[Recognised]:
    """Put each file into the set that it belongs to, after what is there or ``instead`` of it; with ``trial`` only say where.

    Returns where each belongs; a file of which nobody can tell is not put in, and keeps no other from it. Raises NotFound
    for a file that was not sent before.
    """
    app = retiring.app_in_use(act.session, app_name)
    known, language = app_pictures.files_of(act.session, {one.sha256 for one in files}), app_pictures.language_of(app)
    books = [rules_of(store) for store in carrying(act.session, app)]
    locales = {*texts.locales_of(act.session, app), *(row.locale for row in app_pictures.of_app(act.session, app))}
    locales |= {locale for rules in books for locale in rules.listing.locales} | {language}
    found = recognise(books, [Found(one.name, known[one.sha256]) for one in files], language, locales)
    if trial:
        return found
    sets: dict[tuple[str, str], list[str]] = {}
    for one in found:
        if not one.why:
            sets.setdefault((one.locale, one.picture_class), []).append(one.sha256)
    for (locale, key), pictures in sets.items():
        before = app_pictures.one(act.session, app, locale, key, None)
        kept = [] if instead or before is None else before.pictures
        app_pictures.put(act, app_name, locale, key, list(dict.fromkeys([*kept, *pictures])))
    return found
