"""plainer words of reports: fixed in a build, duplicate of another report"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

_STATES = {"mended in": "fixed in", "same as": "duplicate of"}
_COLUMNS = {"mended_in": "fixed_in", "same_as": "duplicate_of"}


def upgrade() -> None:
    _rename(_STATES, _COLUMNS)


def downgrade() -> None:
    _rename({new: old for old, new in _STATES.items()}, {new: old for old, new in _COLUMNS.items()})


def _rename(states: dict[str, str], columns: dict[str, str]) -> None:
    for before, after in states.items():
        told = {"before": before, "after": after}
        op.get_bind().execute(sa.text("UPDATE field_reports SET state = :after WHERE state = :before"), told)
    for before, after in columns.items():
        op.execute(f"ALTER TABLE field_reports RENAME COLUMN {before} TO {after}")
