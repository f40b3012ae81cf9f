"""Seats and foresight: the rules as tables, and a machine that seats people at random and never seats one too many."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import settings
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule
from hypothesis.strategies import booleans, integers, sampled_from

from restless_tide.core.cohorts import (
    SeenTrial,
    brief_findings,
    foresee_review,
    seat_findings,
    seat_rules,
    seating,
)
from restless_tide.core.errors import Conflict, ImpossibleAct, NotReady
from restless_tide.core.invitation import (
    AGAIN_AFTER_HOURS,
    INVITATION,
    MOST_MAILS,
    SITS,
    InvitationEvent,
    InvitationState,
    demand_again,
)
from restless_tide.core.readiness import demand_ready
from restless_tide.core.rulebook import CohortKind, CohortRules, Rulebook, read_rulebook
from restless_tide.core.trial import SEATED, TRIAL, TrialEvent, TrialState

RULEBOOKS = Path(__file__).parents[2] / "src/restless_tide/standins/rulebooks"
NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
CREW, GUEST = CohortKind.CREW, CohortKind.GUEST


def rules_with(**crew: object) -> Rulebook:
    rules = read_rulebook((RULEBOOKS / "openfield.toml").read_text(encoding="utf-8"))
    return rules.model_copy(update={"cohorts": {CREW: CohortRules.model_validate({"seats": 3} | crew)}})


def named(*who: str, domain: str = "example.org") -> dict[str, str]:
    return {name: f"{name}@{domain}" for name in who}


@pytest.mark.parametrize(
    ("seated", "wanted", "fitting", "left_out", "taken"),
    [
        ((), ("a", "b"), ("a", "b"), (), 2),
        (("a",), ("a", "b"), ("a", "b"), (), 2),
        (("x", "y"), ("a", "b"), ("a",), ("b",), 3),
        (("x", "y", "z"), ("a", "x"), ("x",), ("a",), 3),
        (("w", "x", "y", "z"), ("a",), (), ("a",), 4),
        ((), (), (), (), 0),
    ],
)
def test_who_fits_is_told_in_the_order_in_which_they_were_named(
    seated: tuple[str, ...], wanted: tuple[str, ...], fitting: tuple[str, ...], left_out: tuple[str, ...], taken: int
) -> None:
    found = seating(rules_with(), CREW, seated, named(*wanted))
    assert (found.fitting, found.left_out, found.taken) == (fitting, left_out, taken)
    assert found.all_fit == (not left_out)
    assert found.left == max(3 - taken, 0)


def test_a_kind_for_the_accounts_own_people_lets_nobody_else_in() -> None:
    rules = rules_with(own_domains_only=True)
    mixed = named("a") | named("b", domain="elsewhere.example")
    found = seating(rules, CREW, (), mixed, domains=["Example.org"])
    assert (found.fitting, found.outsiders) == (("a",), ("b",))
    (finding,) = seat_findings(found, mixed)
    assert finding.code == "outside-the-account"
    assert seating(rules, CREW, (), mixed).all_fit, "a store that names no domains shuts nobody out"


def test_testers_that_do_not_fit_are_refused_before_anything_is_done() -> None:
    rules = read_rulebook((RULEBOOKS / "northgate.toml").read_text(encoding="utf-8"))
    seats = rules.cohorts[CREW].seats
    crowd = named(*(f"t{place}" for place in range(seats + 1)))
    assert seat_findings(seating(rules, CREW, (), dict(list(crowd.items())[:seats])), crowd) == []
    with pytest.raises(NotReady, match=f"{seats} crew seats; {seats + 1} testers") as short:
        demand_ready(seat_findings(seating(rules, CREW, (), crowd), crowd), "This")
    assert f"No seat for t{seats}@example.org." in short.value.detail
    slatehouse = read_rulebook((RULEBOOKS / "slatehouse.toml").read_text(encoding="utf-8"))
    with pytest.raises(Conflict, match="knows no walk-in"):
        seat_rules(slatehouse, CohortKind.WALK_IN)


@pytest.mark.parametrize(
    ("once_per", "opened", "waits"),
    [
        ("version", [], True),
        ("version", [SeenTrial("1.0.0", 1, CREW)], False),
        ("version", [SeenTrial("1.0.0", 1, GUEST)], True),
        ("version", [SeenTrial("0.9.0", 1, CREW)], True),
        ("build", [SeenTrial("1.0.0", 1, CREW)], True),
        ("build", [SeenTrial("1.0.0", 2, CREW)], False),
    ],
)
def test_whether_the_store_looks_first_is_known_beforehand(once_per: str, opened: list[SeenTrial], waits: bool) -> None:
    rules = rules_with(review_first=True, reviewed_once_per=once_per)
    found = foresee_review(rules, CREW, "1.0.0", 2, opened)
    assert found.waits == waits
    assert (found.usual_hours > 0) == waits
    assert found.because


@pytest.mark.parametrize(
    ("brief", "sign_in", "reviewed", "codes"),
    [
        ({"en": "Look."}, True, True, []),
        ({"en": " "}, True, True, ["notes-missing", "brief-locale-missing"]),
        ({"de": "Schau."}, True, True, ["brief-locale-missing"]),
        ({"en": "x" * 31}, True, True, ["brief-too-long"]),
        ({"en": "Look."}, False, True, ["sign-in-missing"]),
        ({"en": "Look."}, False, False, []),
    ],
)
def test_a_brief_is_held_to_the_stores_limits(
    brief: dict[str, str], sign_in: bool, reviewed: bool, codes: list[str]
) -> None:
    rules = rules_with(brief_limit_characters=30, brief_locales_required=["en"], sign_in_required=True)
    found = brief_findings(rules, CREW, brief, sign_in=sign_in, reviewed=reviewed)
    assert [finding.code for finding in found] == codes
    assert all(finding.remedy for finding in found)


@pytest.mark.parametrize(
    ("mails", "hours", "complaint"),
    [(0, None, None), (1, AGAIN_AFTER_HOURS, None), (1, 23.9, "less than 24 hours"), (MOST_MAILS, 99, "went out")],
)
def test_a_brake_keeps_anybody_from_being_flooded(mails: int, hours: float | None, complaint: str | None) -> None:
    last = None if hours is None else NOW - timedelta(hours=hours)
    if complaint is None:
        demand_again(mails, last, NOW)
        return
    with pytest.raises(Conflict, match=complaint):
        demand_again(mails, last, NOW)


class SeatLife(RuleBasedStateMachine):
    """People come and go while trials open and end; the desk's seats never exceed the store's, whatever the order."""

    def __init__(self) -> None:
        super().__init__()
        self.rules = rules_with(seats=4)
        self.trials: list[TrialState] = []
        self.invitations: dict[tuple[int, str], InvitationState] = {}

    def seated(self) -> set[str]:
        return {
            who for (place, who), state in self.invitations.items() if self.trials[place] in SEATED and state in SITS
        }

    @rule(count=integers(0, 6))
    def open_one(self, count: int) -> None:
        wanted = named(*"abcdef"[:count])
        found = seating(self.rules, CREW, self.seated(), wanted)
        if found.all_fit:
            self.trials.append(TRIAL.after(TRIAL.initial, TrialEvent.HAND_IN))
            self.invitations |= {(len(self.trials) - 1, who): INVITATION.initial for who in wanted}
        else:
            assert len(self.seated() | set(wanted)) > 4

    @rule(place=integers(0, 20), event=sampled_from(TrialEvent))
    def something_happens_to_a_trial(self, place: int, event: TrialEvent) -> None:
        if place >= len(self.trials):
            return
        if event is TrialEvent.HAND_IN:
            people = {who: "" for (here, who), state in self.invitations.items() if here == place and state in SITS}
            if not seating(self.rules, CREW, self.seated(), people).all_fit:
                return
        try:
            self.trials[place] = TRIAL.after(self.trials[place], event)
        except ImpossibleAct:
            assert event not in TRIAL.possible(self.trials[place])

    @rule(place=integers(0, 20), who=sampled_from("abcdef"), event=sampled_from(InvitationEvent), seats=booleans())
    def something_happens_to_an_invitation(self, place: int, who: str, event: InvitationEvent, seats: bool) -> None:
        here = self.invitations.get((place, who))
        if here is None or (here, event) not in INVITATION.table:
            return
        after = INVITATION.after(here, event)
        sits_down = here not in SITS and after in SITS and self.trials[place] in SEATED
        if sits_down and not seating(self.rules, CREW, self.seated(), {who: ""}).all_fit:
            return
        self.invitations[place, who] = after

    @invariant()
    def nobody_sits_who_has_no_seat(self) -> None:
        assert len(self.seated()) <= 4

    @invariant()
    def an_ended_trial_seats_nobody(self) -> None:
        for place, state in enumerate(self.trials):
            if state in (TrialState.CLOSED, TrialState.REPLACED, TrialState.EXPIRED):
                assert not TRIAL.possible(state)
                assert state not in SEATED, place


TestSeatLife = SeatLife.TestCase
TestSeatLife.settings = settings(max_examples=150, stateful_step_count=40)
