"""Builds: read from package files, and sent to berths."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from restless_tide.core import questions
from restless_tide.core.consignment import CONSIGNMENT, ConsignmentEvent, ConsignmentState
from restless_tide.core.errors import Conflict, Finding, Invalid, Level, NotFound, NotReady, StoreUnreachable
from restless_tide.core.listing import BuildOrder
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.order import OrderKind
from restless_tide.core.packages import Facts
from restless_tide.core.readiness import base_of, check_identity, check_push, demand_ready
from restless_tide.desk import answers as standing_answers
from restless_tide.desk import find, holdings, keyset, numbers, retiring, signing
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.matching import holds
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Berth, Build, BuildPackage, Consignment, Package

_REVISION = re.compile(r"[0-9a-f]{7,64}")


def known_package(session: Session, sha256: str) -> Package:
    found = session.get(Package, sha256)
    if found is None or found.cleared_at is not None:
        raise NotFound(
            f"No package with the digest {sha256[:12]}… has arrived.",
            remedy="Push the file first.",
            code="package-unknown",
        )
    return found


@dataclass(frozen=True)
class Source:
    """What a build was made of: a revision, and the repository as it lies at the desk."""

    revision: str | None = None
    repository: str | None = None


def enter(act: Act, app_name: str, digests: Sequence[str], source: Source = Source()) -> tuple[Build, bool]:
    """Enter a build of these packages; returns it and whether it was known already.

    Raises NotReady when the packages are another app's, Invalid when they do not belong together,
    Conflict when another build of the app carries the same version and number on that platform.
    """
    app = retiring.app_in_use(act.session, app_name)
    facts = packages_of_one(act.session, digests)
    first = base_of(facts)
    if source.revision is not None and not _REVISION.fullmatch(source.revision):
        raise Invalid(
            f"{source.revision!r} is no revision.", remedy="Write 7 to 64 hexadecimal digits.", code="revision-unfit"
        )
    platform = first.platform
    demand_ready(_identity_findings(app, platform, first), "Taking in this build")
    known = made_of(act.session, app, facts)
    if known is not None:
        known.revision, known.repository = source.revision or known.revision, source.repository or known.repository
        return known, True
    build = Build(
        app_id=app.id,
        platform=platform,
        version=first.version,
        number=first.number,
        created_at=act.now,
        created_by=act.person,
        revision=source.revision,
        repository=source.repository,
    )
    build.app = app
    act.to_draw.add(build.app.name)
    build.packages = [BuildPackage(position=place, sha256=package.sha256) for place, package in enumerate(facts)]
    act.session.add(build)
    act.session.flush()
    act.log(
        "build entered",
        f"build {build.id}",
        app=app.name,
        after={"version": build.version, "number": build.number.text, "platform": platform},
    )
    act.session.refresh(build, ["packages"])
    signing.note_first_build(act, build)
    numbers.take_up(act, build)
    return build, False


def packages_of_one(session: Session, digests: Sequence[str]) -> list[Facts]:
    """The facts of packages that have arrived and belong to one build. Raises NotFound, Invalid."""
    if not digests:
        raise Invalid("A build needs at least one package.", code="packages-missing")
    facts = [Facts.of(known_package(session, digest).facts) for digest in dict.fromkeys(digests)]
    first = base_of(facts)
    for missing in check_identity(first):
        raise Invalid(missing.detail, remedy=missing.remedy, code=missing.code)
    if any(
        (other.identifier, other.version or first.version, other.number)
        != (first.identifier, first.version, first.number)
        for other in facts
    ):
        raise Invalid(
            "The packages of one build must carry the same identifier, version and number.", code="packages-differ"
        )
    return facts


def made_of(session: Session, app: App, facts: Sequence[Facts]) -> Build | None:
    """The app's build of exactly these packages. Raises Conflict when another one has its version and number."""
    first = base_of(facts)
    known = same(session, app, first.version, first.number, first.platform)
    if known is None or {entry.sha256 for entry in known.packages} == {entry.sha256 for entry in facts}:
        return known
    raise Conflict(
        f"{app.title} {known.label} is known already, with other bytes (build {known.id}).",
        remedy="Raise the number and build again: one version and number is one build for ever.",
        code="number-taken",
    )


