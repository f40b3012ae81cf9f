"""refusals become matters; what they teach is checked before every hand-in; rounds carry a note for the reviewer"""

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("rounds", sa.Column("for_reviewer", sa.String(), nullable=False, server_default=""))
    op.add_column("rounds", sa.Column("in_spite_of", sa.String(), nullable=False, server_default=""))
    op.create_table(
        "matters",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("leg_id", sa.String(), sa.ForeignKey("legs.id"), nullable=False, index=True),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("words", sa.String(), nullable=False),
        sa.Column("thing", sa.String(), nullable=True),
        sa.Column("state", sa.String(32), nullable=False, index=True),
        sa.Column("first_round", sa.Integer(), nullable=False),
        sa.Column("last_round", sa.Integer(), nullable=False),
        sa.Column("said", sa.String(), nullable=False),
        sa.Column("taken_by", sa.String(), nullable=True),
        sa.Column("ticket", sa.String(), nullable=False),
        sa.Column("due_on", sa.String(), nullable=True),
        sa.Column("created_at", columns.AwareUtc(), nullable=False),
        sa.Column("changed_at", columns.AwareUtc(), nullable=False),
        sa.UniqueConstraint("leg_id", "number"),
    )
    op.create_table(
        "checks",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("app_id", sa.String(), sa.ForeignKey("apps.id"), nullable=False, index=True),
        sa.Column("kind", sa.String(32), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("matter_id", sa.String(), sa.ForeignKey("matters.id"), nullable=True),
        sa.Column("created_at", columns.AwareUtc(), nullable=False),
        sa.Column("created_by", sa.String(), nullable=False),
        sa.Column("ended_at", columns.AwareUtc(), nullable=True),
    )
    op.create_table(
        "check_ticks",
        sa.Column("check_id", sa.String(), sa.ForeignKey("checks.id"), primary_key=True),
        sa.Column("release_id", sa.String(), sa.ForeignKey("releases.id"), primary_key=True),
        sa.Column("person", sa.String(), nullable=False),
        sa.Column("at", columns.AwareUtc(), nullable=False),
    )


def downgrade() -> None:
    for table in ("check_ticks", "checks", "matters"):
        op.drop_table(table)
    op.drop_column("rounds", "for_reviewer")
    op.drop_column("rounds", "in_spite_of")
