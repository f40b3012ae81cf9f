"""Field reports as the wire shows them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from restless_tide.core.crashes import Crash, Frame
from restless_tide.core.crashes.fingerprint import own_frames
from restless_tide.core.report import REPORT, ReportKind
from restless_tide.desk import inbox, people
from restless_tide.records import tables
from restless_tide.service.shown_testing import tester
from restless_tide.wire.reports import (
    BuildNumbersTold,
    DayTold,
    FrameTold,
    GroupTold,
    PictureTold,
    ReportDetailTold,
    ReportTold,
    SymbolFileTold,
    WordTold,
)


def some_reports(session: Session, rows: Sequence[tables.FieldReport]) -> list[ReportTold]:
    alike = inbox.alike(session, rows)
    return [ReportTold.model_validate(_report(row, alike)) for row in rows]


def _report(row: tables.FieldReport, alike: dict[tuple[str, str], int]) -> dict[str, object]:
    first_line = row.text.strip().splitlines()[0] if row.text.strip() else ""
    return {
        "id": row.id,
        "app": row.app.name,
        "app_title": row.app.title,
        "kind": row.kind,
        "state": row.state,
        "possible": REPORT.possible(row.state),
        "headline": row.headline if row.kind is ReportKind.CRASH else (first_line[:160] or "A picture without words"),
        "build": row.build_id,
        "build_label": row.build.label if row.build else None,
        "trial": row.trial_id,
        "cohort": row.trial.cohort.name if row.trial else None,
        "store": row.store.name if row.store else (row.trial.consignment.berth.store.name if row.trial else None),
        "source": row.source,
        "tester": tester(row.tester) if row.tester else None,
        "text": row.text,
        "device": row.device,
        "system": row.system,
        "language": row.language,
        "at": row.at,
        "received_at": row.received_at,
        "changed_at": row.changed_at,
        "fingerprint": row.fingerprint,
        "symbolised": row.symbolised,
        "alike": alike.get((row.app_id, row.fingerprint or ""), 1),
        "fixed_in": row.fixed_in,
        "fixed_label": row.fixed_build.label if row.fixed_build else None,
        "duplicate_of": row.duplicate_of,
        "ticket": row.ticket,
        "pictures": [PictureTold.of(entry, place=entry.position) for entry in row.pictures],
        "answers": len(row.words),
    }


def report(session: Session, row: tables.FieldReport) -> ReportDetailTold:
    frames = [Frame(**entry) for entry in row.frames]
    own = set(own_frames(Crash(row.thrown, "", tuple(frames))))
    names = people.names(session, {word.person_id for word in row.words if word.person_id})
    writer = (row.tester.name or row.tester.email) if row.tester else "the tester"
    joined = inbox.joined_to(session, row)
    return ReportDetailTold.model_validate(
        _report(row, inbox.alike(session, [row]))
        | {
            "thrown": row.thrown,
            "stack": row.stack,
            "frames": [FrameTold(told=frame.told, own=frame in own) for frame in frames],
            "words": [
                WordTold.of(
                    word,
                    who=names.get(word.person_id, word.person_id) if word.person_id else writer,
                    from_desk=word.person_id is not None,
                )
                for word in row.words
            ],
            "joined": list(joined),
        }
    )


def group(found: inbox.Group) -> GroupTold:
    newest = found.newest
    return GroupTold.of(
        found,
        fingerprint=newest.fingerprint or "",
        headline=newest.headline,
        thrown=newest.thrown,
        last_at=newest.received_at,
        newest=newest.id,
    )


def build_numbers(found: inbox.BuildNumbers) -> BuildNumbersTold:
    return BuildNumbersTold.of(
        found,
        build=found.build.id,
        label=found.build.label,
        platform=found.build.platform,
        days=[DayTold(day=day, sessions=sessions, crashed=crashed) for day, sessions, crashed in found.days],
    )


def symbol_file(row: tables.SymbolFile, named: int = 0) -> SymbolFileTold:
    return SymbolFileTold.of(row, build=row.build_id, named=named)
