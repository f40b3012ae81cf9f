"""numbers of several parts: kept as they were written, with a text beside them that sorts"""

import sqlalchemy as sa
from alembic import op

from restless_tide.core.numbers import BuildNumber

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

_NAMED = {"uq": "uq_%(table_name)s_%(column_0_name)s"}
_RESERVED_ONCE = "uq_reservations_app_id"
_TABLES = ("builds", "reservations")


def upgrade() -> None:
    _drop_indexes()
    for table in _TABLES:
        with op.batch_alter_table(table) as changed:
            changed.alter_column("number", type_=sa.String(), existing_nullable=False)
            changed.add_column(sa.Column("number_order", sa.String(), nullable=False, server_default=""))
        records = op.get_bind()
        for row, number in records.execute(sa.text(f"SELECT id, number FROM {table}")).all():  # noqa: S608
            told = {"row": row, "order": BuildNumber(number).order}
            records.execute(sa.text(f"UPDATE {table} SET number_order = :order WHERE id = :row"), told)  # noqa: S608
    _reserve_once_by("number_order")
    _create_indexes("number_order")


def downgrade() -> None:
    """A number with dots becomes its first part."""
    _drop_indexes()
    _reserve_once_by("number")
    for table in _TABLES:
        with op.batch_alter_table(table) as changed:
            changed.drop_column("number_order")
            changed.alter_column("number", type_=sa.Integer(), existing_nullable=False)
    _create_indexes("number")


def _reserve_once_by(column: str) -> None:
    with op.batch_alter_table("reservations", naming_convention=_NAMED) as changed:
        changed.drop_constraint(_RESERVED_ONCE, type_="unique")
        changed.create_unique_constraint(_RESERVED_ONCE, ["app_id", "version", column])


def _create_indexes(column: str) -> None:
    op.create_index("builds_by_version", "builds", ["app_id", "version_order", column, "id"])
    op.create_index("builds_by_number", "builds", ["app_id", column, "version_order", "id"])
    op.create_index("builds_same", "builds", ["app_id", "platform", "version", column])


def _drop_indexes() -> None:
    for name in ("builds_by_version", "builds_by_number", "builds_same"):
        op.drop_index(name, "builds")
