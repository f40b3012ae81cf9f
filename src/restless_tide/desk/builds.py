"""Builds: taken in from package files, and sent to berths."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.consignment import CONSIGNMENT, ConsignmentEvent, ConsignmentState
from restless_tide.core.errors import Conflict, Finding, Invalid, Level, NotFound, StoreUnreachable
from restless_tide.core.order import OrderKind
from restless_tide.core.packages import Facts
from restless_tide.core.readiness import check_push, demand_ready
from restless_tide.core.versions import Held, Proposal, Step, propose_next
from restless_tide.desk import find
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.stores import rules_of
from restless_tide.records.tables import App, Berth, Build, BuildPackage, Consignment, Package


def known_package(session: Session, sha256: str) -> Package:
    found = session.get(Package, sha256)
    if found is None:
        raise NotFound(
            f"No package with the digest {sha256[:12]}… has arrived.",
            remedy="Push the file first.",
            code="package-unknown",
        )
    return found


def facts_of(build: Build) -> list[Facts]:
    return [Facts.model_validate(entry.package.facts) for entry in build.packages]


def keep_package(act: Act, facts: Facts) -> Package:
    """Remember a package whose file has been kept; the same file twice is one package."""
    package = act.session.get(Package, facts.sha256)
    if package is None:
        package = Package(
            sha256=facts.sha256, size_bytes=facts.size_bytes, facts=facts.model_dump(mode="json"), received_at=act.now
        )
        act.session.add(package)
        act.session.flush()
        act.tell("package arrived", f"package {facts.sha256[:12]}")
    return package


def enter(act: Act, app_name: str, digests: Sequence[str]) -> tuple[Build, bool]:
    """Enter a build of these packages; returns it and whether it was known already.

    Raises NotReady when the packages are another app's, Invalid when they do not belong together,
    Conflict when another build of the app carries the same version and number on that platform.
    """
    app = find.app(act.session, app_name)
    if not digests:
        raise Invalid("A build needs at least one package.", code="packages-missing")
    packages = [known_package(act.session, digest) for digest in dict.fromkeys(digests)]
    facts = [Facts.model_validate(package.facts) for package in packages]
    first = facts[0]
    if any(
        (other.identifier, other.version, other.number) != (first.identifier, first.version, first.number)
        for other in facts
    ):
        raise Invalid(
            "The packages of one build must carry the same identifier, version and number.", code="packages-differ"
        )
    platform = first.platform
    demand_ready(_identity_findings(app, platform, first), "Taking in this build")
    same = act.session.scalar(
        select(Build).where(
            Build.app_id == app.id,
            Build.platform == platform,
            Build.version == first.version,
            Build.number == first.number,
        )
    )
    if same is not None:
        if {entry.sha256 for entry in same.packages} == {package.sha256 for package in packages}:
            return same, True
        raise Conflict(
            f"{app.title} {same.label} is known already, with other bytes (build {same.id}).",
            remedy="Raise the number and build again: one version and number is one build for ever.",
            code="number-taken",
        )
    build = Build(
        app_id=app.id,
        platform=platform,
        version=first.version,
        number=first.number,
        created_at=act.now,
        created_by=act.person,
    )
    build.packages = [BuildPackage(position=place, sha256=package.sha256) for place, package in enumerate(packages)]
    act.session.add(build)
    act.session.flush()
    act.log(
        "build entered",
        f"build {build.id}",
        app=app.name,
        after={"version": build.version, "number": build.number, "platform": platform},
    )
    return build, False


def held_at(desk: Desk, berth: Berth) -> list[Held]:
    """What the store holds of this app, asked there and then. Raises StoreUnreachable."""
    if berth.store.hand_carried:
        with desk.look() as session:
            return _held_by_record(session, berth)
    answer = desk.gateway(berth.store).holdings(berth.store_ref or "")
    return [Held(**build.model_dump()) for build in answer.builds]


def next_numbers(desk: Desk, app_name: str, store_name: str, step: Step) -> Proposal:
    """The version and number that may come next at a store, and why."""
    with desk.look() as session:
        store = find.store(session, store_name)
        berth = find.berth(session, find.app(session, app_name), store)
        return propose_next(rules_of(store), held_at(desk, berth), step)


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
            held = held_at(desk, berth)
        except StoreUnreachable as wrong:
            held = _held_by_record(session, berth)
            caution = [
                Finding(
                    "store-not-asked",
                    Level.CAUTION,
                    f"Checked against the desk's own records: {wrong.detail}",
                    "store",
                    wrong.remedy,
                )
            ]
        return check_push(rules, held, facts, berth.identifier, desk.clock.now()) + caution


def push(desk: Desk, person: str, build_id: str, store_name: str) -> Consignment:
    """Send a build to a store: checked first, then ordered. A refused consignment may be sent again.

    Raises NotReady with the findings when something stands in the way.
    """
    with desk.look() as session:
        build = find.build(session, build_id)
        store = find.store(session, store_name)
        berth = find.berth(session, build.app, store)
        known = _consignment(session, build, berth)
        findings = [] if known else check(desk, build.app.name, store_name, facts_of(build))
    demand_ready(findings, f"Sending {build.label} to {store.name}")
    with desk.act(person) as act:
        build = find.build(act.session, build_id)
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
            after={"build": build.id, "version": build.version, "number": build.number, "store": berth.store.name},
        )
        return consignment


def answer(act: Act, consignment_id: str, answers: dict[str, str]) -> Consignment:
    """Answer what a store holds a build for. Raises ImpossibleAct, or Invalid for an answer that is not offered."""
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
    consignment.answers, consignment.changed_at = answers, act.now
    act.order(
        OrderKind.ANSWER,
        lane=consignment.id,
        store=consignment.berth.store,
        subject=consignment.id,
        payload={"answers": answers},
    )
    act.log("questions answered", f"consignment {consignment.id}", app=consignment.build.app.name, after=dict(answers))
    return consignment


def of_app(session: Session, app_name: str) -> list[Build]:
    """The builds of an app, newest first."""
    app = find.app(session, app_name)
    return list(session.scalars(select(Build).where(Build.app_id == app.id).order_by(Build.created_at.desc())))


def consignment_at(session: Session, build: Build, berth: Berth) -> Consignment | None:
    return _consignment(session, build, berth)


def _consignment(session: Session, build: Build, berth: Berth) -> Consignment | None:
    return session.scalar(select(Consignment).where(Consignment.build_id == build.id, Consignment.berth_id == berth.id))


def _held_by_record(session: Session, berth: Berth) -> list[Held]:
    sent = session.scalars(select(Consignment).where(Consignment.berth_id == berth.id))
    return [
        Held(consignment.build.version, consignment.build.number, refused=consignment.state is ConsignmentState.REFUSED)
        for consignment in sent
    ]


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
