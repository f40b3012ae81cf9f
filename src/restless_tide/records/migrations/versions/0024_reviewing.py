"""what goes to review together, what was looked at before, what reviewers are told and write"""

from typing import Any

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns
from restless_tide.records.migrations import kept_rulebooks

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None

_KNOWN_ITEMS = ("build", "notes", "texts", "pictures", "answers", "goods")
_KNOWN_BEFORE = _KNOWN_ITEMS[:4]
_NEW_NOTICE = "reviewer wrote"
_NEW_RULES = ("must_go", "refused_item", "appeals")
_ROUND_COLUMNS = ("items", "look", "sealed_sign_in", "files", "appeals")


def _with_known_items(rulebook: dict[str, Any]) -> None:
    """What goes together was any words before; now it is of kinds that are known, the build and the notes among them."""
    review = rulebook.get("review", {})
    if "go_together" in review:
        named = {*_KNOWN_ITEMS[:2], *review["go_together"]}
        review["go_together"] = [item for item in _KNOWN_ITEMS if item in named]


def _without_new_rules(rulebook: dict[str, Any]) -> None:
    review = rulebook.get("review", {})
    for rule in _NEW_RULES:
        review.pop(rule, None)
    if "go_together" in review:
        review["go_together"] = [item for item in review["go_together"] if item in _KNOWN_BEFORE]


def upgrade() -> None:
    kept_rulebooks.change(_with_known_items)
    op.add_column("rounds", sa.Column("items", sa.JSON(), nullable=False, server_default="[]"))
    op.add_column("rounds", sa.Column("look", sa.String(), nullable=True))
    op.add_column("rounds", sa.Column("sealed_sign_in", sa.LargeBinary(), nullable=True))
    op.add_column("rounds", sa.Column("files", sa.JSON(), nullable=False, server_default="[]"))
    op.add_column("rounds", sa.Column("appeals", sa.Integer(), nullable=False, server_default="0"))
    op.add_column("matters", sa.Column("item", sa.String(), nullable=True))
    op.add_column("berths", sa.Column("approved_look", sa.String(), nullable=True))
    op.create_table(
        "looks",
        sa.Column("digest", sa.String(), primary_key=True),
        sa.Column("content", sa.LargeBinary(), nullable=False),
    )
    op.create_table(
        "reviewer_briefs",
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), primary_key=True),
        sa.Column("note", sa.String(), nullable=False),
        sa.Column("sign_in", sa.String(), nullable=False),
        sa.Column("sealed_sign_in", sa.LargeBinary(), nullable=True),
        sa.Column("sealed_digest", sa.String(), nullable=False),
        sa.Column("files", sa.JSON(), nullable=False),
        sa.Column("changed_at", columns.AwareUtc(), nullable=False),
        sa.Column("changed_by", sa.String(), nullable=False),
    )
    op.create_table(
        "review_messages",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("round_id", sa.String(), sa.ForeignKey("rounds.id"), nullable=False),
        sa.Column("kind", sa.String(length=32), nullable=False),
        sa.Column("person", sa.String(), nullable=False),
        sa.Column("words", sa.String(), nullable=False),
        sa.Column("files", sa.JSON(), nullable=False),
        sa.Column("files_due", sa.Boolean(), nullable=False),
        sa.Column("at", columns.AwareUtc(), nullable=False),
        sa.Column("reference", sa.String(), nullable=True),
        sa.Column("order_id", sa.String(), sa.ForeignKey("orders.id"), nullable=True),
        sa.UniqueConstraint("round_id", "reference"),
    )
    op.create_index("ix_review_messages_round_id", "review_messages", ["round_id"])
    op.create_index("ix_review_messages_files_due", "review_messages", ["files_due"])


def downgrade() -> None:
    kept_rulebooks.change(_without_new_rules)
    op.drop_table("review_messages")
    op.execute(f"DELETE FROM deliveries WHERE notice_id IN (SELECT id FROM notices WHERE kind = '{_NEW_NOTICE}')")  # noqa: S608
    op.execute(f"DELETE FROM notices WHERE kind = '{_NEW_NOTICE}'")  # noqa: S608
    unknown = "SELECT id FROM orders WHERE kind IN ('write to the reviewer', 'appeal')"
    op.execute(f"DELETE FROM steps WHERE order_id IN ({unknown})")  # noqa: S608  (our own words)
    op.execute(f"DELETE FROM orders WHERE id IN ({unknown})")  # noqa: S608
    op.drop_table("reviewer_briefs")
    op.drop_table("looks")
    op.drop_column("berths", "approved_look")
    op.drop_column("matters", "item")
    for column in _ROUND_COLUMNS:
        op.drop_column("rounds", column)
