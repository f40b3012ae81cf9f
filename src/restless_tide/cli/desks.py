"""tide desk: running a desk on this machine."""

from __future__ import annotations

import getpass
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Nouns
from restless_tide.cli.telling import on_the_day
from restless_tide.core.sizes import size
from restless_tide.settings_told import as_help

if TYPE_CHECKING:
    from restless_tide.service.operating import Backup


def add(nouns: Nouns) -> None:
    nouns.noun("desk")
    parser = nouns.command(
        "desk init",
        _init,
        "add the first person who may sign in",
        description=f"Add a person who may sign in; asks for the password (or reads TIDE_PASSWORD).\n\n{as_help()}",
    )
    parser.add_argument("--name", required=True)
    parser.add_argument("--email", required=True)
    nouns.command(
        "desk serve",
        _serve,
        "run the service until it is stopped",
        description=f"Run the service and its console until it is stopped.\n\n{as_help()}",
    )
    parser = nouns.command(
        "desk backup",
        _backup,
        "copy all that a desk holds into a folder, while it runs",
        description="Run it where the data is (TIDE_DATA). Taken into the folder of an earlier backup, only what is new is copied. "
        "Without the master key nobody who finds the backup can use the stores' keys; keep that key apart.",
    )
    parser.add_argument("folder", type=Path)
    parser.add_argument("--with-key", action="store_true", help="copy the master key, too; then keep the backup safe")
    parser.add_argument("--verify", action="store_true", help="only hold a backup that is there against its digests")
    parser = nouns.command(
        "desk restore",
        _restore,
        "put a backup into an empty data folder, once it was verified",
        description="The desk must not run. The data goes to TIDE_DATA, which must be empty; nothing is there until all of it is.",
    )
    parser.add_argument("folder", type=Path)
    parser = nouns.command(
        "desk check",
        _check,
        "look whether a desk's data is whole: records, logbook, files, master key",
        description="Changes nothing; the desk may run. Ends with 1 when something is broken.",
    )
    parser.add_argument("--quick", action="store_true", help="do not read files whole")
    parser = nouns.command("desk clock", _clock, "show the desk's clock; step it, on a throw-away desk")
    parser.add_argument("--step", type=float, default=0.0, metavar="HOURS")


def _init(call: Call) -> None:
    from restless_tide.service.serve import add_first_person

    password = os.environ.get("TIDE_PASSWORD") or getpass.getpass("Password: ")
    add_first_person(os.environ, call.given.name, call.given.email, password)
    call.answer({"added": call.given.email}, lambda: call.say(f"{call.given.name} may sign in."))


def _serve(call: Call) -> None:
    from restless_tide.service.serve import serve

    serve(os.environ)


@contextmanager
def _progress(call: Call, said: str) -> Iterator[Callable[[int, int], None]]:
    """A bar on a terminal; nothing for a program."""
    if call.given.json or not sys.stderr.isatty():
        yield lambda done, of: None
        return
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn

    with Progress(TextColumn(said), BarColumn(), MofNCompleteColumn(), console=call.aside, transient=True) as bar:
        task = bar.add_task(said, total=None)
        yield lambda done, of: bar.update(task, completed=done, total=of)


def _told(backup: Backup) -> dict[str, Any]:
    return {**asdict(backup), "taken_at": backup.taken_at.isoformat()}


def _backup(call: Call) -> None:
    from restless_tide.service import operating

    folder: Path = call.given.folder
    with _progress(call, "files") as told:
        if call.given.verify:
            done = operating.verify(folder, told)
        else:
            done = operating.back_up(os.environ, folder, with_key=call.given.with_key, told=told)

    def shown() -> None:
        if call.given.verify:
            call.say(
                f"{folder} is whole: {done.files} files of {size(done.size_bytes)}, taken {on_the_day(done.taken_at)}."
            )
        else:
            call.say(
                f"{folder} holds the desk: {done.files} files of {size(done.size_bytes)}, {done.copied} of them new."
            )
        if not done.with_key:
            call.say("The master key is not in it; keep it apart. Without it the stores have to be connected again.")
        if done.missing:
            call.say(f"{len(done.missing)} files that the records name were not there. See: tide desk check")

    call.answer(_told(done), shown)


def _restore(call: Call) -> None:
    from restless_tide.service import operating

    with _progress(call, "verifying") as told:
        done = operating.restore(os.environ, call.given.folder, told)

    def shown() -> None:
        call.say(f"The desk of {on_the_day(done.taken_at)} is back: {done.files} files of {size(done.size_bytes)}.")
        if not done.with_key:
            call.say("The backup has no master key: set TIDE_MASTER_KEY, or put master.key into the data folder.")
        call.say("Start it with: tide desk serve. It asks every store what happened since.")

    call.answer(_told(done), shown)


def _check(call: Call) -> Exit | None:
    from restless_tide.service import operating

    with _progress(call, "files") as told:
        lines = operating.check(os.environ, quick=call.given.quick, told=told)

    def shown() -> None:
        marks = {operating.Weight.GOOD: "✓", operating.Weight.NOTE: "·", operating.Weight.BROKEN: "✕"}
        table = call.table("", "WHAT", "FOUND")
        for line in lines:
            table.add_row(
                marks[line.weight], line.what, cell(" ".join(part for part in (line.said, line.remedy) if part))
            )
        call.show(table, empty="")

    call.answer([asdict(line) for line in lines], shown)
    return Exit.REFUSED if operating.is_broken(lines) else None


def _clock(call: Call) -> None:
    watching = call.tide.watching
    told = watching.move_clock(step_hours=call.given.step) if call.given.step else watching.clock()
    call.answer(told, lambda: call.say(f"The desk's clock shows {on_the_day(told.now)}."))
