"""Where a leg stands, in a line: what is ordered and what was seen are told apart."""

from __future__ import annotations

from restless_tide.cli.telling import moment, share
from restless_tide.core.order import PENDING, OrderState
from restless_tide.wire.releases import LegTold, ReleaseTold


def over(leg: LegTold) -> bool:
    """Whether waiting changes nothing more: confirmed, or a person has to do or to say something."""
    return leg.confirmed or leg.offered_again or leg.step is not None


def settled(release: ReleaseTold) -> bool:
    """The same of every leg."""
    return all(over(leg) for leg in release.legs)


def after_act(leg: LegTold) -> str:
    """The store's answer to an act just ordered: a refusal in its words, or where the leg stands now."""
    newest = leg.orders[0]
    return (
        f"refused: {newest.trouble} It stands at: {stands(leg)}" if newest.state == OrderState.REFUSED else stands(leg)
    )


def stands(leg: LegTold) -> str:
    """Where a leg stands in one line; what is ordered and what was seen are told apart."""
    text = str(leg.phase)
    if leg.launched_at:
        text += f" at {share(leg.share)}"
    if leg.offered_again:
        seen = f", last seen {leg.seen.state} at {share(leg.seen.share)}" if leg.seen else ""
        return f"{text}, but the store offers it again{seen}. Stop it again, or resume it to take it as wanted"
    if not leg.confirmed:
        trouble = next((order.trouble for order in leg.orders if order.trouble and order.state in PENDING), None)
        if leg.step:
            return f"{text} — ordered; a step waits for a person: tide step show {leg.step}"
        seen = f"; the store was last seen {leg.seen.state} at {share(leg.seen.share)}" if leg.seen else ""
        return f"{text} — ordered, not confirmed{seen}" + (f" ({trouble})" if trouble else "")
    if leg.stage_ends_at:
        text += f", next stage {moment(leg.stage_ends_at)}"
    return text
