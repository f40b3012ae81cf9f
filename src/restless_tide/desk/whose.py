"""To which apps a thing belongs that an operation names by its id alone."""

from __future__ import annotations

from collections.abc import Callable
from types import MappingProxyType

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.desk import naming
from restless_tide.records.tables import (
    App,
    Build,
    BuildPackage,
    Cohort,
    Consignment,
    FieldReport,
    FreezeOverride,
    Invitation,
    Membership,
    Proposal,
    Step,
    Tester,
    Trial,
)

AppsOf = Callable[[Session, str], list[str]]
"""The names of the apps of a thing; none where it is of no app, so that only who reaches all apps reaches it. Raises NotFound."""


def _build(session: Session, given: str) -> list[str]:
    return [naming.exactly(session, Build, "build", given).app.name]


def _consignment(session: Session, given: str) -> list[str]:
    return [naming.exactly(session, Consignment, "consignment", given).build.app.name]


def _trial(session: Session, given: str) -> list[str]:
    return [naming.exactly(session, Trial, "trial", given).cohort.app.name]


def _invitation(session: Session, given: str) -> list[str]:
    return [naming.exactly(session, Invitation, "invitation", given).trial.cohort.app.name]


def _report(session: Session, given: str) -> list[str]:
    app = session.get(App, naming.exactly(session, FieldReport, "report", given).app_id)
    return [app.name] if app is not None else []


def _step(session: Session, given: str) -> list[str]:
    app = naming.exactly(session, Step, "step", given).app
    return [app] if app is not None else []


def _override(session: Session, given: str) -> list[str]:
    return [naming.exactly(session, FreezeOverride, "override", given).release.app.name]


def _tester(session: Session, given: str) -> list[str]:
    """Every app that someone tests; who keeps only some of them cannot change what the others rely on."""
    tester = session.scalar(select(Tester).where((Tester.id == given) | (Tester.email == given.lower())))
    if tester is None:
        return []
    wanted = select(App.name).join(Cohort, Cohort.app_id == App.id).join(Membership, Membership.cohort_id == Cohort.id)
    return list(session.scalars(wanted.where(Membership.tester_id == tester.id).distinct()))


def _proposal(session: Session, given: str) -> list[str]:
    return [naming.exactly(session, Proposal, "proposal", given).app.name]


THINGS: MappingProxyType[str, AppsOf] = MappingProxyType(
    {
        "build": _build,
        "consignment": _consignment,
        "trial": _trial,
        "invitation": _invitation,
        "report": _report,
        "step": _step,
        "override": _override,
        "proposal": _proposal,
        "tester": _tester,
    }
)
"""By the name under which a path holds the id."""


def app_named(session: Session, given: str) -> str:
    """The name of an app that is given by name or by id; as it was given where there is none."""
    return session.scalar(select(App.name).where(naming.THE_APP), {"app": given}) or given


def of_package(session: Session, sha256: str) -> list[str]:
    """The apps of which a package is a part of a build; none: no one has made a build of it yet."""
    wanted = select(App.name).join(Build, Build.app_id == App.id).join(BuildPackage, BuildPackage.build_id == Build.id)
    return list(session.scalars(wanted.where(BuildPackage.sha256 == sha256).distinct()))
