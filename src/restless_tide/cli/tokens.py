"""tide token: what scripts and build servers send instead of a password."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell
from restless_tide.cli.parsing import Nouns, span
from restless_tide.cli.telling import moment
from restless_tide.core.rights import Role
from restless_tide.wire.people import TokenTold

if TYPE_CHECKING:
    from rich.table import Table

_TOKENS: Listing[TokenTold] = Listing(
    words=lambda token: (token.id, token.label, token.role or "", *token.apps),
    sort={
        "label": lambda token: token.label,
        "made": lambda token: token.created_at,
        "used": lambda token: token.last_used_at,
        "until": lambda token: token.expires_at,
    },
    since=lambda token: token.created_at,
)


def add(nouns: Nouns) -> None:
    nouns.noun("token")
    parser = nouns.command(
        "token add",
        _add,
        "make a token; its value is shown this once",
        description="It reaches what you reach, or less: with --role and --app it is held to these. One that is made by a token ends with it.",
    )
    parser.add_argument("label", help="where it is used, such as 'build server'")
    parser.add_argument("--days", type=span, help="life in days; without it, until revoked")
    parser.add_argument(
        "--role",
        choices=tuple(Role),
        help="hold it to a role; without it, to what you may do, or with --app to a build server",
    )
    parser.add_argument(
        "--app", action="append", default=[], metavar="APP", help="hold it to this app (may be given again)"
    )
    _TOKENS.arguments(nouns.command("token list", _list, "list your tokens"))
    nouns.command("token revoke", _revoke, "revoke a token at once, with those that it made").add_argument("id")


def _add(call: Call) -> None:
    given = call.given
    made = call.tide.people.make_token(
        given.label, days=given.days, role=Role(given.role) if given.role else None, apps=given.app
    )
    said = {
        "id": made.token.id, "label": made.token.label, "role": made.token.role, "apps": made.token.apps,
        "value": made.value, "expires_at": made.token.expires_at,
    }  # fmt: skip

    def shown() -> None:
        call.say(made.value)
        call.aside.print(f"Token {made.token.id} for {cell(made.token.label)}. It is shown this once; keep it safe.")

    call.answer(said, shown)


def token_table(call: Call, tokens: Sequence[TokenTold]) -> Table:
    """Tokens as a table."""
    table = call.table("ID", "LABEL", "HELD TO", "MADE", "LAST USED", "STATE")
    for token in tokens:
        state = (
            "revoked"
            if token.revoked_at
            else f"until {moment(token.expires_at)}"
            if token.expires_at
            else "until revoked"
        )
        used = moment(token.last_used_at) if token.last_used_at else ""
        held = " of ".join(part for part in (str(token.role or ""), ", ".join(token.apps)) if part)
        table.add_row(token.id, cell(token.label), cell(held), moment(token.created_at), used, state)
    return table


def _list(call: Call) -> None:
    every = call.tide.people.tokens()
    found = _TOKENS.arranged(call, every)
    none = "No tokens yet. Make one with: tide token add LABEL"
    call.answer(found, lambda: call.show(token_table(call, found), empty="No token is like that." if every else none))


def _revoke(call: Call) -> None:
    call.tide.people.revoke_token(call.given.id)
    call.answer({"revoked": call.given.id}, lambda: call.say(f"Token {call.given.id} is revoked."))
