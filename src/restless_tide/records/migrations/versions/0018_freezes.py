"""freezes, and what two people have agreed in spite of them"""

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "freezes",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("begins", sa.DateTime(), nullable=False),
        sa.Column("ends", sa.DateTime(), nullable=False),
        sa.Column("zone", sa.String(), nullable=False),
        sa.Column("yearly", sa.Boolean(), nullable=False),
        sa.Column("apps", sa.JSON(), nullable=False),
        sa.Column("stores", sa.JSON(), nullable=False),
        sa.Column("reason", sa.String(), nullable=False),
        sa.Column("created_at", columns.AwareUtc(), nullable=False),
        sa.Column("ended_at", columns.AwareUtc(), nullable=True),
    )
    op.create_table(
        "freeze_overrides",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("release_id", sa.String(), sa.ForeignKey("releases.id"), nullable=False),
        sa.Column("asked_by", sa.String(), nullable=False),
        sa.Column("asked_at", columns.AwareUtc(), nullable=False),
        sa.Column("reason", sa.String(), nullable=False),
        sa.Column("until", columns.AwareUtc(), nullable=False),
        sa.Column("agreed_by", sa.String(), nullable=True),
        sa.Column("agreed_at", columns.AwareUtc(), nullable=True),
    )
    op.create_index("ix_freeze_overrides_release_id", "freeze_overrides", ["release_id"])


def downgrade() -> None:
    op.drop_table("freeze_overrides")
    op.drop_table("freezes")
