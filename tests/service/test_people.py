"""People at the desk: invited, given rights, held to a second factor, and gone; their sessions and tokens with them."""

from __future__ import annotations

import json
import re
import sqlite3
import uuid
from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path

import httpx
import pyotp
import pytest

from restless_tide.client import Conflict, Denied, Invalid, NotFound, Tide, Unauthenticated
from restless_tide.core.rights import Grant, Right, Role, roles_told, standing_of
from restless_tide.desk import people as desk_people
from restless_tide.desk import sessions, tokens
from restless_tide.desk.clock import SteppableClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings
from restless_tide.desk.uses import EXACT_TO
from restless_tide.records.tables import Token
from tests.harbour import EMAIL, PASSWORD, TEXTS, Harbour, until
from tests.patience import OPENLY
from tests.service.test_rights import A_PASSWORD, person

NEW_PASSWORD = "thrift-and-samphire"


def code_of(mail_text: str) -> str:
    found = re.search(r"/welcome#(\S+)", mail_text)
    assert found is not None
    return found.group(1)


def address() -> str:
    return f"{uuid.uuid4().hex[:10]}@saltgrass.example.org"


@pytest.fixture
def visitor(harbour: Harbour) -> Iterator[Tide]:
    with Tide(harbour.address) as line:
        yield line


# what the core says


def test_a_role_for_some_apps_is_not_held_for_others_and_several_add_up() -> None:
    held = standing_of((Grant(Role.READER), Grant(Role.RELEASE_MANAGER, ("marram",))))
    assert held.everywhere(Right.SEE)
    assert held.reach(Right.STEER) == {"marram"}
    assert held.over(Right.STEER, "marram")
    assert not held.over(Right.STEER, "loam")
    assert not held.somewhere(Right.MANAGE_PEOPLE)
    assert held.everywhere(Right.ACCOUNT), "one's own account is of no app"
    assert not held.over_all(Right.STEER, []), "what is of no app takes the right for all"


def test_a_token_reaches_no_further_than_its_maker_nor_than_it_is_held_to() -> None:
    maker = (Grant(Role.RELEASE_MANAGER, ("marram",)),)
    token = standing_of(maker, Grant(Role.BUILD_SERVER, ("marram", "loam")))
    assert token.reach(Right.HAND_IN) == {"marram"}
    assert not token.somewhere(Right.STEER)
    assert not token.somewhere(Right.ACCOUNT)
    assert not standing_of((Grant(Role.READER),), Grant(Role.OWNER)).somewhere(Right.STOP)
    assert standing_of(()).held == {}
    assert roles_told(maker) == "a release manager of marram"


# inviting, and choosing a password


def test_an_invitation_leaves_by_mail_and_its_link_works_once(harbour: Harbour, visitor: Tide) -> None:
    email = address()
    told = harbour.tide.people.invite("Tam Okoro", email, [Grant(Role.READER)])
    assert told.link.address is None
    assert told.person.invited
    with pytest.raises(Conflict, match="is at this desk already"):
        harbour.tide.people.invite("Tam Okoro", email.upper(), [Grant(Role.READER)])
    mail = until(lambda: harbour.mails(email), lambda found: found)[-1]
    assert "Ida Fenwick has invited you" in mail["text"]
    code = code_of(mail["text"])
    assert visitor.people.link(code).name == "Tam Okoro"
    with pytest.raises(Invalid, match="at least 10"):
        visitor.people.choose_password(code, "short")
    visitor.people.choose_password(code, NEW_PASSWORD)
    with pytest.raises(NotFound, match="was used, or has expired"):
        visitor.people.choose_password(code, "another-password")
    assert visitor.people.sign_in(email, NEW_PASSWORD).may == "a reader"
    kept = (harbour.folder / "desk" / "desk.sqlite").read_bytes()
    assert code.encode() not in kept


