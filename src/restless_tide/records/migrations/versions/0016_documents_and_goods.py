"""the documents that answer questions, the goods sold inside an app, and what each store holds of them"""

from typing import Any

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns
from restless_tide.records.migrations import kept_rulebooks

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


_NEW_TOPICS, _NEW_FIELDS = {"selling", "rights-paper"}, {"licence"}
_NEW_KEYS = ("formats", "largest_bytes")


def _without_new_rules(rulebook: dict[str, Any]) -> None:
    """What the release before does not know: goods, documents, and what means one of the new topics and fields."""
    rulebook.pop("goods", None)
    things = rulebook.get("things", {})
    gone = {key for key, thing in things.items() if thing["kind"] == "goods"}
    questions = rulebook.get("questionnaire", {}).get("questions", {})
    for key in [key for key, one in questions.items() if one["form"] == "file" or (one["means"] or key) in _NEW_TOPICS]:
        del questions[key]
    for one in questions.values():
        for new in _NEW_KEYS:
            one.pop(new, None)
    fields = rulebook.get("listing", {}).get("fields", {})
    for key in [key for key, one in fields.items() if (one["means"] or key) in _NEW_FIELDS]:
        del fields[key]
    rulebook["things"] = {key: thing for key, thing in things.items() if key not in gone}
    for thing in rulebook["things"].values():
        thing["opens_after"] = [before for before in thing["opens_after"] if before not in gone]
        thing["questions"] = [key for key in thing.get("questions", ()) if key in questions]
        thing["fields"] = [key for key in thing.get("fields", ()) if key in fields]


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
    trouble = sa.Column("trouble", sa.String(), nullable=False, server_default="")
    op.add_column("made_pictures", trouble)
    op.create_index("ix_held_goods_kept", "held_goods", ["kept"])
    op.add_column("berths", sa.Column("goods_seen_at", columns.AwareUtc(), nullable=True))


def downgrade() -> None:
    kept_rulebooks.change(_without_new_rules)
    op.execute("DELETE FROM made_pictures WHERE trouble != ''")
    op.drop_column("made_pictures", "trouble")
    op.drop_column("berths", "goods_seen_at")
    for table in ("held_goods", "app_goods", "documents"):
        op.drop_table(table)
