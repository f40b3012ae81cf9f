"""What the Saltgrass Collective has answered about its apps."""

from __future__ import annotations

from typing import Any, Final

from restless_tide.client import Tide

_NOTHING: Final[dict[str, list[str]]] = {
    kind: [] for kind in ("location", "pictures", "sound", "contacts", "health", "purchases", "crashes")
}
_QUIET: Final[dict[str, Any]] = {
    "violence": "none",
    "open-talk": "none",
    "audience": ["youths", "adults"],
    "encryption": "system",
    "advertising": "none",
    "selling": "none",
    "third-party-content": "none",
    "news": "no",
}
ANSWERS: Final[dict[str, dict[str, Any]]] = {
    "marram": _QUIET
    | {
        "category": "nature",
        "tags": ["diary", "maps", "offline"],
        "selling": "goods",
        "third-party-content": "users",
        "gathered-data": _NOTHING
        | {"location": ["gathered", "optional"], "pictures": ["gathered", "optional"], "crashes": ["gathered"]},
    },
    "ferryglass": _QUIET
    | {
        "category": "travel",
        "tags": ["timetable", "offline", "volunteers"],
        "contact-mail": "stores@saltgrass.example.org",
        "third-party-content": "allowed",
        "youngest-age": 8,
        "reviewer-sign-in": "no",
        "gathered-data": _NOTHING | {"crashes": ["gathered"]},
    },
    "loam": _QUIET | {"category": "home", "audience": ["adults"], "gathered-data": _NOTHING},
}
OWN: Final[dict[str, dict[str, dict[str, Any]]]] = {
    "marram": {
        "northgate": {
            "ground": "yes",
            "ground-warning": "The app shows when the tide comes in and says when it is time to turn back.",
        },
        "openfield": {"calls-a-day": 2},
    },
    "ferryglass": {"northgate": {"ground": "no"}, "slatehouse": {"give-back": 14}},
    "loam": {"openfield": {"calls-a-day": 1}},
}
LOAM_CHANGED: Final = {"advertising": "others"}
"""An answer that another question follows: whether costs are shown before, which nobody has answered yet."""


def give(tide: Tide, app: str) -> None:
    """Give all answers about an app: those of every store, and those of single ones."""
    tide.dossier.answer(app, ANSWERS[app])
    for store, answers in OWN[app].items():
        tide.dossier.answer(app, answers, store=store)
