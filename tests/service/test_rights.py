"""Who may do what: every operation of the service, tried by every role, for their own app and for another one."""

from __future__ import annotations

import json
import sqlite3
import uuid
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

import httpx
import pytest

from restless_tide.client import SecondPersonNeeded, Tide
from restless_tide.core.rights import Grant, Right, Role
from restless_tide.wire.cohorts import TrialWanted
from restless_tide.wire.people import PersonTold
from restless_tide.wire.releases import LegWanted
from tests.harbour import EMAIL, Harbour, until
from tests.patience import OPENLY

SEES = {"who", "see-builds"}
READS = SEES | {"account", "see", "subscribe"}
KEEPS = READS | {"see-testers", "keep-testers", "hand-out", "report"}
MANAGES = KEEPS | {
    "hand-in", "enter-counts", "fetch-files", "prepare", "stop", "steer", "arrange-apps", "arrange-desk",
}  # fmt: skip
MAY = {
    Role.READER: READS,
    Role.TESTERS_KEEPER: KEEPS,
    Role.RELEASE_MANAGER: MANAGES,
    Role.OWNER: MANAGES | {"manage-people"},
    Role.BUILD_SERVER: SEES | {"hand-in", "hand-out", "report", "enter-counts", "fetch-files"},
}
"""What each role is meant to do, written down a second time on purpose: this is what the rights are held against."""
OPEN = {
    ("GET", "/healthz"),
    ("GET", "/readyz"),
    ("POST", "/v1/sign-in"),
    ("POST", "/v1/password-resets"),
    ("GET", "/v1/sign-in/ways"),
    ("GET", "/v1/sign-in/provider"),
    ("GET", "/v1/sign-in/provider/back"),
    ("GET", "/v1/personal-links/{code}"),
    ("POST", "/v1/personal-links/{code}"),
    ("POST", "/v1/stores/{store}/events"),
    ("OPTIONS", "/v1/uploads"),
}
ENDS_THE_ASKER = ("POST", "/v1/sign-out")
OF_THE_DESK, OF_ANY = "all apps", "any app; what is answered is held to those apps"
REFUSED = {"not-allowed", "token-limited"}
UNKNOWN = {"sha256": "0" * 64, "place": "1", "locale": "en"}
Operations = list[tuple[str, str, dict[str, Any]]]
A_PASSWORD = "sea-lavender-4"


@dataclass
class Coast:
    """Two apps with a thing of each kind, and a token for each role: of the first app, and of all."""

    harbour: Harbour
    mine: str
    theirs: str
    things: dict[str, dict[str, str]]
    tokens: dict[tuple[Role, str], str] = field(default_factory=dict)
    ended: dict[str, dict[str, str]] = field(default_factory=dict)


def person(harbour: Harbour, *grants: Grant) -> tuple[PersonTold, str]:
    """A new person who has chosen a password by the link of the invitation."""
    email = f"{uuid.uuid4().hex[:10]}@saltgrass.example.org"
    told = harbour.tide.people.invite("Wren Adeyemi", email, list(grants), by_mail=False)
    assert told.link.address is not None
    with Tide(harbour.address) as visitor:
        visitor.people.choose_password(told.link.address.partition("#")[2], A_PASSWORD)
    return told.person, email


def token_of(harbour: Harbour, *grants: Grant, **wish: Any) -> str:
    _, email = person(harbour, *grants)
    with Tide(harbour.address) as own:
        own.people.sign_in(email, A_PASSWORD)
        return own.people.make_token("tests", **wish).value


def things_of(harbour: Harbour, app: str) -> dict[str, str]:
    """One of each thing that an operation names by its id alone."""
    tide = harbour.tide
    tide.testing.make_cohort(app, "crew", kind="crew")
    tester = tide.testing.add_tester(app, "crew", f"{app}@example.org").id
    build = harbour.ready_build(app, "openfield")
    wanted = {"cohorts": ["crew"], "build": build, "stores": ["openfield"], "brief": {"en": "Walk."}, "contact": EMAIL}
    trial = tide.testing.open_trials(app, TrialWanted.model_validate(wanted))[0].id
    invited = until(lambda: tide.testing.invitations(trial), lambda found: found)
    consignment = tide.builds.one(build).consignments[0].id
    report = tide.reports.file(app, kind="remark", text="The map is blank.").id
    leg = LegWanted(build=build, needs_go_ahead=True)
    tide.releases.draft(app, "1.0.0", legs={"openfield": leg}, notes={"en": "New."})
    today = tide.watching.clock().now.replace(tzinfo=None)
    tide.freezes.set(app, today - timedelta(days=2), today + timedelta(days=60), apps=[app])
    override = tide.freezes.ask(app, "1.0.0", reason="a hot fix").id
    tide.freezes.end(app, reason="tests")
    tide.apps.demand_second_person(app, True)
    with suppress(SecondPersonNeeded):
        tide.releases.give_go_ahead(app, "1.0.0")
    tide.apps.demand_second_person(app, False)
    proposal = next(one.id for one in tide.releases.waiting() if one.app == app)
    return {
        "build": build, "trial": trial, "invitation": invited[0].id, "consignment": consignment, "report": report,
        "tester": tester, "override": override, "proposal": proposal,
    }  # fmt: skip


