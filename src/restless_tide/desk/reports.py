"""Field reports: received from the tester's page, the stores and the API; sorted, answered, closed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.crashes import Crash, Frame, fingerprint, headline, read_stack, symbolise
from restless_tide.core.crashes.stack import LONGEST_STACK, MOST_FRAMES
from restless_tide.core.errors import Conflict, Invalid, TideError
from restless_tide.core.notice import DeliveryState
from restless_tide.core.report import REPORT, ReportEvent, ReportKind, ReportState
from restless_tide.core.rights import Apps
from restless_tide.desk import find, pictures, symbols
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.pictures import Drawn
from restless_tide.records.tables import (
    App,
    Build,
    FieldReport,
    ReportWord,
    Tester,
    Trial,
)

LONGEST_TEXT = 10_000


@dataclass(frozen=True)
class Filing:
    """What someone reports. A crash has a ``stack`` as text, or ``frames``; ``source_ref`` is a store's own name for it.

    ``drawn`` are pictures that came with it; ``pictures_due`` counts those that have yet to be fetched.
    """

    kind: ReportKind
    text: str = ""
    device: str = ""
    system: str = ""
    language: str = ""
    at: datetime | None = None
    stack: str = ""
    thrown: str = ""
    message: str = ""
    frames: Sequence[Mapping[str, Any]] = ()
    source: str = "api"
    source_ref: str | None = None
    pictures_due: int = 0
    drawn: Sequence[Drawn] = ()


def file(
    desk: Desk,
    act: Act,
    app: App,
    told: Filing,
    *,
    build: Build | None = None,
    trial: Trial | None = None,
    tester: Tester | None = None,
    store_id: str | None = None,
) -> FieldReport:
    """Take a report in beside its build. Raises Invalid where it says nothing."""
    if told.kind is ReportKind.REMARK and not (told.text.strip() or told.pictures_due or told.drawn):
        raise Invalid(
            "The report says nothing.", remedy="Write a line, or send a picture with it.", code="report-empty"
        )
    if len(told.text) > LONGEST_TEXT:
        raise Invalid(
            f"The remark has {len(told.text)} characters; {LONGEST_TEXT} are taken.",
            remedy="Shorten it.",
            code="report-too-long",
        )
    report = FieldReport(
        app_id=app.id,
        build_id=build.id if build else None,
        trial_id=trial.id if trial else None,
        tester_id=tester.id if tester else None,
        store_id=store_id,
        source=told.source,
        source_ref=told.source_ref,
        kind=told.kind,
        text=told.text.strip(),
        device=told.device.strip()[:100],
        system=told.system.strip()[:100],
        language=told.language.strip()[:35],
        at=told.at or act.now,
        received_at=act.now,
        changed_at=act.now,
        pictures_due=told.pictures_due,
    )
    if told.kind is ReportKind.CRASH:
        _write_crash(desk, report, _crash_of(told), told.stack, build)
    act.session.add(report)
    act.session.flush()
    for drawn in told.drawn:
        pictures.attach(desk, act, report, drawn)
    after = {"kind": str(told.kind), "source": told.source, "build": build.id if build else None}
    act.log("report came in", f"report {report.id}", app=app.name, after=after)
    return report


def _crash_of(told: Filing) -> Crash:
    if told.frames:
        return Crash(told.thrown or "crash", told.message, tuple(_frame(entry) for entry in told.frames[:MOST_FRAMES]))
    if len(told.stack) > LONGEST_STACK:
        raise Invalid(
            f"The stack has {len(told.stack)} characters; {LONGEST_STACK} are read.",
            remedy="Cut it.",
            code="stack-too-long",
        )
    found = read_stack(told.stack)
    if found is None:
        raise Invalid(
            "No frame of a stack was found in it.",
            remedy="Send the stack as the runtime prints it, or as frames: module, function, file, line, address.",
            code="stack-unreadable",
        )
    return found


def _frame(entry: Mapping[str, Any]) -> Frame:
    line, address = entry.get("line"), entry.get("address")
    return Frame(
        str(entry.get("module") or "")[:300],
        str(entry.get("function") or "")[:300],
        str(entry.get("file") or "")[:300],
        line if isinstance(line, int) else None,
        address if isinstance(address, int) else None,
    )


def _write_crash(desk: Desk, report: FieldReport, crash: Crash, stack: str, build: Build | None) -> None:
    report.stack = stack or "\n".join(frame.told for frame in crash.frames)
    if build is not None:
        with symbols.of_build(desk, build.id) as files:
            crash = symbolise(crash, files)
    _name(report, crash)


def _name(report: FieldReport, crash: Crash) -> None:
    report.thrown, report.headline, report.fingerprint = crash.thrown, headline(crash), fingerprint(crash)
    report.frames = [asdict(frame) for frame in crash.frames]
    report.symbolised = crash.symbolised


def name_again(desk: Desk, act: Act, build: Build) -> int:
    """New symbol files came for a build: its crashes are read anew. Returns how many got names."""
    found = 0
    wanted = select(FieldReport).where(FieldReport.build_id == build.id, FieldReport.kind == ReportKind.CRASH)
    with symbols.of_build(desk, build.id) as files:
        for report in act.session.scalars(wanted):
            crash = Crash(report.thrown, "", tuple(_frame(entry) for entry in report.frames))
            if report.stack and not report.symbolised:
                crash = read_stack(report.stack) or crash
            named = symbolise(crash, files)
            if named.symbolised:
                _name(report, named)
                found += 1
    return found


# sorting


@dataclass(frozen=True)
class Decision:
    """What is decided of reports: ``build`` in which they are fixed, or the report they are a duplicate of."""

    event: ReportEvent
    build: str | None = None
    duplicate_of: str | None = None
    reason: str = ""


def decide(act: Act, report_id: str, decision: Decision) -> FieldReport:
    """Accept, fix (in a build), mark as the same as another, close or open again. Raises ImpossibleAct, Invalid, NotFound."""
    report = find.report(act.session, report_id)
    before = report.state
    _apply(act, report, decision)
    act.log(
        f"report {_TOLD[decision.event]}",
        f"report {report.id}",
        app=report.app.name,
        reason=decision.reason,
        before={"state": str(before)},
        after={"state": str(report.state), "build": report.fixed_in, "duplicate of": report.duplicate_of},
    )
    return report


def decide_all(
    act: Act, report_ids: Sequence[str], decision: Decision, reach: Apps = None
) -> tuple[list[FieldReport], dict[str, str]]:
    """The same for several, as one act with one line in the logbook.

    Returns those it was done to, and why the others, by what they were called, stay as they are.
    """
    done: dict[str, FieldReport] = {}
    left: dict[str, str] = {}
    for name in dict.fromkeys(report_ids):
        try:
            report = find.report(act.session, name)
            if reach is not None and report.app.name not in reach:
                left[name] = f"you do not keep the reports of {report.app.title}"
            elif report.id not in done:
                _apply(act, report, decision)
                done[report.id] = report
        except TideError as wrong:
            left[name] = wrong.detail
    if done:
        apps = {report.app.name for report in done.values()}
        act.log(
            f"reports {_TOLD[decision.event]}",
            f"{len(done)} reports" if len(done) > 1 else f"report {next(iter(done))}",
            app=apps.pop() if len(apps) == 1 else None,
            reason=decision.reason,
            after={"reports": list(done), "build": decision.build, "duplicate of": decision.duplicate_of},
        )
    return list(done.values()), left


def _apply(act: Act, report: FieldReport, decision: Decision) -> None:
    after = REPORT.after(report.state, decision.event)
    if decision.event is ReportEvent.FIX:
        if decision.build is None:
            raise Invalid("In which build is it fixed?", remedy="Name it: --build ID", code="build-missing")
        report.fixed_in = find.build_of(act.session, report.app, decision.build).id
    if decision.event is ReportEvent.DUPLICATE:
        report.duplicate_of = _root(act.session, report, decision.duplicate_of)
    if decision.event is ReportEvent.REOPEN:
        report.fixed_in = report.duplicate_of = None
    report.state, report.changed_at = after, act.now


_TOLD = {
    ReportEvent.ACCEPT: "accepted",
    ReportEvent.DUPLICATE: "joined to another",
    ReportEvent.FIX: "fixed",
    ReportEvent.CLOSE: "closed",
    ReportEvent.REOPEN: "opened again",
}


def _root(session: Session, report: FieldReport, duplicate_of: str | None) -> str:
    """The report that stands for both; never the report itself."""
    if duplicate_of is None:
        raise Invalid("As which report is it the same?", remedy="Name it: --as ID", code="report-missing")
    other = find.report(session, duplicate_of)
    seen = {report.id}
    while other.duplicate_of is not None and other.id not in seen:
        seen.add(other.id)
        other = find.report(session, other.duplicate_of)
    if other.id == report.id:
        raise Conflict("A report cannot be the same as itself.", remedy="Name the other one.", code="report-itself")
    if other.app_id != report.app_id:
        raise Conflict(
            "They are reports on different apps.", remedy="Name one of the same app.", code="report-elsewhere"
        )
    return other.id


def set_ticket(act: Act, report_id: str, ticket: str) -> FieldReport:
    report = find.report(act.session, report_id)
    before, report.ticket = report.ticket, ticket.strip()[:500]
    act.log(
        "ticket set",
        f"report {report.id}",
        app=report.app.name,
        before={"ticket": before},
        after={"ticket": report.ticket},
    )
    return report


def reply(act: Act, report_id: str, text: str) -> ReportWord:
    """Answer the tester by mail. Raises Conflict where nobody is known who could be answered."""
    report = find.report(act.session, report_id)
    if not text.strip():
        raise Invalid("The answer says nothing.", code="reply-empty")
    if report.tester is None or report.tester.forgotten_at is not None:
        raise Conflict(
            "Nobody is known who sent this report.",
            remedy="Answer in the store, if it came from there.",
            code="nobody-to-answer",
        )
    word = ReportWord(
        report_id=report.id,
        at=act.now,
        person_id=act.person,
        text=text.strip()[:LONGEST_TEXT],
        state=DeliveryState.QUEUED,
    )
    report.words.append(word)
    act.session.flush()
    act.log("report answered", f"report {report.id}", app=report.app.name)
    return word


def answered_by(act: Act, report_id: str, tester_id: str, text: str) -> None:
    """A tester answers the team; an answer to someone else's report, or without a word, changes nothing."""
    report = act.session.get(FieldReport, report_id)
    if report is not None and report.tester_id == tester_id and text.strip():
        heard(act, report, text)


def heard(act: Act, report: FieldReport, text: str) -> ReportWord:
    """The tester wrote back."""
    word = ReportWord(report_id=report.id, at=act.now, person_id=None, text=text.strip()[:LONGEST_TEXT], state=None)
    report.words.append(word)
    if report.state in (ReportState.CLOSED, ReportState.FIXED):
        report.state = REPORT.after(report.state, ReportEvent.REOPEN)
        report.fixed_in = None
    report.changed_at = act.now
    act.session.flush()
    act.log("tester wrote back", f"report {report.id}", app=report.app.name)
    return word
