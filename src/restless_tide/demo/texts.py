"""What the Saltgrass Collective has written about its apps."""

from __future__ import annotations

from typing import Final

from restless_tide.client import Tide

TEXTS: Final[dict[str, dict[str, dict[str, str]]]] = {
    "marram": {
        "en": {
            "summary": "A nature diary for people who walk along the shore.",
            "description": "Write down what you find between the dunes and the tide line: a shell, a bird, the first sea"
            " lavender of the year.\n\nMarram keeps your finds with the place, the weather and the height of the tide. Its"
            " dune maps show contour lines and can be read in bright sun, also without a network.\n\nNothing leaves your"
            " device unless you share it.",
            "search-words": "nature diary, dunes, shells, birds, tide, walking",
            "support-page": "https://saltgrass.example.org/marram/help",
            "privacy-page": "https://saltgrass.example.org/marram/data",
            "rights-holder": "2026 Saltgrass Collective",
        },
        "de": {
            "summary": "Ein Naturtagebuch für alle, die an der Küste wandern.",
            "description": "Schreib auf, was du zwischen Düne und Spülsaum findest: eine Muschel, einen Vogel, den ersten"
            " Strandflieder des Jahres.\n\nMarram bewahrt deine Funde mit Ort, Wetter und Wasserstand auf. Die Dünenkarten"
            " zeigen Höhenlinien und sind auch in greller Sonne und ohne Netz lesbar.",
            "search-words": "Naturtagebuch, Dünen, Muscheln, Vögel, Gezeiten, Wandern",
            "support-page": "https://saltgrass.example.org/marram/hilfe",
            "privacy-page": "https://saltgrass.example.org/marram/daten",
        },
        "nb": {
            "summary": "En naturdagbok for folk som går langs stranda.",
            "description": "Skriv ned det du finner mellom sanddynene og flomålet: et skjell, en fugl, årets første"
            " strandrisp.\n\nMarram tar vare på funnene dine med sted, vær og vannstand.",
            "search-words": "naturdagbok, sanddyner, skjell, fugler, tidevann",
        },
    },
    "ferryglass": {
        "en": {
            "summary": "Every ferry of the outer islands, with the next departure first.",
            "description": "Ferryglass knows the timetables of eleven lines and says when you have to leave the house.\n\nThe"
            " timetable is kept on the device, so it works in the middle of the sound, too.",
            "search-words": "ferry, timetable, islands, departures",
            "support-page": "https://saltgrass.example.org/ferryglass/help",
            "rights-holder": "2026 Saltgrass Collective",
        },
        "de": {
            "summary": "Alle Fähren der äußeren Inseln, die nächste Abfahrt zuerst.",
            "description": "Ferryglass kennt die Fahrpläne von elf Linien und sagt, wann du losgehen musst.",
        },
    },
    "loam": {
        "en": {
            "summary": "A log of your soil, from the first spade to the harvest.",
            "description": "Write down what you sow, when it rained and how the ground felt. Loam shows how your soil changes"
            " over the years.",
        },
    },
}
LOAM_BEGUN: Final = {"summary": "Ein Tagebuch für deinen Boden: BODEN BODEN BODEN, das ganze Jahr!!!"}
"""A language that was begun and not finished: what the sheet of Loam's first release shows first."""
MARRAM_AT_WRACKLINE: Final = "Write down what you find between the dunes and the tide line. It works without a network."
FERRYGLASS_CHANGED: Final = "Every ferry of the outer islands and of the sound, the next departure first."


def write(tide: Tide, app: str) -> None:
    """Write all texts of an app and send them to every store where it has a place."""
    for locale, texts in TEXTS[app].items():
        tide.dossier.write(app, locale, texts)
    tide.dossier.send(app)
