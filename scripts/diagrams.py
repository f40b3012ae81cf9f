"""Draw the life cycles anew in docs/architecture.md, from the tables themselves."""

import re
import typing
from pathlib import Path

from restless_tide.core import lane
from restless_tide.core.consignment import CONSIGNMENT
from restless_tide.core.invitation import INVITATION
from restless_tide.core.matter import MATTER
from restless_tide.core.notice import DELIVERY
from restless_tide.core.order import LAST_IN_TURN, ORDER, RULES
from restless_tide.core.own_track import OWN_TRACK
from restless_tide.core.report import REPORT
from restless_tide.core.rollout import ROLLOUT
from restless_tide.core.round import ROUND
from restless_tide.core.step import STEP
from restless_tide.core.trial import TRIAL

PLACE = Path("docs/architecture.md")


def orders() -> str:
    """The table of the kinds of orders, as Markdown."""
    lines = [
        "| order | about | turn | overtakes | goes beside all else | tried again soon |",
        "|---|---|---|---|---|---|",
    ]
    for kind, rule in RULES.items():
        turn = "as placed" if rule.turn == LAST_IN_TURN else str(rule.turn)
        overtakes = ", ".join(sorted(rule.overtakes)) or "–"
        marks = ["yes" if mark else "–" for mark in (rule.beside, rule.urgent)]
        lines.append(f"| {kind} | {rule.subject} | {turn} | {overtakes} | {' | '.join(marks)} |")
    return "\n".join(lines)


def toward() -> str:
    """What is ordered when nothing waits and wanted and seen differ, as Markdown."""
    lines = ["| of a | wanted | seen | ordered again |", "|---|---|---|---|"]
    for subject, policy in lane.POLICIES.items():
        lines += [f"| {subject} | {wanted} | {seen} | {kind} |" for (wanted, seen), kind in policy.toward.items()]
    return "\n".join(lines)


def drawing() -> str:
    """The lane with what it is told and what it says, as a Mermaid flowchart."""
    happenings, outcomes = (typing.get_args(union) for union in (lane.Happening, lane.Outcome))
    lines = ["```mermaid", "flowchart LR", "    lane((lane))"]
    for kind in happenings:
        lines.append(f'    {kind.__name__}["{kind.__name__}: {_first(kind)}"] --> lane')
    for kind in outcomes:
        lines.append(f'    lane --> {kind.__name__}["{kind.__name__}: {_first(kind)}"]')
    lines.append('    lane --> call["next_call: the call to make now"]')
    return "\n".join([*lines, "```"])


def _first(kind: type) -> str:
    """The first sentence of what a class says of itself."""
    return re.split(r"[.:;]\s|\.$", (kind.__doc__ or "").strip().splitlines()[0])[0].rstrip(".").replace("``", "")


BETWEEN = {"orders": orders, "toward": toward, "lane": drawing}


def main() -> None:
    text = PLACE.read_text(encoding="utf-8")
    for name, machine in {
        "consignment": CONSIGNMENT,
        "trial": TRIAL,
        "invitation": INVITATION,
        "report": REPORT,
        "round": ROUND,
        "matter": MATTER,
        "rollout": ROLLOUT,
        "order": ORDER,
        "step": STEP,
        "delivery": DELIVERY,
        "track": OWN_TRACK,
    }.items():
        drawn = f"<!-- {name} -->\n```mermaid\n{machine.diagram()}\n```\n"
        text, found = re.subn(
            rf"<!-- {name} -->\n```mermaid\n.*?```\n", lambda _, drawn=drawn: drawn, text, flags=re.DOTALL
        )
        assert found == 1, f"docs/architecture.md has no place for {name}"
    for name, made in BETWEEN.items():
        block = f"<!-- {name} -->\n{made()}\n<!-- end -->"
        text, found = re.subn(rf"<!-- {name} -->\n.*?<!-- end -->", lambda _, block=block: block, text, flags=re.DOTALL)
        assert found == 1, f"docs/architecture.md has no place for {name}"
    PLACE.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
