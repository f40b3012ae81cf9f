"""Stores, what they allow, and how they stand."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from pydantic import Field

from restless_tide.core.breaker import BreakerState
from restless_tide.core.order import OrderState
from restless_tide.wire.base import FileText, OneLine, Told, Wanted


class StoreWanted(Wanted):
    name: OneLine = Field(description="a short name for this account, such as 'northgate'")
    connection: dict[str, Any] = Field(description="the connection file, unchanged", repr=False)


class CarriedWanted(Wanted):
    name: OneLine = Field(description="a short name for this store")
    rulebook: FileText = Field(description="its rulebook, as TOML")


class RuleChangeTold(Told):
    place: str
    name: str
    before: str
    after: str


class HitTold(Told):
    """An app, or one of its releases, that an announced revision touches."""

    app: str
    version: str | None
    said: list[str]
    by: datetime


class RevisionTold(Told):
    revision: str
    in_force_since: datetime
    announced_at: datetime | None
    taken_at: datetime | None
    changes: list[RuleChangeTold]


class AnnouncedTold(Told):
    revision: str
    in_force_since: datetime
    changes: list[RuleChangeTold]
    hits: list[HitTold]


class PaperTold(Told):
    name: str
    state: str
    until: datetime | None
    blocks: list[str]


class ExpiryTold(Told):
    """Something of the account that ends, and what it will block."""

    what: str
    until: datetime
    blocks: str


class BreakerTold(Told):
    """``open``: the store failed often and is left alone until ``rests_until``; halts pass through."""

    state: BreakerState
    failures: int
    rests_until: datetime | None


class UntakenTold(Told):
    """An event of a store that the desk could not take; nothing after it waits."""

    sequence: int
    type: str
    why: str
    at: datetime


class RetriedTold(Told):
    """What became of the events that could not be taken before."""

    taken: int
    left: int


class StoreTold(Told):
    name: str
    title: str
    hand_carried: bool
    address: str | None
    may: list[str] = Field(description="what the key may do there")
    missing_rights: dict[str, str] = Field(description="rights the key lacks, and what cannot be done without them")
    platforms: list[str]
    account: str | None
    standing: str | None
    papers: list[PaperTold]
    expiries: list[ExpiryTold] = Field(description="what of the account ends, soonest first")
    blocked: list[str] = Field(description="what stands still now because of the account")
    rulebook_revision: str
    rulebook_trouble: str | None = Field(
        description="why the newest rulebook was not taken; the one before is in force"
    )
    rules: list[str] = Field(description="what the rulebook says, in plain lines")
    revisions: list[RevisionTold] = Field(description="every revision seen, newest first")
    announced: AnnouncedTold | None
    ladder_dictated: bool
    connected_at: datetime
    disconnected_at: datetime | None = Field(description="out of use since; nothing is ordered of it")
    reached_at: datetime | None
    last_event_at: datetime | None = Field(description="the last sighting, by the store's own clock")
    pushes: bool = Field(description="whether the store pushes its events here")
    pushed_at: datetime | None
    forged_events: int = Field(description="pushed events that did not prove their origin, since the service began")
    skew_seconds: float = Field(description="how far the store's clock is from ours")
    breaker: BreakerTold
    trouble: str | None = Field(description="why the store is not reached now; none when all is well")
    untaken: list[UntakenTold] = Field(description="events that the desk could not take, oldest first")
    pending_orders: int = Field(description="on their way, or waiting for the store")
    waiting_steps: int = Field(description="waiting for a person")


class DrillWanted(Wanted):
    store: OneLine | None = Field(default=None, description="none: every connected store")


class DrillTold(Told):
    """A halt that goes the whole way and affects no release; ``seconds`` from the order to the confirmation."""

    order: str
    store: str
    state: OrderState
    seconds: float | None
    attempts: int
    trouble: str | None


class KeyStepsTold(Told):
    steps: list[str]
