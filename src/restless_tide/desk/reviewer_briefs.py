"""What the reviewers of an app at a store are told: standing notes, a sign-in, attachments; and what one round gets of it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy.orm import Session

from restless_tide.core.correspondence import MOST_FILES
from restless_tide.core.documents import FileAnswer
from restless_tide.core.errors import Invalid
from restless_tide.core.look import ForReviewer
from restless_tide.desk import documents, find, matters, retiring, sign_ins
from restless_tide.desk.desk import Act
from restless_tide.desk.find import berth_subject
from restless_tide.records.tables import Berth, Leg, ReviewerBrief, Round


@dataclass(frozen=True)
class BriefChange:
    """What is wanted of a brief; None leaves a thing as it is. An empty note, sign-in or list of files takes it out.

    ``sign_in`` has ``name``, ``password`` and ``how``; ``files`` are digests of documents that the desk has.
    """

    note: str | None = None
    sign_in: Mapping[str, str] | None = None
    files: Sequence[str] | None = None


@dataclass(frozen=True)
class ForRound:
    """What one round is told instead of what stands: words instead of the drafted ones, another brief for it alone."""

    words: str | None = None
    brief: BriefChange = BriefChange()


def of_berth(session: Session, berth: Berth) -> ReviewerBrief | None:
    return session.get(ReviewerBrief, berth.id)


def change(act: Act, app_name: str, store_name: str, wanted: BriefChange) -> ReviewerBrief:
    """Change what the reviewers of an app are told at a store. Raises Invalid for too many files, NotFound for one not sent."""
    app = retiring.app_in_use(act.session, app_name)
    berth = find.berth(act.session, app, find.store(act.session, store_name))
    row = of_berth(act.session, berth)
    if row is None:
        row = ReviewerBrief(berth_id=berth.id, note="", sign_in="", sealed_digest="", files=[])
    if wanted.note is not None:
        row.note = wanted.note.strip()
    if wanted.sign_in is not None:
        told = sign_ins.told(wanted.sign_in)
        row.sign_in, row.sealed_digest = _name(told), _digest(told)
        row.sealed_sign_in = sign_ins.sealed(act.seal, told, berth.id) if told else None
    if wanted.files is not None:
        row.files = named(act.session, wanted.files)
    row.changed_at, row.changed_by = act.now, act.person
    act.session.add(row)
    after = {"note": row.note, "sign-in": bool(row.sign_in), "files": [one["name"] for one in row.files]}
    act.log("reviewer brief changed", berth_subject(berth), app=app.name, after=after)
    return row


def named(session: Session, digests: Sequence[str]) -> list[dict[str, Any]]:
    """Documents by their digests, as they are kept beside a brief or a message. Raises Invalid, NotFound."""
    chosen = list(dict.fromkeys(digests))
    if len(chosen) > MOST_FILES:
        raise Invalid(f"{MOST_FILES} files go along at most.", code="too-many-files")
    return [_plain(documents.by_digest(session, sha256)) for sha256 in chosen]


def _plain(found: FileAnswer) -> dict[str, Any]:
    return asdict(found) | {"format": str(found.format)}


def _name(told: Mapping[str, str]) -> str:
    return (told.get("name") or told.get("how") or "sign-in")[:200] if told else ""


def _digest(told: Mapping[str, str]) -> str:
    return hashlib.sha256(json.dumps(dict(told), sort_keys=True).encode()).hexdigest() if told else ""


# of one round


def for_leg(session: Session, leg: Leg) -> ForReviewer:
    """What the next round of a leg would tell the reviewer, as a look shows it."""
    brief, drafted = of_berth(session, leg.berth), matters.drafted_note(leg)
    if brief is None:
        return ForReviewer(drafted=drafted)
    files = tuple(f"{one['name']} ({one['sha256'][:8]})" for one in brief.files)
    return ForReviewer(brief.note, drafted, brief.sign_in, brief.sealed_digest, files)


def put_into(act: Act, round_: Round, drafted: str, wanted: ForRound) -> None:
    """Write into a new round what its reviewer is told: what stands, and what is said for this round alone.

    ``drafted`` is the note that was drafted from what was done since the round before.
    """
    brief = of_berth(act.session, round_.leg.berth)
    words = drafted if wanted.words is None else wanted.words
    standing = wanted.brief.note if wanted.brief.note is not None else (brief.note if brief is not None else "")
    round_.for_reviewer = "\n\n".join(part.strip() for part in (words, standing) if part.strip())
    if wanted.brief.files is not None:
        round_.files = named(act.session, wanted.brief.files)
    else:
        round_.files = list(brief.files) if brief is not None else []
    if wanted.brief.sign_in is not None:
        told: dict[str, str] | None = sign_ins.told(wanted.brief.sign_in)
    else:
        told = sign_ins.opened(act.seal, brief.sealed_sign_in, brief.berth_id) if brief is not None else None
    if told:
        round_.sealed_sign_in = sign_ins.sealed(act.seal, told, round_.id)
