"""tide build push: from a file to every store in one line, for people and for build servers."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from restless_tide.cli import facts as sheets
from restless_tide.cli.call import Call, file_argument
from restless_tide.cli.exits import Exit
from restless_tide.cli.naming import BUILD_HELP, build_of
from restless_tide.cli.parsing import Nouns, Parser, app_argument, span, stores_argument
from restless_tide.core.consignment import ON_ITS_WAY, ConsignmentState
from restless_tide.core.packages import Facts
from restless_tide.core.readiness import demand_ready, of_stores
from restless_tide.core.sizes import size
from restless_tide.core.trial import BEFORE_PEOPLE, TrialState
from restless_tide.wire.builds import ConsignmentTold, QuestionTold
from restless_tide.wire.cohorts import TrialTold
from restless_tide.wire.errors import Invalid
from restless_tide.wire.problems import findings_of
from restless_tide.wire.push import HandOnWanted, PushTold
from restless_tide.wire.tracks import HowPlaced, PlacedTold

if TYPE_CHECKING:
    from rich.progress import Progress

_WORST_FIRST = (Exit.REFUSED, Exit.HELD, Exit.NOT_CONFIRMED)
_TRIAL_SECONDS = 30.0
_HOUR = 3600.0


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "build push",
        _push,
        "hand a build over and send it to stores",
        description="Reads the packages, checks them by every store's rules before a byte travels, hands them to the desk and "
        "orders them to the stores that take them; packages of several platforms become a build each. An upload that was cut off continues where it stopped. It never goes to production automatically.",
    )
    parser.add_argument("file", nargs="+", help="packages: one, one per processor kind, and of several platforms")
    app_argument(parser)
    stores_argument(parser)
    parser.add_argument(
        "--track", action="append", default=[], metavar="STORE/TRACK",
        help="place it there as soon as the store has it ready; may be given again",
    )  # fmt: skip
    _what_follows(parser)
    parser.add_argument("--revision", help="the source it was made of; read from --source, unless you say")
    parser.add_argument("--repository", help="where that source lies, below the desk's repositories")
    parser.add_argument("--source", metavar="FOLDER", help="a git work tree to read the revision from")
    parser = nouns.command("build send", _send, "send a build that is at the desk to more stores")
    parser.add_argument("build", help=BUILD_HELP)
    app_argument(parser)
    parser.add_argument("--platform", help="android, ios or desktop, where the name alone is not enough")
    stores_argument(parser)
    _what_follows(parser)


def _what_follows(parser: Parser) -> None:
    parser.add_argument("--trial", metavar="COHORT", help="hand it to this cohort as soon as a store has it ready")
    parser.add_argument("--notes", default="", help="what the cohort is asked to try; its own brief, unless you say")
    parser.add_argument(
        "--contact", default="", help="the address testers answer to; the cohort's or yours, unless you say"
    )
    parser.add_argument(
        "--wait",
        nargs="?",
        type=span,
        const=_HOUR,
        default=0.0,
        metavar="SECONDS",
        help="wait until the stores have processed it (an hour at most, unless you say)",
    )


class _Batch(NamedTuple):
    """The packages of one build, and the stores it goes to; none: every one that takes it."""

    paths: list[Path]
    packages: list[Facts]
    stores: list[str]
    tracks: list[str]


def _push(call: Call) -> Exit | None:
    given = call.given
    paths = [file_argument(name) for name in given.file]
    batches = _batches(call, paths, [sheets.read(path) for path in paths])
    revision = given.revision or (_revision(given.source) if given.source else None)
    _demand_fit(call, batches)
    pushed = [_hand_over(call, batch, revision) for batch in batches]
    return _finish(call, pushed)


def _batches(call: Call, paths: Sequence[Path], packages: Sequence[Facts]) -> list[_Batch]:
    """One build for each platform; each goes to those of the named stores that carry its platform."""
    given = call.given
    platforms = list(dict.fromkeys(package.platform for package in packages))
    if len(platforms) == 1:
        return [_Batch(list(paths), list(packages), list(given.store), list(given.track))]
    carries = {berth.store: berth.platform for berth in call.tide.apps.one(given.app).berths}
    batches = []
    for platform in platforms:
        stores = [name for name in given.store if carries.get(name, platform) == platform]
        tracks = [at for at in given.track if carries.get(at.partition("/")[0], platform) == platform]
        if (given.store or given.track) and not (stores or tracks):
            raise Invalid(
                f"None of the named stores carries {platform}.",
                remedy="Name one, or leave --store and --track out.",
                code="usage",
            )
        of = [(path, package) for path, package in zip(paths, packages, strict=True) if package.platform == platform]
        batches.append(_Batch([path for path, _ in of], [package for _, package in of], stores, tracks))
    return batches


def _hand_over(call: Call, batch: _Batch, revision: str | None) -> PushTold:
    given, builds, digests, had_it = call.given, call.tide.builds, list[str](), True
    for path, package in zip(batch.paths, batch.packages, strict=True):
        with bar(call) as shown:
            task = shown.add_task(f"{path.name} to the desk", total=package.size_bytes) if shown else None
            sha256, had_this = builds.hand_over(path, sha256=package.sha256, told=partial(_advance, shown, task))
        digests.append(sha256)
        had_it = had_it and had_this
    done = builds.push_packages(
        given.app, digests, stores=batch.stores, revision=revision, repository=given.repository, hand_on=_hand_on(call),
        tracks=batch.tracks, how=_how(call) if batch.tracks else None,
    )  # fmt: skip
    if not given.json:
        told = " (the desk had this file already)" if had_it else ""
        call.say(f"Build {done.build.id}: {given.app} {done.build.label} for {done.build.platform}{told}")
    return done


def _send(call: Call) -> Exit | None:
    given = call.given
    build = build_of(call, given.build).id
    return _finish(call, [call.tide.builds.send(given.app, build, *given.store, hand_on=_hand_on(call))])


def _hand_on(call: Call) -> HandOnWanted | None:
    given = call.given
    if not given.trial:
        return None
    return HandOnWanted(cohorts=[given.trial], brief={"en": given.notes} if given.notes else {}, contact=given.contact)


def _how(call: Call) -> HowPlaced:
    given = call.given
    return HowPlaced(brief={"en": given.notes} if given.notes else {}, contact=given.contact)


def _finish(call: Call, pushed: Sequence[PushTold]) -> Exit | None:
    """Wait where that was asked for, and tell what became of it."""
    given, waited = call.given, bool(call.given.wait)
    consignments = follow(call, [entry for done in pushed for entry in done.consignments], given.wait)
    trials = [trial for done in pushed for trial in done.trials]
    ready = {entry.store for entry in consignments if entry.state == ConsignmentState.READY}
    if waited and trials:
        ids = [trial.id for trial in trials]
        trials = call.wait_until(
            lambda: [call.tide.testing.trial(trial_id) for trial_id in ids],
            lambda found: not any(trial.store in ready and trial.state in BEFORE_PEOPLE for trial in found),
            min(given.wait, _TRIAL_SECONDS),
        )
    told = [
        {
            "build": call.tide.builds.one(done.build.id),
            "consignments": [entry for entry in consignments if entry.build == done.build.id],
            "trials": [trial for trial in trials if trial.build == done.build.id],
            "placed": done.placed,
        }
        for done in pushed
    ]

    def shown() -> None:
        for consignment in consignments:
            tell_consignment(call, consignment)
        for trial in trials:
            _tell_trial(call, trial)
        for placed in (placed for done in pushed for placed in done.placed if not placed.trials):
            _tell_placed(call, placed)

    call.answer(told if len(told) > 1 else told[0], shown)
    exits = {exit_of(entry, waited=waited) for entry in consignments}
    return next((code for code in _WORST_FIRST if code in exits), None)


def _demand_fit(call: Call, batches: Sequence[_Batch]) -> None:
    """Check all at every store before a byte travels; when one would refuse, nothing is sent anywhere. Raises NotReady."""
    sheets_told = [
        sheet
        for batch in batches
        for sheet in call.tide.builds.check(call.given.app, batch.packages, *_stores_of(batch))
    ]
    if not call.given.json:
        for sheet in sheets_told:
            if sheet.findings:
                sheets.show_sheet(call, sheet.store, sheet.findings)
    found = of_stores((sheet.store, findings_of(sheet.findings)) for sheet in sheets_told)
    demand_ready(found, f"Nothing was sent. Sending {'these builds' if len(batches) > 1 else 'this build'}")


def _stores_of(batch: _Batch) -> list[str]:
    return list(dict.fromkeys([*batch.stores, *(at.partition("/")[0] for at in batch.tracks)]))


def _revision(folder: str) -> str:
    if not Path(folder).is_dir():
        raise Invalid(f"There is no folder {folder}.", code="folder-missing")
    try:
        said = subprocess.run(
            ["git", "-C", folder, "rev-parse", "HEAD"],  # noqa: S607  (git, wherever it is installed)
            capture_output=True,
            check=True,
            text=True,
        )
    except (OSError, subprocess.CalledProcessError):
        raise Invalid(
            f"git knows no revision in {folder}.", remedy="Name it yourself: --revision", code="revision-missing"
        ) from None
    return said.stdout.strip()


def _advance(shown: Progress | None, task: Any, sent: int) -> None:
    if shown is not None:
        shown.update(task, completed=sent)


def bar(call: Call) -> AbstractContextManager[Progress | None]:
    """A progress bar for a person at a terminal, nothing for a program."""
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


def follow(call: Call, consignments: Sequence[ConsignmentTold], seconds: float) -> list[ConsignmentTold]:
    """Wait for every store, telling each step as it comes; what is answered by a standing answer continues automatically."""
    if not seconds:
        return list(consignments)
    last: dict[str, str] = {}

    def look() -> list[ConsignmentTold]:
        seen = [call.tide.builds.consignment(entry.id) for entry in consignments]
        for entry in seen:
            if entry.state != last.get(entry.id) and not call.given.json:
                call.aside.print(f"{entry.store_title}: {entry.state}")
            last[entry.id] = entry.state
        return seen

    return call.wait_until(look, lambda seen: not any(_moves(entry) for entry in seen), seconds)


def _moves(entry: ConsignmentTold) -> bool:
    return entry.state in ON_ITS_WAY or (entry.state == ConsignmentState.HELD and bool(entry.answers))


def exit_of(consignment: ConsignmentTold, *, waited: bool) -> Exit:
    if consignment.state == ConsignmentState.REFUSED:
        return Exit.REFUSED
    if consignment.state == ConsignmentState.HELD:
        return Exit.HELD
    return Exit.NOT_CONFIRMED if waited and consignment.state in ON_ITS_WAY else Exit.DONE


def _tell_trial(call: Call, trial: TrialTold) -> None:
    told = f"Trial {trial.id}: {trial.build_label} for {trial.cohort} at {trial.store_title}"
    if trial.state == TrialState.DRAFTED:
        call.say(f"{told} is drafted. It begins once {trial.store_title} has the build ready.")
    else:
        call.say(f"{told} is {trial.state}.")
    if trial.store_page:
        call.say(f"  Testers find it at {trial.store_page}")


def _tell_placed(call: Call, placed: PlacedTold) -> None:
    if placed.drafted:
        call.say(f"{placed.at}: {placed.version} is drafted, not handed in.")
    else:
        call.say(f"{placed.at}: {placed.version} is handed in as soon as the build is ready there.")


def tell_consignment(call: Call, consignment: ConsignmentTold) -> None:
    call.say(f"Consignment {consignment.id} at {consignment.store_title}: {state_of(consignment)}")
    for question in (
        consignment.questions if consignment.state == ConsignmentState.HELD and not consignment.answers else ()
    ):
        call.say(f"  It asks: {question.text} ({' or '.join(question.choices)})")
        if question.help:
            call.say(f"  {question.help}")
        for answer in question.refused_answers:
            call.say(f"  {consignment.store_title} refuses the build when you answer {answer!r}.")
        call.say(
            f"  Answer with: tide build answer {consignment.id} {question.code}={_first_taken(question)} [--standing]"
        )


def _first_taken(question: QuestionTold) -> str:
    return next((choice for choice in question.choices if choice not in question.refused_answers), question.choices[0])


def state_of(consignment: ConsignmentTold) -> str:
    if consignment.state == ConsignmentState.HELD and consignment.answers:
        return "held, answered, not confirmed yet"
    if consignment.reason:
        return f"{consignment.state}: {consignment.reason}"
    if consignment.waiting_because:
        return f"{consignment.state}, ordered, not confirmed: {consignment.waiting_because}"
    if consignment.state == ConsignmentState.SENDING:
        sent = consignment.sent_bytes / max(consignment.size_bytes, 1)
        return f"sending, {sent:.0%} of {size(consignment.size_bytes)}"
    return str(consignment.state)
