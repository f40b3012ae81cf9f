"""Write the console's lists and sets of states, its limits and its glossary, from the core, so that none is kept twice.

states.py FILE
"""

import json
import sys
from collections.abc import Iterable
from enum import StrEnum
from pathlib import Path

from restless_tide.core.check import KINDS
from restless_tide.core.conditions import DAYS, MOST_ALTERNATIVES, MOST_CONDITIONS, MOST_PEOPLE
from restless_tide.core.consignment import ON_ITS_WAY, UNDER_WAY, ConsignmentState
from restless_tide.core.documents import DocumentFormat
from restless_tide.core.freeze import LONGEST_FREEZE_NAME
from restless_tide.core.gauges import COUNT_WORDS, HOUR, MOST_COUNTED
from restless_tide.core.glossary import GLOSSARY
from restless_tide.core.good import LONGEST_MONTHS
from restless_tide.core.guard import (
    COMPARES,
    EVENTS,
    HIGHEST_TOLERANCE,
    LONGEST_GUARD_NAME,
    LONGEST_SILENCE,
    MOST_STARS_ACCEPTED,
    TOLERANCES,
    UNITS,
    USUAL_ERROR_BOUND,
    USUAL_LEAST_PEOPLE,
    OnBreach,
    Watched,
)
from restless_tide.core.invitation import OF_MEMBERS, SITS, InvitationState
from restless_tide.core.ladder import HOW_TO_WRITE, LONGEST_LADDER_NAME, LONGEST_LADDER_TEXT, MOST_HOURS
from restless_tide.core.leg import LAUNCHED, PART_WAY, STOPPED, LegPhase
from restless_tide.core.limits import LONGEST_GOOD_NAME, LONGEST_GOOD_TEXT, LONGEST_REFERENCE
from restless_tide.core.locales import LONGEST_TAG
from restless_tide.core.notice import NoticeKind
from restless_tide.core.order import PENDING, OrderState
from restless_tide.core.pace import PACES
from restless_tide.core.report import ReportKind, ReportState
from restless_tide.core.rights import PEOPLES_ROLES, ROLE_TOLD, ROLES
from restless_tide.core.rights import TOLD as RIGHTS_TOLD
from restless_tide.core.rollout import STOPPING, RolloutEvent
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.desk.passwords import SHORTEST_PASSWORD
from restless_tide.plots.drawing import BANDS
from restless_tide.service.live import START_OVER
from restless_tide.wire.base import LONGEST_LINE
from restless_tide.wire.people import LONGEST_CODE

HEAD = "/** Made by `make contract` from the life cycles, the limits and the glossary in src/restless_tide/core: do not change it here. */\n"


def line(name: str, states: type[StrEnum], chosen: Iterable[StrEnum] | None = None) -> str:
    """One constant: all states, or those chosen, in the sequence of the life cycle."""
    among = states if chosen is None else set(chosen)
    words = json.dumps([str(state) for state in states if state in among], ensure_ascii=False)
    return (
        f"export const {name} = {words} as const\n"
        if chosen is None
        else f"export const {name}: readonly string[] = {words}\n"
    )


