"""tide build."""

from __future__ import annotations

import sys
from contextlib import AbstractContextManager, nullcontext
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from restless_tide.cli.call import Call, cell, file_argument
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Nouns, app_argument, store_argument
from restless_tide.cli.telling import moment, size
from restless_tide.core.packages import Facts, inspect_package
from restless_tide.wire.builds import BuildTold, ConsignmentTold
from restless_tide.wire.errors import Invalid, NotReady

if TYPE_CHECKING:
    from rich.progress import Progress

_UNDER_WAY = ("queued", "sending", "processing")


def add(nouns: Nouns) -> None:
    nouns.noun("build", "builds: inspect, push, list, show, answer, next")
    parser = nouns.command("build inspect", _inspect, "read what a package file is, without a desk")
    parser.add_argument("file", help="an APK, IPA or MSIX file")
    parser = nouns.command(
        "build push",
        _push,
        "hand a package over and send it to a store",
        description="Reads the package, checks it by the store's rules before a byte travels, hands it to the desk and orders it to the store. It never goes to production by itself.",
    )
    parser.add_argument("file", nargs="+", help="the packages of one build: one, or one per processor kind")
    app_argument(parser)
    store_argument(parser)
    parser.add_argument(
        "--wait",
        nargs="?",
        type=float,
        const=3600.0,
        default=0.0,
        metavar="SECONDS",
        help="wait until the store has processed it (an hour at most, unless you say)",
    )
    parser = nouns.command("build list", _list, "list an app's builds")
    app_argument(parser)
    nouns.command("build show", _show, "one build and where it is").add_argument("id")
    parser = nouns.command("build answer", _answer, "answer what a store holds a build for")
    parser.add_argument("consignment")
    parser.add_argument("answers", nargs="+", metavar="QUESTION=ANSWER")
    parser.add_argument("--wait", type=float, default=10.0, metavar="SECONDS", help="how long to wait for the store")
    parser = nouns.command("build next", _next, "the version and number that may come next at a store, and why")
    app_argument(parser)
    store_argument(parser)
    parser.add_argument("--step", choices=["patch", "minor", "major"], default="patch")


def _read(path: Path) -> Facts:
    with path.open("rb") as source:
        return inspect_package(source)


def _inspect(call: Call) -> None:
    facts = _read(file_argument(call.given.file))
    call.answer(facts, lambda: _show_facts(call, facts))


def _show_facts(call: Call, facts: Facts) -> None:
    table = call.table("", "")
    table.show_header = False
    for name, value in (
        ("format", facts.format),
        ("identifier", facts.identifier),
        ("label", facts.label),
        ("version", facts.version),
        ("number", facts.number),
        ("lowest platform", facts.lowest_platform),
        ("target platform", facts.target_platform),
        ("size", size(facts.size_bytes)),
        ("SHA-256", facts.sha256),
        ("processors", ", ".join(facts.processors) or "any"),
        ("publisher", facts.publisher or ""),
        ("permissions", "\n".join(facts.permissions) or "none"),
    ):
        if value:
            table.add_row(name, cell(value))
    if facts.debuggable:
        table.add_row("debuggable", "yes: no store takes it")
    call.console.print(table)


def _push(call: Call) -> Exit | None:
    given, builds = call.given, call.tide.builds
    paths = [file_argument(name) for name in given.file]
    facts = [_read(path) for path in paths]
    digests = {package.sha256 for package in facts}
    sheet = builds.check(given.app, given.store, facts).findings
    blockers = [finding for finding in sheet if finding.level == "blocker"]
    if blockers:
        known = next(
            (
                build
                for build in builds.of_app(given.app)
                if any(package.sha256 in digests for package in build.packages)
            ),
            None,
        )
        if known is None or not any(entry.store == given.store for entry in known.consignments):
            remedy = " ".join(finding.remedy for finding in blockers)
            raise NotReady(" ".join(finding.detail for finding in blockers), remedy=remedy, code=blockers[0].code)
    packages, had_it = [], True
    for path, package in zip(paths, facts, strict=True):
        with _bar(call, package.size_bytes) as bar:
            task = bar.add_task("to the desk", total=package.size_bytes) if bar else None
            sha256, had_this = builds.hand_over(path, told=partial(_advance, bar, task))
        packages.append(sha256)
        had_it = had_it and had_this
    build = builds.enter(given.app, packages)
    if not call.given.json:
        told = " (the desk had this file already)" if had_it else ""
        call.say(f"Build {build.id}: {given.app} {build.label}{told}")
        for finding in sheet:
            if finding.level != "blocker":
                call.say(f"{finding.level}: {finding.detail}")
    consignment = _follow(call, builds.send(build.id, given.store), given.wait)
    call.answer(consignment, lambda: _tell_consignment(call, consignment))
    return _exit(consignment, waited=bool(given.wait))


