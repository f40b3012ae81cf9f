"""Three stores that differ: one release on three paths, other rules announced, offers, standing, names that expire."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from restless_tide.client import ImpossibleAct, Invalid, NotReady
from restless_tide.core.rulebook import CohortKind, read_rulebook
from restless_tide.demo.processes import STORES
from restless_tide.gateways.client import Gateway, read_connection_file
from restless_tide.standins.__main__ import RULEBOOKS
from restless_tide.standins.packages import PackageRecipe, write_msix
from restless_tide.standins.population import KINDS
from restless_tide.wire.apps import Availability
from restless_tide.wire.releases import LegWanted
from tests.harbour import Harbour, leg_of, until

ANNOUNCED = read_rulebook((RULEBOOKS / "announced" / "slatehouse.toml").read_text(encoding="utf-8"))


@pytest.fixture(scope="module")
def coast(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Harbour]:
    opened = Harbour.open(tmp_path_factory.mktemp("coast"), stores=STORES)
    opened.connect_stores()
    yield opened
    opened.close()


def test_the_same_release_takes_three_paths_as_the_rulebooks_say(coast: Harbour) -> None:
    app = coast.new_app()
    coast.draft(app, stores=STORES)
    coast.submit(app, "1.0.0")
    coast.all_confirmed(app)
    coast.pass_hours(70, desk=False)
    risen = coast.released(
        app, "1.0.0", lambda seen: all(leg.phase == "rising" and leg.confirmed and leg.seen for leg in seen.legs)
    )
    assert {leg.store: leg.share for leg in risen.legs} == {"northgate": 0.05, "openfield": 0.02, "slatehouse": 0.05}
    possible = {leg.store: {option.act for option in leg.acts if option.possible} for leg in risen.legs}
    assert "advance" in possible["northgate"]
    assert "advance" not in possible["openfield"]
    coast.tide.releases.steer(app, "1.0.0", "halt", reason="crashes")
    halted = coast.released(app, "1.0.0", lambda seen: all(leg.confirmed for leg in seen.legs))
    why = {leg.store: next(option.why_not for option in leg.acts if option.act == "resume") for leg in halted.legs}
    assert why == {
        "northgate": "This store continues a halted release only with a new build; fix it with a new build, or withdraw.",
        "openfield": "",
        "slatehouse": "",
    }
    done = coast.tide.releases.steer(app, "1.0.0", "resume", reason="it was the network")
    assert {outcome.store: outcome.ordered for outcome in done.outcomes} == {
        "northgate": False,
        "openfield": True,
        "slatehouse": True,
    }
    coast.all_confirmed(app)
    with pytest.raises(ImpossibleAct, match="only with a new build"):
        coast.tide.releases.steer(app, "1.0.0", "resume", reason="again", store="northgate")


def packages(coast: Harbour, app: str, number: int, *kinds: str) -> list[Path]:
    made = []
    for place, kind in enumerate(kinds):
        recipe = PackageRecipe(f"org.example.saltgrass.{app}", "1.0.0", number, "A", (), processor=kind)
        made.append(write_msix(coast.folder / f"{app}-{number}-{place}-{kind}.msix", recipe))
    return made


def test_a_build_of_several_packages_one_per_processor_kind_goes_as_one(coast: Harbour) -> None:
    app = coast.new_app()
    files = packages(coast, app, 1, "x64", "arm64", "x86")
    sent = coast.push(*files, app=app, store="slatehouse")
    whole = until(lambda: coast.tide.builds.consignment(sent.id), lambda seen: seen.state == "processing")
    assert whole.sent_bytes == whole.size_bytes == sum(file.stat().st_size for file in files)
    build = coast.tide.builds.one(sent.build)
    assert [package.processors for package in build.packages] == [("x64",), ("arm64",), ("x86",)]
    coast.pass_hours(4, desk=False)
    until(lambda: coast.tide.builds.consignment(sent.id), lambda seen: seen.state == "ready")
    with pytest.raises(NotReady, match=r"takes 3 package\(s\) per build, this has 4"):
        coast.push(*packages(coast, app, 2, "x64", "arm64", "x86", "arm"), app=app, store="slatehouse")


def test_a_name_that_is_claimed_and_never_used_lapses_and_can_be_claimed_again(own_coast: Harbour) -> None:
    app = own_coast.new_app()
    rules = read_rulebook((RULEBOOKS / "northgate.toml").read_text(encoding="utf-8"))
    days = rules.name.expires_unused_days or 0
    own_coast.control("northgate", "clock", {"step_hours": 24 * (days + 1)})
    expired = until(lambda: own_coast.tide.apps.berth(app, "northgate"), lambda berth: berth.state == "refused")
    assert expired.refused_because == "the name expired, because no build came in time"
    own_coast.tide.apps.open_berth(app, "northgate")
    until(lambda: own_coast.tide.apps.berth(app, "northgate"), lambda berth: berth.state == "open")


@pytest.fixture
def own_coast(tmp_path: Path) -> Iterator[Harbour]:
    opened = Harbour.open(tmp_path / "coast", stores=("northgate", "slatehouse"))
    opened.connect_stores()
    yield opened
    opened.close()


def announce(harbour: Harbour, hours: float, **changed: Any) -> None:
    document = ANNOUNCED.model_dump(mode="json") | changed
    harbour.control("slatehouse", "rulebook", {"rulebook": document, "in_hours": hours})


def test_an_announced_revision_names_the_releases_it_hits_before_its_date_and_is_taken_on_it(
    own_coast: Harbour,
) -> None:
    harbour = own_coast
    harbour.tide.notices.subscribe("mail", "ida@example.org", kinds=["rules changing"])
    app = harbour.new_app()
    build = harbour.ready_build(app, "slatehouse")
    text = "Maps with contour lines, readable in bright sun, and the tide beside each page."
    legs = {"slatehouse": LegWanted(build=build)}
    harbour.tide.releases.draft(app, "1.0.0", legs=legs, notes={"en": text})
    announce(harbour, 24 * 20)
    told = until(lambda: harbour.tide.stores.one("slatehouse"), lambda store: store.announced)
    assert told.rulebook_revision == "7"
    assert told.announced.revision == "8"
    (hit,) = [hit for hit in told.announced.hits if hit.version]
    assert (hit.app, hit.version) == (app.title(), "1.0.0")
    assert "Slatehouse wants release notes in de." in hit.said
    assert f"The notes in en have {len(text)} bytes; Slatehouse takes 60." in hit.said
    days = (hit.by - datetime.fromisoformat(harbour.control("slatehouse", "state")["now"])) / timedelta(days=1)
    assert 19 < days <= 20
    assert harbour.tide.releases.one(app, "1.0.0").legs[0].findings == []
    (now,), (then,) = (
        harbour.tide.dossier.ready(app, "1.0.0", on=day).places for day in (None, hit.by + timedelta(days=1))
    )
    assert (now.rulebook_revision, now.verdict, then.rulebook_revision, then.verdict) == (
        "7",
        "ready",
        "8",
        "blocked",
    )
    assert "after the planned day" in now.announced[0]
    assert "hold on the planned day" in then.announced[0]
    assert "Slatehouse wants release notes in de." in then.announced
    rows = harbour.tide.watching.overview().store_calls
    assert any(f"they affect {app.title()} 1.0.0" in row.call.said for row in rows)
    harbour.pass_hours(24 * 20 + 1)
    taken = until(lambda: harbour.tide.stores.one("slatehouse"), lambda store: store.rulebook_revision == "8")
    assert taken.announced is None
    assert [change.name for change in taken.revisions[0].changes][:2] == [
        "Crew testers, seats",
        "Longest release notes",
    ]
    codes = {finding.code for finding in harbour.tide.releases.one(app, "1.0.0").legs[0].findings}
    assert codes == {"notes-missing", "notes-too-long"}
    said = until(lambda: [entry.said for entry in harbour.tide.notices.deliveries()], lambda told: len(told) == 2)
    assert said[0].startswith("In force now: Crew testers")
    assert f"Affects: {app.title()} 1.0.0" in said[1]


def test_a_rulebook_that_breaks_its_schema_is_not_taken_and_the_old_one_stays_in_force(own_coast: Harbour) -> None:
    harbour = own_coast
    harbour.control("slatehouse", "mischief", {"spoil_rulebook": True})
    harbour.pass_hours(1)
    told = until(lambda: harbour.tide.stores.one("slatehouse"), lambda store: store.rulebook_trouble)
    assert "breaks the schema: review.usual_hours" in (told.rulebook_trouble or "")
    assert (told.rulebook_revision, told.trouble) == ("7", None)
    harbour.control("slatehouse", "mischief", {"spoil_rulebook": False})
    harbour.pass_hours(1)
    until(lambda: harbour.tide.stores.one("slatehouse"), lambda store: store.rulebook_trouble is None)


# offers


def test_price_countries_and_who_are_ordered_with_what_cannot_be_taken_back_said_before(coast: Harbour) -> None:
    app = coast.new_app()
    paid = Availability(price=Decimal("2.99"), currency="EUR", countries=("NO", "DE"))
    sheet = coast.tide.apps.check_offer(app, "northgate", paid)
    assert sheet.findings == []
    coast.tide.apps.offer(app, "northgate", paid, reason="spring")
    seen = until(lambda: coast.tide.apps.berth_detail(app, "northgate"), lambda berth: berth.confirmed)
    assert (seen.offered, seen.seen, seen.offered_told) == (paid, paid, "everyone, 2 countries, EUR 2.99")
    coast.risen(app, stores=("northgate",))
    named = Availability.model_validate(
        paid.model_dump() | {"who": "named organisations", "organisations": ("Harbour Office",)}
    )
    with pytest.raises(NotReady, match="was fixed when the first review began"):
        coast.tide.apps.offer(app, "northgate", named)
    free = Availability(countries=("NO",))
    sheet = coast.tide.apps.check_offer(app, "northgate", free)
    assert "It becomes free. Northgate does not let this be taken back once live." in sheet.consequences
    coast.tide.apps.offer(app, "northgate", free)
    until(lambda: coast.tide.apps.berth_detail(app, "northgate"), lambda berth: berth.confirmed)
    with pytest.raises(NotReady, match="an app that was offered free stays free"):
        coast.tide.apps.offer(app, "northgate", paid)
    with pytest.raises(Invalid, match="XX is no country"):
        coast.tide.apps.offer(app, "northgate", Availability(countries=("XX",)))


def test_a_berth_is_closed_to_new_people_and_reopened(coast: Harbour) -> None:
    app = coast.new_app()
    coast.tide.apps.offer(app, "openfield", Availability(closed=True), reason="a legal question")
    until(lambda: coast.tide.apps.berth_detail(app, "openfield"), lambda berth: berth.confirmed)
    assert coast.control("openfield", "things/berth")[-1]["availability"]["closed"] is True
    coast.tide.apps.offer(app, "openfield", Availability(), reason="settled")
    until(
        lambda: coast.tide.apps.berth_detail(app, "openfield"),
        lambda berth: berth.confirmed and not berth.offered.closed,
    )
    with pytest.raises(NotReady, match="cannot close an app"):
        coast.tide.apps.offer(app, "slatehouse", Availability(closed=True))


def test_the_way_to_a_launch_is_told_by_the_stores_graph(coast: Harbour) -> None:
    app = coast.new_app()
    things = {thing.key: thing for thing in coast.tide.apps.berth_detail(app, "northgate").things}
    assert (things["build"].state, things["review"].state) == ("missing", "locked")
    assert "The first build, by hand" in things["review"].waits_for
    assert "never again" in things["who"].lock
    coast.ready_build(app, "northgate")
    things = {thing.key: thing for thing in coast.tide.apps.berth_detail(app, "northgate").things}
    assert things["build"].state == "done"


# accounts


def test_an_accounts_standing_says_what_it_will_block_and_when(own_coast: Harbour) -> None:
    harbour = own_coast
    harbour.tide.notices.subscribe("mail", "ida@example.org", kinds=["key or standing expiring"])
    until_when = (datetime.now(UTC) + timedelta(days=9)).isoformat()
    paper = {"name": "Contract for paid apps", "state": "missing", "blocks": ["price", "free-or-paid"]}
    rights = ["read", "builds", "trials", "releases", "rollouts"]
    changed = {"standing": "expiring", "membership_until": until_when, "papers": [paper], "may": rights}
    harbour.control("northgate", "account", changed)
    seen = until(lambda: harbour.tide.stores.one("northgate"), lambda store: store.standing == "expiring")
    assert seen.expiries[0].what == "The membership"
    assert seen.blocked == ["Contract for paid apps is missing: price, free-or-paid cannot be changed."]
    assert seen.missing_rights == {"availability": "price, countries and who may get an app cannot be set"}
    app = harbour.new_app()
    with pytest.raises(NotReady, match="without it no price can be set"):
        harbour.tide.apps.offer(app, "northgate", Availability(price=Decimal("2.99"), currency="EUR"))
    calls = [row.call.said for row in harbour.tide.watching.overview().store_calls if row.store == "northgate"]
    assert any("The membership expires in 9 days" in said for said in calls)
    harbour.processes.kill("desk")
    harbour.processes.start("desk")
    (told,) = until(lambda: harbour.tide.notices.deliveries(), bool)
    assert told.said == "The membership at northgate expires in 9 days. After it nothing new can be handed in."


def test_several_accounts_at_one_store_are_kept_apart(coast: Harbour) -> None:
    second = coast.tide.stores.connect("openfield-two", coast.control("openfield", "connections", {}))
    assert (second.title, second.name) == ("Openfield", "openfield-two")
    assert {store.name for store in coast.tide.stores.every() if store.title == "Openfield"} == {
        "openfield",
        "openfield-two",
    }
    assert any("with these rights: read, builds" in step for step in coast.tide.stores.key_steps())


def test_questions_come_one_after_the_other_and_an_answer_can_end_it(coast: Harbour) -> None:
    app = coast.new_app()
    place = ("android.permission.VIBRATE",)
    plain, _ = coast.tide.builds.hand_over(coast.package(app, "openfield", "1.0.0", 9))
    coast.ready_build(app, "openfield")
    (sheet,) = coast.tide.builds.check(app, [coast.tide.builds.package(plain)], "openfield")
    assert [finding.code for finding in sheet.findings if finding.level == "note"] == ["installs-on"]
    file = coast.package(app, "openfield", "1.0.0", 2, permissions=place)
    sent = coast.processing(file, app, "openfield")
    coast.pass_hours(1, desk=False)
    held = until(lambda: coast.tide.builds.consignment(sent.id), lambda seen: seen.state == "held")
    assert [question.code for question in held.questions] == ["rings-when-locked"]
    coast.tide.builds.answer(held.id, {"rings-when-locked": "yes"})
    again = until(
        lambda: coast.tide.builds.consignment(sent.id),
        lambda seen: seen.state == "held" and seen.questions[0].code == "ringing-can-be-stopped",
    )
    assert again.answers == {}
    assert again.questions[0].refused_answers == ["no"]
    for standing, error, said in (
        (True, Invalid, "not given automatically"),
        (False, NotReady, "its number is used up"),
    ):
        with pytest.raises(error, match=said):
            coast.tide.builds.answer(held.id, {"ringing-can-be-stopped": "no"}, standing=standing)
    assert coast.tide.builds.consignment(sent.id).answers == {}
    coast.tide.builds.answer(held.id, {"ringing-can-be-stopped": "no"}, anyway=True)
    refused = until(lambda: coast.tide.builds.consignment(sent.id), lambda seen: seen.state == "refused")
    assert "We do not take apps that answer 'no'" in (refused.reason or "")


def test_a_trial_expires_after_the_stores_days(own_coast: Harbour) -> None:
    app = own_coast.new_app()
    build = own_coast.ready_build(app, "slatehouse")
    own_coast.tide.testing.make_cohort(app, "crew")
    own_coast.tide.testing.add_tester(app, "crew", "wren@example.org")
    trial = own_coast.tide.testing.open_trial(
        app, cohort="crew", build=build, store="slatehouse", notes="Look.", contact="ida@example.org"
    )
    until(lambda: own_coast.tide.testing.trial(trial.id), lambda seen: seen.state == "open")
    rules = read_rulebook((RULEBOOKS / "slatehouse.toml").read_text(encoding="utf-8"))
    own_coast.pass_hours(24 * (rules.cohorts[CohortKind.CREW].trial_days or 0) + 24, desk=False)
    until(lambda: own_coast.tide.testing.trial(trial.id), lambda seen: seen.state == "expired")


def test_the_health_of_a_bad_build_shows_in_the_gauges(coast: Harbour) -> None:
    app = coast.new_app()
    coast.control("slatehouse", "mischief", {"bad_numbers": [2]})
    coast.risen(app, "1.0.0", stores=("slatehouse",), number=1)
    coast.tide.releases.steer(app, "1.0.0", "finish", reason="well")
    coast.all_confirmed(app)
    coast.pass_hours(48)
    coast.risen(app, "1.1.0", stores=("slatehouse",), number=2)
    coast.pass_hours(24)
    connection = read_connection_file(json.dumps(coast.control("slatehouse", "connections", {})))
    gateway = Gateway(connection, name="slatehouse")
    berth = next(berth for berth in coast.control("slatehouse", "things/berth") if berth["reference"] == app)
    page = gateway.gauges(berth["id"])
    assert gateway.gauges(berth["id"]) == page
    hours = list(page.hours)
    while page.more:
        page = gateway.gauges(berth["id"], page.next)
        hours += page.hours
    assert gateway.gauges(berth["id"], page.next).hours == ()
    gateway.close()
    last = {hour.at: hour for hour in sorted(hours, key=lambda hour: hour.revision)}
    assert sum(hour.complete for hour in last.values()) > len(last) - 6
    assert all(len({hour.revision for hour in hours if hour.at == at}) >= 2 for at in list(last)[:-6])

    def rate(version: str) -> float:
        cells = [cell for hour in last.values() for cell in hour.cells if cell.version == version]
        return sum(cell.crashed_people for cell in cells) / sum(cell.sessions for cell in cells)

    assert rate("1.1.0") > 5 * rate("1.0.0")
    assert sum(cell.first_starts for hour in last.values() for cell in hour.cells if cell.version == "1.0.0") > 10_000
    assert {(cell.level, cell.device) for hour in last.values() for cell in hour.cells} == set(KINDS)
    assert leg_of(coast.tide.releases.one(app, "1.1.0"), "slatehouse").phase == "rising"
