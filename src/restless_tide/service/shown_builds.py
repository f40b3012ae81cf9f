"""Numbers, comparisons, retention, signing and changes as the wire shows them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from restless_tide.core.changes import GROUPS
from restless_tide.core.errors import Finding
from restless_tide.core.packages.compare import compare, growth
from restless_tide.core.versions import Proposal
from restless_tide.desk import lapses, packages
from restless_tide.desk.changes import Changed
from restless_tide.records import tables
from restless_tide.service import shown
from restless_tide.wire.builds import (
    AppLapseTold,
    ClearingTold,
    ComparisonTold,
    DifferenceTold,
    GrownTold,
    JudgedTold,
    ProposalTold,
    ReservationTold,
)
from restless_tide.wire.changes import ChangedTold, CodeChangeTold, SpanTold
from restless_tide.wire.problems import findings_told
from restless_tide.wire.signing import DeviceTold, ExpectedTold, LockerFileTold, SigningTold


def proposal(
    app_name: str, stores: Sequence[str], found: Proposal, cautions: Sequence[Finding], reservation: str | None = None
) -> ProposalTold:
    return ProposalTold(
        app=app_name,
        stores=list(stores),
        version=found.version,
        number=found.number,
        reasons=list(found.reasons),
        cautions=findings_told(list(cautions)),
        reservation=reservation,
    )


def reservation(row: tables.Reservation) -> ReservationTold:
    return ReservationTold(
        id=row.id,
        version=row.version,
        number=row.number,
        stores=row.stores,
        label=row.label,
        reserved_by=row.reserved_by,
        reserved_at=row.reserved_at,
    )


def comparison(session: Session, before: tables.Build, after: tables.Build) -> ComparisonTold:
    one, other = (packages.facts_of(row) for row in (before, after))
    return ComparisonTold(
        before=shown.build(session, before),
        after=shown.build(session, after),
        differences=[DifferenceTold.model_validate(found, from_attributes=True) for found in compare(one, other)],
        grown=[GrownTold(name=part.name, by_bytes=part.by_bytes) for part in growth(one, other)],
    )


def clearing(found: packages.Clearing, *, done: bool) -> ClearingTold:
    return ClearingTold(
        rule=found.rule,
        builds=[
            JudgedTold(build=entry.build, label=found.labels[entry.build], cleared=entry.cleared, because=entry.because)
            for entry in found.judged
        ],
        files=len(found.files),
        bytes_free=found.bytes_free,
        bytes_kept=found.bytes_kept,
        done=done,
    )


def lapse(found: lapses.Lapse) -> AppLapseTold:
    return AppLapseTold(what=found.what, until=found.until, then=found.then)


def signing_page(row: tables.Signing) -> SigningTold:
    return SigningTold(
        platform=row.platform,
        holder=row.holder,
        certificates=[ExpectedTold.model_validate(entry) for entry in row.certificates],
        declared=row.declared,
        changed_at=row.changed_at,
        reason=row.reason,
    )


def device(row: tables.TestDevice) -> DeviceTold:
    return DeviceTold(
        id=row.id,
        platform=row.platform,
        name=row.name,
        identifier=row.identifier,
        registered_at=row.registered_at,
        lapses_at=row.lapses_at,
    )


def locker_file(row: tables.LockerFile) -> LockerFileTold:
    return LockerFileTold(
        platform=row.platform,
        kind=row.kind,
        name=row.name,
        sha256=row.sha256,
        size_bytes=row.size_bytes,
        told=row.told,
        lapses_at=row.lapses_at,
        stored_at=row.stored_at,
        stored_by=row.stored_by,
    )


def changed(found: Changed) -> ChangedTold:
    return ChangedTold(
        spans=[SpanTold.model_validate(span, from_attributes=True) for span in found.spans],
        changes=[CodeChangeTold.model_validate(change, from_attributes=True) for change in found.changes],
        groups=GROUPS,
        draft=found.draft,
        left_out=found.left_out,
        whole=found.whole,
        remarks=list(found.remarks),
    )