def test_a_link_expires(harbour: Harbour, visitor: Tide) -> None:
    told = harbour.tide.people.invite("Tam Okoro", address(), [Grant(Role.READER)], by_mail=False)
    assert told.link.address is not None
    harbour.tide.watching.move_clock(step_hours=24 * 7 + 1)
    with pytest.raises(NotFound, match="has expired"):
        visitor.people.link(code_of(told.link.address))


def test_who_guesses_links_is_held_and_holds_no_sign_in(tmp_path: Path) -> None:
    small = Harbour.open(tmp_path / "small", {"TIDE_JOIN_ATTEMPTS": "5"}, stores=())
    try:
        with httpx.Client(base_url=small.address, **OPENLY) as stranger:
            told = [stranger.get(f"/v1/personal-links/made-up-{number}").status_code for number in range(8)]
            assert told == [404] * 6 + [429] * 2
            assert stranger.post("/v1/password-resets", json={"email": EMAIL}).status_code == 202
            assert stranger.post("/v1/sign-in", json={"email": EMAIL, "password": PASSWORD}).status_code == 200
    finally:
        small.close()


def test_a_forgotten_password_is_chosen_anew_and_nobody_learns_who_is_here(harbour: Harbour, visitor: Tide) -> None:
    told, email = person(harbour, Grant(Role.READER))
    visitor.people.sign_in(email, A_PASSWORD)
    visitor.people.ask_for_new_password("nobody@example.org")
    visitor.people.ask_for_new_password(email)
    mail = until(lambda: harbour.mails(email), lambda found: found)[-1]
    with Tide(harbour.address) as other:
        other.people.choose_password(code_of(mail["text"]), NEW_PASSWORD)
        with pytest.raises(Unauthenticated):
            visitor.people.me()
        other.people.sign_in(email, NEW_PASSWORD)
        with pytest.raises(Unauthenticated):
            other.people.sign_in(email, A_PASSWORD)
    assert harbour.mails("nobody@example.org") == []
    assert told.email == email


def test_links_of_one_person_are_bounded(harbour: Harbour) -> None:
    told, _ = person(harbour, Grant(Role.READER))
    for _ in range(5):
        harbour.tide.people.new_link(told.id, by_mail=False)
    with pytest.raises(Exception, match="links were sent"):
        harbour.tide.people.new_link(told.id, by_mail=False)


# sessions, tokens, one's own account


def test_a_password_is_changed_by_who_knows_it_and_the_other_sessions_end(harbour: Harbour, visitor: Tide) -> None:
    _, email = person(harbour, Grant(Role.READER))
    visitor.people.sign_in(email, A_PASSWORD)
    with Tide(harbour.address) as other:
        other.people.sign_in(email, A_PASSWORD)
        token = other.people.make_token("a script").value
        assert [session.this for session in other.people.sessions()].count(True) == 1
        with pytest.raises(Unauthenticated, match="password is wrong"):
            other.people.change_password("a guess at it", NEW_PASSWORD)
        other.people.change_password(A_PASSWORD, NEW_PASSWORD)
        assert len(other.people.sessions()) == 1
    with pytest.raises(Unauthenticated):
        visitor.people.me()
    with Tide(harbour.address, token=token) as script:
        assert script.people.me().email == email
        with pytest.raises(Denied, match="not a token"):
            script.people.change_password(NEW_PASSWORD, A_PASSWORD)


def test_a_session_is_listed_and_ended(harbour: Harbour, visitor: Tide) -> None:
    _, email = person(harbour, Grant(Role.READER))
    visitor.people.sign_in(email, A_PASSWORD)
    with Tide(harbour.address) as other:
        other.people.sign_in(email, A_PASSWORD)
        theirs = next(session for session in other.people.sessions() if not session.this)
        assert theirs.place == "127.0.0.1"
        other.people.end_session(theirs.id)
        with pytest.raises(Unauthenticated):
            visitor.people.me()
        with pytest.raises(NotFound):
            other.people.end_session(theirs.id)
        assert other.people.end_other_sessions() == 0


