"""tide report: what comes back from people who test."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

from restless_tide.cli.arranging import find_argument, paged_arguments
from restless_tide.cli.call import Call, cell, file_argument
from restless_tide.cli.exits import Exit
from restless_tide.cli.lists import write_out
from restless_tide.cli.naming import BUILD_HELP, build_of, where_arguments
from restless_tide.cli.parsing import Nouns, Parser, app_argument
from restless_tide.cli.telling import moment
from restless_tide.core.listing import ReportOrder
from restless_tide.core.notice import DeliveryState
from restless_tide.core.report import ReportState
from restless_tide.core.sizes import size
from restless_tide.wire.errors import Invalid, NotFound
from restless_tide.wire.reports import MOST_DECIDED, ReportDetailTold

_BAR = 24


_WHERE = {
    "app": "app",
    "build": "build",
    "cohort": "cohort",
    "kind": "kind",
    "state": "state",
    "group": "group",
    "find": "text",
}
"""Filters of a list by the names that people give them, and by those of the client."""
_MOST_NAMED = 10


def add(nouns: Nouns) -> None:
    nouns.noun("report")
    parser = nouns.command("report list", _list, "the inbox, newest first")
    _filters(parser)
    parser.add_argument("--cohort")
    parser.add_argument("--group", metavar="FINGERPRINT", help="only crashes that are the same")
    paged_arguments(parser, ReportOrder, limit=50, since=True)
    nouns.command("report show", _show, "one report, its stack and its conversation").add_argument("id")
    parser = nouns.command("report add", _file, "file a remark, or a crash from its stack")
    app_argument(parser)
    parser.add_argument("--text", default="")
    parser.add_argument("--stack", metavar="FILE", help="the stack of a crash; - reads it from a pipe")
    parser.add_argument("--build", help="the build's id")
    parser.add_argument("--version")
    parser.add_argument("--number", metavar="NUMBER", help="the build's number, such as 218 or 2.18.3")
    parser.add_argument("--tester", help="id or address of a known tester")
    parser.add_argument("--device", default="")
    parser.add_argument("--system", default="")
    parser.add_argument("--picture", action="append", default=[], metavar="FILE", help="may be given again")
    _decision(nouns, "accept", "take it up")
    _decision(nouns, "close", "nothing more is to be done")
    _decision(nouns, "reopen", "take it up again")
    _decision(nouns, "fix", "it is fixed in a build").add_argument("--build", required=True)
    _decision(nouns, "duplicate", "it is a duplicate of another").add_argument(
        "--as", dest="duplicate_of", required=True, metavar="ID"
    )
    parser = nouns.command("report reply", _reply, "answer the tester by mail")
    parser.add_argument("id")
    parser.add_argument("text", help="- reads it from a pipe")
    parser = nouns.command("report ticket", _ticket, "link it to a ticket")
    parser.add_argument("id")
    parser.add_argument("ticket", help="an address or a number; empty: none")
    parser = nouns.command("report picture", _picture, "fetch a picture")
    parser.add_argument("id")
    parser.add_argument("--place", type=int, default=1)
    parser.add_argument("--to", required=True, metavar="FILE")
    parser = nouns.command("report crashes", _groups, "crashes, equal ones together")
    app_argument(parser)
    parser.add_argument("--build")
    parser = nouns.command("report numbers", _numbers, "who has which build, use, crash-free share, what came back")
    app_argument(parser)
    parser = nouns.command("report symbols", _symbols, "keep, or list, the files that bring names back into stacks")
    parser.add_argument("build", help=BUILD_HELP)
    where_arguments(parser)
    parser.add_argument("file", nargs="*", help="a name map, or the unstripped program; none: list what there is")
    parser = nouns.command("report export", _export, "write reports as CSV, without who sent them")
    _filters(parser)
    find_argument(parser)
    parser.add_argument("--to", default="-", metavar="FILE", help="- or nothing: print it")


def _filters(parser: Parser) -> None:
    parser.add_argument("--app", metavar="APP")
    parser.add_argument("--build")
    parser.add_argument("--kind", choices=["remark", "crash"])
    parser.add_argument("--state", action="append", choices=[*map(str, ReportState)], help="may be given again")


def _decision(nouns: Nouns, verb: str, summary: str) -> Parser:
    parser = nouns.command(f"report {verb}", _decide, summary)
    parser.add_argument("id", nargs="*", help="ids or their beginnings")
    parser.add_argument(
        "--where",
        action="append",
        default=[],
        metavar="FILTER=VALUE",
        help=f"instead of ids, all that fit: {', '.join(_WHERE)}; may be given again",
    )
    parser.add_argument("--yes", action="store_true", help="do not ask before deciding on several")
    parser.add_argument("--reason", default="")
    parser.set_defaults(act=verb)
    return parser


def _asked(call: Call) -> dict[str, object]:
    given = call.given
    return {"app": given.app, "build": given.build, "kind": given.kind, "state": given.state, "text": given.find}


def _list(call: Call) -> None:
    given = call.given
    where = {"cohort": given.cohort, "group": given.group, "since": given.since, "order": given.sort}
    found = call.tide.reports.some(limit=given.limit, **where, **_asked(call))

    def shown() -> None:
        table = call.table("REPORT", "KIND", "STATE", "WHAT", "BUILD", "DEVICE", "FROM", "CAME")
        for report in found:
            who = (report.tester.name or report.tester.email) if report.tester else "unknown"
            what = report.headline + (f" (×{report.alike})" if report.alike > 1 else "")
            table.add_row(
                report.id,
                report.kind,
                _state(report),
                cell(what),
                report.build_label or "",
                cell(report.device),
                cell(who),
                moment(report.received_at),
            )
        asked = any(value for name, value in (where | _asked(call)).items() if name not in ("app", "order"))
        call.show(table, empty="No report matches." if asked else "Nothing has come back yet.")

    call.answer(found, shown)


def _state(report: object) -> str:
    state, build, other = (getattr(report, name) for name in ("state", "fixed_label", "duplicate_of"))
    return f"{state} {build or other or ''}".strip()


def _show(call: Call) -> None:
    report = call.tide.reports.one(call.given.id)
    call.answer(report, lambda: _tell(call, report))


def _tell(call: Call, report: ReportDetailTold) -> None:
    call.say(f"{report.id}: {report.headline}")
    who = f"{report.tester.name} <{report.tester.email}>" if report.tester else "nobody who is known"
    call.say(
        f"  {report.kind}, {_state(report)}; {report.app_title} {report.build_label or '(build not known)'}; from {who}"
    )
    call.say(
        f"  {' '.join(part for part in (report.device, report.system) if part) or 'device not told'}, {moment(report.at)}"
    )
    if report.ticket:
        call.say(f"  Ticket: {report.ticket}")
    if report.text:
        call.say(f"\n{report.text}")
    if report.frames:
        names = "" if report.symbolised else "  (no names: keep the build's symbol file with tide report symbols)"
        call.say(f"\n{report.thrown}{names}")
        for frame in report.frames[:30]:
            call.say(f"  {'▸' if frame.own else ' '} {frame.told}")
        if report.alike > 1:
            call.say(f"  The same {report.alike} times: tide report list --group {report.fingerprint}")
    for picture in report.pictures:
        call.say(f"  Picture {picture.place}: {picture.width} × {picture.height}, {size(picture.size_bytes)}")
    for word in report.words:
        state = f" ({word.state})" if word.state and word.state != DeliveryState.SENT else ""
        call.say(f"\n{word.who}, {moment(word.at)}{state}:\n{word.text}")
    if report.possible:
        call.say(f"\nPossible now: {', '.join(report.possible)}")


def _file(call: Call) -> None:
    given = call.given
    told = {
        "text": given.text,
        "build": given.build,
        "version": given.version,
        "number": given.number,
        "tester": given.tester,
        "device": given.device,
        "system": given.system,
    }
    if given.stack:
        stack = sys.stdin.read() if given.stack == "-" else file_argument(given.stack).read_text(encoding="utf-8")
        told |= {"kind": "crash", "stack": stack}
    pictures = [file_argument(name).read_bytes() for name in given.picture]
    report = call.tide.reports.file(given.app, **{name: value for name, value in told.items() if value})
    for content in pictures:
        report = call.tide.reports.add_picture(report.id, content)
    call.answer(report, lambda: _tell(call, report))


def _decide(call: Call) -> Exit | None:
    given = call.given
    told = {"reason": given.reason}
    if given.act == "fix":
        told["build"] = given.build
    if given.act == "duplicate":
        told["duplicate_of"] = given.duplicate_of
    chosen = _chosen(call)
    if len(given.id) == 1:
        report = call.tide.reports.decide(chosen[0], given.act, **told)
        call.answer(report, lambda: call.say(f"{report.id} is {_state(report)}."))
        return None
    done = call.tide.reports.decide_all(chosen, given.act, **told)

    def shown() -> None:
        for report in done.done:
            call.say(f"{report.id} is {_state(report)}.")
        for left in done.left:
            call.say(f"{left.report} stays as it is: {left.why}")

    call.answer(done, shown)
    return Exit.REFUSED if done.left else None


def _chosen(call: Call) -> list[str]:
    """The reports that are named, or all that fit ``--where``, once a person has seen how many they are."""
    given = call.given
    if bool(given.id) == bool(given.where):
        raise Invalid("Which reports?", remedy="Name their ids, or choose with --where FILTER=VALUE.", code="usage")
    if given.id:
        return list(given.id)
    wish: dict[str, Any] = {}
    for word in given.where:
        name, equals, value = word.partition("=")
        if not equals or name not in _WHERE:
            raise Invalid(f"{word!r} is no filter.", remedy=f"Filters are {', '.join(_WHERE)}.", code="usage")
        wish[_WHERE[name]] = [*wish.get("state", []), value] if name == "state" else value
    found = call.tide.reports.some(limit=MOST_DECIDED, **wish)
    if not found:
        raise NotFound("No report fits that.", remedy="See: tide report list", code="report-unknown")
    for report in found[:_MOST_NAMED]:
        call.aside.print(f"  {report.id}  {report.state}  {report.headline}", markup=False)
    if len(found) > _MOST_NAMED:
        call.aside.print(f"  and {len(found) - _MOST_NAMED} more")
    call.demand_confirmation(f"This will {given.act} {len(found)} report{'s' if len(found) > 1 else ''}.")
    return [report.id for report in found]


def _reply(call: Call) -> None:
    text = sys.stdin.read() if call.given.text == "-" else call.given.text
    report = call.tide.reports.reply(call.given.id, text)
    who = report.tester.email if report.tester else "the tester"
    call.answer(report, lambda: call.say(f"A mail to {who} is queued."))


def _ticket(call: Call) -> None:
    report = call.tide.reports.set_ticket(call.given.id, call.given.ticket)
    call.answer(report, lambda: call.say(f"Ticket of {report.id}: {report.ticket or 'none'}."))


def _picture(call: Call) -> None:
    target = Path(call.given.to)
    target.write_bytes(call.tide.reports.picture(call.given.id, call.given.place))
    call.answer({"file": str(target)}, lambda: call.say(f"Written to {target}."))


def _groups(call: Call) -> None:
    found = call.tide.reports.groups(call.given.app, build=call.given.build)

    def shown() -> None:
        table = call.table("TIMES", "PEOPLE", "OPEN", "CRASH", "BUILDS", "LAST", "FINGERPRINT")
        for group in found:
            builds = ", ".join(f"{label} ×{count}" for label, count in group.builds.items())
            table.add_row(
                str(group.count),
                str(group.people),
                str(group.open),
                cell(group.headline),
                builds,
                moment(group.last_at),
                group.fingerprint[:12],
            )
        call.show(table, empty="No crashes came in.")

    call.answer(found, shown)


def _numbers(call: Call) -> None:
    found = call.tide.reports.numbers(call.given.app)

    def shown() -> None:
        most = max((build.sessions for build in found), default=0)
        table = call.table(
            "BUILD", "INVITED", "ACCEPTED", "ON A DEVICE", "SESSIONS", "", "CRASH-FREE", "REMARKS", "CRASHES", "OPEN"
        )
        for build in found:
            bar = "▇" * round(_BAR * build.sessions / most) if most else ""
            table.add_row(
                build.label,
                str(build.invited),
                str(build.accepted),
                str(build.installed),
                str(build.sessions),
                bar,
                f"{build.crash_free:.2%}" if build.crash_free is not None else "",
                str(build.remarks),
                str(build.crashes),
                str(build.open_reports),
            )
        call.show(table, empty="No build is in people's hands yet. Open a trial with: tide trial open")

    call.answer(found, shown)


def _symbols(call: Call) -> None:
    given = call.given
    build = build_of(call, given.build).id
    kept = [call.tide.reports.keep_symbols(build, file_argument(name)) for name in given.file]
    found = kept or call.tide.reports.symbols(build)

    def shown() -> None:
        table = call.table("FILE", "KIND", "IDENTITY", "SIZE", "KEPT")
        for row in found:
            table.add_row(cell(row.name), row.kind, row.identity, size(row.size_bytes), moment(row.stored_at))
        call.show(table, empty=f"This build has no symbol files. Keep one with: tide report symbols {given.build} FILE")
        named = sum(row.named for row in kept)
        if named:
            call.say(f"{named} crashes that came before have their names now.")

    call.answer(found, shown)


def _export(call: Call) -> None:
    write_out(call, lambda to: call.tide.reports.export(to, **_asked(call)))
