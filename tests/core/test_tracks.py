"""Tracks: what people get from them, what a move would mean, and what a rule still waits for."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from restless_tide.core.errors import Invalid, Level
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.packages.facts import Facts
from restless_tide.core.rulebook import PRODUCTION, CohortKind, PeopleGet, Rulebook, read_rulebook
from restless_tide.core.tracks import (
    Address,
    Evidence,
    Move,
    MoveRule,
    Offer,
    OnTrack,
    Stood,
    check_move,
    demand_track,
    gets,
    missing_for,
    next_track,
    parse_address,
    reaches,
    review_holds,
    spread,
    with_own,
)
from restless_tide.standins.__main__ import RULEBOOKS

NOW = datetime(2026, 11, 26, 9, tzinfo=UTC)
OPENFIELD, SLATEHOUSE, NORTHGATE = (
    read_rulebook((RULEBOOKS / f"{name}.toml").read_text(encoding="utf-8"))
    for name in ("openfield", "slatehouse", "northgate")
)


def changed(rules: Rulebook, **tracks: dict[str, Any]) -> dict[str, Any]:
    """A rulebook's document with some tracks changed; None takes one out."""
    document = rules.model_dump(mode="json")
    for key, rules_of in tracks.items():
        document["tracks"][key] = {**document["tracks"].get(key, {}), **rules_of}
    return document


def offer(track: str, number: int, version: str = "1.0.0", share: float = 1.0, hours: float = 0) -> Offer:
    return Offer(
        f"{track} {version} {number}", track, version, BuildNumber(number), NOW - timedelta(hours=hours), share
    )


def facts(**told: Any) -> Facts:
    plain = {"format": "apk", "identifier": "a", "version": "1.0.0", "number": 1, "size_bytes": 1, "sha256": "0"}
    return Facts.of(plain | told)


# the rulebook


def test_a_rulebook_without_tracks_has_production_and_one_for_each_kind() -> None:
    document = OPENFIELD.model_dump(mode="json") | {"tracks": {}, "own_tracks": None}
    rules = Rulebook.model_validate(document)
    assert list(rules.ways) == ["crew", "guest", "walk-in", PRODUCTION]
    assert [next_track(rules, key) for key in rules.ways] == ["guest", "walk-in", PRODUCTION, None]
    assert rules.rollout_on(PRODUCTION) is rules.rollout


@pytest.mark.parametrize(
    ("tracks", "said"),
    [
        ({"production": {"rank": None}}, "production is missing, or has no rank"),
        ({"production": {"audience": "choosers"}}, "does not reach everybody"),
        ({"porch": {"rank": 1}}, "each rank stands once"),
        ({"porch": {"rank": 9}}, "production has the highest"),
        ({"porch": {"kinds": []}}, "kinds belong to a track whose audience is cohorts"),
        ({"early": {"kinds": ["crew"]}}, "kinds belong to a track whose audience is cohorts"),
        ({"porch": {"review_first": True}}, "all get it at once"),
        ({"porch": {"kinds": ["guest"]}}, "no track has the kind walk-in"),
        ({"early": {"review_holds_from": ["nowhere"]}}, "tracks.early names nowhere"),
        ({"early": {"after": [{"track": "early"}]}}, "tracks.early names early"),
        ({"A b": {"title": "x", "audience": "choosers"}}, "small letters, digits and dashes"),
    ],
)
def test_tracks_that_do_not_fit_together_make_no_rulebook(tracks: dict[str, dict[str, Any]], said: str) -> None:
    with pytest.raises(ValueError, match=said):
        Rulebook.model_validate(changed(OPENFIELD, **tracks))


def test_a_track_is_named_by_its_store_and_key() -> None:
    assert parse_address(" Openfield/Early ") == Address("openfield", "early")
    assert str(parse_address("openfield")) == str(parse_address("openfield/production")) == "openfield"
    for unfit in ("", "openfield/", "/early", "a/b/c"):
        with pytest.raises(Invalid, match="names no track"):
            parse_address(unfit)
    with pytest.raises(Invalid, match="Openfield has no track 'shoal'"):
        demand_track(OPENFIELD, "shoal")


def test_tracks_stand_in_their_order_and_own_ones_beside_it() -> None:
    assert list(OPENFIELD.ways) == ["workbench", "porch", "early", "production"]
    assert next_track(SLATEHOUSE, "floor") == PRODUCTION
    assert next_track(SLATEHOUSE, "preview") is None
    own = with_own(OPENFIELD, {"harbour": "Harbour staff"})
    assert (own.ways["harbour"].title, own.ways["harbour"].kinds) == ("Harbour staff", OPENFIELD.ways["porch"].kinds)
    assert next_track(own, "early") == PRODUCTION
    assert "harbour" not in OPENFIELD.ways
    assert own.track_for(CohortKind.GUEST) == "porch"
    assert with_own(NORTHGATE, {"x": "X"}) is NORTHGATE


# what people get


def first(_: Offer) -> float:
    return 0.0


def last(_: Offer) -> float:
    return 0.999


