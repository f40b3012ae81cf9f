"""apps and cohorts are retired, and stores disconnected"""

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None

_COLUMNS = (("apps", "retired_at"), ("cohorts", "retired_at"), ("stores", "disconnected_at"))


def upgrade() -> None:
    for table, column in _COLUMNS:
        op.add_column(table, sa.Column(column, columns.AwareUtc(), nullable=True))


def downgrade() -> None:
    for table, column in _COLUMNS:
        op.drop_column(table, column)