LIMITS = {
    "shortestPassword": SHORTEST_PASSWORD,
    "code": LONGEST_CODE,
    "line": LONGEST_LINE,
    "locale": LONGEST_TAG,
    "reference": LONGEST_REFERENCE,
    "goodName": LONGEST_GOOD_NAME,
    "goodText": LONGEST_GOOD_TEXT,
    "months": LONGEST_MONTHS,
    "freezeName": LONGEST_FREEZE_NAME,
    "ladderName": LONGEST_LADDER_NAME,
    "ladderText": LONGEST_LADDER_TEXT,
    "hours": MOST_HOURS,
    "counted": MOST_COUNTED,
    "conditions": MOST_CONDITIONS,
    "alternatives": MOST_ALTERNATIVES,
    "people": MOST_PEOPLE,
}
GUARD = {
    "errorBound": USUAL_ERROR_BOUND,
    "leastPeople": USUAL_LEAST_PEOPLE,
    "highestTolerance": HIGHEST_TOLERANCE,
    "mostStars": MOST_STARS_ACCEPTED,
    "longestName": LONGEST_GUARD_NAME,
    "longestSilenceHours": LONGEST_SILENCE / HOUR,
}
LINES = (
    line("CONSIGNMENT_ON_ITS_WAY", ConsignmentState, ON_ITS_WAY),
    line("CONSIGNMENT_GOES_ON", ConsignmentState, UNDER_WAY | {ConsignmentState.READY}),
    line("INVITATION_STATES", InvitationState),
    line("INVITATION_OF_MEMBERS", InvitationState, OF_MEMBERS),
    line("INVITATION_SITS", InvitationState, SITS),
    line("STOPPING", RolloutEvent, STOPPING),
    line("LEG_LAUNCHED", LegPhase, LAUNCHED),
    line("LEG_PART_WAY", LegPhase, PART_WAY),
    line("LEG_STOPPED", LegPhase, STOPPED),
    line("NOTICE_KINDS", NoticeKind),
    line("ORDER_PENDING", OrderState, PENDING),
    f"/** How stores rise beside each other, in words. */\nexport const PACES = {json.dumps(PACES)} as const\n",
    f"/** The days of a week, as launch hours name them. */\nexport const DAYS = {json.dumps(DAYS)} as const\n",
    f"/** How a standing check is made, in words. */\nexport const CHECK_KINDS = {json.dumps(KINDS)} as const\n",
    line("REPORT_KINDS", ReportKind),
    line("REPORT_STATES", ReportState),
    f"export const PRODUCTION = {json.dumps(PRODUCTION)}\n",
    line("DOCUMENT_FORMATS", DocumentFormat),
    line("WATCHED", Watched),
    line("ON_BREACH", OnBreach),
    f"/** What each gauge can be compared with. */\nexport const COMPARES = {json.dumps(COMPARES)} as const\n",
    f"/** The change that a guard accepts where nobody names another: a ratio, or stars. */\nexport const TOLERANCES = {json.dumps(TOLERANCES)} as const\n",
    f"/** What a guard looks at, and what it counts among it, in words. */\nexport const UNITS = {json.dumps(UNITS)} as const\nexport const EVENTS = {json.dumps(EVENTS)} as const\n",
    f"export const GUARD = {json.dumps(GUARD)}\n",
    f"/** What is counted in an hour, in words. */\nexport const COUNTED = {json.dumps(COUNT_WORDS)} as const\n",
    f"/** The colours of versions that follow each other. */\nexport const BANDS = {json.dumps(BANDS)} as const\n",
    f"/** How a ladder is written. */\nexport const LADDER_WRITTEN = {json.dumps(HOW_TO_WRITE)}\n",
    f"/** The kind of a change that says: load everything anew. */\nexport const START_OVER = {json.dumps(START_OVER)}\n",
    f"/** What each right means, in words. */\nexport const RIGHTS = {json.dumps(dict(RIGHTS_TOLD))} as const\n",
    f"/** The roles of people, with the rights of each. */\nexport const ROLES = {json.dumps({role: sorted(ROLES[role]) for role in PEOPLES_ROLES})} as const\n",
    f"/** What someone with a role is, in words. */\nexport const ROLE_TOLD = {json.dumps(dict(ROLE_TOLD))} as const\n",
    f"/** The longest that is taken: characters, months, hours, or counts. */\nexport const LIMITS = {json.dumps(LIMITS)}\n",
    f"export const GLOSSARY: Readonly<Record<string, string>> = {json.dumps(dict(GLOSSARY), ensure_ascii=False, indent=2)}\n",
)

if __name__ == "__main__":
    Path(sys.argv[1]).write_text(HEAD + "".join(LINES), encoding="utf-8")