def test_who_may_use_several_tracks_gets_what_the_store_says() -> None:
    early, live = offer("early", 9, "1.1.0", hours=40), offer(PRODUCTION, 8, "1.0.1", hours=1)
    assert gets(OPENFIELD, {"early"}, [early, live], first) == early
    assert gets(OPENFIELD, set(), [early, live], first) == live
    latest = NORTHGATE.model_copy(update={"people_get": PeopleGet.LATEST_PLACED})
    here = offer("tryout", 9, "1.1.0", hours=40)
    assert gets(latest, {"tryout"}, [here, live], first) == live
    chosen = offer("preview", 1, "0.9.0")
    assert gets(SLATEHOUSE, {"preview"}, [chosen, live], first) == chosen
    assert gets(SLATEHOUSE, {"preview"}, [live], first) == live


def test_a_share_reaches_those_before_it_in_the_line_and_nobody_goes_back() -> None:
    rising, whole = offer(PRODUCTION, 9, share=0.2), offer(PRODUCTION, 8, hours=90)
    assert gets(OPENFIELD, set(), [rising, whole], first) == rising
    assert gets(OPENFIELD, set(), [rising, whole], last) == whole
    assert gets(OPENFIELD, set(), [whole], first, has=rising) == rising
    assert gets(OPENFIELD, set(), [], first) is None
    assert gets(OPENFIELD, set(), [], first, has=whole) == whole


def test_numbers_that_restart_are_compared_behind_the_version() -> None:
    assert gets(NORTHGATE, set(), [offer(PRODUCTION, 1, "2.0.0", hours=2)], first, offer("x", 9, "1.0.0")) == offer(
        PRODUCTION, 1, "2.0.0", hours=2
    )
    assert gets(OPENFIELD, set(), [offer(PRODUCTION, 1, "2.0.0")], first, has := offer("x", 9, "1.0.0")) == has


def test_a_staged_share_is_told_as_parts_of_the_people() -> None:
    rising, whole, early = offer(PRODUCTION, 9, share=0.35), offer(PRODUCTION, 8), offer("early", 10, share=0.2)
    assert spread(OPENFIELD, set(), [rising, whole, early]) == [(whole, pytest.approx(0.65)), (rising, 0.35)]
    found = dict(spread(OPENFIELD, {"early"}, [rising, whole, early]))
    assert found == {early: pytest.approx(0.2), rising: pytest.approx(0.28), whole: pytest.approx(0.52)}
    assert spread(OPENFIELD, set(), []) == [(None, 1.0)]


OFFERS = st.lists(
    st.builds(
        offer,
        st.sampled_from(["workbench", "early", PRODUCTION]),
        st.integers(1, 30),
        share=st.sampled_from([0.02, 0.2, 1.0]),
        hours=st.integers(0, 90),
    ),
    max_size=6,
    unique_by=lambda entry: entry.id,
)


@given(OFFERS, st.sets(st.sampled_from(["workbench", "early"])), st.sampled_from(list(PeopleGet)))
def test_parts_add_up_and_are_only_of_what_is_offered(offers: list[Offer], may_use: set[str], get: PeopleGet) -> None:
    rules = OPENFIELD.model_copy(update={"people_get": get})
    found = spread(rules, may_use, offers)
    assert sum(share for _, share in found) == pytest.approx(1.0)
    assert {got for got, _ in found} <= {None, *(entry for entry in offers if entry.track in {*may_use, PRODUCTION})}
    if get is PeopleGet.HIGHEST_NUMBER and found and (sure := [entry for entry in offers if entry.share == 1.0]):
        reached = max((entry.number for entry in sure if entry.track in {*may_use, PRODUCTION}), default=None)
        assert reached is None or all(got is not None and got.number >= reached for got, _ in found)


# what a move would mean


def move(track: str, number: int = 5, **told: Any) -> Move:
    return Move("1.0.0", BuildNumber(number), track, NOW, **told)


def codes(rules: Rulebook, wanted: Move, **standing: OnTrack) -> dict[str, str]:
    return {found.code: found.detail for found in check_move(rules, wanted, standing)}


def test_a_fix_does_not_reach_those_who_have_a_higher_number() -> None:
    early = OnTrack("early", (offer("early", 9, "1.1.0"),), 1600)
    told = codes(OPENFIELD, move(PRODUCTION, 8, reviewed_on=("early",)), early=early)
    assert set(told) == {"higher-number-elsewhere"}
    assert told["higher-number-elsewhere"].startswith("Openfield: 1600 people on Early have 1.1.0 (9) and keep it")
    told = codes(
        OPENFIELD, move("early", 8, reviewed_on=("early",)), production=OnTrack(PRODUCTION, (offer(PRODUCTION, 9),))
    )
    assert "everybody is offered 1.0.0 (9) on Production: nobody on Early receives" in told["higher-number-elsewhere"]
    assert "higher-number-elsewhere" not in codes(OPENFIELD, move(PRODUCTION, 10), early=early)
    crew = OnTrack("workbench", (offer("workbench", 9),), 4, ("crew",))
    told = codes(OPENFIELD, move("porch", 8), workbench=crew)
    assert "higher-number-elsewhere" not in told, "other people"
    told = codes(OPENFIELD, move(PRODUCTION, 8), workbench=crew)
    assert "4 people in crew on Workbench" in told["higher-number-elsewhere"]
    preview = OnTrack("preview", (offer("preview", 9, "1.1.0"),), 30)
    assert "higher-number-elsewhere" not in codes(SLATEHOUSE, move("classrooms", 8), preview=preview)


