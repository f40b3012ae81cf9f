"""What is wanted of a leg, from the wire."""

from __future__ import annotations

from datetime import UTC, datetime

from restless_tide.core.errors import Invalid
from restless_tide.desk import releases
from restless_tide.wire.releases import LegWanted


def leg_wish(wanted: LegWanted) -> releases.LegWish:
    """The wish of a leg; what is left out stays as it is. Raises Invalid for an instant without a zone."""
    instant = wanted.not_before
    return releases.LegWish(
        build=wanted.build,
        ladder=wanted.ladder,
        conditions=wanted.conditions,
        needs_go_ahead=wanted.needs_go_ahead,
        with_other_legs=wanted.with_other_legs,
        not_before=_aware(instant) if instant else None,
        no_date=bool(wanted.no_date) or ("not_before" in wanted.model_fields_set and instant is None),
    )


def _aware(instant: datetime) -> datetime:
    if instant.tzinfo is None:
        raise Invalid(
            f"{instant.isoformat()} has no zone.", remedy="Write it like 2026-12-01T09:00+01:00.", code="instant-unfit"
        )
    return instant.astimezone(UTC)