def test_when_a_token_was_used_last_is_told_some_minutes_late(tmp_path: Path) -> None:
    clock = SteppableClock()
    desk = Desk(Settings(data=tmp_path), clock)
    with desk.act("operator") as act:
        owner = desk_people.add(act, "Ida Fenwick", "ida@example.org", "a fine long password")
        owner_id = owner.id
    with desk.act(owner_id) as act:
        token, value = tokens.make(act, "build server", standing_of((Grant(Role.OWNER),)))
        token_id = token.id

    def last() -> datetime | None:
        desk.uses.write(desk.database)
        with desk.look() as session:
            row = session.get(Token, token_id)
            assert row is not None
            return row.last_used_at

    assert last() is None
    sessions.of_token(desk, value)
    first = last()
    assert first is not None
    clock.step(timedelta(minutes=1))
    sessions.of_token(desk, value)
    assert last() == first, "not each request is written down"
    clock.step(EXACT_TO)
    sessions.of_token(desk, value)
    second = last()
    assert second is not None
    assert second - first >= timedelta(minutes=1) + EXACT_TO
    desk.close()


def test_a_token_ends_with_the_token_that_made_it_and_outlives_it_in_no_way(harbour: Harbour) -> None:
    first = harbour.tide.people.make_token("first", days=3)
    with Tide(harbour.address, token=first.value) as by_first:
        second = by_first.people.make_token("second")
    assert second.token.expires_at == first.token.expires_at
    with Tide(harbour.address, token=second.value) as by_second:
        third = by_second.people.make_token("third", days=1)
        harbour.tide.people.revoke_token(first.token.id)
        with pytest.raises(Unauthenticated, match="was revoked"):
            by_second.people.me()
    with Tide(harbour.address, token=third.value) as by_third, pytest.raises(Unauthenticated, match="was revoked"):
        by_third.people.me()


def test_a_token_that_signs_out_is_revoked(harbour: Harbour) -> None:
    made = harbour.tide.people.make_token("a laptop")
    with Tide(harbour.address, token=made.value) as line:
        line.people.sign_out()
        with pytest.raises(Unauthenticated, match="was revoked"):
            line.people.me()


def test_a_limited_person_makes_no_token_for_another_app(harbour: Harbour, visitor: Tide) -> None:
    mine, theirs = harbour.new_app(), harbour.new_app()
    _, email = person(harbour, Grant(Role.RELEASE_MANAGER, (mine,)))
    visitor.people.sign_in(email, A_PASSWORD)
    with pytest.raises(Denied, match=f"do not reach {theirs}"):
        visitor.people.make_token("builds", apps=[theirs])
    assert visitor.people.make_token("builds", apps=[mine]).token.role is Role.BUILD_SERVER


# rights that change, and access that ends


def test_rights_hold_from_the_next_request_on(harbour: Harbour, visitor: Tide) -> None:
    app = harbour.new_app()
    told, email = person(harbour, Grant(Role.READER))
    visitor.people.sign_in(email, A_PASSWORD)
    with pytest.raises(Denied, match="You are a reader; this takes the right to prepare releases"):
        visitor.dossier.write(app, "en", TEXTS)
    harbour.tide.people.allow(told.id, [Grant(Role.READER), Grant(Role.RELEASE_MANAGER, (app,))])
    visitor.dossier.write(app, "en", TEXTS)
    with pytest.raises(Denied, match="invite people"):
        visitor.people.invite("X", address(), [Grant(Role.OWNER)])
    lines = [line for line in harbour.tide.watching.logbook() if line.act == "rights changed"]
    assert lines[0].after == {"may": f"a reader; a release manager of {app}"}