def _advance(bar: Progress | None, task: Any, sent: int) -> None:
    if bar is not None:
        bar.update(task, completed=sent)


def _bar(call: Call, size_bytes: int) -> AbstractContextManager[Progress | None]:
    if call.given.json or not sys.stdout.isatty():
        return nullcontext()
    from rich.progress import (  # only when one is drawn
        BarColumn,
        DownloadColumn,
        Progress,
        TextColumn,
        TransferSpeedColumn,
    )

    return Progress(
        TextColumn("{task.description}"), BarColumn(), DownloadColumn(), TransferSpeedColumn(), console=call.console
    )


def _follow(call: Call, consignment: ConsignmentTold, seconds: float) -> ConsignmentTold:
    """Wait for the store, telling each step as it comes."""
    if not seconds:
        return consignment
    last = ""

    def look() -> ConsignmentTold:
        nonlocal last
        seen = call.tide.builds.consignment(consignment.id)
        if seen.state != last and not call.given.json:
            call.aside.print(f"{seen.store_title}: {seen.state}")
        last = seen.state
        return seen

    return call.wait_until(look, lambda seen: seen.state not in _UNDER_WAY, seconds)


def _exit(consignment: ConsignmentTold, *, waited: bool) -> Exit:
    if consignment.state == "refused":
        return Exit.REFUSED
    if consignment.state == "held":
        return Exit.HELD
    return Exit.NOT_CONFIRMED if waited and consignment.state in _UNDER_WAY else Exit.DONE


def _tell_consignment(call: Call, consignment: ConsignmentTold) -> None:
    call.say(f"Consignment {consignment.id} at {consignment.store_title}: {_state(consignment)}")
    for question in consignment.questions if consignment.state == "held" and not consignment.answers else ():
        call.say(f"  It asks: {question.text} ({' or '.join(question.choices)})")
        if question.help:
            call.say(f"  {question.help}")
        call.say(f"  Answer with: tide build answer {consignment.id} {question.code}={question.choices[0]}")


def _state(consignment: ConsignmentTold) -> str:
    if consignment.state == "held" and consignment.answers:
        return "held, answered, not confirmed yet"
    if consignment.reason:
        return f"{consignment.state}: {consignment.reason}"
    if consignment.waiting_because:
        return f"{consignment.state}, ordered, not confirmed: {consignment.waiting_because}"
    if consignment.state == "sending":
        return f"sending, {consignment.sent_bytes / max(consignment.size_bytes, 1):.0%}"
    return str(consignment.state)


def _list(call: Call) -> None:
    found = call.tide.builds.of_app(call.given.app)

    def shown() -> None:
        table = call.table("BUILD", "VERSION", "PLATFORM", "SIZE", "ENTERED", "WHERE")
        for build in found:
            where = "\n".join(f"{entry.store}: {_state(entry)}" for entry in build.consignments) or "at the desk only"
            table.add_row(
                build.id, build.label, build.platform, size(build.size_bytes), moment(build.created_at), cell(where)
            )
        call.show(
            table, empty=f"No builds yet. Push one with: tide build push FILE --app {call.given.app} --store STORE"
        )

    call.answer(found, shown)


def _show(call: Call) -> None:
    build = call.tide.builds.one(call.given.id)
    call.answer(build, lambda: _show_build(call, build))


def _show_build(call: Call, build: BuildTold) -> None:
    call.say(f"Build {build.id}: {build.app} {build.label} for {build.platform}, entered {moment(build.created_at)}")
    for facts in build.packages:
        _show_facts(call, facts)
    for consignment in build.consignments:
        _tell_consignment(call, consignment)


def _answer(call: Call) -> Exit:
    answers = {}
    for word in call.given.answers:
        question, equals, answer = word.partition("=")
        if not equals:
            raise Invalid(f"{word!r} is no answer.", remedy="Write QUESTION=ANSWER.", code="answers-unfit")
        answers[question] = answer
    call.tide.builds.answer(call.given.consignment, answers)
    look = call.tide.builds.consignment
    seen = call.wait_until(lambda: look(call.given.consignment), lambda seen: seen.state != "held", call.given.wait)
    call.answer(seen, lambda: _tell_consignment(call, seen))
    return Exit.NOT_CONFIRMED if seen.state == "held" else _exit(seen, waited=True)


def _next(call: Call) -> None:
    proposal = call.tide.builds.next_numbers(call.given.app, call.given.store, step=call.given.step)

    def shown() -> None:
        call.say(f"{proposal.version} ({proposal.number})")
        for reason in proposal.reasons:
            call.say(f"  {reason}")

    call.answer(proposal, shown)
