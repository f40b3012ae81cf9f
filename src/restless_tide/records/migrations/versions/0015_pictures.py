"""the pictures and films of an app, what was made of them, and what each store holds"""

from typing import Any

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns
from restless_tide.records.migrations import kept_rulebooks

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


_COMMON = sa.text("berth_id IS NULL")
_ORIGINAL = "picture_files.sha256"


_ONE_RULE = {"formats": ["png"], "smallest_pixels": 400, "derived_from_one": False}
"""Until now a rulebook had one rule for all pictures, and nothing was made of it."""


def _without_one_rule(rulebook: dict[str, Any]) -> None:
    """A gateway serves the classes with its next revision; until then the desk cannot see pictures there, as before."""
    rulebook.get("listing", {}).pop("pictures", None)


def _with_one_rule(rulebook: dict[str, Any]) -> None:
    rulebook.setdefault("listing", {})["pictures"] = dict(_ONE_RULE)
    for thing in rulebook.get("things", {}).values():
        thing.pop("pictures", None)


def upgrade() -> None:
    kept_rulebooks.change(_without_one_rule)
    op.create_table(
        "picture_files",
        sa.Column("sha256", sa.String(), primary_key=True),
        sa.Column("format", sa.String(), nullable=False),
        sa.Column("width", sa.Integer(), nullable=False),
        sa.Column("height", sa.Integer(), nullable=False),
        sa.Column("size_bytes", sa.Integer(), nullable=False),
        sa.Column("transparent", sa.Boolean(), nullable=False),
        sa.Column("plain", sa.Boolean(), nullable=False),
        sa.Column("seconds", sa.Double(), nullable=True),
        sa.Column("codec", sa.String(), nullable=True),
        sa.Column("kept_at", columns.AwareUtc(), nullable=False),
    )
    op.create_table(
        "made_pictures",
        sa.Column("recipe", sa.String(), primary_key=True),
        sa.Column("original", sa.String(), sa.ForeignKey(_ORIGINAL, ondelete="CASCADE"), nullable=False),
        sa.Column("sha256", sa.String(), nullable=False),
        sa.Column("format", sa.String(), nullable=False),
        sa.Column("width", sa.Integer(), nullable=False),
        sa.Column("height", sa.Integer(), nullable=False),
        sa.Column("size_bytes", sa.Integer(), nullable=False),
    )
    op.create_index("ix_made_pictures_original", "made_pictures", ["original"])
    op.create_index("ix_made_pictures_sha256", "made_pictures", ["sha256"])
    op.create_table(
        "icon_likenesses",
        sa.Column("original", sa.String(), sa.ForeignKey(_ORIGINAL, ondelete="CASCADE"), primary_key=True),
        sa.Column("package", sa.String(), primary_key=True),
        sa.Column("apart", sa.Double(), nullable=True),
    )
    op.create_table(
        "app_picture_sets",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("app_id", sa.String(), sa.ForeignKey("apps.id"), nullable=False),
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), nullable=True),
        sa.Column("locale", sa.String(), nullable=False),
        sa.Column("picture_class", sa.String(), nullable=False),
        sa.Column("pictures", sa.JSON(), nullable=False),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("changed_at", columns.AwareUtc(), nullable=False),
        sa.Column("changed_by", sa.String(), nullable=False),
    )
    place = ["locale", "picture_class"]
    op.create_index(
        "app_picture_sets_common_once", "app_picture_sets", ["app_id", *place], unique=True, sqlite_where=_COMMON
    )
    op.create_index("app_picture_sets_own_once", "app_picture_sets", ["app_id", "berth_id", *place], unique=True)
    op.create_table(
        "held_pictures",
        sa.Column("berth_id", sa.String(), sa.ForeignKey("berths.id"), primary_key=True),
        sa.Column("locale", sa.String(), primary_key=True),
        sa.Column("picture_class", sa.String(), primary_key=True),
        sa.Column("files", sa.JSON(), nullable=False),
        sa.Column("seen_at", columns.AwareUtc(), nullable=True),
        sa.Column("sequence", sa.Integer(), nullable=False),
        sa.Column("kept", sa.Boolean(), nullable=False),
    )
    op.create_index("ix_held_pictures_kept", "held_pictures", ["kept"])
    op.add_column("berths", sa.Column("pictures_seen_at", columns.AwareUtc(), nullable=True))


def downgrade() -> None:
    kept_rulebooks.change(_with_one_rule)
    op.drop_column("berths", "pictures_seen_at")
    for table in ("held_pictures", "app_picture_sets", "icon_likenesses", "made_pictures", "picture_files"):
        op.drop_table(table)
