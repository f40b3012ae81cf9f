"""Apps and their berths."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.availability import Availability as Availability
from restless_tide.core.berth import BerthState
from restless_tide.core.rulebook import AvailabilityRules
from restless_tide.wire.base import MOST_ENTRIES, OneLine, Ordered, Told, Wanted, Words
from restless_tide.wire.problems import FindingTold
from restless_tide.wire.readiness import ThingTold


class AppWanted(Wanted):
    name: OneLine = Field(description="short name for commands, such as 'marram'")
    title: OneLine = ""
    identifiers: dict[OneLine, OneLine] = Field(
        max_length=MOST_ENTRIES, description="identifier by platform: android, ios, desktop"
    )


class AppChange(Wanted):
    """What is left out stays as it is; an empty identifier takes the platform out."""

    title: OneLine | None = None
    identifiers: dict[OneLine, OneLine] = Field(default_factory=dict, max_length=MOST_ENTRIES)


class BerthWanted(Wanted):
    store: OneLine
    listed_name: OneLine = Field(default="", description="the name at the store; the app's title if empty")
    language: OneLine = "en"


class BerthNameWanted(Wanted):
    name: OneLine = Field(description="the name at the store from now on")
    reason: Words = ""


class BerthTold(Ordered):
    app: str
    store: str
    store_title: str
    listed_name: str
    platform: str
    identifier: str
    language: str
    state: BerthState
    refused_because: str | None
    waiting_because: str | None = Field(description="why the order is not confirmed yet, if the store gave trouble")
    offered: str = Field(description="to whom, where and for how much, as ordered")


class OfferWanted(Wanted):
    availability: Availability
    reason: Words = ""


class OfferSheetTold(Told):
    """What stands against offering the app so, and what a person should know before."""

    findings: list[FindingTold]
    consequences: list[str]


class BerthDetailTold(Ordered):
    berth: BerthTold
    offered: Availability = Field(description="as ordered")
    offered_told: str
    seen: Availability | None = Field(description="as the store was last seen to offer it")
    choices: AvailabilityRules = Field(description="what the store lets one choose")
    things: list[ThingTold]


class AppTold(Told):
    name: str
    title: str
    identifiers: dict[str, str]
    berths: list[BerthTold]
    icon: str | None = Field(description="SHA-256 of the package with its newest icon; none: no package has one")
    created_at: datetime
    retired_at: datetime | None = Field(description="out of use since; nothing new begins with it")
    second_person: bool = Field(description="what brings its releases to people waits for a second person")
