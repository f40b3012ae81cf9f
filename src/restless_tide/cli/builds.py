"""tide build: inspect, check, compare, list, show, answer, keep, clear."""

from __future__ import annotations

from restless_tide.cli import comparing, inspecting, numbers, push
from restless_tide.cli import facts as sheets
from restless_tide.cli.arranging import paged_arguments
from restless_tide.cli.call import Call, cell, file_argument
from restless_tide.cli.exits import Exit
from restless_tide.cli.naming import BUILD_HELP, build_of, consignment_of, where_arguments
from restless_tide.cli.parsing import Nouns, app_argument, span, store_argument, stores_argument
from restless_tide.cli.push import exit_of, state_of, tell_consignment
from restless_tide.cli.telling import moment
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.listing import BuildOrder
from restless_tide.core.sizes import size
from restless_tide.wire.builds import BuildTold, ClearingTold, RetentionRule
from restless_tide.wire.errors import Invalid


def add(nouns: Nouns) -> None:
    nouns.noun("build")
    inspecting.commands(nouns)
    comparing.commands(nouns)
    parser = nouns.command(
        "build check",
        _check,
        "what stands against sending packages to a store, before anything is sent",
        description="Prints the readiness sheet. The exit code follows its worst line: 1 for a blocker, 7 for a caution.",
    )
    parser.add_argument("file", nargs="+", help="the packages of one build")
    app_argument(parser)
    stores_argument(parser)
    push.add(nouns)
    parser = nouns.command("build list", _list, "list an app's builds")
    app_argument(parser)
    parser.add_argument("--platform", help="android, ios or desktop")
    parser.add_argument("--state", help="only builds that are so at a store: held, ready, refused …")
    paged_arguments(parser, BuildOrder, limit=30, since=True)
    parser = nouns.command("build show", _show, "one build and where it is")
    parser.add_argument("build", help=BUILD_HELP)
    where_arguments(parser)
    parser = nouns.command("build answer", _answer, "answer what a store holds a build for")
    parser.add_argument("consignment", help="its id; with --store, the build: " + BUILD_HELP)
    parser.add_argument("--store", metavar="STORE", help="the store that asks")
    where_arguments(parser)
    parser.add_argument("answers", nargs="+", metavar="QUESTION=ANSWER")
    parser.add_argument("--standing", action="store_true", help="give the same answers automatically from now on")
    parser.add_argument("--anyway", action="store_true", help="also an answer for which the store refuses the build")
    parser.add_argument("--wait", type=span, default=10.0, metavar="SECONDS", help="how long to wait for the store")
    parser = nouns.command("build answers", _answers, "what is answered automatically when a store asks")
    app_argument(parser)
    store_argument(parser)
    parser.add_argument("--forget", metavar="QUESTION", help="have a person answer this one again")
    numbers.add(nouns)
    parser = nouns.command("build keep", _keep, "set which package files the desk keeps")
    app_argument(parser)
    parser.add_argument("--newest", type=int, required=True, help="builds of each platform")
    parser.add_argument("--days", type=span, required=True, help="and everything that is younger")
    parser = nouns.command(
        "build clear",
        _clear,
        "clear package files that the rule lets go",
        description="What is live, in review, on trial or on its way is never cleared. Facts and history stay.",
    )
    app_argument(parser)
    parser.add_argument("--dry-run", action="store_true", help="only say what would be cleared")
    parser.add_argument("--newest", type=int, help="another rule, this once")
    parser.add_argument("--days", type=span, help="another rule, this once")
    parser.add_argument("--yes", action="store_true", help="do not ask")


def _check(call: Call) -> Exit:
    packages = [sheets.read(file_argument(name)) for name in call.given.file]
    found = call.tide.builds.check(call.given.app, packages, *call.given.store)

    def shown() -> None:
        for sheet in found:
            if sheet.there:
                call.say(f"{sheet.store_title} has this build already.")
            else:
                sheets.show_sheet(call, sheet.store, sheet.findings)

    call.answer(found, shown)
    return sheets.exit_of([finding for sheet in found for finding in sheet.findings])


