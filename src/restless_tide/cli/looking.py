"""tide release look: what people and reviewers will see, beside what is live."""

from __future__ import annotations

from restless_tide.cli.call import Call, cell
from restless_tide.cli.parsing import Nouns, app_argument, place_argument
from restless_tide.wire.reviewing import LegLookTold, LookLineTold, LookTold

_LONGEST, _MOST_NAMED = 400, 6


def add(nouns: Nouns) -> None:
    parser = nouns.command("release look", _look, "the last look before it is handed in, beside what is live now")
    parser.add_argument("version")
    app_argument(parser)
    place_argument(parser, required=False)
    parser.add_argument("--every", action="store_true", help="also what stays as it is live now")


def _look(call: Call) -> None:
    given = call.given
    found = call.tide.releases.look(given.app, given.version, store=given.store)
    call.answer(found, lambda: tell(call, found, every=given.every))


def tell(call: Call, found: LookTold, *, every: bool = False) -> None:
    """Say what is seen at each place, and how it is handed in."""
    for leg in found.legs:
        _tell_leg(call, found, leg, every=every)
    places = [leg for leg in found.legs if leg.open]
    if not places:
        call.say("Nothing of it can be handed in now.")
        return
    at = f" --store {places[0].place}" if len(found.legs) == 1 else ""
    call.say(f"Hand it in: tide release submit {found.version} --app {found.app}{at} --looked {found.revision}")


def _tell_leg(call: Call, found: LookTold, leg: LegLookTold, *, every: bool) -> None:
    beside = f"beside {leg.live_version}, which is live" if leg.live_version else "where nothing is live"
    unknown = "; what people see of that is not known here" if leg.live_version and not leg.live_known else ""
    call.say(f"{found.app_title} {found.version} at {leg.place_title}, {beside}{unknown}")
    items = ", ".join(one.told if one.must_go else f"{one.told} (may be kept back: {one.item})" for one in leg.items)
    call.say(f"  Goes to review: {items}")
    for finding in leg.findings:
        call.say(f"  {finding.level}: {finding.detail}")
    shown = [line for line in leg.lines if every or line.changed]
    table = call.table("", "WHAT", "LIVE NOW", "WILL BE")
    part = ""
    for line in shown:
        if line.part_title != part:
            part = line.part_title
            table.add_row("", cell(part.upper()), "", "")
        mark = "*" if line.changed and leg.live_known else ""
        table.add_row(mark, cell(f"  {line.title}"), *map(cell, _sides(line)))
    call.show(table, empty="  Nothing differs from what is live.")
    same = len(leg.lines) - len(shown)
    if same and shown:
        call.say(f"  {same} more stay as they are live: --every shows them.")


def _sides(line: LookLineTold) -> tuple[str, str]:
    """How a line is live, and how it will be."""
    if not line.changed and line.new_members:
        named = ", ".join(map(_shortly, line.new_members[:_MOST_NAMED]))
        more = len(line.new_members) - _MOST_NAMED
        same = f"{named} and {more} more" if more > 0 else named
        return same, same
    if line.new_members or line.live_members:
        kept = len(line.new_members) - len(line.added)
        added = [f"+ {_shortly(one)}" for one in line.added]
        removed = [f"- {_shortly(one)}" for one in line.removed]
        moved = ["in another order"] if line.changed and not added and not removed else []
        told = [*([f"{kept} stay"] if kept else []), *added, *moved]
        return "\n".join(removed) or (f"{len(line.live_members)}" if line.live_members else line.live or ""), (
            "\n".join(told) or line.new or ""
        )
    return _shortly(line.live or ""), _shortly(line.new or "")


def _shortly(text: str) -> str:
    if len(text) == 64 and all(sign in "0123456789abcdef" for sign in text):
        return text[:8]
    return text if len(text) <= _LONGEST else f"{text[:_LONGEST]}…"