def test_the_last_owner_stays(own_harbour: Harbour) -> None:
    ida = own_harbour.tide.people.me()
    with pytest.raises(Conflict, match="last owner"):
        own_harbour.tide.people.remove(ida.id, "leaving")
    with pytest.raises(Conflict, match="last owner"):
        own_harbour.tide.people.allow(ida.id, [Grant(Role.RELEASE_MANAGER)])
    own_harbour.tide.people.invite("Tam Okoro", address(), [Grant(Role.OWNER)], by_mail=False)
    with pytest.raises(Conflict, match="last owner"):  # one who was invited and cannot sign in yet is none
        own_harbour.tide.people.remove(ida.id, "leaving")
    person(own_harbour, Grant(Role.OWNER))
    own_harbour.tide.people.remove(ida.id, "leaving")
    with pytest.raises(Unauthenticated):
        own_harbour.tide.people.me()


def test_removing_a_person_ends_everything_and_keeps_the_logbook(harbour: Harbour, visitor: Tide) -> None:
    told, email = person(harbour, Grant(Role.RELEASE_MANAGER))
    visitor.people.sign_in(email, A_PASSWORD)
    token = visitor.people.make_token("a script").value
    app = f"gone{uuid.uuid4().hex[:6]}"
    visitor.apps.register(app, title="Gone", identifiers={"ios": f"org.example.{app}"})
    visitor.notices.subscribe("mail", email)
    harbour.tide.people.remove(told.id, "left the company")
    for line in (visitor, Tide(harbour.address, token=token)):
        with line, pytest.raises(Unauthenticated):
            line.people.me()
    with Tide(harbour.address) as again, pytest.raises(Unauthenticated):
        again.people.sign_in(email, A_PASSWORD)
    assert email not in {one.address for one in harbour.tide.notices.subscriptions()}
    assert told.id not in {one.id for one in harbour.tide.people.every()}
    line_of = next(line for line in harbour.tide.watching.logbook(app=app))
    assert line_of.who == "Wren Adeyemi"
    assert harbour.tide.watching.verify_logbook().first_broken is None
    assert harbour.tide.people.invite("Wren Adeyemi", email, [Grant(Role.READER)], by_mail=False).person.id != told.id


def test_who_is_erased_stands_in_the_logbook_by_pseudonym_alone(harbour: Harbour, visitor: Tide) -> None:
    told, email = person(harbour, Grant(Role.RELEASE_MANAGER))
    visitor.people.sign_in(email, A_PASSWORD)
    app = f"erased{uuid.uuid4().hex[:6]}"
    visitor.apps.register(app, title="Erased", identifiers={"ios": f"org.example.{app}"})
    harbour.tide.people.remove(told.id, "asked to be forgotten", erase=True)
    assert next(iter(harbour.tide.watching.logbook(app=app))).who == told.id
    with sqlite3.connect(harbour.folder / "desk" / "desk.sqlite") as records:
        assert records.execute("SELECT name, email FROM people WHERE id = ?", (told.id,)).fetchone() == (
            "",
            f"removed:{told.id}",
        )


def test_all_access_of_a_person_is_ended_at_once(harbour: Harbour, visitor: Tide) -> None:
    told, email = person(harbour, Grant(Role.READER))
    visitor.people.sign_in(email, A_PASSWORD)
    visitor.people.make_token("a script")
    access = harbour.tide.people.access(told.id)
    assert (len(access.sessions), [token.label for token in access.tokens]) == (1, ["a script"])
    ended = harbour.tide.people.end_access(told.id, "a lost laptop")
    assert (ended.sessions, ended.tokens) == (1, 1)
    with pytest.raises(Unauthenticated):
        visitor.people.me()
    visitor.people.sign_in(email, A_PASSWORD)


# the second factor


def now_code(harbour: Harbour, secret: str, steps: int = 0) -> str:
    now = harbour.tide.watching.clock().now
    return pyotp.TOTP(secret).at(now + timedelta(seconds=30 * steps))


def with_factor(harbour: Harbour, line: Tide, email: str) -> tuple[str, list[str]]:
    line.people.sign_in(email, A_PASSWORD)
    secret = line.people.begin_second_factor(A_PASSWORD).secret
    return secret, line.people.confirm_second_factor(now_code(harbour, secret))


