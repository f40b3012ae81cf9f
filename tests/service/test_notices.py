"""Notices: by mail and by signed webhook, each once, tried again until they are taken."""

from __future__ import annotations

import json

import httpx
import pytest
from standardwebhooks import Webhook

from restless_tide.client import Invalid, NotFound
from restless_tide.core.retry import MOST_ATTEMPTS
from tests.harbour import CALM, Harbour, until
from tests.listening import letterbox
from tests.patience import OPENLY


def test_a_webhook_is_told_signed_and_once_and_only_of_what_it_wants(harbour: Harbour) -> None:
    app, other = harbour.new_app(), harbour.new_app()
    with letterbox(503, 204) as box:
        made = harbour.tide.notices.subscribe("webhook", box.address, kinds=["processing ended"], apps=[app])
        assert made.secret is not None
        assert harbour.tide.notices.subscriptions()[-1].secret is None
        harbour.ready_build(other, "openfield")
        harbour.ready_build(app, "openfield")
        harbour.tide.watching.move_clock(step_hours=0.1)
        until(lambda: len(box.got), lambda count: count >= 2)
        told = until(
            lambda: [entry for entry in harbour.tide.notices.deliveries() if entry.subscription == made.id],
            lambda entries: entries and entries[0].state == "sent",
        )
        assert [(entry.kind, entry.app, entry.attempts) for entry in told] == [("processing ended", app, 2)]
        headers, body = box.got[1]
        Webhook(made.secret).verify(body, headers)
        event = json.loads(body)
        assert box.got[0][0]["webhook-id"] == headers["webhook-id"] == event["id"]
        assert (event["specversion"], event["type"]) == ("1.0", "org.example.restless-tide.processing-ended")
        assert event["data"]["said"] == f"{app.title()} 1.0.0 (1) is ready at Openfield."
        assert headers["content-type"] == "application/cloudevents+json"
    harbour.tide.notices.end(made.id)
    assert made.id not in [entry.id for entry in harbour.tide.notices.subscriptions()]
    with pytest.raises(Invalid, match="has ended"):
        harbour.tide.notices.try_out(made.id)


def test_a_mail_says_what_happened_and_where_to_look(harbour: Harbour) -> None:
    app = harbour.new_app()
    address = f"{app}@example.org"
    harbour.tide.notices.subscribe("mail", address, kinds=["approved", "rejected"], apps=[app])
    harbour.draft(app, stores=("northgate",), needs_go_ahead=True)
    harbour.control("northgate", "mischief", {"reject_next": ["No picture."]})
    harbour.approve(app)
    (mail,) = until(lambda: harbour.mails(address), bool)
    assert mail["subject"] == "rejected: release 1.0.0 at northgate"
    assert f"{app.title()} 1.0.0 was rejected by Northgate. No picture." in mail["text"]
    assert f"{harbour.address}/apps/{app}/releases/1.0.0" in mail["text"]


def test_an_order_that_keeps_failing_and_one_that_is_refused_are_told(harbour: Harbour) -> None:
    address = "failing@example.org"
    harbour.tide.notices.subscribe("mail", address, kinds=["order failing", "order refused"])
    app = harbour.new_app()
    harbour.risen(app, stores=("northgate",))
    harbour.control("northgate", "mischief", {"fail": 1000})
    harbour.tide.releases.steer(app, "1.0.0", "pause", reason="a look")

    def told() -> list[str]:
        harbour.tide.watching.move_clock(step_hours=0.05)
        return [mail["subject"] for mail in harbour.mails(address)]

    until(told, lambda subjects: "order failing: pause at northgate" in subjects)
    harbour.control("northgate", "mischief", CALM)
    until(lambda: told() and harbour.leg(app, "northgate"), lambda leg: leg and leg.confirmed)
    harbour.control("openfield", "mischief", {"taken_names": ["Taken Twice"]})
    harbour.tide.apps.register("taken-twice", title="Taken Twice", identifiers={"android": "org.example.twice"})
    harbour.tide.apps.open_berth("taken-twice", "openfield")
    until(told, lambda subjects: "order refused: open berth at openfield" in subjects)
    assert len([subject for subject in told() if "failing" in subject]) == 1


def test_a_delivery_that_nobody_takes_is_given_up_in_sight_and_can_be_sent_again(own_harbour: Harbour) -> None:
    with letterbox(500) as box:
        made = own_harbour.tide.notices.subscribe("webhook", box.address)
        own_harbour.tide.notices.try_out(made.id)

        def last() -> str:
            own_harbour.tide.watching.move_clock(step_hours=3)
            entry = next(entry for entry in own_harbour.tide.notices.deliveries() if entry.subscription == made.id)
            return f"{entry.state} {entry.attempts} {entry.trouble}"

        assert until(last, lambda told: told.startswith("failed")) == f"failed {MOST_ATTEMPTS} it was answered 500"
    entry = next(entry for entry in own_harbour.tide.notices.deliveries() if entry.subscription == made.id)
    with pytest.raises(NotFound, match="No delivery"):
        own_harbour.tide.notices.send_again("de-nothing")
    again = own_harbour.tide.notices.send_again(entry.id)
    assert (again.state, again.attempts) == ("queued", 0)
    for _ in range(3):
        own_harbour.tide.notices.try_out(made.id)
    every = [one.id for one in own_harbour.tide.notices.deliveries()]
    assert len(every) == 4
    headers = {"Authorization": f"Bearer {own_harbour.token}"}
    page = httpx.get(f"{own_harbour.address}/v1/deliveries?limit=3", headers=headers, **OPENLY)
    rest = httpx.get(f"{own_harbour.address}{page.links['next']['url']}", headers=headers, **OPENLY)
    assert [one["id"] for one in page.json() + rest.json()] == every
    assert "next" not in rest.links
    own_harbour.tide.notices.end(made.id)


@pytest.mark.parametrize(
    ("channel", "address"), [("mail", "nobody"), ("webhook", "ftp://x.example.org"), ("webhook", "not an address")]
)
def test_a_place_that_cannot_be_told_is_refused(harbour: Harbour, channel: str, address: str) -> None:
    with pytest.raises(Invalid):
        harbour.tide.notices.subscribe(channel, address)
