"""The family of errors, as the client raises it again."""

from restless_tide.core.errors import (
    Conflict,
    Denied,
    DeskUnreachable,
    Finding,
    ImpossibleAct,
    Invalid,
    Level,
    NotFound,
    NotReady,
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
    "Finding",
    "ImpossibleAct",
    "Invalid",
    "Level",
    "NotFound",
    "NotReady",
    "StaleView",
    "StoreRefused",
    "StoreUnreachable",
    "TideError",
    "TooLarge",
    "TooOften",
    "Unauthenticated",
]
