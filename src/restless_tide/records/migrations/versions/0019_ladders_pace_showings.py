"""named ladders, the pace of a release, and what stores were seen to hold over time"""

import json
from typing import Any

import sqlalchemy as sa
from alembic import op

from restless_tide.records import columns
from restless_tide.records.migrations import kept_rulebooks

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "ladders",
        sa.Column("name", sa.String(), primary_key=True),
        sa.Column("stages", sa.JSON(), nullable=False),
        sa.Column("reason", sa.String(), nullable=False),
        sa.Column("changed_at", columns.AwareUtc(), nullable=False),
    )
    op.add_column("releases", sa.Column("pace", sa.JSON(), nullable=True))
    op.create_table(
        "showings",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("subject", sa.String(), nullable=False),
        sa.Column("at", columns.AwareUtc(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("share", sa.Double(), nullable=False),
    )
    op.create_index("ix_showings_of", "showings", ["subject", "at"])
    _fill()


def _fill() -> None:
    """What is known of the time before: the acts in the logbook, and what the stores were last seen to hold."""
    records = op.get_bind()
    legs = records.execute(
        sa.text(
            "SELECT l.id, a.name, r.version, s.name, l.track FROM legs l JOIN releases r ON r.id = l.release_id "
            "JOIN apps a ON a.id = r.app_id JOIN berths b ON b.id = l.berth_id JOIN stores s ON s.id = b.store_id "
            "WHERE l.launched_at IS NOT NULL"
        )
    ).all()
    by_subject = {}
    for leg_id, app, version, store, track in legs:
        place = store if track == "production" else f"{store}/{track}"
        by_subject[app, f"release {version} at {place}"] = leg_id
    lines = sa.text(
        "SELECT app, subject, at, json_extract(after, '$.state'), json_extract(after, '$.share') FROM logbook"
        " WHERE app IS NOT NULL AND json_extract(after, '$.share') IS NOT NULL AND json_extract(after, '$.state') IS NOT NULL"
        " ORDER BY id"
    )
    held = [
        {"subject": by_subject[app, subject], "at": at, "state": state, "share": share}
        for app, subject, at, state, share in records.execute(lines)
        if (app, subject) in by_subject
    ]
    if held:
        write = sa.text("INSERT INTO showings (subject, at, state, share) VALUES (:subject, :at, :state, :share)")
        records.execute(write, held)
    seen = "SELECT s.subject, s.seen_at, s.state, s.share FROM sightings s"
    records.execute(
        sa.text(
            f"INSERT INTO showings (subject, at, state, share) {seen} JOIN legs l ON l.id = s.subject "
            "WHERE l.launched_at IS NOT NULL"
        )
    )
    records.execute(
        sa.text(f"INSERT INTO showings (subject, at, state, share) {seen} JOIN berths b ON b.id = s.subject")
    )


def downgrade() -> None:
    kept_rulebooks.change(_without_steadiness)
    records = op.get_bind()
    for leg, text in records.execute(sa.text("SELECT id, ladder FROM legs")).all():
        ladder = json.loads(text)
        _without_steadiness(ladder)
        write = sa.text("UPDATE legs SET ladder = :ladder WHERE id = :leg")
        records.execute(write, {"ladder": json.dumps(ladder), "leg": leg})
    op.drop_table("showings")
    op.drop_column("releases", "pace")
    op.drop_table("ladders")


def _without_steadiness(document: Any) -> None:
    """The release before knows stages by the clock and by hand; a stage by steadiness waits for a person there."""
    if isinstance(document, dict):
        if "dwell_hours" in document and document.pop("steady_hours", None) is not None:
            document["dwell_hours"] = None
        if "dwell_hours" in document:
            document.pop("least_sessions", None)
    for part in document.values() if isinstance(document, dict) else document if isinstance(document, list) else ():
        _without_steadiness(part)
