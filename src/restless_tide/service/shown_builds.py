"""Numbers, comparisons, retention, signing and changes as the wire shows them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from restless_tide.core.changes import GROUPS
from restless_tide.core.errors import Finding
from restless_tide.core.packages.compare import compare, growth
from restless_tide.core.versions import Proposal
from restless_tide.desk import expiries, packages
from restless_tide.desk.changes import Changed
from restless_tide.records import tables
from restless_tide.service import shown
from restless_tide.wire.builds import (
    AppExpiryTold,
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
    return ReservationTold.of(row)


def comparison(session: Session, before: tables.Build, after: tables.Build) -> ComparisonTold:
    one, other = (packages.facts_of(row) for row in (before, after))
    return ComparisonTold(
        before=shown.build(session, before),
        after=shown.build(session, after),
        differences=[DifferenceTold.model_validate(found, from_attributes=True) for found in compare(one, other)],
        grown=[GrownTold(name=part.name, by_bytes=part.by_bytes) for part in growth(one, other)],
    )


def clearing(found: packages.Clearing, *, done: bool) -> ClearingTold:
    return ClearingTold.of(
        found,
        builds=[JudgedTold.of(entry, label=found.labels[entry.build]) for entry in found.judged],
        files=len(found.files),
        done=done,
    )


def expiry(found: expiries.Expiry) -> AppExpiryTold:
    return AppExpiryTold.of(found)


def signing_page(row: tables.Signing) -> SigningTold:
    return SigningTold.of(row, certificates=[ExpectedTold.model_validate(entry) for entry in row.certificates])


def device(row: tables.TestDevice) -> DeviceTold:
    return DeviceTold.of(row)


def locker_file(row: tables.LockerFile) -> LockerFileTold:
    return LockerFileTold.of(row)


def changed(found: Changed) -> ChangedTold:
    return ChangedTold.of(
        found,
        spans=[SpanTold.model_validate(span, from_attributes=True) for span in found.spans],
        changes=[CodeChangeTold.model_validate(change, from_attributes=True) for change in found.changes],
        groups=GROUPS,
        remarks=list(found.remarks),
    )
