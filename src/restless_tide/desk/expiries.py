"""What of an app expires when: profiles and certificates of builds people have, locker files, devices, trials."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Select, func, select
from sqlalchemy.orm import Session

from restless_tide.core.trial import TrialState
from restless_tide.desk import locker, packages, trials
from restless_tide.records.tables import (
    App,
    Berth,
    Build,
    BuildPackage,
    Cohort,
    Consignment,
    LockerFile,
    Package,
    Signing,
    Store,
    TestDevice,
    Trial,
)


@dataclass(frozen=True)
class Expiry:
    """One thing that ends; ``then`` says what that means."""

    what: str
    until: datetime
    then: str


def of_app(session: Session, app: App) -> list[Expiry]:
    """Everything of the app that ends, the soonest first."""
    return by_app(session, app).get(app.name, [])


def by_app(session: Session, only: App | None = None) -> dict[str, list[Expiry]]:
    """Everything that ends, by the name of its app, the soonest first. Apps are asked for together, however many there are."""
    found: defaultdict[str, set[Expiry]] = defaultdict(set)
    for read in (_builds, _register, _trials, _locker, _devices):
        for app, expiry in read(session, only):
            found[app].add(expiry)
    return {app: sorted(those, key=lambda expiry: (expiry.until, expiry.what)) for app, those in found.items()}


def _rows(session: Session, asked: Select[*tuple[Any, ...]], only: App | None) -> Sequence[Any]:
    return session.execute(asked if only is None else asked.where(App.id == only.id)).all()


def _builds(session: Session, only: App | None) -> Iterator[tuple[str, Expiry]]:
    ends = packages.PROFILE_ENDS
    asked = (
        select(App.name, Build, func.min(ends))
        .join(Build, Build.app_id == App.id)
        .join(BuildPackage, BuildPackage.build_id == Build.id)
        .join(Package, Package.sha256 == BuildPackage.sha256)
        .where(ends.is_not(None))
        .group_by(Build.id)
    )
    used = packages.used_builds(session, only)
    for app, build, first in _rows(session, asked, only):
        if build.id in used:
            then = "Nobody can start that build any more."
            yield app, Expiry(f"The profile in build {build.label}", datetime.fromisoformat(first), then)


def _register(session: Session, only: App | None) -> Iterator[tuple[str, Expiry]]:
    for app, page in _rows(session, select(App.name, Signing).join(App, App.id == Signing.app_id), only):
        for entry in page.certificates:
            if entry.get("valid_until"):
                what, until = f"The expected certificate for {page.platform}", entry["valid_until"]
                yield app, Expiry(what, datetime.fromisoformat(until), "New builds signed with it are refused.")


def _trials(session: Session, only: App | None) -> Iterator[tuple[str, Expiry]]:
    asked = (
        select(App.name, Trial, Cohort, Consignment, Build, Berth, Store)
        .join(Cohort, Cohort.id == Trial.cohort_id)
        .join(App, App.id == Cohort.app_id)
        .join(Consignment, Consignment.id == Trial.consignment_id)
        .join(Build, Build.id == Consignment.build_id)
        .join(Berth, Berth.id == Consignment.berth_id)
        .join(Store, Store.id == Berth.store_id)
        .where(Trial.state == TrialState.OPEN)
    )
    for app, trial, cohort, _, build, _, store in _rows(session, asked, only):
        ends = trials.expires_at(trial)
        if ends is not None:
            told = f"The trial of {build.label} with {cohort.name} at {store.name}"
            yield app, Expiry(told, ends, "Testers can no longer start that build.")


def _locker(session: Session, only: App | None) -> Iterator[tuple[str, Expiry]]:
    asked = select(App.name, LockerFile).join(App, App.id == LockerFile.app_id)
    for app, file in _rows(session, asked.where(locker.COUNTS, LockerFile.expires_at.is_not(None)), only):
        yield app, Expiry(f"{file.name} in the locker", file.expires_at, "Build servers fetch something that is void.")


def _devices(session: Session, only: App | None) -> Iterator[tuple[str, Expiry]]:
    asked = select(App.name, TestDevice).join(App, App.id == TestDevice.app_id)
    for app, device in _rows(session, asked.where(TestDevice.expires_at.is_not(None)), only):
        yield app, Expiry(f"The test device {device.name}", device.expires_at, "Builds for tests no longer run on it.")