def test_a_second_factor_is_asked_for_and_none_of_its_codes_works_twice(harbour: Harbour, visitor: Tide) -> None:
    _, email = person(harbour, Grant(Role.READER))
    visitor.people.sign_in(email, A_PASSWORD)
    setup = visitor.people.begin_second_factor(A_PASSWORD)
    assert setup.picture.startswith("data:image/svg+xml")
    assert setup.address.startswith("otpauth://totp/Restless%20Tide")
    with pytest.raises(Invalid, match="does not fit"):
        visitor.people.confirm_second_factor("000000")
    codes = visitor.people.confirm_second_factor(now_code(harbour, setup.secret))
    assert len(set(codes)) == 10
    with Tide(harbour.address) as other:
        with pytest.raises(Unauthenticated) as needed:
            other.people.sign_in(email, A_PASSWORD)
        assert needed.value.code == "second-factor-needed"
        with pytest.raises(Unauthenticated, match="used already"):  # the code that set it up
            other.people.sign_in(email, A_PASSWORD, now_code(harbour, setup.secret))
        harbour.tide.watching.move_clock(step_hours=1 / 60)
        fresh = now_code(harbour, setup.secret)
        assert other.people.sign_in(email, A_PASSWORD, fresh).second_factor
        with pytest.raises(Unauthenticated, match="used already"):
            other.people.sign_in(email, A_PASSWORD, fresh)
        other.people.sign_in(email, A_PASSWORD, codes[0])
        with pytest.raises(Unauthenticated, match="used already"):
            other.people.sign_in(email, A_PASSWORD, codes[0])
    kept = (harbour.folder / "desk" / "desk.sqlite").read_bytes()
    assert setup.secret.encode() not in kept
    assert codes[1].encode() not in kept


def test_a_lost_device_is_helped_by_an_owner(harbour: Harbour, visitor: Tide) -> None:
    told, email = person(harbour, Grant(Role.READER))
    with_factor(harbour, visitor, email)
    harbour.tide.people.drop_second_factor(told.id)
    with Tide(harbour.address) as other:
        other.people.sign_in(email, A_PASSWORD)


def test_a_demanded_second_factor_leaves_nothing_open_but_to_set_one_up(own_harbour: Harbour) -> None:
    _, email = person(own_harbour, Grant(Role.READER))
    own_harbour.tide.people.demand_second_factor(True)
    with Tide(own_harbour.address) as line:
        line.people.sign_in(email, A_PASSWORD)
        assert line.people.me().second_factor_demanded
        with pytest.raises(Denied, match="demands a second factor"):
            line.apps.every()
        with pytest.raises(Denied, match="demands a second factor"):
            line.people.make_token("around it")
        secret = line.people.begin_second_factor(A_PASSWORD).secret
        line.people.confirm_second_factor(now_code(own_harbour, secret))
        assert line.apps.every() == []
        with pytest.raises(Conflict, match="demands a second factor of everybody"):
            line.people.drop_own_second_factor(A_PASSWORD)
    assert own_harbour.tide.people.me().email == EMAIL, "tokens made before stay"


# what is never told


def test_no_answer_and_no_log_holds_a_secret_of_a_person(harbour: Harbour) -> None:
    told, email = person(harbour, Grant(Role.READER))
    said = json.dumps([one.model_dump(mode="json") for one in harbour.tide.people.every()])
    lines = json.dumps([line.model_dump(mode="json") for line in harbour.tide.watching.logbook()])
    logs = b"".join(path.read_bytes() for path in harbour.folder.glob("*.log"))
    for secret in (A_PASSWORD, PASSWORD, "argon2"):
        assert secret not in said + lines
        assert secret.encode() not in logs
    with Tide(harbour.address) as reader:
        reader.people.sign_in(email, A_PASSWORD)
        assert {one.email for one in reader.people.every()} == {None}, "addresses are for who manages people"
    with httpx.Client(base_url=harbour.address, **OPENLY) as stranger:
        assert stranger.get("/v1/personal-links/made-up").status_code == 404
    assert told.id
