"""tide ladder: ladders that are kept under a name."""

from __future__ import annotations

from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell
from restless_tide.cli.parsing import Nouns
from restless_tide.cli.telling import share
from restless_tide.core.ladder import HOW_TO_WRITE
from restless_tide.wire.ladders import LadderTold

_LADDERS: Listing[LadderTold] = Listing(
    words=lambda one: (one.name, one.text, one.reason), sort={"name": lambda one: one.name}
)


def add(nouns: Nouns) -> None:
    nouns.noun("ladder")
    parser = nouns.command("ladder list", _list, "the named ladders, and what climbs by them")
    _LADDERS.arguments(parser)
    parser = nouns.command(
        "ladder set",
        _set,
        "keep a ladder under a name, or change it",
        description="A rollout that climbs by it keeps the stages it has passed and climbs the rest as it is now. "
        "The ladder usual is what a release climbs unless another is named.",
    )
    parser.add_argument("name", help="such as careful")
    parser.add_argument("stages", help=HOW_TO_WRITE)
    parser.add_argument("--reason", default="", help="why; it stands in the logbook")
    parser = nouns.command("ladder drop", _drop, "forget a named ladder; usual is then as it is built in")
    parser.add_argument("name")
    parser.add_argument("--reason", required=True, help="why; it stands in the logbook")


def _list(call: Call) -> None:
    every = call.tide.ladders.every()
    found = _LADDERS.arranged(call, every)

    def shown() -> None:
        table = call.table("LADDER", "STAGES", "CLIMBING NOW", "WHY")
        for one in found:
            climbing = "\n".join(f"{leg.app} {leg.version} at {leg.place}, {share(leg.share)}" for leg in one.used_by)
            name = one.name + (" (built in)" if one.built_in else "")
            table.add_row(cell(name), cell(one.told), cell(climbing), cell(one.reason))
        call.show(table, empty="No ladder is like that.")

    call.answer(found, shown)


def _set(call: Call) -> None:
    kept = call.tide.ladders.set(call.given.name, call.given.stages, reason=call.given.reason)

    def shown() -> None:
        call.say(f"{kept.name}: {kept.told}.")
        for leg in kept.used_by:
            call.say(f"  {leg.app} {leg.version} at {leg.place} climbs by it, from {share(leg.share)} on")

    call.answer(kept, shown)


def _drop(call: Call) -> None:
    call.tide.ladders.drop(call.given.name, reason=call.given.reason)
    call.answer({"dropped": call.given.name}, lambda: call.say(f"{call.given.name} is forgotten."))
