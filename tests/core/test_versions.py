"""What a build may be called next, as tables."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis.strategies import booleans, builds, integers, lists, sampled_from

from restless_tide.core.errors import Invalid
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.packages import Facts
from restless_tide.core.readiness import check_handing_in, check_push
from restless_tide.core.versions import Held, Shelf, Step, check_number, parse_version, propose_for_all
from tests.core.test_steering import rulebook

NORTHGATE, OPENFIELD = rulebook("northgate"), rulebook("openfield")
HELD = [
    Held("2.3.0", BuildNumber(210), live=True),
    Held("2.3.0", BuildNumber(209), refused=True),
    Held("2.2.0", BuildNumber(200)),
]


@pytest.mark.parametrize(
    ("rules", "held", "step", "version", "number"),
    [
        (OPENFIELD, [], Step.PATCH, "1.0.0", 1),
        (OPENFIELD, HELD, Step.PATCH, "2.3.1", 211),
        (OPENFIELD, HELD, Step.MINOR, "2.4.0", 211),
        (OPENFIELD, HELD, Step.MAJOR, "3.0.0", 211),
        (NORTHGATE, HELD, Step.MINOR, "2.4.0", 1),
        (NORTHGATE, [*HELD, Held("2.4.0", BuildNumber(3))], Step.MINOR, "2.4.0", 4),
        (OPENFIELD, [*HELD, Held("2.4.0", BuildNumber(217), in_release=True)], Step.PATCH, "2.4.0", 218),
        (OPENFIELD, [Held("1.0.0", BuildNumber(7), went_out=True)], Step.PATCH, "1.0.1", 8),
        (
            OPENFIELD,
            [Held("1.0.0", BuildNumber(7), went_out=True), Held("1.1.0", BuildNumber(8))],
            Step.PATCH,
            "1.1.0",
            9,
        ),
        (NORTHGATE, [Held("1.0.0", BuildNumber("2026.01.05"))], Step.PATCH, "1.0.0", "2026.1.6"),
        (NORTHGATE, [Held("1.0.0", BuildNumber("7.2.999999"))], Step.PATCH, "1.0.0", "7.3"),
        (OPENFIELD, [Held("1.0.0", BuildNumber("7.2.1"))], Step.PATCH, "1.0.0", 8),
        (NORTHGATE, [Held("1.0.0", BuildNumber(5), refused=True)], Step.PATCH, "1.0.0", 6),
        (OPENFIELD, [Held("2.4", BuildNumber(7), live=True)], Step.PATCH, "2.4.1", 8),
    ],
)
def test_the_smallest_pair_the_store_takes_is_proposed(rules, held, step, version, number) -> None:
    proposal = propose_for_all([Shelf(rules, tuple(held))], step)
    assert (proposal.version, proposal.number) == (version, BuildNumber(number))
    assert proposal.reasons


NUMBERS = lists(integers(0, 50), min_size=1, max_size=3).map(lambda parts: BuildNumber(".".join(map(str, parts))))
HELD_BUILDS = lists(
    builds(
        Held,
        version=sampled_from(["1.0.0", "1.1.0", "2.0"]),
        number=NUMBERS,
        live=booleans(),
        refused=booleans(),
    ),
    max_size=6,
)


@given(held=HELD_BUILDS, rules=sampled_from([NORTHGATE, OPENFIELD]), step=sampled_from(list(Step)))
def test_whatever_the_store_holds_the_proposal_passes_its_own_check(held, rules, step) -> None:
    proposal = propose_for_all([Shelf(rules, tuple(held))], step)
    assert check_number(rules, held, proposal.version, proposal.number) == []


@pytest.mark.parametrize(
    ("rules", "version", "number", "codes"),
    [
        (OPENFIELD, "2.4.0", 210, ["number-not-rising"]),
        (OPENFIELD, "2.4.0", 209, ["number-not-rising"]),
        (OPENFIELD, "2.2.0", 211, []),
        (NORTHGATE, "2.4.0", 1, []),
        (NORTHGATE, "2.3.0", 211, ["version-not-above-live"]),
        (NORTHGATE, "2.2.9", 1, ["version-not-above-live"]),
        (NORTHGATE, "2.3.0", 210, ["number-not-rising", "version-not-above-live"]),
        (NORTHGATE, "2.4.0", 1_000_000, ["number-too-large"]),
        (NORTHGATE, "2.4.0", "0.1000000", ["number-too-large"]),
        (NORTHGATE, "2.4.0", "0.0.1", []),
        (NORTHGATE, "2.3.0", "210.0.0", ["number-not-rising", "version-not-above-live"]),
        (OPENFIELD, "2.4.0", "211.1", ["number-has-parts"]),
    ],
)
def test_what_does_not_rise_is_named_with_its_remedy(rules, version, number, codes) -> None:
    findings = check_number(rules, HELD, version, BuildNumber(number))
    assert [finding.code for finding in findings] == codes
    assert all(finding.remedy for finding in findings)


@pytest.mark.parametrize("text", ["", "1.2.3.4", "1.-2", "v1.0", "1.02", "one", "1..2"])
def test_what_is_no_version_is_refused(text: str) -> None:
    with pytest.raises(Invalid, match="no version"):
        parse_version(text)


@given(first=NUMBERS, second=NUMBERS)
def test_numbers_are_compared_part_by_part_and_their_order_in_the_records_is_the_same(first, second) -> None:
    def padded(number: BuildNumber) -> tuple[int, ...]:
        return (*number.parts, 0, 0)[:3]

    assert (first < second, first == second) == (padded(first) < padded(second), padded(first) == padded(second))
    assert (first.order < second.order, first.order == second.order) == (first < second, first == second)
    assert first != second or hash(first) == hash(second)
    assert second.raised(3, 50) > second


@pytest.mark.parametrize(
    "text", ["", "1.2.3.4", "1..2", ".1", "1.", "one", "1.-2", "1,2", "9" * 20, "٣", "1.2\n3", True]
)
def test_what_is_no_number_is_refused(text: str) -> None:
    with pytest.raises(Invalid, match="no build number") as refused:
        BuildNumber(text)
    assert "218 or 2.18.3" in refused.value.remedy


NOW = datetime(2026, 11, 23, 9, 0, tzinfo=UTC)


SIGNER = {
    "subject": "CN=a",
    "issuer": "CN=a",
    "sha256": "a" * 64,
    "valid_from": NOW,
    "valid_until": datetime(2040, 1, 1, tzinfo=UTC),
}


def facts(**changed) -> Facts:
    usual = {
        "format": "apk",
        "identifier": "org.example.a",
        "version": "2.4.0",
        "number": 300,
        "target_platform": "34",
        "size_bytes": 10,
        "sha256": "0" * 64,
        "signatures": [{"scheme": "v2", "verified": True, "signers": [SIGNER]}],
    }
    return Facts.of(usual | changed)


@pytest.mark.parametrize(
    ("package", "codes"),
    [
        (facts(), []),
        (facts(identifier="org.example.b"), ["identifier-differs"]),
        (facts(format="ipa"), ["format-not-taken"]),
        (facts(target_platform="28"), ["target-too-low"]),
        (facts(target_platform=None), ["target-too-low"]),
        (facts(size_bytes=5 * 1024**3), ["package-too-large"]),
        (facts(number=3), ["number-not-rising"]),
    ],
)
def test_a_push_is_checked_before_a_byte_leaves(package: Facts, codes: list[str]) -> None:
    sheet = check_push(OPENFIELD, HELD, [package], "org.example.a", NOW)
    assert [finding.code for finding in sheet if finding.level == "blocker"] == codes


def test_what_is_handed_in_carries_its_version_and_notes_that_fit() -> None:
    def codes(**changed) -> list[str]:
        usual = {"version": "2.4.0", "build_version": "2.4", "notes": {"en": "New."}, "label": "Build"}
        return [finding.code for finding in check_handing_in(OPENFIELD, **(usual | changed))]

    assert codes() == []
    assert codes(build_version="2.4.1") == ["version-differs"]
    assert codes(notes={"de": "Neu."}) == ["notes-missing"]
    assert codes(notes=None) == []
    assert codes(notes={"en": "x" * (OPENFIELD.review.notes_limit_characters + 1)}) == ["notes-too-long"]
