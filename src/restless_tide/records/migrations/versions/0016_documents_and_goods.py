"""the documents that answer questions, the goods sold inside an app, and what each store holds of them"""

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "documents",
        sa.Column("sha256", sa.String(), primary_key=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("format", sa.String(), nullable=False),
        sa.Column("size_bytes", sa.Integer(), nullable=False),
        sa.Column("kept_at", columns.AwareUtc(), nullable=False),
    )
    op.create_table(
        "app_goods",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("app_id", sa.String(), sa.ForeignKey("apps.id"), nullable=False),
        sa.Column("reference", sa.String(), nullable=False),
        sa.Column("good", sa.JSON(), nullable=True),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("changed_at", columns.AwareUtc(), nullable=False),
        sa.Column("changed_by", sa.String(), nullable=False),
        sa.UniqueConstraint("app_id", "reference"),
    )
    op.create_table(
        "held_goods",
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), primary_key=True),
        sa.Column("reference", sa.String(), primary_key=True),
        sa.Column("good", sa.JSON(), nullable=True),
        sa.Column("seen_at", columns.AwareUtc(), nullable=True),
        sa.Column("sequence", sa.Integer(), nullable=False),
        sa.Column("kept", sa.Boolean(), nullable=False),
    )
    op.create_index("ix_held_goods_kept", "held_goods", ["kept"])
    op.add_column("berths", sa.Column("goods_seen_at", columns.AwareUtc(), nullable=True))


def downgrade() -> None:
    op.drop_column("berths", "goods_seen_at")
    for table in ("held_goods", "app_goods", "documents"):
        op.drop_table(table)
