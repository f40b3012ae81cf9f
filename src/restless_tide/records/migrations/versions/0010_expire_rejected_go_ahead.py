"""what lapsed has expired, a trial that was turned down was rejected, the word is a go-ahead; rounds keep their notes"""

import json

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None

_COLUMNS = (
    ("test_devices", "lapses_at", "expires_at"),
    ("locker_files", "lapses_at", "expires_at"),
    ("legs", "needs_word", "needs_go_ahead"),
    ("legs", "word_given_at", "go_ahead_at"),
)
_STATES = (("lapsed", "expired"), ("turned down", "rejected"))
_WITH_STATE = ("trials", "consignments", "sightings")
_KIND = ("key or standing lapsing", "key or standing expiring")
_STANDING = {"lapsing": "expiring", "lapsed": "expired"}
_UNUSED = ("lapses_unused_days", "expires_unused_days")


def upgrade() -> None:
    op.add_column("rounds", sa.Column("notes", sa.JSON(), nullable=True))
    for table, before, after in _COLUMNS:
        op.execute(f"ALTER TABLE {table} RENAME COLUMN {before} TO {after}")
    for before, after in _STATES:
        for table in _WITH_STATE:
            change = sa.text(f"UPDATE {table} SET state = :after WHERE state = :before")  # noqa: S608
            op.get_bind().execute(change, {"before": before, "after": after})
    _rewrite_json(dict([_KIND]), _STANDING, _UNUSED)


def downgrade() -> None:
    """A sighting that says rejected may be a trial's or a round's."""
    op.drop_column("rounds", "notes")
    for table, before, after in _COLUMNS:
        op.execute(f"ALTER TABLE {table} RENAME COLUMN {after} TO {before}")
    op.execute("UPDATE trials SET state = 'turned down' WHERE state = 'rejected'")
    op.execute(
        "UPDATE sightings SET state = 'turned down' WHERE state = 'rejected' AND subject IN (SELECT id FROM trials)"
    )
    for table in _WITH_STATE:
        op.execute(f"UPDATE {table} SET state = 'lapsed' WHERE state = 'expired'")  # noqa: S608
    _rewrite_json(
        {after: before for before, after in [_KIND]},
        {after: before for before, after in _STANDING.items()},
        _UNUSED[::-1],
    )


def _rewrite_json(kinds: dict[str, str], standing: dict[str, str], unused: tuple[str, str]) -> None:
    records = op.get_bind()
    for before, after in kinds.items():
        records.execute(
            sa.text("UPDATE notices SET kind = :after WHERE kind = :before"), {"before": before, "after": after}
        )
    for row, text in records.execute(sa.text("SELECT id, kinds FROM subscriptions")).all():
        _keep("subscriptions", "kinds", row, [kinds.get(kind, kind) for kind in json.loads(text)])
    for column in ("rulebook", "next_rulebook"):
        for row, text in records.execute(sa.text(f"SELECT id, {column} FROM stores")).all():  # noqa: S608
            document = json.loads(text) if text else None
            name = (document or {}).get("name")
            if name and unused[0] in name:
                name[unused[1]] = name.pop(unused[0])
                _keep("stores", column, row, document)
    for row, text in records.execute(sa.text("SELECT id, account FROM stores")).all():
        account = json.loads(text) if text else None
        if account:
            account["standing"] = standing.get(account.get("standing"), account.get("standing"))
            for paper in account.get("papers", []):
                paper["state"] = standing.get(paper["state"], paper["state"])
            _keep("stores", "account", row, account)


def _keep(table: str, column: str, row: str, document: object) -> None:
    told = {"text": json.dumps(document), "row": row}
    op.get_bind().execute(sa.text(f"UPDATE {table} SET {column} = :text WHERE id = :row"), told)  # noqa: S608
