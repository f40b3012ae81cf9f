"""Cohorts, trials and invitations over a real desk: seats as the stores count them, reviews, mails, bounces, links."""

from __future__ import annotations

import json
import re
import smtplib
from email.message import EmailMessage
from pathlib import Path

import httpx
import pytest

from restless_tide.client import Conflict, Denied, ImpossibleAct, Invalid, NotFound, NotReady, Tide
from restless_tide.demo.processes import HOST
from restless_tide.records.seal import Seal, master_key
from restless_tide.wire.cohorts import SignInWanted, TrialAgainWanted, TrialWanted
from tests.harbour import Harbour, until
from tests.patience import OPENLY, PATIENCE_SECONDS

CONTACT = "ida@example.org"
BRIEF = {"en": "Walk a path.", "de": "Geh einen Weg."}


def cohort_of(harbour: Harbour, app: str, *who: str, kind: str = "crew", name: str = "crew") -> list[str]:
    harbour.tide.testing.make_cohort(app, name, kind=kind)
    addresses = [f"{entry}.{app}@example.org" for entry in who]
    for address in addresses:
        harbour.tide.testing.add_tester(app, name, address)
    return addresses


def wanted(build: str, *cohorts: str, stores: tuple[str, ...] = ("openfield",), **wish: object) -> TrialWanted:
    told = {
        "cohorts": list(cohorts) or ["crew"],
        "build": build,
        "stores": list(stores),
        "brief": BRIEF,
        "contact": CONTACT,
    }
    return TrialWanted.model_validate(told | wish)


def at_the_store(harbour: Harbour, app: str, store: str = "openfield") -> dict[str, list[str]]:
    """Who sits there in trials that run, by trial: the store's own word."""
    berths = {berth["id"] for berth in harbour.control(store, "things/berth") if berth["reference"] == app}
    return {
        trial["id"]: trial["testers"]
        for trial in harbour.control(store, "things/trial")
        if trial["berth"] in berths and trial["state"] in ("open", "with the store")
    }


def opened(harbour: Harbour, trial: str) -> None:
    until(
        lambda: harbour.tide.testing.trial(trial), lambda seen: seen.state == "open" and not seen.invited.get("queued")
    )


def test_a_build_goes_to_several_cohorts_and_the_sheet_says_beforehand_what_each_store_will_do(
    harbour: Harbour,
) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    cohort_of(harbour, app, "wren", "tam")
    cohort_of(harbour, app, "petra", "tam", kind="guest", name="walkers")
    sheet = harbour.tide.testing.sheet(app, wanted(build, "crew", "walkers"))
    assert [(plan.cohort, plan.invited, plan.waits_for_review) for plan in sheet.plans] == [
        ("crew", 2, False),
        ("walkers", 2, True),
    ]
    assert "reviews build 1.0.0 (1)" in sheet.plans[1].because
    assert (sheet.plans[0].seats, sheet.plans[0].seats_left) == (60, 58)
    assert sheet.level == "note"
    assert harbour.tide.testing.trials(app) == []
    crew, walkers = harbour.tide.testing.open_trials(app, wanted(build, "crew", "walkers"))
    opened(harbour, crew.id)
    assert harbour.tide.testing.trial(walkers.id).state == "with the store"
    harbour.pass_hours(12, desk=False)
    opened(harbour, walkers.id)
    second = harbour.ready_build(app, "openfield", "1.0.0", 2)
    after = harbour.tide.testing.sheet(app, wanted(second, "walkers")).plans[0]
    assert after.waits_for_review
    assert "reviews build 1.0.0 (2)" in after.because
    assert after.replaces == walkers.id


