"""Naming things as people do: builds by version or number, trials by cohort, steps by store."""

from __future__ import annotations

from typing import TYPE_CHECKING

from restless_tide.core.step import StepState
from restless_tide.core.trial import UNDER_WAY
from restless_tide.wire.errors import Invalid, NotFound

if TYPE_CHECKING:
    from restless_tide.cli.call import Call
    from restless_tide.cli.parsing import Parser
    from restless_tide.wire.builds import BuildTold

BUILD_HELP = "VERSION, 'VERSION (NUMBER)', NUMBER, latest, or the id or its beginning"


def where_arguments(parser: Parser, *, platform: bool = True) -> None:
    """Of which app a name is, where the name alone is not enough."""
    parser.add_argument("--app", metavar="APP", help="the app's short name, where the name alone is not enough")
    if platform:
        parser.add_argument("--platform", help="android, ios or desktop, where the name alone is not enough")


def build_of(call: Call, name: str) -> BuildTold:
    """The build that is meant, by ``--app`` and ``--platform`` where they are given."""
    given = call.given
    if given.app:
        return call.tide.builds.named(given.app, name, platform=given.platform)
    return call.tide.builds.one(name)


def consignment_of(call: Call) -> str:
    """A consignment by its id, or by its build with ``--store``."""
    given = call.given
    if not given.store:
        return str(given.consignment)
    build = build_of(call, given.consignment)
    found = [entry.id for entry in build.consignments if entry.store == given.store]
    if not found:
        at = ", ".join(entry.store for entry in build.consignments) or "no store"
        raise NotFound(f"{build.label} is not at {given.store}; it is at {at}.", code="consignment-unknown")
    return found[0]


def trial_of(call: Call) -> str:
    """A trial by its id, or by its cohort with ``--app``: the one that is under way, at ``--store`` if there are several."""
    given = call.given
    if not given.app:
        return str(given.trial)
    found = call.tide.testing.trials(given.app, cohort=given.trial)
    at = [trial for trial in found if given.store in (None, trial.store)]
    chosen = [trial for trial in at if trial.state in UNDER_WAY] or at[:1]
    if len(chosen) > 1:
        told = ", ".join(f"{trial.build_label} at {trial.store} ({trial.id})" for trial in chosen)
        raise Invalid(
            f"Several trials are under way: {told}.",
            remedy="Say which: --store STORE, or its id.",
            code="name-ambiguous",
        )
    if not chosen:
        raise NotFound(f"{given.trial} of {given.app} has no such trial.", code="trial-unknown")
    return chosen[0].id


def step_of(call: Call) -> str:
    """A step by its id, or by its store where only one waits there."""
    name = str(call.given.step)
    at = [step for step in call.tide.steps.waiting() if step.store == name and step.state == StepState.WAITING]
    if len(at) > 1:
        told = ", ".join(f"{step.title} ({step.id})" for step in at)
        raise Invalid(f"{len(at)} steps wait at {name}: {told}.", remedy="Name one by its id.", code="name-ambiguous")
    return at[0].id if at else name
