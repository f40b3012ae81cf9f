"""People, sessions and tokens as the wire tells them."""

from __future__ import annotations

from restless_tide.core.rights import Apps, roles_told, within
from restless_tide.desk.sessions import Asker
from restless_tide.records import tables
from restless_tide.wire.people import GrantTold, MeTold, PersonTold, SessionTold, TokenTold


def _values(row: tables.Person, *, address: bool, reach: Apps = None) -> dict[str, object]:
    grants = within(row.grants, reach)
    return {
        "email": row.email if address and row.removed_at is None else None,
        "grants": [GrantTold.by(grant) for grant in grants],
        "may": roles_told(grants) if grants or reach is None else "nothing in your apps",
        "invited": not row.password_hash and row.removed_at is None,
        "second_factor": row.totp_since is not None,
    }


def person(row: tables.Person, *, address: bool, reach: Apps = None) -> PersonTold:
    """A person; the address only for those who manage people, and for the person. With ``reach`` what they may do there."""
    return PersonTold.of(row, **_values(row, address=address, reach=reach))


def me(asker: Asker) -> MeTold:
    row = asker.person
    return MeTold.of(
        row,
        **_values(row, address=True),
        rights=MeTold.reaches(asker.standing),
        second_factor_demanded=asker.unproven,
        by_password=bool(row.password_hash),
    )


def session(row: tables.SignIn, asker: Asker) -> SessionTold:
    return SessionTold.of(row, this=asker.session is not None and asker.session.id == row.id)


def token(row: tables.Token) -> TokenTold:
    return TokenTold.of(row, made_by=row.parent_id)
