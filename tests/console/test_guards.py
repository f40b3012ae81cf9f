"""Guards in the console: set up, tried, and what they say of a rollout, with the counts that they look at."""

from __future__ import annotations

from datetime import UTC, timedelta

import pytest
from playwright.sync_api import Page, expect

from restless_tide.demo.chapter import WRACKLINE
from restless_tide.wire.releases import LegWanted
from tests.harbour import Harbour, until
from tests.service.test_hand_carried import ready_there, settle, with_berth

pytestmark = pytest.mark.console


def test_a_guard_is_tried_set_up_and_halts_what_a_collector_counts(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    page.goto(f"/apps/{app}/guards")
    expect(page.get_by_text("No guard yet")).to_be_visible()
    page.get_by_role("button", name="Add a guard").click()
    form = page.get_by_role("form", name="A new guard")
    form.get_by_role("button", name="Try it").click()
    expect(form.get_by_role("status")).to_contain_text("It would have acted")
    expect(form.get_by_role("img", name="Evidence over time")).to_be_visible()
    form.get_by_label("Watches").select_option("uptake")
    expect(form.get_by_label("Compares with")).to_have_value("the version before at the same share")
    form.get_by_label("Watches").select_option("people who met a crash")
    form.get_by_label("Compares with").select_option("a fixed bound")
    form.get_by_label("Rate, 0.01 is 1 in 100").fill("0.01")
    form.get_by_role("button", name="Save").click()
    guard = page.get_by_role("region", name="crashes")
    expect(guard).to_contain_text("people meet a crash in clearly more than 1.25% of the sessions")
    expect(guard).to_contain_text("orders a halt at every store and tells people")
    known = harbour.tide.guards.of_app(app)[0]
    harbour.tide.guards.change(app, known.name, source="collector", bound=0.01)

    harbour.risen(app, stores=("openfield",))
    page.goto(f"/apps/{app}/releases/1.0.0")
    health = page.get_by_role("region", name="How it is doing")
    expect(health).to_contain_text("Openfield")
    harbour.pass_hours(5)
    now = harbour.tide.watching.clock().now.astimezone(UTC).replace(minute=0, second=0, microsecond=0)
    counted = {
        "version": "1.0.0",
        "people": 800,
        "sessions": 900,
        "crashed_sessions": 90,
        "crashed_people": 80,
        "first_starts": 400,
    }
    hours = [{"at": now - timedelta(hours=back), "cells": [counted]} for back in (3, 2)]
    assert harbour.tide.guards.enter(app, "openfield", hours, source="collector").taken == 2
    expect(health.get_by_role("article", name="crashes, all stores together")).to_contain_text(
        "Ordered a halt at Openfield."
    )
    until(lambda: harbour.leg(app, "openfield"), lambda leg: leg.phase == "halted" and leg.confirmed)
    health.get_by_text("The evidence").click()
    expect(health.get_by_role("img", name="Evidence of crashes")).to_be_visible()
    expect(health.get_by_role("row", name="people who met a crash")).to_contain_text("160")
    health.get_by_role("button", name="Silence it here").click()
    health.get_by_label("Why").fill("we are looking at it ourselves")
    health.get_by_role("button", name="Silence it").click()
    expect(health).to_contain_text("we are looking at it ourselves")
    health.get_by_role("button", name="Have it speak again").click()
    expect(health.get_by_text("Silent until")).to_have_count(0)


def test_a_freeze_is_set_for_one_app_and_a_release_may_rise_in_spite_of_it(page: Page, harbour: Harbour) -> None:
    app = harbour.new_app()
    harbour.risen(app, stores=("openfield",))
    page.goto("/freezes")
    page.get_by_role("button", name="Set a freeze").click()
    form = page.get_by_role("form", name="A new freeze")
    wall = harbour.tide.watching.clock().now.replace(tzinfo=None)
    form.get_by_label("Name").fill(f"fair of {app}")
    form.get_by_label("From").fill(f"{wall - timedelta(days=1):%Y-%m-%dT%H:%M}")
    form.get_by_label("To", exact=True).fill(f"{wall + timedelta(days=5):%Y-%m-%dT%H:%M}")
    form.get_by_label("Times in").fill("UTC")
    form.get_by_label("Apps").select_option(app)
    form.get_by_role("button", name="Set it").click()
    expect(page.get_by_role("region", name=f"fair of {app}")).to_contain_text("holds now")
    page.goto(f"/apps/{app}/releases/1.0.0")
    expect(page.get_by_text("nothing launches and no share rises")).to_be_visible()
    page.get_by_role("link", name="Rise in spite of it?").click()
    page.get_by_role("form", name="Rise in spite of a freeze").get_by_label("Why").fill("the fix")
    page.get_by_role("button", name="Ask a second person").click()
    page.get_by_role("button", name="Agree as the second person").click()
    expect(page.get_by_role("alert")).to_contain_text("second person")
    freeze = page.get_by_role("region", name=f"fair of {app}")
    freeze.get_by_role("button", name="End it").click()
    freeze.get_by_label("Why").fill("it rained")
    freeze.get_by_role("button", name="End it").click()
    expect(page.get_by_role("region", name=f"fair of {app}")).to_have_count(0)


def test_what_a_hand_carried_store_shows_is_typed_in(page: Page, harbour: Harbour) -> None:
    if not any(store.name == "wrackline" for store in harbour.tide.stores.every()):
        harbour.tide.stores.carry("wrackline", WRACKLINE.read_text(encoding="utf-8"))
    app = with_berth(harbour)
    build = harbour.ready_build(app, "openfield")
    ready_there(harbour, app, build)
    page.goto(f"/apps/{app}/guards")
    expect(page.get_by_text("No guard yet")).to_be_visible()
    expect(page.get_by_role("button", name="Type in an hour")).to_have_count(0)
    leg = LegWanted(build=build, ladder="30@24,100")
    harbour.tide.releases.draft(app, "1.0.0", legs={"wrackline": leg}, notes={"en": "New."})
    harbour.submit(app, "1.0.0")
    settle(harbour, app, "Hand 1.0.0 to review")
    settle(harbour, app, "See what Wrackline", "approved")
    settle(harbour, app, "Launch 1.0.0")
    page.get_by_role("button", name="Type in an hour").click()
    form = page.get_by_role("form", name="An hour of counts")
    now = harbour.tide.watching.clock().now.replace(minute=0, second=0, microsecond=0, tzinfo=None)
    form.get_by_label("The hour from").fill(f"{now - timedelta(hours=2):%Y-%m-%dT%H:00}")
    form.get_by_label("Version", exact=True).fill("1.0.0")
    form.get_by_label("sessions", exact=True).fill("100")
    form.get_by_label("people who met a crash").fill("200")
    form.get_by_role("button", name="Take it").click()
    expect(form.get_by_role("alert")).to_contain_text("people who met a crash")
    form.get_by_label("people who met a crash").fill("2")
    form.get_by_label("sessions that ended in a crash").fill("2")
    form.get_by_label("people active in the hour").fill("90")
    form.get_by_role("button", name="Take it").click()
    expect(form).to_contain_text("1.0.0, 100 sessions, 2 people who met a crash")
    (counted,) = harbour.tide.guards.counted(app, "wrackline").counted
    assert (counted.counts.sessions, counted.counts.crashed_people) == (100, 2)
