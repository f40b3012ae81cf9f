"""tide step: what people carry to a store by hand."""

from __future__ import annotations

import sys
from pathlib import Path

from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell
from restless_tide.cli.naming import step_of
from restless_tide.cli.parsing import Nouns
from restless_tide.cli.telling import distance, moment
from restless_tide.core.sizes import size
from restless_tide.core.step import StepState
from restless_tide.wire.steps import StepTold

_STEPS: Listing[StepTold] = Listing(
    words=lambda step: (step.id, step.store, step.store_title, step.app, step.title),
    sort={
        "store": lambda step: step.store,
        "app": lambda step: step.app,
        "what": lambda step: step.title,
        "since": lambda step: step.settled_at or step.created_at,
    },
    since=lambda step: step.settled_at or step.created_at,
)
_STEP = "its id or the beginning, or its store where one waits"


def add(nouns: Nouns) -> None:
    nouns.noun("step")
    parser = nouns.command("step list", _list, "what waits for a person, the urgent first")
    parser.add_argument("--settled", action="store_true", help="what was settled instead, newest first")
    _STEPS.arguments(parser)
    nouns.command("step show", _show, "one step: what to do, what to take, what to look for").add_argument(
        "step", help=_STEP
    )
    parser = nouns.command("step fetch", _fetch, "fetch the files of a step, to take them to the store")
    parser.add_argument("step", help=_STEP)
    parser.add_argument("--into", default=".", metavar="FOLDER", help="where to put them (here)")
    parser = nouns.command("step settle", _settle, "say what came of a step")
    parser.add_argument("step", help=_STEP)
    parser.add_argument("outcome", help="one of its outcomes, such as done, refused, ready, approved, rejected")
    parser.add_argument(
        "--said", default="", metavar="TEXT", help="the store's words, or - to read them from the input"
    )
    parser = nouns.command("step undo", _undo, "take back a confirmation that was a mistake")
    parser.add_argument("step", help=_STEP)
    parser.add_argument("--reason", default="")


def _list(call: Call) -> None:
    every = call.tide.steps.settled(limit=None) if call.given.settled else call.tide.steps.waiting()
    found = _STEPS.arranged(call, every)

    def shown() -> None:
        table = call.table("STEP", "STORE", "APP", "WHAT", "SINCE", "STATE")
        for step in found:
            state = f"{step.state}: {step.outcome}" if step.outcome else ("urgent" if step.urgent else str(step.state))
            since = moment(step.settled_at or step.created_at)
            table.add_row(step.id, cell(step.store_title), cell(step.app), cell(step.title), since, cell(state))
        nothing = "Nothing was settled yet." if call.given.settled else "No step waits for a person."
        call.show(table, empty="No step is like that." if every else nothing)
        if found and not call.given.settled:
            call.say("\nSee one with: tide step show STEP")

    call.answer(found, shown)


def _tell(call: Call, step: StepTold) -> None:
    call.say(f"{step.title}  ({step.id}, {step.state}{', urgent' if step.urgent else ''})")
    for number, line in enumerate(step.todo, 1):
        call.say(f"  {number}. {line}")
    for name, text in step.texts.items():
        call.say(f"  {name}:")
        for line in text.splitlines():
            call.say(f"      {line}")
    for file in step.files:
        call.say(f"  file {file.name} ({size(file.size_bytes)}), SHA-256 {file.sha256}")
    if step.files and step.state == StepState.WAITING:
        call.say(f"  fetch with: tide step fetch {step.id}")
    call.say(f"  look for: {step.look_for}")
    if step.state == StepState.WAITING:
        call.say(f"  then say: tide step settle {step.id} {'|'.join(step.outcomes)}")
    elif step.outcome:
        call.say(f"  {step.outcome}, {moment(step.settled_at)}" + (f": {step.said}" if step.said else ""))
        if step.can_undo:
            call.say(f"  a mistake? tide step undo {step.id}")


def _show(call: Call) -> None:
    step = call.tide.steps.one(step_of(call))
    call.answer(step, lambda: _tell(call, step))


def _fetch(call: Call) -> None:
    step = call.tide.steps.one(step_of(call))
    folder = Path(call.given.into)
    folder.mkdir(parents=True, exist_ok=True)
    fetched = [call.tide.steps.fetch(file, folder / file.name) for file in step.files]

    def shown() -> None:
        for path in fetched:
            call.say(str(path))
        if not fetched:
            call.say("This step has no files.")

    call.answer({"files": [str(path) for path in fetched]}, shown)


def _settle(call: Call) -> None:
    said = sys.stdin.read() if call.given.said == "-" else call.given.said
    step = call.tide.steps.settle(step_of(call), call.given.outcome, said=said)

    def shown() -> None:
        waited = distance(step.created_at - (step.settled_at or step.created_at)).removesuffix(" ago")
        call.say(f"{step.title}: {step.outcome}. It had waited {waited if waited != 'now' else 'a moment'}.")

    call.answer(step, shown)


def _undo(call: Call) -> None:
    step = call.tide.steps.undo(step_of(call), reason=call.given.reason)
    call.answer(step, lambda: call.say(f"{step.title}: it waits again, and counts as not confirmed."))
