"""Joining a walk-in cohort by its link. Nobody learns from it who is a member."""

from __future__ import annotations

import hmac
import re
from datetime import datetime

from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, NotFound, NotReady
from restless_tide.core.testers import PLATFORMS
from restless_tide.desk import cohorts, members, testers
from restless_tide.desk.desk import Desk
from restless_tide.desk.testers import Personal
from restless_tide.records.seal import Seal
from restless_tide.records.tables import Cohort, Membership

LONGEST_NAME = 60
_NO_NAME = re.compile(r"https?:|www\.|[@/\\<>\[\]{}|]|\w\.\w{2,}|[^\w\s.,'’()-]|\d{3,}", re.IGNORECASE)


def code(seal: Seal, cohort: Cohort) -> str | None:
    """What stands in the link; None where the cohort has none."""
    if not cohort.join_nonce:
        return None
    return f"{cohort.id}.{seal.personal_code(f'join {cohort.id} {cohort.join_nonce}')}"


def by_code(session: Session, seal: Seal, given: str) -> Cohort:
    """The cohort of a link. Raises NotFound, in the same words whatever is wrong."""
    cohort = session.get(Cohort, given.partition(".")[0])
    if cohort is not None and hmac.compare_digest((code(seal, cohort) or "").encode(), given.encode()):
        return cohort
    raise NotFound(
        "This link is not valid.", remedy="Ask the person who gave it to you for a new one.", code="join-unknown"
    )


def closed_because(session: Session, cohort: Cohort, now: datetime) -> str | None:
    """Why nobody can join now, or None: ``closed``, ``over`` or ``full``."""
    if not cohort.join_open:
        return "closed"
    if cohort.join_until is not None and cohort.join_until <= now:
        return "over"
    if cohort.join_limit is not None and members.size(session, cohort).testers >= cohort.join_limit:
        return "full"
    return None


def _fit_name(name: str) -> str:
    """A name that may stand in a mail's greeting before its address is proved: one short line, without an address in it.

    What is none is left out, so that nobody sends others a text of their own by our mail.
    """
    line = " ".join(name.split())
    return line if len(line) <= LONGEST_NAME and not _NO_NAME.search(line) else ""


def join(desk: Desk, given: str, email: str, name: str, platform: str, language: str) -> None:
    """Someone joins; a mail follows to prove that the address is theirs. Whoever is in already notices nothing.

    Raises NotFound, Invalid for a bad address, Conflict when the link is closed or no seat is left.
    """
    with desk.act("tester:new") as act:
        cohort = by_code(act.session, desk.seal, given)
        closed = closed_because(act.session, cohort, act.now)
        if closed is not None:
            raise Conflict("Nobody can join at the moment.", code=f"join-{closed}")
        tester, new = testers.get_or_add(act, email, Personal())
        act.person = f"tester:{tester.id}"
        if new:  # what is known of someone is not changed by whoever knows their address
            platforms = [platform] if platform in PLATFORMS else []
            testers.tell(
                tester, Personal(name=_fit_name(name), platforms=platforms, languages=[language] if language else None)
            )
        if act.session.get(Membership, (cohort.id, tester.id)):
            return
        try:
            cohorts.put_in(act, cohort, [tester], "by the link")
        except NotReady:  # how many seats there are, and who has them, is nobody's business here
            raise Conflict("Nobody can join at the moment.", code="join-full") from None
