"""RFC 9457 problem documents, to and from the one family of errors."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from pydantic import Field

from restless_tide.core.errors import (
    Conflict,
    Denied,
    DeskUnreachable,
    Finding,
    ImpossibleAct,
    Invalid,
    Level,
    LostLease,
    NoLength,
    NotDrawn,
    NotFound,
    NotReady,
    StaleView,
    StoreRefused,
    StoreUnreachable,
    TideError,
    TooLarge,
    TooOften,
    Unauthenticated,
    UnknownMedia,
    family,
)
from restless_tide.wire.base import Told

PROBLEM_TYPE = "application/problem+json"
_TYPE_PREFIX = "tag:restless-tide.example.org,2026:"

_STATUS: dict[type[TideError], int] = {
    Unauthenticated: 401,
    Denied: 403,
    NotFound: 404,
    NotReady: 409,
    ImpossibleAct: 409,
    Conflict: 409,
    NoLength: 411,
    StaleView: 412,
    TooLarge: 413,
    UnknownMedia: 415,
    Invalid: 422,
    TooOften: 429,
    StoreRefused: 502,
    NotDrawn: 503,
    StoreUnreachable: 503,
    LostLease: 503,
    DeskUnreachable: 503,
}


class FindingTold(Told):
    code: str
    level: Level
    detail: str
    place: str = ""
    remedy: str = ""
    words: tuple[str, ...] = Field(default=(), description="those of a text that it is about, as they stand there")


class Problem(Told):
    """What went wrong. ``type`` names the kind of error, ``code`` the very case."""

    type: str
    title: str
    status: int
    detail: str
    code: str
    remedy: str = ""
    possible: list[str] = Field(default_factory=list)
    findings: list[FindingTold] = Field(default_factory=list)


def findings_told(findings: tuple[Finding, ...] | list[Finding]) -> list[FindingTold]:
    return [FindingTold.of(finding) for finding in findings]


def findings_of(told: Sequence[FindingTold]) -> list[Finding]:
    return [Finding(**finding.model_dump()) for finding in told]


def problem_of(error: TideError) -> Problem:
    """The problem document of an error."""
    kind = next(kind for kind in type(error).__mro__ if kind in _STATUS or kind is TideError)
    return Problem(
        type=_TYPE_PREFIX + type(error).__dict__.get("code", kind.__dict__.get("code", "error")),
        title=error.title,
        status=_STATUS.get(kind, 500),
        detail=error.detail,
        code=error.code,
        remedy=error.remedy,
        possible=list(getattr(error, "possible", ())),
        findings=findings_told(error.findings),
    )


def error_from(document: dict[str, Any], status: int) -> TideError:
    """The error of a problem document, as the same class it was; an unknown one by its status."""
    name = str(document.get("type", "")).removeprefix(_TYPE_PREFIX)
    kind = family().get(name) or next((kind for kind, known in _STATUS.items() if known == status), TideError)
    detail = str(document.get("detail") or document.get("title") or f"The desk answered {status}.")
    remedy, code = str(document.get("remedy") or ""), str(document.get("code") or kind.code)
    if issubclass(kind, ImpossibleAct):
        return kind(detail, possible=document.get("possible") or (), remedy=remedy, code=code)
    findings = findings_of([FindingTold.model_validate(told) for told in document.get("findings") or ()])
    return kind(detail, remedy=remedy, code=code, findings=findings)


def unfit(errors: Sequence[Mapping[str, Any]]) -> Invalid:
    """What pydantic has found wrong, as one error of the family with a finding for each place."""
    findings = [
        Finding(
            "field-unfit",
            Level.BLOCKER,
            str(found["msg"]).removeprefix("Value error, "),
            ".".join(str(part) for part in found["loc"]),
        )
        for found in errors
    ]
    told = "; ".join(
        f"{finding.place}: {finding.detail}" if finding.place not in ("", "body") else finding.detail
        for finding in findings
    )
    return Invalid(f"The request does not fit: {told}.", code="request-unfit", findings=findings)