def check(desk: Desk, app_name: str, store_name: str, facts: Sequence[Facts]) -> list[Finding]:
    """What stands against sending these packages to a store, before any byte goes there.

    When the store does not answer, what the desk itself has sent there is taken instead, and a
    caution says so.
    """
    with desk.look() as session:
        app, store = find.app(session, app_name), find.store(session, store_name)
        berth = find.berth(session, app, store)
        rules = rules_of(store)
        caution = []
        try:
            held = holdings.held_at(desk, berth)
        except StoreUnreachable as wrong:
            held = holdings.held_by_record(session, berth)
            caution = [
                Finding(
                    "store-not-asked",
                    Level.CAUTION,
                    f"Checked against the desk's own records: {wrong.detail}",
                    "store",
                    wrong.remedy,
                )
            ]
        expected = signing.expected_at(session, berth)
        found = check_push(rules, held, facts, berth.identifier, desk.clock.now(), expected) + caution
        asked = [question.model_dump() for question in rules.processing.questions]
        standing = {
            question["code"]: answers[question["code"]]
            for question in asked
            if (answers := standing_answers.fitting(session, berth, [question]))
        }
        return [_with_answer(finding, standing) for finding in found]


def order_to(act: Act, build: Build, store_name: str) -> Consignment:
    """Order a build to a store, where it was checked before; one that went there already is returned as it is."""
    berth = find.berth(act.session, build.app, find.store(act.session, store_name))
    consignment = _consignment(act.session, build, berth)
    if consignment is not None:
        return consignment
    size = sum(entry.package.size_bytes for entry in build.packages)
    consignment = Consignment(
        build_id=build.id, berth_id=berth.id, created_at=act.now, changed_at=act.now, size_bytes=size
    )
    act.session.add(consignment)
    act.session.flush()
    act.order(OrderKind.SEND_BUILD, lane=consignment.id, store=berth.store, subject=consignment.id)
    act.log(
        "build sent",
        f"consignment {consignment.id}",
        app=build.app.name,
        after={
            "build": build.id,
            "version": build.version,
            "number": build.number.text,
            "store": berth.store.name,
        },
    )
    return consignment


def answer(
    act: Act,
    consignment_id: str,
    answers: dict[str, str],
    *,
    standing: bool = False,
    anyway: bool = False,
    reason: str = "",
) -> Consignment:
    """Answer what a store holds a build for; ``standing`` keeps the answers for the builds to come.

    Raises ImpossibleAct, Invalid for an answer that is not offered, and NotReady for one that makes the store refuse the
    build, unless it is given ``anyway``; such an answer is never kept.
    """
    consignment = find.consignment(act.session, consignment_id)
    CONSIGNMENT.after(consignment.state, ConsignmentEvent.ANSWER)
    asked = {question["code"]: question for question in consignment.questions}
    unknown = sorted(set(answers) - set(asked))
    missing = sorted(set(asked) - set(answers))
    if unknown or missing:
        raise Invalid(
            f"The store asks {', '.join(asked)}; "
            + (f"nobody asked {', '.join(unknown)}." if unknown else f"{', '.join(missing)} is not answered."),
            code="answers-unfit",
        )
    for code, given in answers.items():
        if given not in asked[code]["choices"]:
            raise Invalid(
                f"{given!r} is no answer to {code}: choose {' or '.join(asked[code]['choices'])}.", code="answers-unfit"
            )
    _demand_not_refused(consignment, answers, anyway=anyway, standing=standing)
    if standing:
        standing_answers.keep(act, consignment, answers)
    consignment.answers, consignment.changed_at = answers, act.now
    act.order(
        OrderKind.ANSWER,
        lane=consignment.id,
        store=consignment.berth.store,
        subject=consignment.id,
        payload={"answers": answers},
    )
    act.log(
        "questions answered",
        f"consignment {consignment.id}",
        app=consignment.build.app.name,
        reason=reason,
        after=dict(answers),
    )
    return consignment


