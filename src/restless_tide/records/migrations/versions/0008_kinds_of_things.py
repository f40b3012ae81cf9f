"""every thing of a kept rulebook tells its kind; until now the desk knew some by their names"""

import json

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None

_KINDS = {
    "papers": "papers", "name": "berth", "berth": "berth", "build": "build", "texts": "text", "picture": "picture",
    "pictures": "picture", "guest-trial": "trial", "review": "review", "launch": "launch",
}  # fmt: skip
_PARTS = {"free-or-paid": "free or paid", "price": "price", "countries": "countries", "who": "who"}
_KEPT = (("stores", "id", "rulebook"), ("stores", "id", "next_rulebook"))


def upgrade() -> None:
    _rewrite(_with_kind)


def downgrade() -> None:
    _rewrite(lambda key, thing: {name: value for name, value in thing.items() if name not in ("kind", "part")})


def _with_kind(key: str, thing: dict[str, object]) -> dict[str, object]:
    """What the desk did not know by its name was something to show and no more: a page."""
    if key in _PARTS:
        return {"kind": "offer", "part": _PARTS[key], **thing}
    return {"kind": _KINDS.get(key, "page"), "part": None, **thing}


def _rewrite(change) -> None:  # type: ignore[no-untyped-def]
    records = op.get_bind()
    for table, key, column in _KEPT:
        for row, text in records.execute(sa.text(f"SELECT {key}, {column} FROM {table}")).all():  # noqa: S608
            document = json.loads(text) if text else None
            if not document or not document.get("things"):
                continue
            document["things"] = {name: change(name, thing) for name, thing in document["things"].items()}
            told = {"text": json.dumps(document), "row": row}
            records.execute(sa.text(f"UPDATE {table} SET {column} = :text WHERE {key} = :row"), told)  # noqa: S608
