"""Where the goods sold inside an app stand at a store: by what it holds, and by what it would be sent."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from restless_tide.core.errors import Finding, Level
from restless_tide.core.good import SoldGood
from restless_tide.core.goods import against_sending_goods, check_goods, differing_goods, state_of_good
from restless_tide.core.known import Evidence, Known, MendAct, NodeState
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.texts import TextState

_ON_THEIR_WAY = (TextState.ORDERED, TextState.WAITS)


def of_goods(rules: Rulebook, known: Known) -> Evidence:
    """Where the goods stand. Too few on sale at the store stop a release; what is changed here and not sent is a caution."""
    demanded, given = rules.goods, known.goods
    if demanded is None:
        return Evidence(NodeState.NOT_ASKED, f"{rules.store} sells nothing inside apps.")
    changed = differing_goods(rules, given)
    unsent = {one for one, good in changed.items() if state_of_good(given, one, good) not in _ON_THEIR_WAY}
    against = against_sending_goods(rules, given)
    lacking = demanded.fewest - _on_sale(given.held)
    if lacking > 0:
        after = _on_sale({**given.held, **{one: good for one, good in changed.items() if good is not None}})
        if after >= demanded.fewest and not unsent:
            return Evidence(NodeState.WAITING, f"{rules.store} has not confirmed the goods yet.", mend=MendAct.WAIT, changes=True)  # fmt: skip
        act = MendAct.SEND_GOODS if after >= demanded.fewest and not against else MendAct.WRITE_GOODS
        said = f"{rules.store} wants {demanded.fewest} on sale, and holds {demanded.fewest - lacking}."
        return Evidence(NodeState.MISSING, said, (_missing(rules, said), *against), act, changes=True)
    findings = tuple(replace(found, level=Level.CAUTION) for found in against)
    if unsent:
        count = "1 good differs" if len(unsent) == 1 else f"{len(unsent)} goods differ"
        act = MendAct.WRITE_GOODS if against else MendAct.SEND_GOODS
        return Evidence(NodeState.DOUBTFUL, f"{count} from what {rules.store} holds.", findings, act, changes=True)
    if not given.held and not given.goods:
        return Evidence(NodeState.NOT_ASKED, "No goods are sold inside this app.")
    kept = sum(state_of_good(given, one, good) is TextState.WAITS for one, good in changed.items())
    said = f"{'1 good waits' if kept == 1 else f'{kept} goods wait'} for the review to end." if kept else ""
    more = tuple(found for found in check_goods(rules, given, changed) if found.level is not Level.BLOCKER)
    return Evidence(NodeState.DONE, said, more, changes=bool(changed))


def _on_sale(goods: Mapping[str, SoldGood]) -> int:
    return sum(good.on_sale for good in goods.values())


def _missing(rules: Rulebook, said: str) -> Finding:
    return Finding("goods-missing", Level.BLOCKER, said, "goods", "Enter a good and send it there.")