def _demand_not_refused(consignment: Consignment, answers: dict[str, str], *, anyway: bool, standing: bool) -> None:
    rules, label = rules_of(consignment.berth.store), consignment.build.label
    refused = questions.refused_for(rules, answers)
    told = ", ".join(f"{code} with {answers[code]!r}" for code in refused)
    if refused and standing:
        raise Invalid(
            f"{rules.store} refuses every build for which someone answers {told}; that is not given automatically.",
            remedy="Answer this build alone.",
            code="answers-unfit",
        )
    if refused and not anyway:
        raise NotReady(
            f"{rules.store} will refuse {label} when you answer {told}, and its number is used up then.",
            remedy="Give it anyway (--anyway) if it is true; otherwise correct the app and push a new build.",
            code="answer-refused",
        )


@dataclass(frozen=True)
class Wish:
    """Which builds of an app are wanted, in which order; ``after`` is the id of the last one seen."""

    platform: str | None = None
    state: ConsignmentState | None = None
    text: str = ""
    order: BuildOrder = BuildOrder.NEWEST
    since: datetime | None = None
    after: str | None = None
    limit: int = 100


def of_app(session: Session, app_name: str, wish: Wish = Wish()) -> list[Build]:
    """The builds of an app that are wanted, at most ``limit``. Raises NotFound for an unknown ``after``."""
    app = find.app(session, app_name)
    wanted = select(Build).where(Build.app_id == app.id)
    if wish.platform:
        wanted = wanted.where(Build.platform == wish.platform)
    if wish.state:
        wanted = wanted.where(Build.consignments.any(Consignment.state == wish.state))
    wanted = wanted.where(holds(wish.text, Build.version, Build.number, Build.id, Build.revision))
    if wish.since is not None:
        wanted = wanted.where(Build.created_at >= wish.since)
    keys: tuple[Any, ...] = {
        BuildOrder.NEWEST: (Build.created_at, Build.id),
        BuildOrder.OLDEST: (Build.created_at, Build.id),
        BuildOrder.VERSION: (Build.version_order, Build.number_order, Build.id),
        BuildOrder.NUMBER: (Build.number_order, Build.version_order, Build.id),
    }[wish.order]
    last = find.build_of(session, app, wish.after) if wish.after else None
    here = tuple(getattr(last, key.key) for key in keys) if last is not None else None
    wanted = wanted.options(
        selectinload(Build.packages).selectinload(BuildPackage.package), selectinload(Build.consignments)
    )
    falls = wish.order is not BuildOrder.OLDEST
    return list(session.scalars(keyset.page(wanted, keys, after=here, falls=falls, limit=wish.limit)))


def consignment_at(session: Session, build: Build, berth: Berth) -> Consignment | None:
    return _consignment(session, build, berth)


def _consignment(session: Session, build: Build, berth: Berth) -> Consignment | None:
    return session.scalar(select(Consignment).where(Consignment.build_id == build.id, Consignment.berth_id == berth.id))


def _with_answer(finding: Finding, standing: dict[str, str]) -> Finding:
    """A question that is foreseen, with the answer that will be given automatically."""
    if finding.code != "will-be-asked" or finding.place not in standing:
        return finding
    return replace(finding, remedy=f"It will be answered automatically: {standing[finding.place]}.")


def _identity_findings(app: App, platform: str, facts: Facts) -> list[Finding]:
    wanted = next((entry.identifier for entry in app.identifiers if entry.platform == platform), None)
    if wanted is None:
        detail = f"{app.title} has no identifier for {platform}; the package is {facts.format}."
    elif wanted != facts.identifier:
        detail = f"The package says it is {facts.identifier}; {app.title} is {wanted} on {platform}."
    else:
        return []
    remedy = "Hand in the package of the right app, or correct the identifier in the project."
    return [Finding("identifier-differs", Level.BLOCKER, detail, "identifier", remedy)]


def same(session: Session, app: App, version: str, number: BuildNumber, platform: str | None) -> Build | None:
    """The build of an app with this version and number; None where there is none, or several without a platform."""
    wanted = select(Build).where(Build.app_id == app.id, Build.version == version)
    wanted = wanted.where(Build.number_order == number.order)
    if platform is not None:
        wanted = wanted.where(Build.platform == platform)
    found = session.scalars(wanted.limit(2)).all()
    return found[0] if len(found) == 1 else None
