"""The signing register: whose signature is expected, who holds the key, what is declared, which devices are named."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.errors import Conflict, Invalid, NotFound
from restless_tide.core.packages.facts import Certificate
from restless_tide.core.signing import Expected, KeyHolder
from restless_tide.core.step import StepState
from restless_tide.desk import find
from restless_tide.desk.desk import Act
from restless_tide.desk.packages import facts_of
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Berth, Build, Consignment, Signing, Step, TestDevice

_SHA256 = re.compile(r"[0-9a-f]{64}")
_DEVICE = re.compile(r"[A-Za-z0-9-]{4,80}")
REPLACING = "signing key"
_NEW_CERTIFICATE = "SHA-256 of the new certificate"
STORE_SIGNED = frozenset({"aab"})
"""Formats that leave the store no choice: it makes the packages, so it holds the key."""


def page(session: Session, app: App, platform: str) -> Signing | None:
    return session.get(Signing, (app.id, platform))


def pages(session: Session, app_name: str) -> Sequence[Signing]:
    app = find.app(session, app_name)
    return session.scalars(select(Signing).where(Signing.app_id == app.id).order_by(Signing.platform)).all()


def expected_at(session: Session, berth: Berth) -> Expected:
    """What is expected of the next package at a berth."""
    found = page(session, berth.app, berth.platform)
    at_store = _known_at_store(session, berth)
    if found is None:
        return Expected(at_store=at_store)
    certificates = tuple(entry["sha256"] for entry in found.certificates)
    return Expected(certificates, at_store, None if found.declared is None else tuple(found.declared))


def note_first_build(act: Act, build: Build) -> None:
    """The first build of a platform sets whose signature is expected, and what is declared."""
    found = page(act.session, build.app, build.platform)
    signers = _signers(build)
    facts = facts_of(build)
    if found is None:
        found = _new_page(act, build.app, build.platform)
        found.declared = sorted({name for package in facts for name in (*package.permissions, *package.capabilities)})
        found.reason = "as the first build has it"
        if any(package.format in STORE_SIGNED for package in facts):
            found.holder = KeyHolder.STORE
    if not found.certificates and signers:
        found.certificates = [_kept(certificate) for certificate in signers]
        told = {"certificates": [certificate.sha256 for certificate in signers]}
        act.log("signature first seen", f"signing {build.app.name} {build.platform}", app=build.app.name, after=told)


def expect(act: Act, app_name: str, platform: str, build_id: str | None, sha256: str | None, reason: str) -> Signing:
    """Expect another certificate from now on: that of a build, or the one with this digest. Needs a reason."""
    app = find.app(act.session, app_name)
    _demand_reason(reason)
    if build_id is not None:
        build = find.build_of(act.session, app, build_id)
        wanted, platform = [_kept(certificate) for certificate in _signers(build)], build.platform
    elif sha256 is not None and _SHA256.fullmatch(sha256.lower()):
        wanted = [{"sha256": sha256.lower(), "subject": "", "valid_until": None}]
    else:
        raise Invalid(
            "Which certificate?",
            remedy="Name its SHA-256 (64 hexadecimal digits), or a build that is signed with it.",
            code="certificate-missing",
        )
    if not wanted:
        raise Invalid("That build is not signed.", code="signature-missing")
    return _change(act, app, platform, reason, certificates=wanted)


def declare(act: Act, app_name: str, platform: str, names: Sequence[str], reason: str) -> Signing:
    """Declare which permissions and rights the app is meant to ask for."""
    app = find.app(act.session, app_name)
    return _change(act, app, platform, reason, declared=sorted({name.strip() for name in names if name.strip()}))


def hold(act: Act, app_name: str, platform: str, holder: KeyHolder, reason: str) -> Signing:
    """Say who holds the key that devices know the app by."""
    app = find.app(act.session, app_name)
    build = find.newest_build(act.session, app, [platform])
    formats = {entry.package.facts["format"] for entry in build.packages} if build else set()
    forced = sorted(formats & STORE_SIGNED)
    if holder is KeyHolder.TEAM and forced:
        raise Invalid(
            f"The newest build is {forced[0].upper()}; packages made of it are signed by the store.",
            remedy="Hand in a format that the team signs itself before the key comes back to it.",
            code="holder-forced",
        )
    return _change(act, app, platform, reason, holder=holder)


def replace(act: Act, app_name: str, platform: str, sha256: str, reason: str) -> list[Step]:
    """Replace a lost sender's key: a step at every store that holds on to the first one, then the new one is expected.

    Raises Invalid without a reason or for what is no digest.
    """
    app = find.app(act.session, app_name)
    page_ = expect(act, app_name, platform, None, sha256, reason)
    digest = page_.certificates[0]["sha256"]
    steps = []
    for berth in app.berths:
        if berth.platform != platform or not berth.store_ref or not rules_of(berth.store).packages.certificate_stays:
            continue
        title = rules_of(berth.store).store
        step = Step(
            store_id=berth.store_id,
            app=app.name,
            subject=f"{REPLACING} {berth.id}",
            title=f"Have {title} take the new sender's key of {app.title}",
            todo=[
                f"Sign in at {title} as a person who may change the account.",
                f"Open the signing page of {app.title} ({berth.identifier}).",
                "Ask for another sender's key and hand in the new certificate from the locker.",
                "Confirm here once the store says that it takes the new key.",
            ],
            texts={_NEW_CERTIFICATE: digest, "Reason": reason},
            look_for=f"{title} shows the certificate {digest[:16]}… as the one it expects.",
            outcomes=["done"],
            created_at=act.now,
        )
        act.session.add(step)
        steps.append(step)
    act.session.flush()
    act.log(
        "key replacement begun", f"signing {app.name} {platform}", app=app.name, reason=reason, after={"sha256": digest}
    )
    return steps


def add_device(
    act: Act, app_name: str, platform: str, name: str, identifier: str, expires_at: datetime | None
) -> TestDevice:
    """Register a device for tests. Raises Conflict when it is registered already."""
    app = find.app(act.session, app_name)
    if not _DEVICE.fullmatch(identifier):
        raise Invalid(
            "A device's identifier has 4 to 80 letters, digits and hyphens.",
            remedy="Copy it from the device's settings.",
            code="device-unfit",
        )
    if any(device.identifier == identifier for device in devices(act.session, app)):
        raise Conflict("This device is registered already.", code="device-known")
    device = TestDevice(
        app_id=app.id,
        platform=platform,
        name=name.strip() or identifier,
        identifier=identifier,
        registered_at=act.now,
        expires_at=expires_at,
    )
    act.session.add(device)
    act.session.flush()
    act.log("device registered", f"device {device.id}", app=app.name)
    return device


def remove_device(act: Act, app_name: str, device_id: str) -> None:
    app = find.app(act.session, app_name)
    device = act.session.get(TestDevice, device_id)
    if device is None or device.app_id != app.id:
        raise NotFound(f"{app.title} has no device {device_id!r}.", code="device-unknown")
    act.session.delete(device)
    act.log("device removed", f"device {device.id}", app=app.name)


def devices(session: Session, app: App) -> Sequence[TestDevice]:
    return session.scalars(select(TestDevice).where(TestDevice.app_id == app.id).order_by(TestDevice.name)).all()


def _change(act: Act, app: App, platform: str, reason: str, **values: Any) -> Signing:
    _demand_reason(reason)
    if platform not in {entry.platform for entry in app.identifiers}:
        known = ", ".join(entry.platform for entry in app.identifiers)
        raise Invalid(f"{app.title} has no identifier for {platform!r}; it has {known}.", code="platform-missing")
    found = page(act.session, app, platform) or _new_page(act, app, platform)
    before = {name: getattr(found, name) for name in values}
    for name, value in values.items():
        setattr(found, name, value)
    found.changed_at, found.reason = act.now, reason
    act.log(
        "signing changed", f"signing {app.name} {platform}", app=app.name, reason=reason, before=before, after=values
    )
    return found


def _new_page(act: Act, app: App, platform: str) -> Signing:
    found = Signing(app_id=app.id, platform=platform, changed_at=act.now, certificates=[], holder=KeyHolder.TEAM)
    found.app = app
    act.session.add(found)
    return found


def _demand_reason(reason: str) -> None:
    if not reason.strip():
        raise Invalid("This needs a reason; it stands in the logbook.", code="reason-missing")


def _known_at_store(session: Session, berth: Berth) -> tuple[str, ...]:
    """The certificates by which the store knows the app: the last one it was made to take, else the first build's."""
    taken = select(Step).where(Step.subject == f"{REPLACING} {berth.id}", Step.state == StepState.CONFIRMED)
    replaced = session.scalar(taken.order_by(Step.settled_at.desc()).limit(1))
    if replaced is not None:
        return (str(replaced.texts[_NEW_CERTIFICATE]),)
    first = session.scalar(
        select(Consignment)
        .where(Consignment.berth_id == berth.id, Consignment.store_ref.is_not(None))
        .where(Consignment.state.not_in((ConsignmentState.REFUSED, ConsignmentState.QUEUED)))
        .order_by(Consignment.created_at)
        .limit(1)
    )
    return () if first is None else tuple(certificate.sha256 for certificate in _signers(first.build))


def _signers(build: Build) -> list[Certificate]:
    found = {}
    for facts in facts_of(build):
        for certificate in facts.signers:
            found[certificate.sha256] = certificate
    return list(found.values())


def _kept(certificate: Certificate) -> dict[str, Any]:
    return {
        "sha256": certificate.sha256,
        "subject": certificate.subject,
        "valid_until": certificate.valid_until.isoformat(),
    }