def test_a_build_comes_to_a_track_when_its_time_has_come() -> None:
    early = move("early", stood={"workbench": Stood(4.2, 1)})
    told = codes(OPENFIELD, early)
    assert "it needs 8 more hours and 1 more people there" in told["track-too-early"]
    assert Level.BLOCKER in {
        found.level for found in check_move(OPENFIELD, early, {}) if found.code == "track-too-early"
    }
    assert "track-too-early" not in codes(OPENFIELD, move("early", stood={"workbench": Stood(12, 2)}))


def test_who_drops_out_who_is_there_and_what_is_shown_are_foreseen() -> None:
    before = (facts(lowest_platform="26", processors=("arm64-v8a", "x86_64")),)
    after = (facts(lowest_platform="29", processors=("arm64-v8a",)),)
    here = OnTrack(PRODUCTION, (offer(PRODUCTION, 4),), None, (), before)
    told = codes(OPENFIELD, move(PRODUCTION, facts=after, reviewed_on=("early",)), production=here)
    assert "a platform level of 26 to 28 cannot install it" in told["platform-drops-people"]
    assert "of kind x86_64 cannot" in told["processors-drop-people"]
    assert set(codes(OPENFIELD, move("workbench"), workbench=OnTrack("workbench", people=0))) == {"track-empty"}
    told = codes(OPENFIELD, move("early", share=0.02, reviewed_on=("early",)), early=OnTrack("early", people=30))
    assert told["share-below-one-person"] == "2.00% of 30 people on Early is less than one person."
    assert "notes-not-shown" in codes(SLATEHOUSE, move("classrooms", notes={"en": "New."}))
    assert "track-review" in codes(OPENFIELD, move(PRODUCTION))
    assert "track-review" not in codes(OPENFIELD, move("porch"))
    profile = {"name": "p", "identifier": "a", "team": "t", "team_name": "t", "kind": "store"}
    soon = (facts(format="ipa", profile={**profile, "expires_at": NOW + timedelta(days=3)}),)
    assert "expires in 3 days" in codes(NORTHGATE, move("tryout", facts=soon))["expires-on-track"]
    gone = (facts(format="ipa", profile={**profile, "expires_at": NOW - timedelta(days=3)}),)
    assert "has expired" in codes(NORTHGATE, move("tryout", facts=gone))["expires-on-track"]


def test_a_full_track_takes_no_other_build_and_one_of_some_countries_says_so() -> None:
    full = OnTrack("workbench", tuple(offer("workbench", number) for number in range(1, 5)), 4, ("crew",))
    told = codes(OPENFIELD, move("workbench"), workbench=full)
    assert (
        told["track-full"] == "Workbench takes 4 builds at once and holds 1.0.0 (1), 1.0.0 (2), 1.0.0 (3), 1.0.0 (4)."
    )
    assert "track-full" not in codes(OPENFIELD, move("workbench", 4), workbench=full)
    assert codes(SLATEHOUSE, move("classrooms"))["countries-only"] == "Classrooms reaches people in AT, DE, NO only."
    assert [reaches(SLATEHOUSE, "classrooms", country) for country in ("AT", "JP", None)] == [True, False, True]


def test_a_review_holds_where_the_rulebook_says_so() -> None:
    assert review_holds(OPENFIELD, PRODUCTION, ("early",))
    assert not review_holds(OPENFIELD, "early", (PRODUCTION,))
    assert review_holds(OPENFIELD, "workbench", ())
    assert not review_holds(OPENFIELD, PRODUCTION, (PRODUCTION,)), "each submission for the same track is reviewed"


# rules


def test_a_rule_says_what_it_waits_for() -> None:
    rule = MoveRule(24, 3, 0.99, ("crash",), needs_go_ahead=True)
    assert rule.told() == "24 hours, 3 people, 99.00% of sessions without a crash, no open crash report, a go-ahead"
    assert missing_for(rule, Evidence(Stood(1.5, 2), 100, 2, {"crash": 1, "remark": 9})) == [
        "22.5 of 24 hours are left",
        "2 of 3 people have it",
        "98.00% of sessions went without a crash, 99.00% are wanted",
        "1 crash report is open",
        "the go-ahead",
    ]
    assert missing_for(rule, Evidence(Stood(24, 3), 0, 0, {}, go_ahead=True)) == [
        "nobody has used it so far, as far as the store tells"
    ]
    assert missing_for(rule, Evidence(Stood(24, 3), 100, 1, {}, go_ahead=True)) == []
    assert MoveRule().told() == ""
