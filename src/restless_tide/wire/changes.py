"""What changed since the builds that people have, and the notes drafted from it."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.wire.base import Told


class SpanTold(Told):
    """What is new at one store; ``from_version`` is None where nobody has a build yet."""

    store: str
    title: str
    from_version: str | None
    from_revision: str | None
    to_revision: str
    commits: int
    limit: int
    counted_in: str
    missing_locales: list[str]


class CodeChangeTold(Told):
    revision: str
    group: str = Field(description="breaking, feat, fix, perf, revert or other")
    kind: str
    scope: str
    summary: str
    breaking: str
    authors: list[str]
    tickets: list[str]
    at: datetime
    new_at: list[str]


class ChangedTold(Told):
    """``draft`` is for people and fits every store; ``whole`` is for the team, as Markdown."""

    spans: list[SpanTold]
    changes: list[CodeChangeTold]
    groups: dict[str, str]
    draft: str
    left_out: int
    whole: str
    remarks: list[str]
