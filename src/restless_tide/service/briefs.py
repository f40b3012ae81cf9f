"""A brief as the wire brings it, as the desk takes it."""

from __future__ import annotations

from restless_tide.desk.move_sheets import Wish
from restless_tide.desk.planning import Brief
from restless_tide.desk.reviewer_briefs import BriefChange
from restless_tide.wire.cohorts import TrialBriefWanted
from restless_tide.wire.reviewing import BriefWanted
from restless_tide.wire.tracks import HowPlaced


def brief_of(wanted: TrialBriefWanted) -> Brief:
    sign_in = wanted.sign_in.model_dump() if wanted.sign_in is not None else None
    told = {name: text for name, text in (sign_in or {}).items() if text} if sign_in is not None else None
    return Brief(wanted.brief, wanted.contact, wanted.remarks_to, told or None)


def brief_change(wanted: BriefWanted) -> BriefChange:
    """What is wanted of a reviewer's brief."""
    return BriefChange(wanted.note, wanted.sign_in.model_dump() if wanted.sign_in is not None else None, wanted.files)


def wish_of(wanted: HowPlaced) -> Wish:
    return Wish(brief_of(wanted), wanted.notes, wanted.ladder, wanted.submit, wanted.reason)
