"""Tokens: what a command line or a build server sends instead of a password."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from datetime import timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Denied, Invalid, NotFound
from restless_tide.core.rights import Right, Role, Standing
from restless_tide.desk import find
from restless_tide.desk.desk import Act
from restless_tide.records.seal import token_digest
from restless_tide.records.tables import Token

TOKEN_PREFIX = "tide_"  # noqa: S105


def make(
    act: Act,
    label: str,
    standing: Standing,
    *,
    life: timedelta | None = None,
    role: Role | None = None,
    apps: Sequence[str] = (),
    parent: str | None = None,
) -> tuple[Token, str]:
    """A new token of the acting person; the value is shown this once and kept only as a digest.

    It reaches no further than ``standing``, what its maker may do; with ``role`` and ``apps`` less than that, and with apps
    alone it is a build server's. A token that was made by ``parent`` ends with it. Raises Invalid, Denied.
    """
    if not label.strip():
        raise Invalid("A token needs a label that says where it is used.", code="label-missing")
    named = [find.app(act.session, app).name for app in apps]
    beyond = [app for app in named if not standing.over(Right.SEE_BUILDS, app)]
    if beyond:
        raise Denied(
            f"You do not reach {', '.join(beyond)}, so no token of yours can.",
            remedy="Name apps that you reach.",
            code="beyond-reach",
        )
    until = act.now + life if life else None
    maker = act.session.get(Token, parent) if parent is not None else None
    if maker is not None and maker.expires_at is not None:
        until = min(until, maker.expires_at) if until is not None else maker.expires_at
    value = TOKEN_PREFIX + secrets.token_urlsafe(32)
    token = Token(
        person_id=act.person,
        label=label.strip(),
        token_digest=token_digest(value),
        created_at=act.now,
        expires_at=until,
        role=role or (Role.BUILD_SERVER if named else None),
        apps=named,
        parent_id=parent,
    )
    act.session.add(token)
    act.session.flush()
    told = {"label": token.label} | ({"role": str(token.role), "apps": named} if token.role else {})
    act.log("token made", f"token {token.id}", after=told)
    return token, value


def of_person(session: Session, person_id: str) -> list[Token]:
    """Someone's tokens, those that ended among them, the oldest first."""
    return list(session.scalars(select(Token).where(Token.person_id == person_id).order_by(Token.created_at)))


def revoke(act: Act, token_id: str, *, of_anyone: bool = False) -> Token:
    """Revoke a token at once, and those it made; only one's own unless ``of_anyone``. Raises NotFound."""
    token = act.session.get(Token, token_id)
    if token is None or (token.person_id != act.person and not of_anyone):
        raise NotFound(f"You have no token {token_id!r}.", remedy="See: tide token list", code="token-unknown")
    return revoke_row(act, token)


def revoke_row(act: Act, token: Token) -> Token:
    """The same for one that was found."""
    ending = [token]
    for row in ending:
        ending += act.session.scalars(select(Token).where(Token.parent_id == row.id)).all()
        if row.revoked_at is None:
            row.revoked_at = act.now
            act.log("token revoked", f"token {row.id}", before={"label": row.label})
    return token
