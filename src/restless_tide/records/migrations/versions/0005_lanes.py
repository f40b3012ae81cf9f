"""lanes: one table of sightings for every subject, whose act it was, events that could not be taken"""

import json

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

_NEW_NOTICES = {"changed at the store": "offered again", "order failing": "event not taken"}
"""Whoever is told of the first is told of the second, too."""
_LEVEL = (
    ("ours", sa.Boolean(), "1"),
    ("stranger", sa.Boolean(), "0"),
    ("asked", sa.Boolean(), "0"),
    ("repeated_at", sa.Integer(), "-1"),
    ("repeats", sa.Integer(), "0"),
)


def upgrade() -> None:
    records = op.get_bind()
    op.create_table(
        "sightings_of_all",
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("share", sa.Double(), nullable=False),
        sa.Column("sequence", sa.Integer(), nullable=False),
        sa.Column("at", columns.AwareUtc(), nullable=False),
        sa.Column("seen_at", columns.AwareUtc(), nullable=False),
        *(sa.Column(name, kind, nullable=False, server_default=usual) for name, kind, usual in _LEVEL),
        sa.PrimaryKeyConstraint("subject"),
    )
    records.execute(
        sa.text(
            "INSERT INTO sightings_of_all (subject, state, share, sequence, at, seen_at)"
            " SELECT leg_id, state, share, sequence, at, seen_at FROM sightings"
        )
    )
    berths = records.execute(
        sa.text(
            "SELECT berths.id, berths.availability_seen, berths.told_until, berths.created_at FROM berths"
            " WHERE berths.availability_seen IS NOT NULL AND berths.availability_seen != 'null'"
        )
    ).all()
    for berth, seen, told_until, created_at in berths:
        state = json.dumps(json.loads(seen), sort_keys=True)
        records.execute(
            sa.text(
                "INSERT INTO sightings_of_all (subject, state, share, sequence, at, seen_at)"
                " VALUES (:berth, :state, 0, :told_until, :created_at, :created_at)"
            ),
            {"berth": berth, "state": state, "told_until": told_until, "created_at": created_at},
        )
    op.drop_table("sightings")
    op.rename_table("sightings_of_all", "sightings")
    op.create_table(
        "untaken_events",
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("store_id", sa.String(), nullable=False),
        sa.Column("sequence", sa.Integer(), nullable=False),
        sa.Column("body", sa.JSON(), nullable=False),
        sa.Column("why", sa.String(), nullable=False),
        sa.Column("at", columns.AwareUtc(), nullable=False),
        sa.ForeignKeyConstraint(["store_id"], ["stores.id"]),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("store_id", "sequence"),
    )
    with op.batch_alter_table("berths") as batch_op:
        batch_op.drop_column("availability_seen")
        batch_op.drop_column("told_until")
    with op.batch_alter_table("legs") as batch_op:
        batch_op.drop_column("told_until")
    with op.batch_alter_table("stores") as batch_op:
        batch_op.add_column(sa.Column("last_event", sa.String(), nullable=True))
    with op.batch_alter_table("orders") as batch_op:
        batch_op.add_column(sa.Column("with_person", sa.Boolean(), nullable=False, server_default="0"))
        batch_op.add_column(sa.Column("again", sa.Boolean(), nullable=False, server_default="0"))
    records.execute(
        sa.text(
            "UPDATE orders SET with_person = 1 WHERE state IN ('queued', 'sent') AND id IN"
            " (SELECT order_id FROM steps WHERE state = 'waiting' AND order_id IS NOT NULL)"
        )
    )
    for row, kinds in records.execute(sa.text("SELECT id, kinds FROM subscriptions")).all():
        told = json.loads(kinds)
        told += [new for old, new in _NEW_NOTICES.items() if old in told]
        records.execute(
            sa.text("UPDATE subscriptions SET kinds = :kinds WHERE id = :id"), {"kinds": json.dumps(told), "id": row}
        )
    records.execute(sa.text("UPDATE orders SET again = 1 WHERE json_extract(payload, '$.again')"))


def downgrade() -> None:
    records = op.get_bind()
    with op.batch_alter_table("orders") as batch_op:
        batch_op.drop_column("again")
        batch_op.drop_column("with_person")
    with op.batch_alter_table("stores") as batch_op:
        batch_op.drop_column("last_event")
    with op.batch_alter_table("legs") as batch_op:
        batch_op.add_column(sa.Column("told_until", sa.Integer(), nullable=False, server_default="0"))
    with op.batch_alter_table("berths") as batch_op:
        batch_op.add_column(sa.Column("told_until", sa.Integer(), nullable=False, server_default="0"))
        batch_op.add_column(sa.Column("availability_seen", sa.JSON(), nullable=True))
    records.execute(
        sa.text(
            "UPDATE berths SET availability_seen = (SELECT state FROM sightings WHERE subject = berths.id),"
            " told_until = coalesce((SELECT sequence FROM sightings WHERE subject = berths.id), 0)"
        )
    )
    records.execute(
        sa.text("UPDATE legs SET told_until = coalesce((SELECT sequence FROM sightings WHERE subject = legs.id), 0)")
    )
    op.drop_table("untaken_events")
    op.rename_table("sightings", "sightings_of_all")
    op.create_table(
        "sightings",
        sa.Column("leg_id", sa.String(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("share", sa.Double(), nullable=False),
        sa.Column("sequence", sa.Integer(), nullable=False),
        sa.Column("at", columns.AwareUtc(), nullable=False),
        sa.Column("seen_at", columns.AwareUtc(), nullable=False),
        sa.ForeignKeyConstraint(["leg_id"], ["legs.id"]),
        sa.PrimaryKeyConstraint("leg_id"),
    )
    records.execute(
        sa.text(
            "INSERT INTO sightings SELECT subject, state, share, sequence, at, seen_at FROM sightings_of_all"
            " WHERE subject IN (SELECT id FROM legs)"
        )
    )
    op.drop_table("sightings_of_all")
