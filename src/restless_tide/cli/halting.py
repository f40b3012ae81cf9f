"""tide rollout halt --all: every rollout of an app, of a platform, or of both together."""

from __future__ import annotations

from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Parser
from restless_tide.cli.standing import after_act, over
from restless_tide.core.order import OrderState
from restless_tide.wire.errors import Invalid
from restless_tide.wire.releases import HaltsTold, LegTold


def arguments(parser: Parser) -> None:
    """What only a halt can be asked for, besides one release."""
    parser.add_argument(
        "--all", action="store_true", help="every rollout of --app, of --platform, or of both together; then no VERSION"
    )
    parser.add_argument("--platform", metavar="PLATFORM", help="with --all: only this platform, such as android")
    parser.add_argument(
        "--complete-too", action="store_true", help="with --all: also what everybody is offered already"
    )


def demand_one_meaning(call: Call) -> None:
    """Either one release is named or all of something. Raises Invalid."""
    given = call.given
    if given.all and (given.version or given.store):
        raise Invalid("--all reaches every release and store; name no VERSION and no --store.", code="argument-unfit")
    if given.all and not (given.app or given.platform):
        raise Invalid("All of what?", remedy="Add --app APP, --platform PLATFORM, or both.", code="argument-missing")
    if not given.all and (given.platform or given.complete_too):
        raise Invalid("--platform and --complete-too belong to --all.", code="argument-unfit")
    if not given.all and not (given.version and given.app):
        raise Invalid(
            "Which release is to be halted?",
            remedy="Name it, such as 2.4.0 --app marram; or add --all to halt every rollout of an app.",
            code="argument-missing",
        )


def halt_all(call: Call) -> Exit | None:
    given = call.given
    done = call.tide.releases.halt_all(
        reason=given.reason, app=given.app, platform=given.platform, complete_too=given.complete_too
    )
    acted = {(one.app, one.version) for one in done.outcomes if one.ordered}

    def look() -> dict[tuple[str, str, str], LegTold]:
        found = {}
        for app, version in sorted(acted):
            for leg in call.tide.releases.one(app, version).legs:
                found[app, version, leg.place] = leg
        return found

    ordered = [(one.app, one.version, one.place) for one in done.outcomes if one.ordered]
    seen = call.wait_until(look, lambda legs: all(over(legs[key]) for key in ordered), given.wait)
    call.answer(
        {"outcomes": done.outcomes, "left": done.left, "legs": [seen[key] for key in ordered]},
        lambda: _tell(call, done, seen),
    )
    if any(seen[key].orders[0].state == OrderState.REFUSED for key in ordered):
        return Exit.REFUSED
    return Exit.DONE if all(seen[key].confirmed for key in ordered) else Exit.NOT_CONFIRMED


def _tell(call: Call, done: HaltsTold, seen: dict[tuple[str, str, str], LegTold]) -> None:
    table = call.table("APP", "VERSION", "STORE", "NOW")
    for one in done.outcomes:
        leg = seen.get((one.app, one.version, one.place))
        table.add_row(one.app, one.version, cell(one.place_title), cell(_now(one.ordered, one.why_not, leg)))
    call.show(table, empty="Nothing was halted.")
    for one in done.left:
        call.say(f"{one.app} {one.version} at {one.place_title} was left alone: everybody is offered it already.")
    if done.left:
        call.say("Add --complete-too to halt these as well.")


def _now(ordered: bool, why_not: str, leg: LegTold | None) -> str:
    return after_act(leg) if ordered and leg is not None else f"nothing done. {why_not}"
