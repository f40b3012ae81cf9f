"""Apps and their berths."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from restless_tide.wire.base import Told, Wanted


class AppWanted(Wanted):
    name: str = Field(description="short name for commands, such as 'marram'")
    title: str = ""
    identifiers: dict[str, str] = Field(description="identifier by platform: android, ios")


class BerthWanted(Wanted):
    store: str
    listed_name: str = Field(default="", description="the name at the store; the app's title if empty")
    language: str = "en"


class BerthTold(Told):
    app: str
    store: str
    store_title: str
    listed_name: str
    platform: str
    identifier: str
    language: str
    state: Literal["ordered", "open", "refused"]
    refused_because: str | None
    waiting_because: str | None = Field(description="why the order is not confirmed yet, if the store gave trouble")


class AppTold(Told):
    name: str
    title: str
    identifiers: dict[str, str]
    berths: list[BerthTold]
    created_at: datetime
