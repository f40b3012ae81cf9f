"""Which package files are kept, and which may be cleared."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from pydantic import BaseModel, ConfigDict, Field

from restless_tide.core.numbers import LONGEST_DAYS


class RetentionRule(BaseModel):
    """Keep the newest builds of each platform, and what is younger; all else may go unless it is in use."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    keep_newest: int = Field(default=10, ge=0, le=10_000, description="builds of each platform")
    keep_days: float = Field(default=90, ge=0, le=LONGEST_DAYS, description="everything that is younger stays")


class Kept(BaseModel):
    """A build as retention sees it; ``in_use`` says why it can never be cleared, or is empty."""

    model_config = ConfigDict(frozen=True)

    build: str
    platform: str
    entered_at: datetime
    in_use: str
    packages: tuple[str, ...]


class Judged(BaseModel):
    model_config = ConfigDict(frozen=True)

    build: str
    cleared: bool
    because: str


def judge(rule: RetentionRule, builds: Sequence[Kept], now: datetime) -> list[Judged]:
    """What becomes of each build, newest first, with the reason in words."""
    found = []
    seen: dict[str, int] = {}
    for build in sorted(builds, key=lambda build: (build.entered_at, build.build), reverse=True):
        place = seen[build.platform] = seen.get(build.platform, 0) + 1
        age = now - build.entered_at
        if build.in_use:
            cleared, because = False, build.in_use
        elif place <= rule.keep_newest:
            cleared, because = False, f"one of the newest {rule.keep_newest} for {build.platform}"
        elif age < timedelta(days=rule.keep_days):
            cleared, because = False, f"{age.days} days old, younger than {rule.keep_days:g} days"
        else:
            cleared, because = True, f"{age.days} days old, {place - rule.keep_newest} past the newest kept"
        found.append(Judged(build=build.build, cleared=cleared, because=because))
    return found
