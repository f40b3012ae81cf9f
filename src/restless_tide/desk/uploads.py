"""Package files on their way to the desk: begun, gone on with after any cut, kept when whole."""

from __future__ import annotations

import re
import shutil
from collections.abc import Sequence
from datetime import timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Invalid, NotFound, TooLarge
from restless_tide.core.packages import Facts
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.tables import Package, Upload

LIFE = timedelta(hours=48)
UNFINISHED_LIMIT = 50
MOST_OF_FREE_DISK = 0.8
"""Of the disk that is free, where the operator set no quota; so the records always have room."""
_SHA256 = re.compile(r"[0-9a-f]{64}")


def begin(act: Act, desk: Desk, sha256: str, size_bytes: int, filename: str) -> Upload:
    """Begin an upload, or find the unfinished one of the same bytes by the same person. Without a digest it is made of what
    has come, and nothing is found again.

    Raises Invalid for what is no digest, TooLarge when the file or all files together are too large.
    """
    if sha256 and not _SHA256.fullmatch(sha256):
        raise Invalid(
            f"{sha256!r} is no SHA-256 digest.",
            remedy="Write 64 hexadecimal digits, small letters, as the metadata 'sha256'.",
            code="digest-unfit",
        )
    known = unfinished(act.session, act.person, sha256) if sha256 else []
    if known and known[0].size_bytes == size_bytes:
        return known[0]
    if len(unfinished(act.session, act.person)) >= UNFINISHED_LIMIT:
        raise TooLarge(f"You have {UNFINISHED_LIMIT} unfinished uploads; finish or drop some.", code="too-many-uploads")
    if size_bytes > desk.settings.largest_package_bytes:
        raise TooLarge(
            f"The package has {size_bytes} bytes; this desk takes {desk.settings.largest_package_bytes}.",
            remedy="Make it smaller, or have the operator raise TIDE_LARGEST_PACKAGE.",
        )
    _demand_room(act.session, desk, size_bytes)
    upload = Upload(
        person_id=act.person,
        sha256=sha256,
        size_bytes=size_bytes,
        filename=filename[:200],
        created_at=act.now,
        expires_at=act.now + LIFE,
    )
    act.session.add(upload)
    act.session.flush()
    return upload


def unfinished(session: Session, person: str, sha256: str | None = None) -> Sequence[Upload]:
    """A person's uploads that are still on their way."""
    found = select(Upload).where(Upload.person_id == person, Upload.finished_at.is_(None)).order_by(Upload.created_at)
    return session.scalars(found if sha256 is None else found.where(Upload.sha256 == sha256)).all()


def one(session: Session, person: str, upload_id: str) -> Upload:
    """Raises NotFound, also for someone else's."""
    found = session.get(Upload, upload_id)
    if found is None or found.person_id != person:
        raise NotFound("There is no such upload; it may be finished, or it expired.", code="upload-unknown")
    return found


def finish(desk: Desk, person: str, upload: Upload) -> Facts:
    """Keep a package that has wholly arrived. Raises Invalid or PackageUnreadable; then the bytes are dropped.

    The upload is remembered until it would have expired, so that a client whose last answer was lost learns that it is done.
    """
    try:
        sha256 = upload.sha256 or desk.files.digest(upload.id)
        facts = desk.reader.read(desk.files.whole(upload.id, sha256), sha256)
    except Invalid:
        drop(desk, person, upload)
        raise
    desk.files.settle(upload.id)
    with desk.act(person) as act:  # one at a time with clearing, so that file and record never part
        desk.files.keep(upload.id, sha256)
        keep_package(act, facts)
        row = act.session.get(Upload, upload.id)
        if row is not None:
            row.finished_at, row.sha256 = act.now, sha256
            upload.finished_at, upload.sha256 = act.now, sha256
    return facts


def keep_package(act: Act, facts: Facts) -> Package:
    """Remember a package whose file has been kept; the same file twice is one package."""
    package = act.session.get(Package, facts.sha256)
    if package is None:
        package = Package(sha256=facts.sha256, size_bytes=facts.size_bytes, facts={}, received_at=act.now)
        act.session.add(package)
    package.facts, package.cleared_at = facts.document(), None
    act.session.flush()
    act.tell("package arrived", f"package {facts.sha256[:12]}")
    return package


def drop(desk: Desk, person: str, upload: Upload) -> None:
    """Give an upload up."""
    desk.files.drop(upload.id)
    with desk.act(person) as act:
        _forget(act, upload.id)


def drop_expired(desk: Desk, person: str) -> int:
    """Drop uploads that nobody finished in time, and arriving files that no upload knows; returns how many."""
    arriving = desk.files.arriving()  # before the records: an upload that begins meanwhile is not taken for left over
    with desk.look() as session:
        expired = session.scalars(select(Upload).where(Upload.expires_at <= desk.clock.now())).all()
        left = arriving - set(session.scalars(select(Upload.id)))
    for upload in expired:
        drop(desk, person, upload)
    for name in left:
        desk.files.drop(name)
    return len(expired) + len(left)


def _forget(act: Act, upload_id: str) -> None:
    found = act.session.get(Upload, upload_id)
    if found is not None:
        act.session.delete(found)


def _demand_room(session: Session, desk: Desk, size_bytes: int) -> None:
    coming = session.scalar(select(func.sum(Upload.size_bytes)).where(Upload.finished_at.is_(None))) or 0
    quota = desk.settings.packages_quota_bytes
    if quota is None:
        free = shutil.disk_usage(desk.settings.data).free
        if coming + size_bytes > free * MOST_OF_FREE_DISK:
            raise TooLarge(
                f"The desk's disk has {free} bytes left, and {coming} are on their way already.",
                remedy="Clear what no one needs: tide build clear --app APP --dry-run; or have the operator make room.",
                code="disk-full",
            )
        return
    kept = session.scalar(select(func.sum(Package.size_bytes)).where(Package.cleared_at.is_(None))) or 0
    if kept + coming + size_bytes > quota:
        raise TooLarge(
            f"The desk keeps {kept} bytes of packages, {coming} are on their way; {quota} are the most it may keep.",
            remedy="Clear what no one needs: tide build clear --app APP --dry-run shows what that would be.",
            code="quota-reached",
        )
