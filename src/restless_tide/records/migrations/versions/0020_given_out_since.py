"""since when a rollout has been given out without a stop between"""

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("legs", sa.Column("given_out_since", columns.AwareUtc(), nullable=True))
    op.execute(
        "UPDATE legs SET given_out_since = coalesce(running_since, launched_at) WHERE state IN ('rising', 'complete')"
    )


def downgrade() -> None:
    op.drop_column("legs", "given_out_since")
