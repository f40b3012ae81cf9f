"""How what was stopped may come back to people, as a store's rules have it."""

from __future__ import annotations

from enum import StrEnum


class AfterHalt(StrEnum):
    """How a halted rollout may go on."""

    RESUME = "resume"
    NEW_BUILD = "new build"


class AfterWithdraw(StrEnum):
    """How a withdrawn release may come back."""

    OFFER_AGAIN = "offer again"
    NEW_RELEASE = "new release"