def test_what_a_brief_lacks_is_said_and_the_sign_in_goes_to_the_store_alone(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "northgate")
    cohort_of(harbour, app, "petra", kind="walk-in", name="walkers")
    lacking = wanted(build, "walkers", stores=("northgate",), brief={"de": "x" * 2001})
    sheet = harbour.tide.testing.sheet(app, lacking)
    assert {finding.code for finding in sheet.plans[0].findings if finding.level == "blocker"} == {
        "brief-too-long", "brief-locale-missing",
    }  # fmt: skip
    with pytest.raises(NotReady) as refused:
        harbour.tide.testing.open_trials(app, lacking)
    assert sum(finding.level == "blocker" for finding in refused.value.findings) == 2
    secret = "sea-holly-and-marram-92"
    sign_in = SignInWanted(name="reviewer", password=secret, how="press Enter twice")
    (trial,) = harbour.tide.testing.open_trials(app, wanted(build, "walkers", stores=("northgate",), sign_in=sign_in))
    assert trial.sign_in_sealed
    assert secret not in trial.model_dump_json()
    until(lambda: harbour.tide.stores.one("northgate"), lambda store: store.pending_orders == 0)
    assert any(
        entry["sign_in"] == {"name": "reviewer", "password": secret, "how": "press Enter twice"}
        for entry in harbour.control("northgate", "things/trial")
    )
    for file in (harbour.folder / "desk").glob("desk.sqlite*"):
        assert secret.encode() not in file.read_bytes(), file
    assert secret not in (harbour.folder / "desk.log").read_text(encoding="utf-8")


def test_a_trial_that_was_rejected_keeps_its_reason_and_goes_again_with_a_mended_brief(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    (petra,) = cohort_of(harbour, app, "petra", kind="guest", name="walkers")
    harbour.control("openfield", "mischief", {"reject_trial_next": ["The reviewer found nothing to try."]})
    (trial,) = harbour.tide.testing.open_trials(app, wanted(build, "walkers"))
    until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.pending_orders == 0)
    harbour.pass_hours(12, desk=False)
    seen = until(lambda: harbour.tide.testing.trial(trial.id), lambda now: now.state == "rejected")
    assert seen.reason == "The reviewer found nothing to try."
    assert harbour.mails(petra) == []
    assert any(
        "rejected: The reviewer found nothing" in call.said
        for row in harbour.tide.watching.overview().rows
        if row.app == app
        for call in row.calls
    )
    assert any("was rejected" in said for said in harbour.tide.testing.cohort(app, "walkers").stuck)
    harbour.tide.testing.hand_in_again(trial.id, TrialAgainWanted(brief={"en": "Open the map and turn the phone."}))
    harbour.pass_hours(12, desk=False)
    until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.pending_orders == 0)
    harbour.pass_hours(12, desk=False)
    opened(harbour, trial.id)
    assert "Open the map and turn the phone." in harbour.mails(petra)[0]["text"]
    with pytest.raises(ImpossibleAct):
        harbour.tide.testing.hand_in_again(trial.id)


