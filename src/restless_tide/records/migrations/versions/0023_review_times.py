"""when a store began to look at a round and when it decided; when a wait is longer than usual"""

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for column in ("taken_up_at", "decided_at", "long_after"):
        op.add_column("rounds", sa.Column(column, columns.AwareUtc(), nullable=True))
    op.create_index("ix_rounds_decided_at", "rounds", ["decided_at"])
    op.create_index("ix_rounds_long_after", "rounds", ["long_after"])
    op.execute("UPDATE rounds SET decided_at = changed_at WHERE state IN ('approved', 'rejected')")
    op.execute("UPDATE rounds SET long_after = datetime(submitted_at, '+30 days') WHERE state IN ('queued', 'in hand')")


def downgrade() -> None:
    op.drop_index("ix_rounds_long_after", "rounds")
    op.drop_index("ix_rounds_decided_at", "rounds")
    for column in ("taken_up_at", "decided_at", "long_after"):
        op.drop_column("rounds", column)
