"""What the Saltgrass Collective shows of its apps: drawn here, put in as a person would."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Final

from restless_tide.client import Tide
from restless_tide.standins import pictures

_PHONE, _DESKTOP = (1440, 3060), (2400, 1500)
SCREENS: Final[dict[str, dict[str, Sequence[str]]]] = {
    "marram": {
        "en": ("What did you find?", "Sea holly, 14 June", "The tide turns at 16:20"),
        "de": ("Was hast du gefunden?", "Stranddistel, 14. Juni", "Das Wasser kommt um 16:20"),
        "nb": ("Hva fant du?", "Strandtorn, 14. juni", "Sjøen snur klokka 16:20"),
    },
    "ferryglass": {"en": ("Next ferry: 12:40", "Skerry – Farholm")},
    "loam": {"en": ("Bed 3: carrots", "Rain on 11 days")},
}
"""One picture on a phone for each line, by app and language."""
DESKTOP: Final = {"ferryglass": ("All departures of today", "The map of the sound")}
FILMED: Final = ("marram",)


def put_in(tide: Tide, app: str) -> None:
    """Put in the icon, the pictures and the film of an app."""
    with tempfile.TemporaryDirectory() as around:
        folder = Path(around)
        _put(tide, app, "en", "icon", folder, [pictures.icon()])
        for locale, lines in SCREENS[app].items():
            drawn = [pictures.screen(f"{app} {at}", *_PHONE, lines=(said,)) for at, said in enumerate(lines)]
            _put(tide, app, locale, "phone", folder, drawn)
        if app in DESKTOP:
            drawn = [pictures.screen(f"{app} desk {said}", *_DESKTOP, lines=(said,)) for said in DESKTOP[app]]
            _put(tide, app, "en", "desktop", folder, drawn)
        if app in FILMED:
            kept = tide.dossier.keep_picture(pictures.film(folder / "tide.mp4", 9))
            tide.dossier.put_pictures(app, "en", "phone-film", [kept.sha256])


def change_loam(tide: Tide) -> None:
    """Another icon, which does not resemble the packaged one, and a picture that is too small for its store."""
    with tempfile.TemporaryDirectory() as around:
        _put(tide, "loam", "en", "icon", Path(around), [pictures.screen("loam icon", 800, 800, lines=("L",))])
        _put(tide, "loam", "de", "phone", Path(around), [pictures.screen("loam small", 400, 850, lines=("Beet 3",))])


def _put(tide: Tide, app: str, locale: str, picture_class: str, folder: Path, contents: Sequence[bytes]) -> None:
    kept = []
    for content in contents:
        file = folder / "picture.png"
        file.write_bytes(content)
        kept.append(tide.dossier.keep_picture(file).sha256)
    tide.dossier.put_pictures(app, locale, picture_class, kept)
