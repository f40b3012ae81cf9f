"""Packages, builds and consignments."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import AfterValidator, Field

from restless_tide.core.consignment import ConsignmentEvent, ConsignmentState
from restless_tide.core.errors import Level
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.packages import Facts as Facts
from restless_tide.core.packages.facts import PLATFORM_OF_FORMAT
from restless_tide.core.retention import RetentionRule as RetentionRule
from restless_tide.core.versions import Step
from restless_tide.wire.base import MOST_ENTRIES, Names, OneLine, Ordered, Told, Wanted
from restless_tide.wire.problems import FindingTold


class UploadTold(Told):
    """An unfinished upload of yours; it continues at ``offset_bytes`` by tus 1.0."""

    id: str
    address: str
    sha256: str
    filename: str
    size_bytes: int
    offset_bytes: int
    expires_at: datetime


def _of_known_format(facts: Facts) -> Facts:
    if facts.format not in PLATFORM_OF_FORMAT:
        raise ValueError(f"the format is one of {', '.join(PLATFORM_OF_FORMAT)}, not {facts.format!r}")
    return facts


class CheckWanted(Wanted):
    stores: Names = Field(default_factory=list, description="none: every store with an open berth for the platform")
    facts: list[Annotated[Facts, AfterValidator(_of_known_format)]] = Field(min_length=1, max_length=100)


class SheetTold(Told):
    """What one store would say. ``there``: it has this build already, and is not asked again."""

    store: str
    store_title: str
    there: bool
    findings: list[FindingTold]


class SourceWanted(Wanted):
    """What a build was made of."""

    revision: OneLine | None = Field(default=None, description="the source it was made of, as hexadecimal digits")
    repository: OneLine | None = Field(
        default=None, description="where that source lies, below the desk's repositories"
    )


class BuildWanted(SourceWanted):
    packages: Names = Field(min_length=1, description="SHA-256 of each package that has arrived")


class QuestionTold(Told):
    code: str
    text: str
    help: str = ""
    choices: list[str]
    refused_answers: list[str] = Field(default=[], description="for these the store refuses the build")


class ConsignmentTold(Ordered):
    id: str
    seen: str | None = Field(description="the state in which the store was last seen to hold it")
    build: str
    store: str
    store_title: str
    state: ConsignmentState
    possible: list[ConsignmentEvent]
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
    number: BuildNumber
    label: str
    created_at: datetime
    size_bytes: int
    packages: list[Facts]
    consignments: list[ConsignmentTold]
    revision: str | None
    repository: str | None
    in_use: str = Field(description="why its files are needed, in words; empty when they are not")
    cleared: bool = Field(description="its files were cleared; only its facts are left")
    expires_at: datetime | None = Field(description="when nobody can start it any more")
    known_before: bool = False


class AnswersWanted(Wanted):
    answers: Annotated[dict[OneLine, OneLine], Field(max_length=MOST_ENTRIES)]
    standing: bool = Field(default=False, description="give the same answers automatically from now on")
    anyway: bool = Field(default=False, description="also an answer for which the store refuses the build")


class StandingAnswerTold(Told):
    code: str
    text: str
    answer: str
    given_at: datetime


class ProposalTold(Told):
    app: str
    stores: list[str]
    version: str
    number: BuildNumber
    reasons: list[str]
    cautions: list[FindingTold] = Field(default_factory=list)
    reservation: str | None = Field(default=None, description="set when the number is held for you now")


class ReserveWanted(Wanted):
    stores: Names = Field(default_factory=list, description="none: wherever the app has a berth")
    step: Step = Step.PATCH
    label: OneLine = Field(default="", description="who holds it, such as 'build server, job 812'")


class ReservationTold(Told):
    id: str
    version: str
    number: BuildNumber
    stores: list[str]
    label: str
    reserved_by: str
    reserved_at: datetime


class DifferenceTold(Told):
    code: str
    level: Level
    title: str
    before: str
    after: str
    lines: list[str]


class GrownTold(Told):
    name: str
    by_bytes: int


class ComparisonTold(Told):
    """Two builds side by side; cautions first. ``grown`` is each part that weighs another amount now."""

    before: BuildTold
    after: BuildTold
    differences: list[DifferenceTold]
    grown: list[GrownTold]


class JudgedTold(Told):
    build: str
    label: str
    cleared: bool
    because: str


class ClearingTold(Told):
    """What a retention rule does. ``bytes_free`` is what it frees, ``bytes_kept`` what stays."""

    rule: RetentionRule
    builds: list[JudgedTold]
    files: int
    bytes_free: int
    bytes_kept: int
    done: bool


class ClearWanted(Wanted):
    rule: RetentionRule | None = Field(default=None, description="none: the app's own rule")
    dry_run: bool = True


class AppExpiryTold(Told):
    what: str
    until: datetime
    then: str
