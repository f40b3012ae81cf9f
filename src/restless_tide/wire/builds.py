"""Packages, builds and consignments."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.packages import Facts as Facts
from restless_tide.wire.base import Told, Wanted
from restless_tide.wire.problems import FindingTold


class PackageTold(Told):
    sha256: str
    facts: Facts
    known_before: bool


class CheckWanted(Wanted):
    store: str
    facts: list[Facts] = Field(min_length=1)


class SheetTold(Told):
    findings: list[FindingTold]


class BuildWanted(Wanted):
    packages: list[str] = Field(min_length=1, description="SHA-256 of each package that has arrived")


class PushWanted(Wanted):
    store: str


class QuestionTold(Told):
    code: str
    text: str
    help: str = ""
    choices: list[str]


class ConsignmentTold(Told):
    id: str
    build: str
    store: str
    store_title: str
    state: ConsignmentState
    sent_bytes: int
    size_bytes: int
    questions: list[QuestionTold]
    answers: dict[str, str]
    reason: str | None
    waiting_because: str | None
    changed_at: datetime


class BuildTold(Told):
    id: str
    app: str
    platform: str
    version: str
    number: int
    label: str
    created_at: datetime
    size_bytes: int
    packages: list[Facts]
    consignments: list[ConsignmentTold]
    known_before: bool = False


class AnswersWanted(Wanted):
    answers: dict[str, str]


class ProposalTold(Told):
    app: str
    store: str
    version: str
    number: int
    reasons: list[str]
