"""Launch conditions as they are written in one line: ``go-ahead 2 or after 2026-12-01T08:00 Europe/Berlin``."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, datetime, time

from restless_tide.core.conditions import (
    DAYS,
    AnyOf,
    Approved,
    Condition,
    Day,
    GoAhead,
    LaunchHours,
    LiveAt,
    NoReports,
    NotBefore,
    Single,
    TrialSteady,
)
from restless_tide.core.errors import Invalid
from restless_tide.core.report import ReportKind
from restless_tide.core.wall_clock import instant_of, known_zone

LONGEST_CONDITION_TEXT = 500
HOW_TO_WRITE = (
    "go-ahead · go-ahead 2 · go-ahead 2 of ida@example.org,tom@example.org · after 2026-12-01T08:00 Europe/Berlin · "
    "hours mon-fri 08:00-16:00 Europe/Berlin · approved · approved northgate,openfield · live openfield 20% · "
    "trial guests 99.5% 2000 · no-reports crash; with ' or ' between alternatives"
)

_Reads = Callable[[re.Match[str], str], Single]


def _names(words: str | None) -> tuple[str, ...]:
    return tuple(word for word in (words or "").split(",") if word)


def _part(text: str) -> float:
    return round(float(text) / 100, 12)


def _instant(text: str, zone: str) -> datetime:
    told = datetime.fromisoformat(text)
    return told.astimezone(UTC) if told.tzinfo is not None else instant_of(told, known_zone(zone))


def _time(text: str) -> time:
    hours, minutes = (int(part) for part in text.split(":"))
    return time(0) if (hours, minutes) == (24, 0) else time(hours, minutes)


def _days(text: str) -> tuple[Day, ...]:
    found: list[Day] = []
    for part in text.lower().split(","):
        first, _, last = part.partition("-")
        for day in (first, last or first):
            if day not in DAYS:
                raise ValueError(f"{day!r} is no day; they are {', '.join(DAYS)}")
        begin, end = DAYS.index(first), DAYS.index(last or first)
        found += [DAYS[at % len(DAYS)] for at in range(begin, (end if end >= begin else end + len(DAYS)) + 1)]
    return tuple(dict.fromkeys(found))


_FORMS: tuple[tuple[str, _Reads], ...] = (
    (
        r"go-ahead(?: (\d{1,3}))?(?: of (\S+))?",
        lambda found, _: GoAhead(count=int(found[1] or 1), people=_names(found[2])),
    ),
    (
        r"after (\S+)(?: (\S+))?",
        lambda found, zone: NotBefore(instant=_instant(found[1], found[2] or zone), zone=found[2] or zone),
    ),
    (
        r"hours ([a-z,-]+) (\d{1,2}:\d\d) ?[-–] ?(\d{1,2}:\d\d)(?: (\S+))?",
        lambda found, zone: LaunchHours(
            days=_days(found[1]), begins=_time(found[2]), ends=_time(found[3]), zone=found[4] or zone
        ),
    ),
    (r"approved(?: (\S+))?", lambda found, _: Approved(places=_names(found[1]))),
    (r"live (\S+) ([\d.]+) ?%", lambda found, _: LiveAt(place=found[1], share=_part(found[2]))),
    (
        r"trial (.+) ([\d.]+) ?% (\d{1,12})",
        lambda found, _: TrialSteady(cohort=found[1], crash_free=_part(found[2]), sessions=int(found[3])),
    ),
    (r"no-reports(?: (\S+))?", lambda found, _: NoReports(of=ReportKind(found[1]) if found[1] else None)),
)


def parse_condition(text: str, zone: str = "UTC") -> Condition:
    """Read one condition, or several alternatives; ``zone`` is meant where none is said. Raises Invalid."""
    if len(text) > LONGEST_CONDITION_TEXT:
        raise Invalid(f"A condition is written in {LONGEST_CONDITION_TEXT} characters at most.", code="condition-unfit")
    try:
        parts = [_single(" ".join(part.split()), zone) for part in re.split(r"\s+or\s+", text.strip())]
        return parts[0] if len(parts) == 1 else AnyOf(of=tuple(parts))
    except ValueError as wrong:
        errors = getattr(wrong, "errors", None)
        said = str(errors()[0]["msg"]).removeprefix("Value error, ") if errors else str(wrong)
        raise Invalid(
            f"The condition {text!r} does not work: {said}.",
            remedy=f"Write one of: {HOW_TO_WRITE}.",
            code="condition-unfit",
        ) from None


def _single(text: str, zone: str) -> Single:
    for form, read in _FORMS:
        found = re.fullmatch(form, text, re.IGNORECASE)
        if found is not None:
            return read(found, zone)
    raise ValueError(f"{text!r} is none of the forms")