def _list(call: Call) -> None:
    given = call.given
    found = call.tide.builds.of_app(
        given.app,
        limit=given.limit,
        platform=given.platform,
        state=given.state,
        text=given.find or None,
        order=given.sort,
        since=given.since,
    )

    def shown() -> None:
        table = call.table("BUILD", "VERSION", "PLATFORM", "SIZE", "ENTERED", "WHERE")
        for build in found:
            where = "\n".join(f"{entry.store}: {state_of(entry)}" for entry in build.consignments) or "at the desk only"
            where += "\nfile cleared" if build.cleared else ""
            table.add_row(
                build.id, build.label, build.platform, size(build.size_bytes), moment(build.created_at), cell(where)
            )
        wished = given.platform or given.state or given.find
        push_one = f"No builds yet. Push one with: tide build push FILE --app {given.app} --store STORE"
        call.show(table, empty="No build is like that." if wished else push_one)
        if len(found) == given.limit:
            call.say(f"The first {given.limit}; see more with --limit, or find one with --find.")

    call.answer(found, shown)


def _show(call: Call) -> None:
    build = build_of(call, call.given.build)
    call.answer(build, lambda: _show_build(call, build))


def _show_build(call: Call, build: BuildTold) -> None:
    call.say(f"Build {build.id}: {build.app} {build.label} for {build.platform}, entered {moment(build.created_at)}")
    if build.revision:
        call.say(f"Made of {build.revision[:12]}{f' in {build.repository}' if build.repository else ''}")
    if build.cleared:
        call.say("Its files were cleared; push them again before it can be sent.")
    elif build.in_use:
        call.say(f"Its files are kept: {build.in_use}.")
    if build.expires_at:
        call.say(f"Nobody can start it after {moment(build.expires_at)}.")
    for found in build.packages:
        sheets.show_facts(found)
    for consignment in build.consignments:
        tell_consignment(call, consignment)


def _answer(call: Call) -> Exit:
    answers = {}
    for word in call.given.answers:
        question, equals, answer = word.partition("=")
        if not equals:
            raise Invalid(f"{word!r} is no answer.", remedy="Write QUESTION=ANSWER.", code="answers-unfit")
        answers[question] = answer
    given = call.given
    consignment, look = consignment_of(call), call.tide.builds.consignment
    call.tide.builds.answer(consignment, answers, standing=given.standing, anyway=given.anyway)
    seen = call.wait_until(lambda: look(consignment), lambda seen: seen.state != ConsignmentState.HELD, call.given.wait)
    call.answer(seen, lambda: tell_consignment(call, seen))
    return Exit.NOT_CONFIRMED if seen.state == ConsignmentState.HELD else exit_of(seen, waited=True)


def _answers(call: Call) -> None:
    given = call.given
    if given.forget:
        call.tide.builds.forget_answer(given.app, given.store, given.forget)
    found = call.tide.builds.standing_answers(given.app, given.store)

    def shown() -> None:
        table = call.table("QUESTION", "ANSWER", "GIVEN", "")
        for entry in found:
            table.add_row(entry.code, entry.answer, moment(entry.given_at), cell(entry.text))
        call.show(
            table, empty="Nothing is answered automatically here. Keep an answer with: tide build answer … --standing"
        )

    call.answer(found, shown)


def _keep(call: Call) -> None:
    found = call.tide.builds.set_retention(call.given.app, keep_newest=call.given.newest, keep_days=call.given.days)
    call.answer(found, lambda: _tell_clearing(call, found))


def _clear(call: Call) -> None:
    given, builds = call.given, call.tide.builds
    rule = None
    if given.newest is not None or given.days is not None:
        own = builds.retention(given.app).rule
        rule = RetentionRule(
            keep_newest=own.keep_newest if given.newest is None else given.newest,
            keep_days=own.keep_days if given.days is None else given.days,
        )
    found = builds.clear(given.app, dry_run=True, rule=rule)
    consequence = (
        f"{found.files} package files go, {size(found.bytes_free)}. They can be pushed again, but not recovered."
    )
    if not given.dry_run and found.files and call.confirm(consequence):
        found = builds.clear(given.app, dry_run=False, rule=rule)
    call.answer(found, lambda: _tell_clearing(call, found))


def _tell_clearing(call: Call, found: ClearingTold) -> None:
    call.say(
        f"Kept: the newest {found.rule.keep_newest} of each platform, and what is younger than {found.rule.keep_days:g} days."
    )
    table = call.table("BUILD", "VERSION", "", "BECAUSE")
    for entry in found.builds:
        gone = ("cleared" if found.done else "would go") if entry.cleared else "stays"
        table.add_row(entry.build, entry.label, gone, cell(entry.because))
    call.show(table, empty="No package file is kept for this app.")
    word = "Cleared" if found.done else "Would be cleared"
    call.say(f"{word}: {found.files} files, {size(found.bytes_free)}. Stays: {size(found.bytes_kept)}.")
