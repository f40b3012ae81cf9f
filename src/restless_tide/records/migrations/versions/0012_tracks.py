"""legs and trials stand on tracks; teams open tracks of their own; builds move up by rules"""

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None

_NAMED = {"uq": "uq_%(table_name)s_%(column_0_name)s"}
_ONCE = "uq_legs_release_id"


def upgrade() -> None:
    with op.batch_alter_table("legs", naming_convention=_NAMED) as changed:
        changed.add_column(sa.Column("track", sa.String(), nullable=False, server_default="production"))
        changed.add_column(sa.Column("submits_itself", sa.Boolean(), nullable=False, server_default="0"))
        changed.add_column(sa.Column("ended_at", columns.AwareUtc(), nullable=True))
        changed.drop_constraint(_ONCE, type_="unique")
        changed.create_unique_constraint(_ONCE, ["release_id", "berth_id", "track"])
    op.add_column("attachments", sa.Column("track", sa.String(), nullable=True))
    op.add_column("trials", sa.Column("track", sa.String(), nullable=False, server_default=""))
    op.execute("UPDATE trials SET track = (SELECT kind FROM cohorts WHERE cohorts.id = trials.cohort_id)")
    op.create_table(
        "tracks",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), nullable=False),
        sa.Column("key", sa.String(), nullable=False),
        sa.Column("title", sa.String(), nullable=False),
        sa.Column("own", sa.Boolean(), nullable=False),
        sa.Column("state", sa.String(32), nullable=False),
        sa.Column("people", sa.Integer(), nullable=True),
        sa.Column("people_at", columns.AwareUtc(), nullable=True),
        sa.Column("created_at", columns.AwareUtc(), nullable=False),
        sa.Column("reason", sa.String(), nullable=True),
        sa.UniqueConstraint("berth_id", "key"),
    )
    op.create_table(
        "track_rules",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("app_id", sa.String(), sa.ForeignKey("apps.id"), nullable=False, index=True),
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), nullable=False),
        sa.Column("source", sa.String(), nullable=False),
        sa.Column("target", sa.String(), nullable=False),
        sa.Column("hours", sa.Double(), nullable=True),
        sa.Column("people", sa.Integer(), nullable=True),
        sa.Column("crash_free", sa.Double(), nullable=True),
        sa.Column("no_open", sa.JSON(), nullable=False),
        sa.Column("needs_go_ahead", sa.Boolean(), nullable=False),
        sa.Column("created_at", columns.AwareUtc(), nullable=False),
        sa.Column("ended_at", columns.AwareUtc(), nullable=True),
    )
    op.create_table(
        "rule_runs",
        sa.Column("rule_id", sa.String(), sa.ForeignKey("track_rules.id"), primary_key=True),
        sa.Column("build_id", sa.String(), sa.ForeignKey("builds.id"), primary_key=True),
        sa.Column("go_ahead_at", columns.AwareUtc(), nullable=True),
        sa.Column("moved_at", columns.AwareUtc(), nullable=True),
        sa.Column("trouble", sa.String(), nullable=True),
    )
    op.create_index("rule_runs_by_build", "rule_runs", ["build_id"])


def downgrade() -> None:
    """Legs on other tracks than production go, with their rounds: before there were tracks, they could not be."""
    others = "SELECT id FROM legs WHERE track <> 'production'"
    op.execute(f"DELETE FROM rounds WHERE leg_id IN ({others})")  # noqa: S608
    op.execute("DELETE FROM legs WHERE track <> 'production'")
    for table in ("rule_runs", "track_rules", "tracks"):
        op.drop_table(table)
    op.drop_column("trials", "track")
    op.drop_column("attachments", "track")
    with op.batch_alter_table("legs", naming_convention=_NAMED) as changed:
        changed.drop_constraint(_ONCE, type_="unique")
        changed.create_unique_constraint(_ONCE, ["release_id", "berth_id"])
        for column in ("ended_at", "submits_itself", "track"):
            changed.drop_column(column)
