"""Cohorts, testers, trials and invitations."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.invitation import InvitationState
from restless_tide.core.rulebook import CohortKind
from restless_tide.core.trial import TrialState
from restless_tide.wire.base import Told, Wanted


class CohortWanted(Wanted):
    name: str
    kind: CohortKind = CohortKind.CREW


class TesterWanted(Wanted):
    email: str
    name: str = ""


class TesterTold(Told):
    id: str
    email: str
    name: str


class CohortTold(Told):
    app: str
    name: str
    kind: CohortKind
    testers: list[TesterTold]
    seats: dict[str, int] = Field(description="seats for this kind, by store with an open berth")


class TrialWanted(Wanted):
    cohort: str
    build: str
    store: str
    notes: str = Field(description="what to try")
    contact: str = Field(description="the address testers answer to")


class CloseWanted(Wanted):
    reason: str = ""


class InvitationTold(Told):
    id: str
    tester: TesterTold
    state: InvitationState
    changed_at: datetime
    trouble: str | None


class TrialTold(Told):
    id: str
    app: str
    cohort: str
    build: str
    build_label: str
    store: str
    store_title: str
    state: TrialState
    notes: str
    contact: str
    reason: str | None
    created_at: datetime
    changed_at: datetime
    invitations: list[InvitationTold]
