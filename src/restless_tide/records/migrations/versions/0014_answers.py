"""what is answered about an app for its stores, and what each store holds of it"""

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


_COMMON = sa.text("berth_id IS NULL")


def upgrade() -> None:
    op.create_table(
        "app_answers",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("app_id", sa.String(), sa.ForeignKey("apps.id"), nullable=False),
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), nullable=True),
        sa.Column("question", sa.String(), nullable=False),
        sa.Column("answer", sa.JSON(none_as_null=True), nullable=True),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("changed_at", columns.AwareUtc(), nullable=False),
        sa.Column("changed_by", sa.String(), nullable=False),
    )
    op.drop_index("app_texts_once", "app_texts")
    for table, columns_of_one in (("app_texts", ["locale", "field"]), ("app_answers", ["question"])):
        op.create_index(f"{table}_common_once", table, ["app_id", *columns_of_one], unique=True, sqlite_where=_COMMON)
        op.create_index(f"{table}_own_once", table, ["app_id", "berth_id", *columns_of_one], unique=True)
    op.create_table(
        "held_answers",
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), primary_key=True),
        sa.Column("question", sa.String(), primary_key=True),
        sa.Column("answer", sa.JSON(none_as_null=True), nullable=True),
        sa.Column("seen_at", columns.AwareUtc(), nullable=True),
        sa.Column("sequence", sa.Integer(), nullable=False),
        sa.Column("kept", sa.Boolean(), nullable=False),
    )
    op.create_index("ix_held_answers_kept", "held_answers", ["kept"])
    op.add_column("berths", sa.Column("answers_seen_at", columns.AwareUtc(), nullable=True))


def downgrade() -> None:
    op.drop_index("app_texts_own_once", "app_texts")
    op.drop_index("app_texts_common_once", "app_texts")
    op.create_index("app_texts_once", "app_texts", ["app_id", "berth_id", "locale", "field"])
    op.drop_column("berths", "answers_seen_at")
    op.drop_table("held_answers")
    op.drop_table("app_answers")
