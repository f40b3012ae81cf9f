"""tide drill: trying the button, touching nothing."""

from __future__ import annotations

from functools import partial
from statistics import median

from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Nouns, count, span, store_argument
from restless_tide.core.order import PENDING, OrderState
from restless_tide.wire.stores import DrillTold


def add(nouns: Nouns) -> None:
    nouns.noun("drill")
    parser = nouns.command(
        "drill halt",
        _halt,
        "send a halt the whole way to every store and measure it",
        description="Send a halt the whole way to every connected store, or to --store, and measure it. It is "
        "ordered, carried and confirmed as a real halt is, and affects no release.",
    )
    store_argument(parser, required=False)
    parser.add_argument("--times", type=count, default=3, metavar="N", help="how often (3)")
    parser.add_argument("--wait", type=span, default=20.0, metavar="SECONDS", help="how long to wait for each (20)")


def _halt(call: Call) -> Exit:
    rounds: list[list[DrillTold]] = []
    for _ in range(max(call.given.times, 1)):
        orders = [entry.order for entry in call.tide.stores.drill_halt(call.given.store)]
        look = partial(call.tide.stores.drilled, orders)
        rounds.append(call.wait_until(look, _over, call.given.wait))
    every = [entry for seen in rounds for entry in seen]

    def shown() -> None:
        table = call.table("STORE", "CONFIRMED", "FASTEST", "USUAL", "SLOWEST", "TROUBLE")
        for store in dict.fromkeys(entry.store for entry in every):
            mine = [entry for entry in every if entry.store == store]
            taken = [
                entry.seconds for entry in mine if entry.state == OrderState.CONFIRMED and entry.seconds is not None
            ]
            trouble = next((entry.trouble for entry in mine if entry.trouble), None)
            figures = [_told(min(taken)), _told(median(taken)), _told(max(taken))] if taken else ["–"] * 3
            table.add_row(store, f"{len(taken)} of {len(mine)}", *figures, cell(trouble))
        call.say("From the order to the store's confirmation; no release was touched.\n")
        call.show(table, empty="No store was drilled.")

    call.answer(every, shown)
    if any(entry.state == OrderState.REFUSED for entry in every):
        return Exit.REFUSED
    return Exit.DONE if all(entry.state == OrderState.CONFIRMED for entry in every) else Exit.NOT_CONFIRMED


def _over(seen: list[DrillTold]) -> bool:
    return all(entry.state not in PENDING for entry in seen)


def _told(seconds: float) -> str:
    return f"{seconds * 1000:.0f} ms" if seconds < 10 else f"{seconds:.1f} s"
