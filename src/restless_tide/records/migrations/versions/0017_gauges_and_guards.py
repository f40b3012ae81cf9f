"""what is counted by the hour, and the guards that watch it"""

import json

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None

_COUNTED = (
    "people", "sessions", "crashed_sessions", "crashed_people", "hangs", "first_starts",
    "stars_1", "stars_2", "stars_3", "stars_4", "stars_5",
)  # fmt: skip


def _counts(name: str, at: str) -> None:
    op.create_table(
        name,
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), primary_key=True),
        sa.Column("source", sa.String(), primary_key=True),
        sa.Column(at, sa.Integer(), primary_key=True),
        sa.Column("version", sa.String(), primary_key=True),
        sa.Column("number", sa.String(), primary_key=True),
        sa.Column("level", sa.String(), primary_key=True),
        sa.Column("device", sa.String(), primary_key=True),
        *(sa.Column(counted, sa.Integer(), nullable=False) for counted in _COUNTED),
        sqlite_with_rowid=False,
    )


_NEW_KIND = "guard blind"
_KINDS_BEFORE = 14


def _subscribe_to_the_new_kind() -> None:
    """Who was subscribed to every kind of notice is so from now on, too."""
    connection = op.get_bind()
    for row_id, kinds in connection.exec_driver_sql("SELECT id, kinds FROM subscriptions").all():
        known = json.loads(kinds)
        if len(set(known)) == _KINDS_BEFORE:
            connection.exec_driver_sql(
                "UPDATE subscriptions SET kinds = ? WHERE id = ?", (json.dumps([*known, _NEW_KIND]), row_id)
            )


def _forget_the_new_kind() -> None:
    connection = op.get_bind()
    for row_id, kinds in connection.exec_driver_sql("SELECT id, kinds FROM subscriptions").all():
        kept = [kind for kind in json.loads(kinds) if kind != _NEW_KIND]
        connection.exec_driver_sql("UPDATE subscriptions SET kinds = ? WHERE id = ?", (json.dumps(kept), row_id))
    op.execute("DELETE FROM deliveries WHERE notice_id IN (SELECT id FROM notices WHERE kind = 'guard blind')")
    op.execute("DELETE FROM notices WHERE kind = 'guard blind'")


def upgrade() -> None:
    _subscribe_to_the_new_kind()
    op.create_table(
        "gauge_hours",
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), primary_key=True),
        sa.Column("source", sa.String(), primary_key=True),
        sa.Column("hour", sa.Integer(), primary_key=True),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("complete", sa.Boolean(), nullable=False),
        sa.Column("corrected", sa.Integer(), nullable=False),
        sa.Column("taken_at", columns.AwareUtc(), nullable=False),
    )
    _counts("gauge_counts", "hour")
    _counts("gauge_days", "day")
    op.create_table(
        "guards",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("app_id", sa.String(), sa.ForeignKey("apps.id"), nullable=False),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("rule", sa.JSON(), nullable=False),
        sa.Column("on_breach", sa.String(32), nullable=False),
        sa.Column("every_store", sa.Boolean(), nullable=False),
        sa.Column("together", sa.Boolean(), nullable=False),
        sa.Column("stores", sa.JSON(), nullable=False),
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("created_at", columns.AwareUtc(), nullable=False),
        sa.Column("ended_at", columns.AwareUtc(), nullable=True),
    )
    running = sa.text("ended_at IS NULL")
    op.create_index("ix_guards_of_app", "guards", ["app_id", "name"], unique=True, sqlite_where=running)
    op.create_table(
        "guard_watches",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("guard_id", sa.String(), sa.ForeignKey("guards.id"), nullable=False),
        sa.Column("release_id", sa.String(), sa.ForeignKey("releases.id"), nullable=False),
        sa.Column("leg_id", sa.String(), sa.ForeignKey("legs.id"), nullable=True),
        sa.Column("verdict", sa.String(32), nullable=True),
        sa.Column("verdict_since", columns.AwareUtc(), nullable=False),
        sa.Column("judged_at", columns.AwareUtc(), nullable=True),
        sa.Column("counts_since", columns.AwareUtc(), nullable=True),
        sa.Column("blind", sa.String(), nullable=False),
        sa.Column("said", sa.String(), nullable=False),
        sa.Column("found", sa.JSON(), nullable=False),
        sa.Column("breached_at", columns.AwareUtc(), nullable=True),
        sa.Column("acted", sa.String(), nullable=False),
        sa.Column("breach", columns.SharedJson(), nullable=True),
        sa.Column("silent_until", columns.AwareUtc(), nullable=True),
        sa.Column("silent_reason", sa.String(), nullable=False),
        sa.Column("silent_by", sa.String(), nullable=False),
    )
    op.create_index("ix_guard_watches_of", "guard_watches", ["guard_id", "release_id", "leg_id"], unique=True)
    op.create_index("ix_guard_watches_release_id", "guard_watches", ["release_id"])
    op.add_column("berths", sa.Column("gauges_cursor", sa.String(), nullable=False, server_default=""))
    op.add_column("berths", sa.Column("gauges_due", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("berths", sa.Column("clock_ahead_seconds", sa.Double(), nullable=False, server_default="0"))
    op.add_column("berths", sa.Column("gauges_trouble", sa.String(), nullable=False, server_default=""))


def downgrade() -> None:
    _forget_the_new_kind()
    for column in ("gauges_trouble", "clock_ahead_seconds", "gauges_due", "gauges_cursor"):
        op.drop_column("berths", column)
    for table in ("guard_watches", "guards", "gauge_days", "gauge_counts", "gauge_hours"):
        op.drop_table(table)