def test_a_store_that_turns_down_what_is_open_stops_the_mails_that_wait(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    cohort_of(harbour, app, "wren")
    harbour.processes.stop("mail")
    try:
        (trial,) = harbour.tide.testing.open_trials(app, wanted(build))
        until(lambda: harbour.tide.testing.invitations(trial.id), lambda found: found[0].trouble)
        (there,) = at_the_store(harbour, app)
        thing = next(entry for entry in harbour.control("openfield", "things/trial") if entry["id"] == there)
        turned = thing | {"state": "rejected", "reason": "On second thoughts, no.", "due_at": None}
        harbour.control("openfield", "trial-told", turned)
        until(lambda: harbour.tide.testing.trial(trial.id), lambda now: now.state == "rejected")
    finally:
        harbour.processes.start("mail")
    harbour.tide.testing.add_tester(app, "crew", f"late.{app}@example.org")
    harbour.tide.watching.move_clock(step_hours=1)
    assert harbour.mails(app) == []


def test_a_new_build_goes_on_by_itself_and_what_keeps_it_is_said(harbour: Harbour) -> None:
    app = harbour.new_app()
    cohort_of(harbour, app, "wren")
    with pytest.raises(Invalid, match="no standing brief"):
        harbour.tide.testing.attach(app, "crew", "openfield", by_itself=True)
    harbour.tide.testing.keep_brief(app, "crew", BRIEF, contact=CONTACT)
    harbour.tide.testing.attach(app, "crew", "openfield", by_itself=True)
    harbour.ready_build(app, "openfield")
    (trial,) = until(lambda: harbour.tide.testing.trials(app), lambda found: found)
    assert trial.by_itself
    opened(harbour, trial.id)
    lines = [line for line in harbour.tide.watching.logbook(app=app) if line.act == "trial handed in"]
    assert [line.who for line in lines] == ["the desk"]
    people = "".join(f"more{place}.{app}@example.org\n" for place in range(59)).encode()
    harbour.tide.testing.import_testers(people, app=app, cohort="crew", dry_run=False)
    harbour.tide.testing.make_cohort(app, "second")
    harbour.tide.testing.add_tester(app, "second", f"one.{app}@example.org")
    harbour.tide.testing.keep_brief(app, "second", BRIEF, contact=CONTACT)
    harbour.tide.testing.attach(app, "second", "openfield", by_itself=True)
    harbour.ready_build(app, "openfield", "1.0.0", 2)
    second = until(
        lambda: next(cohort for cohort in harbour.tide.testing.cohorts(app) if cohort.name == "second"),
        lambda cohort: any(entry.trouble for entry in cohort.at),
    )
    assert any("60 crew seats; 61 testers" in (entry.trouble or "") for entry in second.at)


def test_a_trial_can_wait_for_its_build(harbour: Harbour) -> None:
    app = harbour.new_app()
    cohort_of(harbour, app, "wren")
    sent = harbour.processing(harbour.package(app, "openfield"), app, "openfield")
    with pytest.raises(NotReady, match="is processing at openfield"):
        harbour.tide.testing.open_trials(app, wanted(sent.build))
    (trial,) = harbour.tide.testing.open_trials(app, wanted(sent.build, when_ready=True))
    assert trial.state == "drafted"
    harbour.pass_hours(1, desk=False)
    opened(harbour, trial.id)


def test_seats_at_the_store_are_seats_at_the_desk_whoever_comes_and_goes(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    wren, tam = cohort_of(harbour, app, "wren", "tam")
    cohort_of(harbour, app, "bo", name="second")
    first, second = harbour.tide.testing.open_trials(app, wanted(build, "crew", "second"))
    opened(harbour, first.id)
    opened(harbour, second.id)
    harbour.tide.testing.pick_testers(app, "second", [tam])
    harbour.tide.testing.remove_tester(app, "crew", wren)
    httpx.post(harbour.link_of(tam), data={"answer": "decline"}, **OPENLY)
    until(lambda: harbour.tide.stores.one("openfield"), lambda store: store.pending_orders == 0)
    there = {address for testers in at_the_store(harbour, app).values() for address in testers}
    here = {
        address
        for trial in (first, second)
        for address, state in harbour.invited(trial.id).items()
        if state not in ("declined", "removed")
    }
    assert there == here
    seats = harbour.tide.testing.cohort(app, "crew").at
    assert {entry.store: entry.taken for entry in seats}["openfield"] == len(there)


def test_whoever_has_accepted_before_is_only_told_of_the_new_build(harbour: Harbour) -> None:
    app = harbour.new_app()
    first = harbour.ready_build(app, "openfield")
    wren, tam = cohort_of(harbour, app, "wren", "tam")
    (trial,) = harbour.tide.testing.open_trials(app, wanted(first))
    opened(harbour, trial.id)
    httpx.post(harbour.link_of(wren), data={"answer": "accept"}, **OPENLY)
    old_page = harbour.link_of(wren)
    second = harbour.ready_build(app, "openfield", "1.0.0", 2)
    assert harbour.tide.testing.sheet(app, wanted(second)).plans[0].carried == 1
    (newer,) = harbour.tide.testing.open_trials(app, wanted(second))
    until(lambda: harbour.invited(newer.id), lambda found: found == {wren: "accepted", tam: "sent"})
    subjects = [mail["subject"] for mail in harbour.mails(wren)]
    assert subjects[0].startswith("Try ")
    assert subjects[1].startswith("A new build of ")
    assert "There is a newer build for you." in httpx.get(old_page, **OPENLY).text
    until(lambda: harbour.tide.testing.trial(trial.id), lambda now: now.state == "replaced")


def test_a_mail_is_text_and_html_in_the_testers_language_with_steps_and_a_way_out(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    harbour.tide.testing.make_cohort(app, "crew")
    address = f"wiebke.{app}@example.org"
    harbour.tide.testing.add_tester(app, "crew", address, name="Wiebke <b>", languages=["de-AT", "en"])
    (trial,) = harbour.tide.testing.open_trials(app, wanted(build))
    opened(harbour, trial.id)
    (mail,) = harbour.mails(address)
    assert mail["headers"]["Content-Language"] == "de"
    assert "Geh einen Weg." in mail["text"]
    assert "Suche" in mail["text"]
    assert "Geh einen Weg." in mail["html"]
    assert "Wiebke &lt;b&gt;" in mail["html"]
    assert mail["headers"]["List-Unsubscribe-Post"] == "List-Unsubscribe=One-Click"
    way_out = mail["headers"]["List-Unsubscribe"].strip("<>")
    assert httpx.get(way_out, **OPENLY).status_code == 303
    assert harbour.invited(trial.id)[address] == "sent", "looking at a link does nothing"
    left = httpx.post(
        way_out,
        data={"List-Unsubscribe": "One-Click"},
        **OPENLY,
        headers={"Accept-Language": "de"},
    )
    assert "Es kommt nichts mehr." in left.text
    assert harbour.invited(trial.id)[address] == "declined"
    harbour.tide.testing.add_tester(app, "crew", f"other.{app}@example.org")
    (newer,) = harbour.tide.testing.open_trials(app, wanted(harbour.ready_build(app, "openfield", "1.0.0", 2)))
    opened(harbour, newer.id)
    assert address not in harbour.invited(newer.id)
    assert len(harbour.mails(address)) == 1


def test_a_mail_that_comes_back_marks_the_address_and_one_that_is_late_only_says_so(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    gone, late, refused, well = cohort_of(harbour, app, "gone", "late", "refused", "well")
    harbour.mail_mood(send_back=[gone], delay=[late], refuse=[refused])
    (trial,) = harbour.tide.testing.open_trials(app, wanted(build))
    seen = until(
        lambda: {entry.tester.email: entry for entry in harbour.tide.testing.invitations(trial.id)},
        lambda found: found[gone].state == "bounced" and found[late].trouble and found[refused].state == "bounced",
    )
    harbour.mail_mood()
    assert "5.1.1" in (seen[gone].trouble or "")
    assert (seen[late].state, "waits on its way" in (seen[late].trouble or "")) == ("sent", True)
    assert "does not know the address" in (seen[refused].trouble or "")
    assert seen[well].state == "sent"
    assert harbour.tide.testing.tester(gone).bounced_at is not None
    assert harbour.tide.testing.cohort(app, "crew").bounced == 2
    assert gone not in json.dumps([line.model_dump(mode="json") for line in harbour.tide.watching.logbook(app=app)])


@pytest.mark.parametrize(
    "to",
    [
        "bounce+in-abcdefgh.0123456789abcdef0123@saltgrass.example.org",
        "postmaster@saltgrass.example.org",
        "report+x@y.example",
    ],
)
def test_the_inlet_takes_no_address_that_it_has_not_made_up(harbour: Harbour, to: str) -> None:
    with (
        smtplib.SMTP(HOST, harbour.processes.ports.inlet, timeout=PATIENCE_SECONDS) as server,
        pytest.raises(smtplib.SMTPRecipientsRefused),
    ):
        server.sendmail("", [to], b"Subject: hello\r\n\r\nhello\r\n")


def test_a_bounce_address_is_told_nothing_by_a_mail_that_is_no_delivery_notice(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    (wren,) = cohort_of(harbour, app, "wren")
    (trial,) = harbour.tide.testing.open_trials(app, wanted(build))
    opened(harbour, trial.id)
    raw = next(
        path.read_bytes() for path in (harbour.folder / "mails").glob("*.eml") if wren.encode() in path.read_bytes()
    )
    invitation = re.search(rb"<(in-\w+)\.1@", raw)
    assert invitation is not None
    mail = EmailMessage()
    mail["Subject"] = "I am away"
    mail.set_content("Back on Monday.")
    sender = bounce_address(harbour, invitation.group(1).decode())
    with smtplib.SMTP(HOST, harbour.processes.ports.inlet, timeout=PATIENCE_SECONDS) as server:
        server.send_message(mail, from_addr="", to_addrs=[sender])
    assert harbour.invited(trial.id) == {wren: "sent"}


def bounce_address(harbour: Harbour, invitation: str) -> str:
    seal = Seal(master_key(harbour.folder / "desk", None))
    return f"bounce+{invitation}.{seal.mail_code(f'bounce {invitation}')}@saltgrass.example.org"


def test_nobody_is_mailed_more_than_thrice_a_day(harbour: Harbour) -> None:
    app = harbour.new_app()
    (wren,) = cohort_of(harbour, app, "wren")
    for number in range(1, 5):
        build = harbour.ready_build(app, "openfield", "1.0.0", number)
        (trial,) = harbour.tide.testing.open_trials(app, wanted(build))
        if number < 4:
            opened(harbour, trial.id)
    (waiting,) = until(lambda: harbour.tide.testing.invitations(trial.id), lambda found: found[0].trouble)
    assert "3 mails went to this address in a day" in (waiting.trouble or "")
    assert len(harbour.mails(wren)) == 3
    harbour.tide.watching.move_clock(step_hours=25)
    until(lambda: harbour.mails(wren), lambda found: len(found) == 4)


@pytest.fixture
def walk_in(harbour: Harbour) -> tuple[str, str]:
    app = harbour.new_app()
    harbour.tide.testing.make_cohort(app, "shore", kind="walk-in", stores=["openfield"])
    cohort = harbour.tide.testing.set_join(app, "shore", is_open=True, limit=2)
    assert cohort.join is not None
    return app, cohort.join.link


def joined(link: str, address: str, **more: str) -> httpx.Response:
    form = {"address": address, "platform": "android", "consent": "yes"} | more
    return httpx.post(link, data=form, **OPENLY, follow_redirects=True)


def test_a_walk_in_joins_by_the_link_and_nobody_learns_who_is_a_member(
    harbour: Harbour, walk_in: tuple[str, str]
) -> None:
    app, link = walk_in
    address = f"mai.{app}@example.net"
    first, again = joined(link, address), joined(link, address.upper())
    assert first.status_code == again.status_code == 200
    assert first.text == again.text
    member = harbour.tide.testing.members(app, "shore")
    assert [(entry.tester.email, entry.joined_how, entry.tester.platforms) for entry in member] == [
        (address, "by the link", ["android"])
    ]
    harbour.tide.testing.enter_tester(f"known.{app}@example.net", name="Kept", platforms=["ios"])
    joined(link, f"known.{app}@example.net", name="Someone else")
    known = harbour.tide.testing.tester(f"known.{app}@example.net")
    assert (known.name, known.platforms) == ("Kept", ["ios"])
    full = joined(link, f"third.{app}@example.net")
    assert full.status_code in (200, 409)
    assert "Nobody can join at the moment." in full.text
    assert len(harbour.tide.testing.members(app, "shore")) == 2


def test_a_link_can_be_closed_ended_and_made_another(harbour: Harbour, walk_in: tuple[str, str]) -> None:
    app, link = walk_in
    assert joined(link, "nobody").status_code == 422
    assert "agree first" in joined(link, f"a.{app}@example.net", consent="").text
    harbour.tide.testing.set_join(app, "shore", is_open=False)
    assert "Nobody can join" in httpx.get(link, **OPENLY).text
    renewed = harbour.tide.testing.set_join(app, "shore", is_open=True, renew=True).join
    assert renewed is not None
    assert httpx.get(link, **OPENLY).status_code == 404
    assert "vor allen anderen" in httpx.get(renewed.link, headers={"Accept-Language": "de"}, **OPENLY).text
    harbour.tide.testing.make_cohort(app, "crew")
    with pytest.raises(Conflict, match="only walk-in"):
        harbour.tide.testing.set_join(app, "crew", is_open=True)


def test_guessing_and_flooding_links_is_slowed_down(tmp_path: Path) -> None:
    harbour = Harbour.open(tmp_path / "braked", {"TIDE_JOIN_ATTEMPTS": "5"})
    try:
        harbour.connect_stores()
        app = harbour.new_app()
        harbour.tide.testing.make_cohort(app, "shore", kind="walk-in", stores=["openfield"])
        join = harbour.tide.testing.set_join(app, "shore", is_open=True).join
        assert join is not None
        answers = [joined(join.link, f"t{place}.{app}@example.net").status_code for place in range(7)]
        assert answers == [200] * 5 + [429] * 2
        guesses = [httpx.get(f"{harbour.address}/join/co-{place}.x", **OPENLY) for place in range(7)]
        assert [guess.status_code for guess in guesses] == [404] * 5 + [429] * 2
        assert guesses[-1].headers["retry-after"] == "600"
    finally:
        harbour.close()


def test_a_tester_belongs_to_the_desk_once_and_is_found_by_any_word(harbour: Harbour) -> None:
    app = harbour.new_app()
    cohort_of(harbour, app, "wren")
    tide = harbour.tide.testing
    told = tide.add_tester(app, "crew", f"W.ren.{app}@example.org", name="Wren Two", tags=["coast", "early"])
    assert "perhaps the same person as" in told.caution
    assert {found.id for found in tide.testers(f"coast {app}")} == {told.id}
    assert tide.testers(f"100%_{app}") == []
    changed = tide.change_tester(told.id, name="Wren Third", languages=["de"])
    assert (changed.name, changed.languages, changed.tags) == ("Wren Third", ["de"], ["coast", "early"])
    with pytest.raises(Conflict, match="another tester's address"):
        tide.change_tester(told.id, email=f"wren.{app}@example.org")
    with pytest.raises(Invalid, match="no platform"):
        tide.change_tester(told.id, platforms=["toaster"])
    assert tide.remove_everywhere(told.id) == 1
    assert tide.tester(told.id).cohorts == []
    with pytest.raises(NotFound):
        tide.tester("nobody@example.org")


def test_a_cohort_leaves_a_store_only_when_nothing_runs_there(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    cohort_of(harbour, app, "wren")
    (trial,) = harbour.tide.testing.open_trials(app, wanted(build))
    opened(harbour, trial.id)
    with pytest.raises(Conflict, match="is open"):
        harbour.tide.testing.detach(app, "crew", "openfield")
    harbour.tide.testing.close_trial(trial.id, reason="enough")
    harbour.tide.testing.detach(app, "crew", "openfield")
    assert [entry.store for entry in harbour.tide.testing.cohort(app, "crew").at] == ["northgate"]
    with pytest.raises(NotReady, match="went to none of the stores"):
        harbour.tide.testing.open_trials(app, wanted(build, stores=()))


def test_a_build_servers_token_opens_a_trial_and_reads_nobodys_address(harbour: Harbour) -> None:
    app = harbour.new_app()
    build = harbour.ready_build(app, "openfield")
    cohort_of(harbour, app, "wren")
    token = harbour.tide.people.make_token("builds", apps=[app]).value
    with Tide(harbour.address, token=token) as limited:
        (trial,) = limited.testing.open_trials(app, wanted(build))
        assert limited.testing.trial(trial.id).app == app
        for reading in (
            lambda: limited.testing.members(app, "crew"),
            lambda: limited.testing.invitations(trial.id),
            lambda: limited.testing.testers(),
            lambda: limited.reports.some(app=app),
        ):
            with pytest.raises(Denied):
                reading()
