"""The locker: certificate, key and profile files, sealed at rest; each fetch stands in the logbook."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Sequence
from datetime import datetime

from cryptography import x509
from cryptography.hazmat.primitives.serialization import pkcs12
from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Invalid, NotFound, PackageUnreadable, TooLarge
from restless_tide.core.packages.provisioning import read_profile
from restless_tide.desk import find
from restless_tide.desk.desk import Act, Desk
from restless_tide.records.tables import App, LockerFile

LARGEST_BYTES = 512 * 1024
KINDS = ("certificate", "key", "profile", "other")
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,79}")


def put(act: Act, desk: Desk, app_name: str, platform: str, kind: str, name: str, content: bytes) -> LockerFile:
    """Put a file into the locker, sealed; one of the same name is replaced and kept as such."""
    app = find.app(act.session, app_name)
    if not _NAME.fullmatch(name):
        raise Invalid(
            f"{name!r} cannot be a file's name in the locker.",
            remedy="Use up to 80 letters, digits, dots, hyphens and underscores.",
            code="name-unfit",
        )
    if kind not in KINDS:
        raise Invalid(f"{kind!r} is no kind of file here: {', '.join(KINDS)}.", code="kind-unknown")
    if not content:
        raise Invalid("The file is empty.", code="file-empty")
    if len(content) > LARGEST_BYTES:
        raise TooLarge(f"The file has {len(content)} bytes; the locker takes {LARGEST_BYTES}.")
    told, expires_at = _told(content, name)
    for older in files(act.session, app, name):
        older.replaced_at = act.now
    file = LockerFile(
        app_id=app.id,
        platform=platform,
        kind=kind,
        name=name,
        sealed=b"",
        sha256=hashlib.sha256(content).hexdigest(),
        size_bytes=len(content),
        told=told,
        expires_at=expires_at,
        stored_at=act.now,
        stored_by=act.person,
    )
    act.session.add(file)
    act.session.flush()
    file.sealed = desk.seal.close(content, f"locker {file.id}")
    act.log(
        "laid into the locker", f"locker {app.name} {name}", app=app.name, after={"kind": kind, "sha256": file.sha256}
    )
    return file


def fetch(act: Act, desk: Desk, app_name: str, name: str) -> tuple[LockerFile, bytes]:
    """The newest file of that name, opened; who fetched it stands in the logbook."""
    app = find.app(act.session, app_name)
    file = _newest(act.session, app, name)
    content = desk.seal.open(file.sealed, f"locker {file.id}")
    act.log("fetched from the locker", f"locker {app.name} {name}", app=app.name, after={"sha256": file.sha256})
    return file, content


def take_out(act: Act, app_name: str, name: str, reason: str) -> None:
    """Take a file out for good, with every older one of its name."""
    app = find.app(act.session, app_name)
    _newest(act.session, app, name)
    gone = act.session.scalars(select(LockerFile).where(LockerFile.app_id == app.id, LockerFile.name == name)).all()
    for file in gone:
        act.session.delete(file)
    act.log("taken out of the locker", f"locker {app.name} {name}", app=app.name, reason=reason)


COUNTS = LockerFile.replaced_at.is_(None)
"""Of the files of one name, the newest."""


def files(session: Session, app: App, name: str | None = None) -> Sequence[LockerFile]:
    """The files that count now, by name."""
    found = select(LockerFile).where(LockerFile.app_id == app.id, COUNTS)
    return session.scalars(
        (found if name is None else found.where(LockerFile.name == name)).order_by(LockerFile.name)
    ).all()


def _newest(session: Session, app: App, name: str) -> LockerFile:
    found = files(session, app, name)
    if not found:
        known = ", ".join(file.name for file in files(session, app)) or "nothing"
        raise NotFound(f"No file {name!r} is in the locker of {app.title}; there is {known}.", code="file-unknown")
    return found[0]


def _told(content: bytes, name: str) -> tuple[str, datetime | None]:
    """What the file says of itself, where it can be read without a password, and when it expires."""
    try:
        profile, _, _ = read_profile(content)
    except PackageUnreadable:
        pass
    else:
        return f"profile {profile.name} of {profile.team_name}, {profile.kind}", profile.expires_at
    for read in (x509.load_der_x509_certificate, x509.load_pem_x509_certificate, _from_container):
        try:
            certificate = read(content)
        except (ValueError, TypeError):
            continue
        if certificate is not None:
            return f"certificate of {certificate.subject.rfc4514_string()}", certificate.not_valid_after_utc
    return "", None


def _from_container(content: bytes) -> x509.Certificate | None:
    return pkcs12.load_key_and_certificates(content, None)[1]