@pytest.fixture(scope="module")
def coast(harbour: Harbour) -> Coast:
    tide = harbour.tide
    mine, theirs = harbour.new_app(), harbour.new_app()
    made = Coast(harbour, mine, theirs, {app: things_of(harbour, app) for app in (mine, theirs)})
    for role in (Role.READER, Role.TESTERS_KEEPER, Role.RELEASE_MANAGER, Role.OWNER):
        made.tokens[role, "mine"] = token_of(harbour, Grant(role, (mine,)))
        made.tokens[role, "all"] = token_of(harbour, Grant(role))
    made.tokens[Role.BUILD_SERVER, "mine"] = tide.people.make_token("builds", apps=[mine]).value
    made.tokens[Role.BUILD_SERVER, "all"] = tide.people.make_token("builds", role=Role.BUILD_SERVER).value
    revoked, expired = tide.people.make_token("revoked"), tide.people.make_token("expired", days=0.01)
    tide.people.revoke_token(revoked.token.id)
    tide.watching.move_clock(step_hours=1)
    made.ended = {
        "unauthenticated": {},
        "token-unknown": {"Authorization": "Bearer tide_made-up"},
        "token-revoked": {"Authorization": f"Bearer {revoked.value}"},
        "token-expired": {"Authorization": f"Bearer {expired.value}"},
        "session-ended": {"Cookie": "tide_session=made-up"},
    }
    return made


@pytest.fixture(scope="module")
def operations(harbour: Harbour) -> Operations:
    paths = harbour.tide.watching.contract()["paths"]
    return [(method.upper(), path, told) for path, methods in paths.items() for method, told in methods.items()]


def place_of(coast: Coast, path: str, told: dict[str, Any], app: str) -> str:
    """The address of an operation, for an app or for what belongs to it."""
    known = UNKNOWN | {"app": app} | coast.things[app]
    for name in [entry["name"] for entry in told.get("parameters", []) if entry.get("in") == "path"]:
        path = path.replace(f"{{{name}}}", known.get(name, "x-none"))
    return path


def asked(line: httpx.Client, coast: Coast, method: str, path: str, told: dict[str, Any], app: str) -> tuple[int, str]:
    """The status and the code of an operation that is asked for with a body that fits nothing, so that it changes nothing."""
    place = place_of(coast, path, told, app)
    sent: dict[str, Any] = {}
    if "application/json" in told.get("requestBody", {}).get("content", {}):
        sent["json"] = {"no-such-field": True}
    with line.stream(method, place, **sent) as answer:
        if path == "/v1/live" and answer.status_code == 200:
            return 200, ""
        text = answer.read()
    document = json.loads(text) if answer.headers.get("content-type") == "application/problem+json" and text else {}
    return answer.status_code, document.get("code", "")


def test_every_operation_names_its_right_and_the_open_ones_are_known(operations: Operations) -> None:
    for method, path, told in operations:
        if (method, path) in OPEN:
            assert told["security"] == [], path
        else:
            assert told["x-right"] in set(Right), f"{method} {path}"
            assert told["x-right-over"], f"{method} {path}"
            assert {*told["x-roles"]} == {role for role in Role if told["x-right"] in MAY[role]}, f"{method} {path}"


@pytest.mark.parametrize("role", list(Role))
def test_each_role_does_what_it_may_and_nothing_else(coast: Coast, operations: Operations, role: Role) -> None:
    wrong = []
    for reach, app in (("mine", coast.mine), ("mine", coast.theirs), ("all", coast.mine)):
        headers = {"Authorization": f"Bearer {coast.tokens[role, reach]}"}
        with httpx.Client(base_url=coast.harbour.address, headers=headers, **OPENLY) as line:
            for method, path, told in operations:
                if (method, path) in OPEN or (method, path) == ENDS_THE_ASKER or "{step}" in path:
                    continue
                over = told["x-right-over"]
                if reach == "all" and over != OF_THE_DESK:
                    continue  # who may do it for one app may for all
                if app == coast.theirs and place_of(coast, path, told, app) == place_of(coast, path, told, coast.mine):
                    continue  # it names no app, and was asked already
                reached = reach == "all" or over == OF_ANY or (over != OF_THE_DESK and app == coast.mine)
                may = told["x-right"] in MAY[role] and reached
                status, code = asked(line, coast, method, path, told, app)
                refused = status == 403 and (method == "HEAD" or code in REFUSED)
                if refused is may or status in (401, 500):
                    wrong.append(f"{method} {path} of {reach}, for {app}: {status} {code}, though it may: {may}")
    assert not wrong, "\n".join(wrong)


