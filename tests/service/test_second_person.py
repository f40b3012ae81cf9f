"""What brings a release to people waits for a second person where an app's owner wants that; what stops it never waits."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

import pytest

from restless_tide.client import Denied, ImpossibleAct, SecondPersonNeeded, Tide
from restless_tide.core.rights import Grant, Role
from tests.harbour import Harbour, until
from tests.service.test_rights import A_PASSWORD, person, token_of


@pytest.fixture(scope="module")
def app(harbour: Harbour) -> str:
    made = harbour.new_app()
    harbour.risen(made, stores=("northgate",))
    harbour.tide.apps.demand_second_person(made, True)
    return made


@pytest.fixture
def second(harbour: Harbour, app: str) -> Iterator[Tide]:
    with Tide(harbour.address, token=token_of(harbour, Grant(Role.RELEASE_MANAGER, (app,)))) as line:
        yield line


def test_a_resume_waits_for_a_second_person_and_a_halt_never_does(harbour: Harbour, app: str, second: Tide) -> None:
    tide = harbour.tide
    tide.releases.steer(app, "1.0.0", "pause", reason="a look at it")
    until(lambda: harbour.leg(app, "northgate"), lambda leg: leg.phase == "paused" and leg.confirmed)
    with pytest.raises(SecondPersonNeeded, match="waits for a second person; nothing is done yet"):
        tide.releases.steer(app, "1.0.0", "resume", reason="all is well")
    assert harbour.leg(app, "northgate").phase == "paused"
    asked = tide.releases.waiting()[0]
    assert asked.said == f"Resume of {app} 1.0.0"
    assert asked.said in [
        call.said.removesuffix(" waits for a second person.") for call in tide.watching.overview().desk_calls
    ]
    with pytest.raises(Denied, match="a second person has to agree"):
        tide.releases.agree(asked.id)
    second.releases.agree(asked.id)
    until(lambda: harbour.leg(app, "northgate"), lambda leg: leg.phase == "rising" and leg.confirmed)
    with pytest.raises(ImpossibleAct, match="settled already"):
        second.releases.agree(asked.id)
    lines = [(line.act, line.who) for line in tide.watching.logbook(app=app)]
    assert lines[0][1] == "Ida Fenwick", "it is an act of who asked"
    assert ("second person agreed", "Wren Adeyemi") in lines
    assert ("second person asked", "Ida Fenwick") in lines
    tide.releases.steer(app, "1.0.0", "pause", reason="again")
    assert tide.releases.waiting() == []


def test_what_was_dropped_or_is_too_old_or_fits_no_longer_is_not_done(harbour: Harbour, app: str, second: Tide) -> None:
    tide = harbour.tide
    for _ in range(2):
        with pytest.raises(SecondPersonNeeded):
            tide.releases.steer(app, "1.0.0", "finish", reason="everybody")
    first, other = tide.releases.waiting()
    second.releases.drop(first.id, reason="not today")
    with pytest.raises(ImpossibleAct, match="settled already"):
        second.releases.agree(first.id)
    harbour.tide.watching.move_clock(step_hours=25)
    assert tide.releases.waiting() == []
    with pytest.raises(Exception, match="asked too long ago"):
        second.releases.agree(other.id)


def test_handing_in_waits_too_and_what_was_looked_at_still_has_to_be_so(harbour: Harbour, second: Tide) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",))
    harbour.tide.apps.demand_second_person(app, True)
    harbour.tide.people.me()
    with pytest.raises(SecondPersonNeeded):
        harbour.submit(app)
    asked = next(one for one in harbour.tide.releases.waiting() if one.app == app)
    with pytest.raises(Denied):  # of another app
        second.releases.agree(asked.id)
    harbour.tide.releases.write_notes(app, "1.0.0", "en", "Other words.")
    with Tide(harbour.address, token=token_of(harbour, Grant(Role.OWNER))) as owner:
        with pytest.raises(Exception, match="[Ll]ook"):
            owner.releases.agree(asked.id)
        assert [one.id for one in harbour.tide.releases.waiting() if one.app == app] == [asked.id], "nothing was agreed"


def test_what_was_asked_is_kept_sealed(harbour: Harbour, app: str) -> None:
    with pytest.raises(SecondPersonNeeded):
        harbour.tide.releases.steer(app, "1.0.0", "withdraw", reason="a very telling reason")
    with sqlite3.connect(harbour.folder / "desk" / "desk.sqlite") as records:
        kept = records.execute("SELECT sealed_body FROM proposals").fetchall()
    assert all(b"telling" not in row[0] for row in kept)


def test_only_an_owner_of_the_app_sets_the_rule(harbour: Harbour, app: str, second: Tide) -> None:
    with pytest.raises(Denied):
        second.apps.demand_second_person(app, False)


def test_who_may_no_longer_do_it_is_not_helped_by_an_agreement(harbour: Harbour, app: str, second: Tide) -> None:
    told, email = person(harbour, Grant(Role.RELEASE_MANAGER, (app,)))
    with Tide(harbour.address) as asker:
        asker.people.sign_in(email, A_PASSWORD)
        with pytest.raises(SecondPersonNeeded):
            asker.releases.steer(app, "1.0.0", "withdraw", reason="to spite them")
    asked = next(one for one in harbour.tide.releases.waiting() if one.app == app and one.asked_by == told.name)
    harbour.tide.people.remove(told.id, "left the company")
    with pytest.raises(ImpossibleAct, match="may no longer do it"):
        second.releases.agree(asked.id)
    assert harbour.leg(app, "northgate").phase != "withdrawn"


def test_a_leg_that_was_handed_in_is_not_brought_to_people_by_changing_what_its_launch_waits_for(
    harbour: Harbour,
) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",), needs_go_ahead=True)
    harbour.tide.apps.demand_second_person(app, True)
    harbour.tide.releases.change_leg(app, "1.0.0", "northgate", needs_go_ahead=True)  # a draft reaches nobody
    harbour.tide.apps.demand_second_person(app, False)
    harbour.approve(app)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "approved")
    harbour.tide.apps.demand_second_person(app, True)
    with pytest.raises(SecondPersonNeeded, match="Changing the leg of"):
        harbour.tide.releases.change_leg(app, "1.0.0", "northgate", needs_go_ahead=False)
    asked = next(one for one in harbour.tide.releases.waiting() if one.app == app)
    assert harbour.leg(app, "northgate").phase == "approved"
    with Tide(harbour.address, token=token_of(harbour, Grant(Role.OWNER))) as owner:
        owner.releases.agree(asked.id)
    harbour.released(app, "1.0.0", lambda seen: seen.legs[0].phase == "rising")


def test_another_pace_waits_too_once_a_release_was_handed_in(harbour: Harbour, app: str, second: Tide) -> None:
    releases = harbour.tide.releases
    with pytest.raises(SecondPersonNeeded, match="Another pace for"):
        releases.set_pace(app, "1.0.0", "in step")
    asked = next(one for one in releases.waiting() if one.app == app and "pace" in one.said)
    assert releases.one(app, "1.0.0").pace.kind == "free"
    second.releases.agree(asked.id)
    assert releases.one(app, "1.0.0").pace.kind == "in step"


def test_what_cannot_be_done_is_refused_at_once_and_asks_no_one(harbour: Harbour, second: Tide) -> None:
    app = harbour.new_app()
    harbour.draft(app, stores=("northgate",))
    harbour.tide.apps.demand_second_person(app, True)
    with pytest.raises(ImpossibleAct):
        harbour.tide.releases.steer(app, "1.0.0", "finish", store="northgate", reason="everybody")
    assert not [one for one in harbour.tide.releases.waiting() if one.app == app]
    assert not [line for line in harbour.tide.watching.logbook(app=app) if line.act == "second person asked"]
