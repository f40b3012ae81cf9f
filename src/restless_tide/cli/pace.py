"""tide release pace: how the stores of a release rise beside each other."""

from __future__ import annotations

from typing import Any

from restless_tide.cli.call import Call
from restless_tide.cli.parsing import Nouns, app_argument
from restless_tide.core.pace import PACES, USUAL_LEAD_SHARE, USUAL_STEADY_HOURS, PaceKind
from restless_tide.wire.errors import Invalid
from restless_tide.wire.releases import ReleaseTold


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "release pace",
        _pace,
        "how its stores rise beside each other: in step, after one that leads, or each for itself",
        description="Without an option it shows the pace. In step: no store is raised more than one stage above the slowest. "
        "With --lead, the other stores are launched when that one holds a share and was steady for some hours.",
    )
    parser.add_argument("version")
    app_argument(parser)
    kind = parser.add_mutually_exclusive_group()
    kind.add_argument("--in-step", action="store_true", help=PACES[PaceKind.IN_STEP])
    kind.add_argument("--lead", metavar="STORE", help="this store first, the others after it")
    kind.add_argument("--free", action="store_true", help=PACES[PaceKind.FREE])
    parser.add_argument(
        "--share",
        type=float,
        metavar="PERCENT",
        help=f"with --lead: the share that it has to hold ({USUAL_LEAD_SHARE * 100:g})",
    )
    parser.add_argument(
        "--steady",
        type=float,
        metavar="HOURS",
        help=f"with --lead: how long its guards must have been steady ({USUAL_STEADY_HOURS:g})",
    )
    parser.add_argument(
        "--apart", action="append", default=[], metavar="STORE", help="a store that this does not concern; repeat it"
    )
    parser.add_argument("--reason", default="", help="why; it stands in the logbook")


def _pace(call: Call) -> None:
    given = call.given
    if not (given.in_step or given.lead or given.free):
        if given.apart or given.share is not None or given.steady is not None:
            raise Invalid("Say which pace: --in-step, --lead STORE or --free.", code="argument-missing")
        release = call.tide.releases.one(given.app, given.version)
    else:
        wish = _wish(call)
        release = call.tide.releases.set_pace(given.app, given.version, reason=given.reason, **wish)
    call.answer(release, lambda: _tell(call, release))


def _wish(call: Call) -> dict[str, Any]:
    given = call.given
    if not given.lead and (given.share is not None or given.steady is not None):
        raise Invalid("--share and --steady belong to --lead.", code="argument-unfit")
    if given.free and given.apart:
        raise Invalid("Each store is for itself then; leave --apart out.", code="argument-unfit")
    kind = PaceKind.LEAD if given.lead else PaceKind.IN_STEP if given.in_step else PaceKind.FREE
    wanted: dict[str, Any] = {"kind": kind, "lead": given.lead, "apart": given.apart}
    if given.share is not None:
        wanted["share"] = given.share / 100
    if given.steady is not None:
        wanted["steady_hours"] = given.steady
    return wanted


def _tell(call: Call, release: ReleaseTold) -> None:
    call.say(f"{release.app_title} {release.version}: {release.pace_told}.")
    for leg in release.legs:
        for waits in (*leg.waits_for, *leg.waits_to_rise):
            call.say(f"  {leg.place_title} waits for {waits}")
