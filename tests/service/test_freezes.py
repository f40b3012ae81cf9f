"""Freezes at the desk: nothing rises in one, what stops goes, and two people may lift it for a release."""

from __future__ import annotations

from datetime import timedelta

import pytest

from restless_tide.client import Conflict, Denied, ImpossibleAct, Invalid, NotFound, Tide
from restless_tide.service.serve import add_first_person
from tests.harbour import Harbour, until


def test_nothing_rises_in_a_freeze_until_two_people_agree_and_a_halt_always_goes(harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("northgate",))
    now = harbour.tide.watching.clock().now
    wall = now.replace(tzinfo=None, microsecond=0)
    freezes = harbour.tide.freezes
    begins, ends = wall - timedelta(hours=1), wall + timedelta(days=9)
    made = freezes.set("harvest", begins, ends, apps=[app], reason="everybody is in the field")
    try:
        assert made.holds
        leg = harbour.leg(app, "northgate")
        assert (leg.frozen_by, leg.frozen_until) == ("harvest", ends.replace(tzinfo=now.tzinfo))
        possible = {option.act: option for option in leg.acts}
        assert possible["halt"].possible
        assert possible["pause"].possible
        assert not possible["advance"].possible
        assert "The freeze harvest holds it until" in possible["finish"].why_not
        with pytest.raises(ImpossibleAct, match="freeze harvest"):
            harbour.tide.releases.steer(app, "1.0.0", "advance", reason="quick", store="northgate")
        share = leg.share
        harbour.pass_hours(60)
        assert harbour.leg(app, "northgate").share == share

        with pytest.raises(Conflict, match="already"):
            freezes.set("harvest", begins, ends)
        with pytest.raises(Invalid, match="over already"):
            freezes.set("past", begins - timedelta(days=9), begins - timedelta(days=8))
        with pytest.raises(Invalid, match="ends after it begins"):
            freezes.set("odd", ends, begins)
        with pytest.raises(NotFound):
            freezes.set("where", begins, ends, stores=["nowhere"])

        asked = freezes.ask(app, "1.0.0", reason="the fix for the crash")
        with pytest.raises(Denied, match="second person"):
            freezes.agree(asked.id)
        add_first_person(
            harbour.processes.desk_environment(), "Wren Alder", "wren@saltgrass.example.org", "a-long-password"
        )
        with Tide(harbour.address) as second:
            second.people.sign_in("wren@saltgrass.example.org", "a-long-password")
            assert second.freezes.agree(asked.id).agreed_by == "Wren Alder"
            with pytest.raises(ImpossibleAct, match="agreed already"):
                second.freezes.agree(asked.id)
        until(lambda: harbour.leg(app, "northgate"), lambda seen: seen.share > share and seen.confirmed)
        assert freezes.overrides()[0].agreed_at is not None
        harbour.tide.releases.steer(app, "1.0.0", "halt", reason="it is worse")
        until(lambda: harbour.leg(app, "northgate"), lambda seen: seen.phase == "halted" and seen.confirmed)
    finally:
        freezes.end("harvest", reason="the harvest is in")
    assert "harvest" not in [one.name for one in freezes.every()]
    with pytest.raises(ImpossibleAct, match="No freeze holds"):
        freezes.ask(app, "1.0.0", reason="again")


def test_an_approved_release_waits_for_the_end_of_a_freeze(harbour: Harbour) -> None:
    app = harbour.new_app()
    wall = harbour.tide.watching.clock().now.replace(tzinfo=None, microsecond=0)
    harbour.tide.freezes.set("fair", wall - timedelta(hours=1), wall + timedelta(days=20), apps=[app])
    harbour.draft(app, stores=("northgate",))
    harbour.submit(app, "1.0.0")
    harbour.all_confirmed(app)
    harbour.pass_hours(70, desk=False)
    leg = until(lambda: harbour.leg(app, "northgate"), lambda seen: seen.phase == "approved")
    assert leg.waits_for
    assert leg.waits_for[0].startswith("the end of the freeze fair")
    harbour.tide.freezes.end("fair", reason="it rained")
    until(lambda: harbour.leg(app, "northgate"), lambda seen: seen.phase == "rising" and seen.confirmed)