def test_nothing_is_done_for_who_is_not_signed_in(coast: Coast, operations: Operations) -> None:
    wrong = []
    for expected, headers in coast.ended.items():
        with httpx.Client(base_url=coast.harbour.address, headers=headers, **OPENLY) as line:
            for method, path, told in operations:
                if (method, path) not in OPEN:
                    status, code = asked(line, coast, method, path, told, coast.mine)
                    if status != 401 or (method != "HEAD" and code != expected):
                        wrong.append(f"{method} {path}: {status} {code}, not {expected}")
    assert not wrong, "\n".join(wrong)


# what belongs to another app


def test_what_is_listed_for_all_apps_is_held_to_those_of_the_one_who_asks(coast: Coast) -> None:
    """No list, search, count or feed that a release manager of one app reads names another app."""
    tide, theirs = coast.harbour.tide, coast.theirs
    today = tide.watching.clock().now.replace(tzinfo=None)
    tide.freezes.set(
        f"calm-{uuid.uuid4().hex[:6]}", today + timedelta(days=90), today + timedelta(days=91), apps=[theirs]
    )
    person(coast.harbour, Grant(Role.READER, (theirs,)))
    headers = {"Authorization": f"Bearer {coast.tokens[Role.RELEASE_MANAGER, 'mine']}"}
    with httpx.Client(base_url=coast.harbour.address, headers=headers, **OPENLY) as line:
        for path in (
            "/v1/apps", "/v1/overview", "/v1/logbook?limit=500", "/v1/logbook/export", "/v1/offered", "/v1/reports",
            "/v1/reports/export", "/v1/review-figures?by=app", "/v1/steps", "/v1/steps?state=settled", "/v1/freeze-overrides",
            f"/v1/search?text={coast.theirs}", "/v1/subscriptions", "/v1/deliveries", "/v1/people",
            "/v1/stores", "/v1/stores/openfield", "/v1/ladders", "/v1/freezes", "/v1/proposals",
        ):  # fmt: skip
            answer = line.get(path)
            assert answer.status_code == 200, path
            assert coast.theirs not in answer.text.lower(), path
        assert coast.mine in line.get(f"/v1/search?text={coast.mine}").text
        assert line.get("/v1/reports/counts").json() == {"new": 1}
        build = coast.harbour.tide.builds.one(coast.things[coast.theirs]["build"])
        sha256 = build.packages[0].sha256
        assert line.get(f"/v1/packages/{sha256}/file").status_code == 404
        decided = line.post(
            "/v1/report-decisions", json={"reports": [coast.things[coast.theirs]["report"]], "act": "accept"}
        )
        assert (decided.json()["done"], len(decided.json()["left"])) == ([], 1)


def test_a_thing_of_another_app_is_not_reached_through_ones_own(coast: Coast) -> None:
    """A path that names one's own app and a thing of another one finds nothing; with the thing's own app it would."""
    tide, mine, theirs = coast.harbour.tide, coast.mine, coast.theirs
    held = tide.builds.reserve(theirs, "openfield", label="theirs").reservation
    device = tide.signing.add_device(theirs, "ios", "DEMO-DEVICE-7", name="A phone").id
    check = tide.matters.teach(theirs, kind="question", text="Is the map there?").id
    build = coast.things[theirs]["build"]
    headers = {"Authorization": f"Bearer {coast.tokens[Role.RELEASE_MANAGER, 'mine']}"}
    with httpx.Client(base_url=coast.harbour.address, headers=headers, **OPENLY) as line:
        for method, path, sent in (
            ("GET", f"builds/{build}", None),
            ("DELETE", f"reservations/{held}", None),
            ("DELETE", f"devices/{device}", None),
            ("POST", f"standing-checks/{check}/end", {"reason": "x"}),
        ):
            answer = line.request(method, f"/v1/apps/{mine}/{path}", json=sent)
            assert answer.status_code == 404, f"{method} {path}: {answer.text}"
    assert [one.id for one in tide.builds.reservations(theirs)] == [held]
    tide.builds.give_back(theirs, str(held))


def test_the_live_feed_tells_of_no_other_app(coast: Coast) -> None:
    mine, theirs = coast.mine, coast.theirs
    heard: list[str | None] = []
    with sqlite3.connect(coast.harbour.folder / "desk" / "desk.sqlite") as records:
        before = records.execute("SELECT max(id) FROM changes").fetchone()[0]
    with Tide(coast.harbour.address, token=coast.tokens[Role.READER, "mine"]) as reader:
        coast.harbour.tide.apps.change(theirs, title="Another")
        coast.harbour.tide.apps.change(mine, title="One")
        for change in reader.watching.follow(after=before):
            heard.append(change.app)
            if change.app == mine and change.kind == "app changed":
                break
    assert theirs not in heard
