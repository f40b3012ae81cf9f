"""Stores and what they allow."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from pydantic import Field

from restless_tide.wire.base import Told, Wanted


class StoreWanted(Wanted):
    name: str = Field(description="a short name for this account, such as 'northgate'")
    connection: dict[str, Any] = Field(description="the connection file, unchanged", repr=False)


class StoreTold(Told):
    name: str
    title: str
    address: str
    may: list[str] = Field(description="what the key may do there")
    platforms: list[str]
    rulebook_revision: str
    rules: list[str] = Field(description="what the rulebook says, in plain lines")
    ladder_dictated: bool
    connected_at: datetime
    reached_at: datetime | None
    trouble: str | None = Field(description="why the store is not reached now; none when all is well")
    pending_orders: int
