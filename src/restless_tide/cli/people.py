"""tide sign-in, sign-out, person, token."""

from __future__ import annotations

import getpass
import os
import platform

from restless_tide.cli import remembered
from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell
from restless_tide.cli.parsing import Nouns, span
from restless_tide.cli.telling import moment
from restless_tide.client import Tide
from restless_tide.wire.people import PersonTold, TokenTold

_TOKENS: Listing[TokenTold] = Listing(
    words=lambda token: (token.id, token.label, *token.apps),
    sort={
        "label": lambda token: token.label,
        "made": lambda token: token.created_at,
        "until": lambda token: token.expires_at,
    },
    since=lambda token: token.created_at,
)
_PEOPLE: Listing[PersonTold] = Listing(
    words=lambda person: (person.id, person.name, person.email),
    sort={"name": lambda person: person.name, "address": lambda person: person.email},
)


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "sign-in",
        _sign_in,
        description="Asks for the password, makes a token for this machine and remembers it. In a script, use TIDE_TOKEN instead.",
    )
    parser.add_argument("--email", required=True)
    nouns.command("sign-out", _sign_out)
    nouns.noun("person")
    _PEOPLE.arguments(nouns.command("person list", _people, "everybody who works at this desk"))
    nouns.noun("token")
    parser = nouns.command("token add", _add_token, "make a token; its value is shown this once")
    parser.add_argument("label", help="where it is used, such as 'build server'")
    parser.add_argument("--days", type=span, help="life in days; without it, until revoked")
    parser.add_argument(
        "--app",
        action="append",
        default=[],
        metavar="APP",
        help="a build server's: it reaches only what builds of this app need (may be given again)",
    )
    _TOKENS.arguments(nouns.command("token list", _tokens, "list your tokens"))
    nouns.command("token revoke", _revoke, "revoke a token at once").add_argument("id")


def _sign_in(call: Call) -> None:
    password = os.environ.get("TIDE_PASSWORD") or getpass.getpass("Password: ")
    with Tide(call.url) as tide:
        person = tide.people.sign_in(call.given.email, password)
        made = tide.people.make_token(f"tide on {platform.node()}")
    remembered.keep(call.url, made.value)
    call.answer(person, lambda: call.say(f"Signed in to {call.url} as {person.name}."))


def _people(call: Call) -> None:
    every = call.tide.people.every()
    found = _PEOPLE.arranged(call, every)

    def shown() -> None:
        table = call.table("NAME", "ADDRESS", "ID")
        for person in found:
            table.add_row(cell(person.name), cell(person.email), person.id)
        call.show(table, empty="No person is like that.")

    call.answer(found, shown)


def _sign_out(call: Call) -> None:
    remembered.forget()
    call.answer({"signed_out": True}, lambda: call.say("Forgotten. The token itself ends with: tide token revoke"))


def _add_token(call: Call) -> None:
    made = call.tide.people.make_token(call.given.label, days=call.given.days, apps=call.given.app)
    said = {"id": made.token.id, "label": made.token.label, "value": made.value, "expires_at": made.token.expires_at}

    def shown() -> None:
        call.say(made.value)
        call.aside.print(f"Token {made.token.id} for {cell(made.token.label)}. It is shown this once; keep it safe.")

    call.answer(said, shown)


def _tokens(call: Call) -> None:
    every = call.tide.people.tokens()
    found = _TOKENS.arranged(call, every)

    def shown() -> None:
        table = call.table("ID", "LABEL", "MADE", "STATE")
        for token in found:
            state = (
                "revoked"
                if token.revoked_at
                else f"until {moment(token.expires_at)}"
                if token.expires_at
                else "until revoked"
            )
            table.add_row(token.id, cell(token.label), moment(token.created_at), state)
        none = "No tokens yet. Make one with: tide token add LABEL"
        call.show(table, empty="No token is like that." if every else none)

    call.answer(found, shown)


def _revoke(call: Call) -> None:
    call.tide.people.revoke_token(call.given.id)
    call.answer({"revoked": call.given.id}, lambda: call.say(f"Token {call.given.id} is revoked."))
