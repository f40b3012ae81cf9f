"""tide build push: from a file to every store in one line, for people and for build servers."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from restless_tide.cli import facts as sheets
from restless_tide.cli.call import Call, file_argument
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Nouns, app_argument, stores_argument
from restless_tide.cli.telling import size
from restless_tide.core.packages import Facts
from restless_tide.wire.builds import BuildTold, ConsignmentTold
from restless_tide.wire.cohorts import TrialTold
from restless_tide.wire.errors import Invalid, NotReady
from restless_tide.wire.problems import FindingTold

if TYPE_CHECKING:
    from rich.progress import Progress

UNDER_WAY = ("queued", "sending", "processing")
_WORST_FIRST = (Exit.REFUSED, Exit.HELD, Exit.NOT_CONFIRMED)
_TRIAL_SECONDS = 30.0
_HOUR = 3600.0


@dataclass
class _Outcome:
    build: BuildTold
    consignments: list[ConsignmentTold]
    trials: list[TrialTold] = field(default_factory=list)


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "build push",
        _push,
        "hand a build over and send it to stores",
        description="Reads the packages, checks them by every store's rules before a byte travels, hands them to the desk and "
        "orders them to the stores. A cut line is taken up where it broke. It never goes to production by itself.",
    )
    parser.add_argument("file", nargs="+", help="the packages of one build: one, or one per processor kind")
    app_argument(parser)
    stores_argument(parser)
    parser.add_argument("--trial", metavar="COHORT", help="hand it to a crew cohort as soon as a store has it ready")
    parser.add_argument("--notes", default="", help="what the cohort is asked to try")
    parser.add_argument("--contact", default="", help="the address testers answer to; yours, unless you say")
    parser.add_argument("--revision", help="the source it was made of; read from --source, unless you say")
    parser.add_argument("--repository", help="where that source lies, below the desk's repositories")
    parser.add_argument("--source", metavar="FOLDER", help="a git work tree to read the revision from")
    parser.add_argument(
        "--wait",
        nargs="?",
        type=float,
        const=_HOUR,
        default=0.0,
        metavar="SECONDS",
        help="wait until the stores have processed it (an hour at most, unless you say)",
    )


def _push(call: Call) -> Exit | None:
    given, builds = call.given, call.tide.builds
    paths = [file_argument(name) for name in given.file]
    packages = [sheets.read(path) for path in paths]
    stores = given.store or stores_for(call, packages)
    revision = given.revision or (_revision(given.source) if given.source else None)
    _demand_fit(call, packages, stores)
    digests, had_it = [], True
    for path, package in zip(paths, packages, strict=True):
        with bar(call) as shown:
            task = shown.add_task(f"{path.name} to the desk", total=package.size_bytes) if shown else None
            sha256, had_this = builds.hand_over(path, sha256=package.sha256, told=partial(_advance, shown, task))
        digests.append(sha256)
        had_it = had_it and had_this
    build = builds.enter(given.app, digests, revision=revision, repository=given.repository)
    if not given.json:
        told = " (the desk had this file already)" if had_it else ""
        call.say(f"Build {build.id}: {given.app} {build.label}{told}")
    outcome = _Outcome(build, [builds.send(build.id, store) for store in stores])
    outcome.consignments = follow(call, outcome.consignments, given.wait or (_HOUR if given.trial else 0.0))
    if given.trial:
        opened = [_hand_to(call, entry) for entry in outcome.consignments if entry.state == "ready"]
        outcome.trials = call.wait_until(
            lambda: [call.tide.testing.trial(trial.id) for trial in opened],
            lambda found: all(trial.state != "with the store" for trial in found),
            min(given.wait or _TRIAL_SECONDS, _TRIAL_SECONDS),
        )
    outcome.build = builds.one(build.id)
    call.answer(
        {"build": outcome.build, "consignments": outcome.consignments, "trials": outcome.trials},
        lambda: _tell(call, outcome),
    )
    exits = {exit_of(entry, waited=bool(given.wait or given.trial)) for entry in outcome.consignments}
    return next((code for code in _WORST_FIRST if code in exits), None)


def stores_for(call: Call, packages: Sequence[Facts]) -> list[str]:
    berths = call.tide.apps.one(call.given.app).berths
    platform = packages[0].platform
    found = [berth.store for berth in berths if berth.state == "open" and berth.platform == platform]
    if not found:
        raise Invalid(
            f"{call.given.app} has no open berth for {platform}.",
            remedy=f"Open one with: tide berth open --app {call.given.app} --store STORE",
            code="berth-unknown",
        )
    return found


def _demand_fit(call: Call, packages: Sequence[Facts], stores: Sequence[str]) -> None:
    """Check at every store first; when one would refuse, nothing is sent anywhere. Raises NotReady."""
    builds, app = call.tide.builds, call.given.app
    digests = {package.sha256 for package in packages}
    text = f"{packages[0].version} {packages[0].number}"
    known = [
        build for build in builds.of_app(app, limit=20, text=text)
        if digests <= {package.sha256 for package in build.packages}
    ]  # fmt: skip
    there = {entry.store for build in known for entry in build.consignments}
    blocked: list[tuple[str, FindingTold]] = []
    for store in stores:
        if store in there:
            continue
        findings = builds.check(app, store, packages).findings
        if not call.given.json and findings:
            sheets.show_sheet(call, store, findings)
        blocked.extend((store, finding) for finding in findings if finding.level == "blocker")
    if blocked:
        told = " ".join(dict.fromkeys(f"{store}: {finding.detail}" for store, finding in blocked))
        remedy = " ".join(dict.fromkeys(finding.remedy for _, finding in blocked if finding.remedy))
        raise NotReady(f"Nothing was sent. {told}", remedy=remedy, code=blocked[0][1].code)


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


def _hand_to(call: Call, consignment: ConsignmentTold) -> TrialTold:
    given = call.given
    contact = given.contact or call.tide.people.me().email
    notes = given.notes or "Use it as you always do, and tell us what is not right."
    return call.tide.testing.open_trial(
        given.app, cohort=given.trial, build=consignment.build, store=consignment.store, notes=notes, contact=contact
    )


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
    """Wait for every store, telling each step as it comes; what is answered by a standing answer goes on by itself."""
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
    return entry.state in UNDER_WAY or (entry.state == "held" and bool(entry.answers))


def exit_of(consignment: ConsignmentTold, *, waited: bool) -> Exit:
    if consignment.state == "refused":
        return Exit.REFUSED
    if consignment.state == "held":
        return Exit.HELD
    return Exit.NOT_CONFIRMED if waited and consignment.state in UNDER_WAY else Exit.DONE


def _tell(call: Call, outcome: _Outcome) -> None:
    for consignment in outcome.consignments:
        tell_consignment(call, consignment)
    for trial in outcome.trials:
        call.say(f"Trial {trial.id}: {trial.build_label} for {trial.cohort} at {trial.store_title} is {trial.state}.")
        if trial.store_page:
            call.say(f"  Testers find it at {trial.store_page}")


def tell_consignment(call: Call, consignment: ConsignmentTold) -> None:
    call.say(f"Consignment {consignment.id} at {consignment.store_title}: {state_of(consignment)}")
    for question in consignment.questions if consignment.state == "held" and not consignment.answers else ():
        call.say(f"  It asks: {question.text} ({' or '.join(question.choices)})")
        if question.help:
            call.say(f"  {question.help}")
        call.say(
            f"  Answer with: tide build answer {consignment.id} {question.code}={question.choices[0]} [--standing]"
        )


def state_of(consignment: ConsignmentTold) -> str:
    if consignment.state == "held" and consignment.answers:
        return "held, answered, not confirmed yet"
    if consignment.reason:
        return f"{consignment.state}: {consignment.reason}"
    if consignment.waiting_because:
        return f"{consignment.state}, ordered, not confirmed: {consignment.waiting_because}"
    if consignment.state == "sending":
        sent = consignment.sent_bytes / max(consignment.size_bytes, 1)
        return f"sending, {sent:.0%} of {size(consignment.size_bytes)}"
    return str(consignment.state)
