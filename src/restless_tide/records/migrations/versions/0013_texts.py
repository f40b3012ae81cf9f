"""what is written about an app for its stores, and what each store holds of it"""

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "app_texts",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("app_id", sa.String(), sa.ForeignKey("apps.id"), nullable=False),
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), nullable=True),
        sa.Column("locale", sa.String(), nullable=False),
        sa.Column("field", sa.String(), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("changed_at", columns.AwareUtc(), nullable=False),
        sa.Column("changed_by", sa.String(), nullable=False),
    )
    op.create_index("app_texts_once", "app_texts", ["app_id", "berth_id", "locale", "field"])
    op.create_table(
        "held_texts",
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), primary_key=True),
        sa.Column("locale", sa.String(), primary_key=True),
        sa.Column("field", sa.String(), primary_key=True),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("seen_at", columns.AwareUtc(), nullable=True),
        sa.Column("sequence", sa.Integer(), nullable=False),
        sa.Column("kept", sa.Boolean(), nullable=False),
    )
    op.create_index("ix_held_texts_kept", "held_texts", ["kept"])
    op.add_column("berths", sa.Column("texts_seen_at", columns.AwareUtc(), nullable=True))


def downgrade() -> None:
    op.drop_column("berths", "texts_seen_at")
    op.drop_table("held_texts")
    op.drop_table("app_texts")
