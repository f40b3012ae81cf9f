"""What the Saltgrass Collective sells inside its apps, and the document by which it may show what others own."""

from __future__ import annotations

import io
import tempfile
from decimal import Decimal
from pathlib import Path
from typing import Final

from PIL import Image

from restless_tide.client import Tide
from restless_tide.core.good import Good, GoodKind, GoodText
from restless_tide.standins import pictures

_SOLD_AT: Final = ("northgate", "openfield")
GOODS: Final[dict[str, dict[str, Good]]] = {
    "marram": {
        "maps-of-the-islands": Good(
            kind=GoodKind.KEPT,
            price=Decimal("4.50"),
            currency="EUR",
            texts={
                "en": GoodText(name="Maps of the islands", description="All dunes and paths, also without a network."),
                "de": GoodText(name="Karten der Inseln", description="Alle Dünen und Wege, auch ohne Netz."),
            },
        ),
        "tides-of-the-year": Good(
            kind=GoodKind.RENEWED,
            price=Decimal("6.00"),
            currency="EUR",
            months=12,
            texts={
                "en": GoodText(
                    name="Tides of the year", description="High and low water for every harbour, a year ahead."
                ),
                "de": GoodText(name="Gezeiten des Jahres", description="Hoch- und Niedrigwasser für jeden Hafen."),
            },
            stores=_SOLD_AT,
        ),
    }
}
_LETTER: Final = ("Skerry Ferries", "", "Ferryglass may show our timetables", "in its app, free of charge,", "until the end of 2031.")  # fmt: skip


def put_in(tide: Tide, app: str) -> None:
    """Enter the goods of an app, each with a picture."""
    with tempfile.TemporaryDirectory() as around:
        for reference, good in GOODS.get(app, {}).items():
            file = Path(around) / f"{reference}.png"
            file.write_bytes(pictures.screen(reference, 900, 900, lines=(good.texts["en"].name,)))
            picture = tide.dossier.keep_picture(file).sha256
            tide.dossier.write_good(app, reference, good.model_copy(update={"picture": picture}))


def hand_in_letter(tide: Tide, app: str) -> None:
    """Answer by a letter that the rights holders allow it."""
    with tempfile.TemporaryDirectory() as around:
        file = Path(around) / "timetables-allowed.pdf"
        drawn = Image.open(io.BytesIO(pictures.screen("letter", 620, 877, lines=_LETTER)))
        drawn.convert("RGB").save(file, "PDF", quality=60)
        kept = tide.dossier.keep_document(file)
    tide.dossier.answer(app, {"rights-paper": dict(kept)})
