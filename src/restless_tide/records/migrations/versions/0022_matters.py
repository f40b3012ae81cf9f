"""refusals become matters; what they teach is checked before every hand-in; rounds carry a note for the reviewer"""

import json
import uuid

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("rounds", sa.Column("for_reviewer", sa.String(), nullable=False, server_default=""))
    op.add_column("rounds", sa.Column("in_spite_of", sa.String(), nullable=False, server_default=""))
    op.create_table(
        "matters",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("leg_id", sa.String(), sa.ForeignKey("legs.id"), nullable=False, index=True),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("words", sa.String(), nullable=False),
        sa.Column("thing", sa.String(), nullable=True),
        sa.Column("state", sa.String(32), nullable=False, index=True),
        sa.Column("first_round", sa.Integer(), nullable=False),
        sa.Column("last_round", sa.Integer(), nullable=False),
        sa.Column("said", sa.String(), nullable=False),
        sa.Column("taken_by", sa.String(), nullable=True),
        sa.Column("ticket", sa.String(), nullable=False),
        sa.Column("due_on", sa.String(), nullable=True),
        sa.Column("created_at", columns.AwareUtc(), nullable=False),
        sa.Column("changed_at", columns.AwareUtc(), nullable=False),
        sa.UniqueConstraint("leg_id", "number"),
    )
    op.create_table(
        "checks",
        sa.Column("id", sa.String(), primary_key=True),
        sa.Column("app_id", sa.String(), sa.ForeignKey("apps.id"), nullable=False, index=True),
        sa.Column("kind", sa.String(32), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        sa.Column("matter_id", sa.String(), sa.ForeignKey("matters.id"), nullable=True),
        sa.Column("created_at", columns.AwareUtc(), nullable=False),
        sa.Column("created_by", sa.String(), nullable=False),
        sa.Column("ended_at", columns.AwareUtc(), nullable=True),
    )
    op.create_table(
        "check_ticks",
        sa.Column("check_id", sa.String(), sa.ForeignKey("checks.id"), primary_key=True),
        sa.Column("release_id", sa.String(), sa.ForeignKey("releases.id"), primary_key=True),
        sa.Column("person", sa.String(), nullable=False),
        sa.Column("at", columns.AwareUtc(), nullable=False),
    )
    _from_last_rounds()


def _from_last_rounds() -> None:
    """What stores have refused, and nothing was handed in for since, becomes matters."""
    connection, last = op.get_bind(), {}
    rows = "SELECT leg_id, number, state, reasons, changed_at FROM rounds ORDER BY leg_id, number"
    for leg_id, number, state, reasons, at in connection.execute(sa.text(rows)).all():
        last[leg_id] = (number, state, reasons, at)
    added = sa.text(
        "INSERT INTO matters (id, leg_id, number, words, state, first_round, last_round, said, ticket, created_at, changed_at)"
        " VALUES (:id, :leg, :number, :words, 'open', :round, :round, '', '', :at, :at)"
    )
    for leg_id, (round_, state, reasons, at) in last.items():
        for number, words in enumerate(json.loads(reasons or "[]") if state == "rejected" else [], 1):
            values = {"id": f"m-{uuid.uuid4().hex[:8]}", "leg": leg_id, "number": number, "words": words}
            connection.execute(added, values | {"round": round_, "at": at})


def downgrade() -> None:
    for table in ("check_ticks", "checks", "matters"):
        op.drop_table(table)
    op.drop_column("rounds", "for_reviewer")
    op.drop_column("rounds", "in_spite_of")
