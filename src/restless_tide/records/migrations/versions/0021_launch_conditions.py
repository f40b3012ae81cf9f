"""launches wait for conditions in any combination; go-aheads are given by people, each for one leg"""

import json
import uuid
from datetime import UTC, datetime

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

_BEFORE = ("needs_go_ahead", "not_before", "with_other_legs", "go_ahead_at")
_READ = "SELECT id, needs_go_ahead, not_before, with_other_legs, go_ahead_at FROM legs"


def upgrade() -> None:
    op.create_table(
        "go_aheads",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("leg_id", sa.String(), sa.ForeignKey("legs.id"), nullable=False, index=True),
        sa.Column("person", sa.String(), nullable=False),
        sa.Column("given_at", columns.AwareUtc(), nullable=False),
        sa.Column("reason", sa.String(), nullable=False),
        sa.Column("withdrawn_at", columns.AwareUtc(), nullable=True),
    )
    op.add_column("legs", sa.Column("conditions", sa.JSON(), nullable=False, server_default="[]"))
    op.add_column("legs", sa.Column("looks_at", columns.AwareUtc(), nullable=True))
    op.create_index("ix_legs_looks_at", "legs", ["looks_at"])
    op.create_index("ix_legs_build_id", "legs", ["build_id"])
    connection = op.get_bind()
    for leg_id, go_ahead, not_before, others, given_at in connection.execute(sa.text(_READ)).all():
        conditions: list[dict[str, object]] = [{"kind": "go-ahead", "count": 1, "people": []}] if go_ahead else []
        if not_before:
            at = datetime.fromisoformat(not_before)
            instant = (at if at.tzinfo else at.replace(tzinfo=UTC)).isoformat()
            conditions.append({"kind": "after", "instant": instant, "zone": "UTC"})
        if others:
            conditions.append({"kind": "approved", "places": []})
        if conditions:
            kept = {"at": json.dumps(conditions), "leg": leg_id}
            connection.execute(sa.text("UPDATE legs SET conditions = :at WHERE id = :leg"), kept)
        if given_at:
            values = {"id": f"ga-{uuid.uuid4().hex[:8]}", "leg": leg_id, "at": given_at}
            connection.execute(
                sa.text(
                    "INSERT INTO go_aheads VALUES (:id, :leg, 'operator', :at, 'given before people were noted', NULL)"
                ),
                values,
            )
    op.execute("UPDATE legs SET looks_at = not_before WHERE not_before IS NOT NULL AND state = 'waiting'")
    for column in _BEFORE:
        op.drop_column("legs", column)


def downgrade() -> None:
    op.add_column("legs", sa.Column("needs_go_ahead", sa.Boolean(), nullable=False, server_default="0"))
    op.add_column("legs", sa.Column("not_before", columns.AwareUtc(), nullable=True))
    op.add_column("legs", sa.Column("with_other_legs", sa.Boolean(), nullable=False, server_default="0"))
    op.add_column("legs", sa.Column("go_ahead_at", columns.AwareUtc(), nullable=True))
    for index in ("ix_legs_looks_at", "ix_legs_build_id"):
        op.drop_index(index, "legs")
    for column in ("conditions", "looks_at"):
        op.drop_column("legs", column)
    op.drop_table("go_aheads")
