"""The client library of Restless Tide.

    from restless_tide.client import Tide

    with Tide("http://127.0.0.1:7100", token="tide_…") as tide:
        pushed = tide.builds.push("marram.apk", app="marram", stores=["openfield"])
        tide.releases.steer("marram", "2.4.0", "halt", reason="crashes on start")

Every error is one of the family below; each says what is wrong, where, and how to fix it.
"""

from restless_tide.client.tide import Tide
from restless_tide.wire.errors import (
    Conflict,
    Denied,
    DeskUnreachable,
    ImpossibleAct,
    Invalid,
    NotDrawn,
    NotFound,
    NotReady,
    SecondPersonNeeded,
    StaleView,
    StoreRefused,
    StoreUnreachable,
    TideError,
    TooLarge,
    TooOften,
    Unauthenticated,
)

__all__ = [
    "Conflict",
    "Denied",
    "DeskUnreachable",
    "ImpossibleAct",
    "Invalid",
    "NotDrawn",
    "NotFound",
    "NotReady",
    "SecondPersonNeeded",
    "StaleView",
    "StoreRefused",
    "StoreUnreachable",
    "Tide",
    "TideError",
    "TooLarge",
    "TooOften",
    "Unauthenticated",
]
