"""crashes are put together from one index, without reading the reports"""

from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

_NAME = "reports_alike"
_BEFORE = ("app_id", "fingerprint")
_AFTER = (*_BEFORE, "received_at", "id", "state", "symbolised", "device", "build_id", "tester_id")


def upgrade() -> None:
    op.drop_index(_NAME, "field_reports")
    op.create_index(_NAME, "field_reports", _AFTER)


def downgrade() -> None:
    op.drop_index(_NAME, "field_reports")
    op.create_index(_NAME, "field_reports", _BEFORE)
