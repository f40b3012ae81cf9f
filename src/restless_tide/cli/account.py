"""tide sign-in, sign-out, account and session: one's own way in."""

from __future__ import annotations

import getpass
import os
import platform

from restless_tide.cli import remembered
from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell
from restless_tide.cli.parsing import Nouns
from restless_tide.cli.telling import moment
from restless_tide.client import Tide
from restless_tide.core.rights import TOLD
from restless_tide.wire.errors import DeskUnreachable, Invalid, Unauthenticated
from restless_tide.wire.people import PersonTold, SessionTold

_SESSIONS: Listing[SessionTold] = Listing(
    words=lambda one: (one.id, one.agent, one.place),
    sort={
        "since": lambda one: one.created_at,
        "used": lambda one: one.last_used_at,
        "until": lambda one: one.expires_at,
        "from": lambda one: one.place,
    },
    since=lambda one: one.created_at,
)
_NEEDED = "second-factor-needed"


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "sign-in",
        _sign_in,
        description="Asks for the password (and the code of your second factor), makes a token for this machine and remembers it. "
        "TIDE_PASSWORD and TIDE_CODE answer for a script; better there is TIDE_TOKEN.",
    )
    parser.add_argument("--email", required=True)
    nouns.command("sign-out", _sign_out)
    nouns.noun("account")
    nouns.command("account show", _show, "who you are, and what you may do")
    parser = nouns.command("account rename", _rename, "correct your own name")
    parser.add_argument("name")
    nouns.command("account password", _password, "change your password; your other sessions end, your tokens stay")
    parser = nouns.command(
        "account forgot",
        _forgot,
        "have a link mailed by which you choose a new password",
        description="Needs no sign-in.",
    )
    parser.add_argument("email")
    nouns.command("account second-factor", _factor, "set up a second factor: codes from an authenticator")
    nouns.command("account drop-factor", _drop_factor, "sign in by password alone again")
    nouns.noun("session")
    _SESSIONS.arguments(nouns.command("session list", _sessions, "your sessions at the console"))
    parser = nouns.command("session end", _end, "end a session at once, or all of them")
    parser.add_argument("id", nargs="?", help="as tide session list shows it; none: all of them")


def _secret(name: str, asked: str) -> str:
    return os.environ.get(name) or getpass.getpass(f"{asked}: ")


def _signed_in(tide: Tide, email: str, password: str) -> PersonTold:
    """Sign in on a line of its own; the code is asked for where one is needed."""
    try:
        return tide.people.sign_in(email, password, os.environ.get("TIDE_CODE", ""))
    except Unauthenticated as wrong:
        if wrong.code != _NEEDED or os.environ.get("TIDE_CODE"):
            raise
        return tide.people.sign_in(email, password, input("Code: ").strip())


def _sign_in(call: Call) -> None:
    with Tide(call.url) as tide:
        person = _signed_in(tide, call.given.email, _secret("TIDE_PASSWORD", "Password"))
        made = tide.people.make_token(f"tide on {platform.node()}")
        tide.people.sign_out()
    remembered.keep(call.url, made.value)
    call.answer(person, lambda: call.say(f"Signed in to {call.url} as {person.name}: {person.may}."))


def _sign_out(call: Call) -> None:
    known = remembered.desk()
    revoked = False
    if known.token:
        try:
            with Tide(known.url, token=known.token) as tide:
                tide.people.sign_out()
            revoked = True
        except (DeskUnreachable, Unauthenticated):
            pass  # it is forgotten here all the same
    remembered.forget()
    left = "" if revoked or not known.token else " The desk did not answer, so its token stays valid: tide token revoke"
    call.answer({"signed_out": True, "revoked": revoked}, lambda: call.say(f"Signed out.{left}"))


def _show(call: Call) -> None:
    me = call.tide.people.me()

    def shown() -> None:
        call.say(f"{me.name} ({me.email}), {me.may}.")
        table = call.table("MAY", "FOR")
        for held in me.rights:
            table.add_row(TOLD[held.right], "all apps" if held.apps is None else cell(", ".join(held.apps)))
        call.show(table, empty="Nothing.")

    call.answer(me, shown)


def _rename(call: Call) -> None:
    told = call.tide.people.rename_me(call.given.name)
    call.answer(told, lambda: call.say(f"Your name is now {told.name}."))


def _password(call: Call) -> None:
    current = _secret("TIDE_PASSWORD", "Current password")
    new = _secret("TIDE_NEW_PASSWORD", "New password")
    if not os.environ.get("TIDE_NEW_PASSWORD") and getpass.getpass("New password, again: ") != new:
        raise Invalid("The two are not the same; nothing was changed.", code="password-differs")
    email = call.tide.people.me().email or ""
    with Tide(call.url) as tide:
        _signed_in(tide, email, current)
        tide.people.change_password(current, new)
        tide.people.sign_out()
    call.answer({"changed": True}, lambda: call.say("The password is changed; all sessions at the console have ended."))


def _forgot(call: Call) -> None:
    with Tide(call.url) as tide:
        tide.people.ask_for_new_password(call.given.email)
    call.answer({"asked": True}, lambda: call.say("If someone here has this address, a mail with a link leaves to it."))


def _factor(call: Call) -> None:
    password = _secret("TIDE_PASSWORD", "Password")
    with Tide(call.url) as tide:
        _signed_in(tide, call.tide.people.me().email or "", password)
        setup = tide.people.begin_second_factor(password)
        call.aside.print(
            f"Enter this in your authenticator: {setup.secret}\n{setup.address}", highlight=False, soft_wrap=True
        )
        codes = tide.people.confirm_second_factor(input("The code it shows now: ").strip())
        tide.people.sign_out()

    def shown() -> None:
        call.say("\n".join(codes))
        call.aside.print("Each of these works once in place of a code. They are shown this once; keep them safe.")

    call.answer({"recovery_codes": codes}, shown)


def _drop_factor(call: Call) -> None:
    password = _secret("TIDE_PASSWORD", "Password")
    with Tide(call.url) as tide:
        _signed_in(tide, call.tide.people.me().email or "", password)
        tide.people.drop_own_second_factor(password)
        tide.people.sign_out()
    call.answer({"dropped": True}, lambda: call.say("You sign in by password alone."))


def _sessions(call: Call) -> None:
    every = call.tide.people.sessions()
    found = _SESSIONS.arranged(call, every)

    def shown() -> None:
        table = call.table("SESSION", "SINCE", "LAST USED", "UNTIL", "FROM", "BROWSER")
        for one in found:
            used = moment(one.last_used_at) if one.last_used_at else ""
            since, until = moment(one.created_at), moment(one.expires_at)
            table.add_row(one.id, since, used, until, cell(one.place), cell(one.agent))
        call.show(table, empty="No session is like that." if every else "You have no session at the console.")

    call.answer(found, shown)


def _end(call: Call) -> None:
    if call.given.id:
        call.tide.people.end_session(call.given.id)
        call.answer({"ended": call.given.id}, lambda: call.say(f"Session {call.given.id} has ended."))
        return
    count = call.tide.people.end_other_sessions()
    call.answer({"ended": count}, lambda: call.say(f"{count} sessions have ended."))
