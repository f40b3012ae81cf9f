"""What of an app expires when: profiles and certificates of builds people have, locker files, devices, trials."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.trial import TrialState
from restless_tide.desk import locker, packages, signing, trials
from restless_tide.records.tables import App, Build, Cohort, Signing, Trial


@dataclass(frozen=True)
class Expiry:
    """One thing that ends; ``then`` says what that means."""

    what: str
    until: datetime
    then: str


def of_app(session: Session, app: App) -> list[Expiry]:
    """Everything of the app that ends, the soonest first."""
    found = [*_builds(session, app), *_register(session, app), *_trials(session, app)]
    found.extend(
        Expiry(f"{file.name} in the locker", file.expires_at, "Build servers fetch something that is void.")
        for file in locker.files(session, app)
        if file.expires_at is not None
    )
    found.extend(
        Expiry(f"The test device {device.name}", device.expires_at, "Builds for tests no longer run on it.")
        for device in signing.devices(session, app)
        if device.expires_at is not None
    )
    return sorted(set(found), key=lambda expiry: (expiry.until, expiry.what))


def _builds(session: Session, app: App) -> list[Expiry]:
    found = []
    for build in session.scalars(select(Build).where(Build.id.in_(packages.used_builds(session, app)))):
        ends = [facts.expires_at for facts in packages.facts_of(build) if facts.expires_at is not None]
        if ends:
            then = "Nobody can start that build any more."
            found.append(Expiry(f"The profile in build {build.label}", min(ends), then))
    return found


def _register(session: Session, app: App) -> list[Expiry]:
    return [
        Expiry(
            f"The expected certificate for {page.platform}",
            datetime.fromisoformat(entry["valid_until"]),
            "New builds signed with it are refused.",
        )
        for page in session.scalars(select(Signing).where(Signing.app_id == app.id))
        for entry in page.certificates
        if entry.get("valid_until")
    ]


def _trials(session: Session, app: App) -> list[Expiry]:
    found = []
    for trial in session.scalars(
        select(Trial).join(Cohort).where(Trial.state == TrialState.OPEN, Cohort.app_id == app.id)
    ):
        berth = trial.consignment.berth
        ends = trials.expires_at(trial)
        if ends is not None:
            told = f"The trial of {trial.consignment.build.label} with {trial.cohort.name} at {berth.store.name}"
            found.append(Expiry(told, ends, "Testers can no longer start that build."))
    return found
