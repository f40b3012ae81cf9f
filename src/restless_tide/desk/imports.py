"""Lists of testers, imported: looked at first, then applied as one act."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, date, datetime
from functools import lru_cache

from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Finding, Level, NotReady
from restless_tide.core.testers import Row, RowKind, Sheet, lookalike, read_testers
from restless_tide.core.trial import SEATED
from restless_tide.desk import cohorts, find, seating
from restless_tide.desk.addresses import mail_address
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.columns import new_id
from restless_tide.records.tables import Cohort, Membership, Tester

_WRITTEN = (RowKind.NEW, RowKind.KNOWN)


@dataclass(frozen=True)
class Import:
    """A list as it was understood, and what taking it in would do or has done."""

    sheet: Sheet
    findings: tuple[Finding, ...]
    applied: bool
    entered: int = 0
    joined: int = 0


@lru_cache(maxsize=100_000)
def _address(text: str) -> str:
    return mail_address(text)


def look(
    session: Session, content: bytes, mapping: dict[str, str], app_name: str | None, cohort_name: str | None
) -> Import:
    """What would become of each row, and whether the stores have seats for those who would come. Raises Invalid."""
    cohort = _cohort(session, app_name, cohort_name)
    sheet = _read(session, content, mapping, cohort)
    findings = _seat_findings(session, cohort, sheet) if cohort else []
    bad = sheet.of(RowKind.BAD)
    if bad:
        findings.append(
            Finding(
                "rows-bad",
                Level.BLOCKER,
                f"{len(bad)} of {len(sheet.rows)} rows cannot be taken, the first on line {bad[0].line}: {bad[0].said}.",
                "list",
                "Fix them in the file, or leave them out: --skip-bad.",
            )
        )
    return Import(sheet, tuple(findings), applied=False)


def apply(
    desk: Desk,
    person: str,
    content: bytes,
    mapping: dict[str, str],
    app_name: str | None,
    cohort_name: str | None,
    *,
    skip_bad: bool,
) -> Import:
    """Import a list, all of it or nothing; one line in the logbook. Raises NotReady with every bad row's reason, or seats short."""
    with desk.act(person) as act:
        cohort = _cohort(act.session, app_name, cohort_name)
        sheet = _read(act.session, content, mapping, cohort)
        bad = sheet.of(RowKind.BAD)
        if bad and not skip_bad:
            raise NotReady(
                f"{len(bad)} of {len(sheet.rows)} rows cannot be taken; nothing was changed.",
                code="rows-bad",
                remedy="Fix them in the file, or leave them out: --skip-bad.",
                findings=[
                    Finding("row-bad", Level.BLOCKER, f"{row.raw!r}: {row.said}", f"line {row.line}")
                    for row in bad[:500]
                ],
            )
        new, known = _enter(act, sheet)
        joined = _join(act, cohort, [*new, *(tester.id for tester in known)]) if cohort else 0
        app = cohort.app.name if cohort else None
        subject = f"cohort {cohort.name}" if cohort else "testers"
        after = {"rows": len(sheet.rows), "new": len(new), "known": len(known), "bad, left out": len(bad)}
        act.log("testers imported", subject, app=app, after=after)
        return Import(sheet, (), applied=True, entered=len(new), joined=joined)


def _cohort(session: Session, app_name: str | None, cohort_name: str | None) -> Cohort | None:
    if app_name is None or cohort_name is None:
        return None
    return find.cohort(session, find.app(session, app_name), cohort_name)


def _read(session: Session, content: bytes, mapping: dict[str, str], cohort: Cohort | None) -> Sheet:
    known = session.scalars(select(Tester.email).where(Tester.forgotten_at.is_(None))).all()
    already: list[str] = []
    if cohort is not None:
        inside = select(Tester.email).join(Membership, Membership.tester_id == Tester.id)
        already = list(session.scalars(inside.where(Membership.cohort_id == cohort.id)))
    return read_testers(content, _address, known=known, already=already, mapping=mapping)


def _seat_findings(session: Session, cohort: Cohort, sheet: Sheet) -> list[Finding]:
    """Whether those who would come fit into the trials under way; who is not entered yet goes by the address."""
    rows, known = sheet.of(*_WRITTEN), _known(session, sheet)
    coming = [
        Tester(
            id=known[row.address].id if row.address in known else row.address,
            email=row.address,
            platforms=[*(known[row.address].platforms if row.address in known else ()), *row.platforms],
        )
        for row in rows
    ]
    found = []
    for trial in cohorts.under_way(cohort):
        if trial.state in SEATED:
            fit = seating.who_may_install(trial.consignment.build, coming)
            found += seating.findings(session, trial, fit)
    return found


def _known(session: Session, sheet: Sheet) -> dict[str, Tester]:
    """Those of the list whom the desk knows, by address."""
    wanted = [row.address for row in sheet.of(RowKind.KNOWN)]
    return {tester.email: tester for tester in find.testers_with(session, Tester.email, wanted)}


def _enter(act: Act, sheet: Sheet) -> tuple[list[str], list[Tester]]:
    """The ids of those who are new, and the rows of those who were known."""
    rows = sheet.of(RowKind.NEW)
    fresh = [
        {
            "id": new_id("te"),
            "email": row.address,
            "name": row.name[:200],
            "created_at": act.now,
            "platforms": list(row.platforms),
            "languages": list(row.languages),
            "devices": list(row.devices),
            "tags": list(row.tags),
            "lookalike": lookalike(row.address),
            "consented_at": _day(row.consented),
            "consent_how": "with an imported list" if _day(row.consented) else "",
            "mailed": [],
        }
        for row in rows
    ]
    if fresh:
        act.session.connection().execute(insert(Tester), fresh)
        act.session.changed.add(Tester)
    found, known = _known(act.session, sheet), sheet.of(RowKind.KNOWN)
    for row in known:
        _add_to(found[row.address], row)
    return [str(entry["id"]) for entry in fresh], [found[row.address] for row in known]


def _add_to(tester: Tester, row: Row) -> None:
    """A list adds to what is known and takes nothing away."""
    tester.name = row.name[:200] or tester.name
    for field in ("platforms", "languages", "devices", "tags"):
        said = getattr(row, field)
        if said:
            setattr(tester, field, list(dict.fromkeys([*getattr(tester, field), *said]))[:50])
    day = _day(row.consented)
    if day and tester.consented_at is None:
        tester.consented_at, tester.consent_how = day, "with an imported list"


def _join(act: Act, cohort: Cohort, people: list[str]) -> int:
    inside = cohorts.inside_of(act.session, cohort)
    coming = [tester for tester in people if tester not in inside]
    cohorts.put_in_by_id(act, cohort, coming, "with an imported list")
    return len(coming)


def _day(text: str) -> datetime | None:
    """A date as the list tells it, or None; ISO 8601, or day.month.year."""
    if not text:
        return None
    for reading in (date.fromisoformat, lambda said: datetime.strptime(said, "%d.%m.%Y").date()):  # noqa: DTZ007
        try:
            day = reading(text.strip()[:10])
        except ValueError:
            continue
        return datetime(day.year, day.month, day.day, tzinfo=UTC)
    return None
