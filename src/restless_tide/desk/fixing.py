"""Fix a release forward: a new version takes its place, drafted with its stores, ladders, conditions and notes."""

from __future__ import annotations

from collections.abc import Sequence

from restless_tide.core.errors import Conflict, ImpossibleAct, Invalid
from restless_tide.core.ladder import OWN
from restless_tide.core.leg import LAUNCHED
from restless_tide.core.versions import parse_version
from restless_tide.core.words import listed
from restless_tide.desk import find, go_aheads, legs, releases, retiring
from restless_tide.desk.desk import Act
from restless_tide.desk.releases import LegWish
from restless_tide.records.tables import Build, Leg, Release


def fix(act: Act, app_name: str, version: str, build_names: Sequence[str]) -> Release:
    """Draft what follows a launched release, with one of these builds for each of its stores.

    Ladder, launch conditions and notes are those of the release before; at its launch each store supersedes that one. Raises
    Invalid where no build is for a store's platform, for builds of several versions or of one that is not above it;
    ImpossibleAct where nothing was launched yet; Conflict where the version is drafted already.
    """
    app = retiring.app_in_use(act.session, app_name)
    before = find.release(act.session, app, version)
    chosen = [leg for leg in before.legs if legs.phase(leg) in LAUNCHED]
    if not chosen:
        raise ImpossibleAct(
            f"{before.version} was launched nowhere yet: give it another build, and hand it in again.",
            possible=["change"],
        )
    builds = [find.build_of(act.session, app, name) for name in build_names]
    number = _version_of(builds, before)
    wishes = {}
    for leg in chosen:
        build = next((one for one in builds if one.platform == leg.berth.platform), None)
        if build is not None:
            wishes[str(find.place_of(leg))] = _like(leg, build)
    if not wishes:
        wanted = listed(sorted({leg.berth.platform for leg in chosen}))
        raise Invalid(
            f"{before.version} went out for {wanted}; none of these builds is for that.", code="platform-differs"
        )
    after = releases.draft(act, app.name, number, wishes)
    after.notes = dict(before.notes) | dict(after.notes)
    act.session.flush()
    act.log(
        "fix drafted",
        f"release {after.version}",
        app=app.name,
        before={"release": before.version},
        after={"stores": sorted(wishes)},
    )
    return after


def _version_of(builds: Sequence[Build], before: Release) -> str:
    versions = {str(parse_version(build.version)) for build in builds}
    if len(versions) != 1:
        raise Invalid(
            f"The builds carry {listed(sorted(versions)) or 'no version'}; a release is one version.",
            code="version-differs",
        )
    (number,) = versions
    if parse_version(number) <= parse_version(before.version):
        raise Conflict(
            f"The build carries {number}; what follows {before.version} is above it.",
            remedy="Build it under a higher version.",
            code="version-too-low",
        )
    return number


def _like(leg: Leg, build: Build) -> LegWish:
    ladder, dictated = legs.ladder_of(leg), legs.rollout_rules(leg).dictated_ladder is not None
    return LegWish(
        build=build.id,
        ladder=None if dictated else ladder.written() if ladder.name == OWN else ladder.name,
        conditions=go_aheads.conditions_of(leg),
    )
