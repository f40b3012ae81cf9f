"""Draw the life cycles anew in docs/architecture.md, from the tables themselves."""

import re
from pathlib import Path

from restless_tide.core.consignment import CONSIGNMENT
from restless_tide.core.invitation import INVITATION
from restless_tide.core.notice import DELIVERY
from restless_tide.core.order import ORDER
from restless_tide.core.report import REPORT
from restless_tide.core.rollout import ROLLOUT
from restless_tide.core.round import ROUND
from restless_tide.core.step import STEP
from restless_tide.core.trial import TRIAL

PLACE = Path("docs/architecture.md")
text = PLACE.read_text(encoding="utf-8")
for name, machine in {
    "consignment": CONSIGNMENT,
    "trial": TRIAL,
    "invitation": INVITATION,
    "report": REPORT,
    "round": ROUND,
    "rollout": ROLLOUT,
    "order": ORDER,
    "step": STEP,
    "delivery": DELIVERY,
}.items():
    drawn = f"<!-- {name} -->\n```mermaid\n{machine.diagram()}\n```\n"
    text, found = re.subn(
        rf"<!-- {name} -->\n```mermaid\n.*?```\n", lambda _, drawn=drawn: drawn, text, flags=re.DOTALL
    )
    assert found == 1, f"docs/architecture.md has no place for {name}"
PLACE.write_text(text, encoding="utf-8")
