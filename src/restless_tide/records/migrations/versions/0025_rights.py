"""roles, sessions that can be listed, tokens that end with what made them, personal links, the second factor"""

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None

_EVERYTHING = '[{"role": "owner", "apps": null}]'
"""What everybody could do before there were roles."""


def upgrade() -> None:
    with op.batch_alter_table("people") as people:
        people.add_column(sa.Column("grants", sa.JSON(), nullable=False, server_default=_EVERYTHING))
        people.add_column(sa.Column("removed_at", columns.AwareUtc(), nullable=True))
        people.add_column(sa.Column("sealed_totp", sa.LargeBinary(), nullable=True))
        people.add_column(sa.Column("totp_since", columns.AwareUtc(), nullable=True))
        people.add_column(sa.Column("totp_step", sa.Integer(), nullable=False, server_default="0"))
        people.add_column(sa.Column("recovery", sa.JSON(), nullable=False, server_default="[]"))
    with op.batch_alter_table("people") as people:
        people.alter_column("grants", server_default=None)
    op.drop_table("sign_ins")  # everybody signs in once more
    op.create_table(
        "sign_ins",
        sa.Column("token_digest", sa.String(), primary_key=True),
        sa.Column("id", sa.String(), nullable=False),
        sa.Column("person_id", sa.String(), sa.ForeignKey("people.id"), nullable=False),
        sa.Column("created_at", columns.AwareUtc(), nullable=False),
        sa.Column("expires_at", columns.AwareUtc(), nullable=False),
        sa.Column("proven", sa.Boolean(), nullable=False, server_default="0"),
        sa.Column("agent", sa.String(), nullable=False, server_default=""),
        sa.Column("place", sa.String(), nullable=False, server_default=""),
        sa.Column("last_used_at", columns.AwareUtc(), nullable=True),
        sa.UniqueConstraint("id"),
    )
    op.create_index("ix_sign_ins_person_id", "sign_ins", ["person_id"])
    with op.batch_alter_table("tokens") as tokens:
        tokens.add_column(sa.Column("role", sa.String(length=32), nullable=True))
        tokens.add_column(sa.Column("parent_id", sa.String(), nullable=True))
        tokens.add_column(sa.Column("last_used_at", columns.AwareUtc(), nullable=True))
        tokens.create_foreign_key("tokens_parent", "tokens", ["parent_id"], ["id"])
        tokens.create_index("ix_tokens_parent_id", ["parent_id"])
    op.execute("UPDATE tokens SET role = 'build-server' WHERE apps <> '[]'")
    op.create_table(
        "personal_links",
        sa.Column("code_digest", sa.String(), primary_key=True),
        sa.Column("person_id", sa.String(), sa.ForeignKey("people.id"), nullable=False),
        sa.Column("kind", sa.String(length=32), nullable=False),
        sa.Column("created_at", columns.AwareUtc(), nullable=False),
        sa.Column("expires_at", columns.AwareUtc(), nullable=False),
        sa.Column("by", sa.String(), nullable=False, server_default=""),
        sa.Column("sealed_code", sa.LargeBinary(), nullable=True),
        sa.Column("attempts", sa.Integer(), nullable=False, server_default="0"),
        sa.Column("try_after", columns.AwareUtc(), nullable=True),
        sa.Column("trouble", sa.String(), nullable=True),
    )
    op.create_index("ix_personal_links_person_id", "personal_links", ["person_id"])
    op.create_index("ix_personal_links_try_after", "personal_links", ["try_after"])
    op.create_table(
        "access_rules",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("second_factor", sa.Boolean(), nullable=False, server_default="0"),
    )
    op.execute("INSERT INTO access_rules (id, second_factor) VALUES (1, 0)")

    op.create_table(
        "kept_answers",
        sa.Column("key", sa.String(), primary_key=True),
        sa.Column("request", sa.String(), nullable=False),
        sa.Column("at", columns.AwareUtc(), nullable=False),
        sa.Column("status", sa.Integer(), nullable=True),
        sa.Column("headers", sa.String(), nullable=False, server_default="[]"),
        sa.Column("sealed_body", sa.LargeBinary(), nullable=True),
    )
    op.add_column("apps", sa.Column("second_person", sa.Boolean(), nullable=False, server_default="0"))
    op.create_table(
        "proposals",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("app_id", sa.String(), sa.ForeignKey("apps.id"), nullable=False),
        sa.Column("kind", sa.String(length=32), nullable=False),
        sa.Column("version", sa.String(), nullable=False),
        sa.Column("said", sa.String(), nullable=False),
        sa.Column("sealed_body", sa.LargeBinary(), nullable=False),
        sa.Column("asked_by", sa.String(), nullable=False),
        sa.Column("asked_at", columns.AwareUtc(), nullable=False),
        sa.Column("until", columns.AwareUtc(), nullable=False),
        sa.Column("agreed_by", sa.String(), nullable=True),
        sa.Column("agreed_at", columns.AwareUtc(), nullable=True),
        sa.Column("dropped_at", columns.AwareUtc(), nullable=True),
    )
    op.create_index("ix_proposals_app_id", "proposals", ["app_id"])
    op.create_index("ix_kept_answers_at", "kept_answers", ["at"])
    op.add_column("uploads", sa.Column("finished_at", columns.AwareUtc(), nullable=True))


def downgrade() -> None:
    op.execute("DELETE FROM uploads WHERE finished_at IS NOT NULL OR sha256 = ''")
    op.drop_column("uploads", "finished_at")
    op.drop_table("kept_answers")
    op.drop_table("proposals")
    op.drop_column("apps", "second_person")
    op.drop_table("access_rules")
    op.drop_table("personal_links")
    with op.batch_alter_table("tokens") as tokens:
        tokens.drop_index("ix_tokens_parent_id")
        tokens.drop_constraint("tokens_parent", type_="foreignkey")
        tokens.drop_column("parent_id")
        tokens.drop_column("last_used_at")
        tokens.drop_column("role")
    op.drop_table("sign_ins")
    op.create_table(
        "sign_ins",
        sa.Column("token_digest", sa.String(), primary_key=True),
        sa.Column("person_id", sa.String(), sa.ForeignKey("people.id"), nullable=False),
        sa.Column("created_at", columns.AwareUtc(), nullable=False),
        sa.Column("expires_at", columns.AwareUtc(), nullable=False),
    )
    for column in ("grants", "removed_at", "sealed_totp", "totp_since", "totp_step", "recovery"):
        op.drop_column("people", column)
