"""One word that halts many rollouts."""

from __future__ import annotations

from fastapi import Request

from restless_tide.core.rights import Apps, Reach, Right
from restless_tide.desk import legs, steering
from restless_tide.desk.desk import Desk
from restless_tide.service import shown, threads
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import SignedInAtOnce, TheDesk, WhoAsks
from restless_tide.wire.releases import HaltedTold, HaltsTold, HaltsWanted

router = router_of("releases", "/v1/halts")


@router.post("", status_code=202)
@needs(Right.STOP, Reach.SOME)
async def halt_all(
    wanted: HaltsWanted, request: Request, desk: TheDesk, person: SignedInAtOnce, who: WhoAsks
) -> HaltsTold:
    """Halt every rollout of an app, of a platform, or of both together: one act for all stores. It is of the apps that you reach."""
    return await threads.steering(request, lambda: _halted(desk, person.id, wanted, who.apps))


def _halted(desk: Desk, person: str, wanted: HaltsWanted, reach: Apps) -> HaltsTold:
    with desk.act(person) as act:
        outcomes, left = steering.halt_all(
            act, wanted.app, wanted.platform, wanted.reason, complete_too=wanted.complete_too, reach=reach
        )
        return HaltsTold(
            outcomes=[_halted_told(one) for one in outcomes],
            left=[_halted_told(steering.Steered(leg, False, steering.LEFT_COMPLETE)) for leg in left],
        )


def _halted_told(one: steering.Steered) -> HaltedTold:
    leg = one.leg
    return HaltedTold(
        **shown.steered(one).model_dump(),
        app=leg.release.app.name,
        version=leg.release.version,
        place_title=legs.place_title(leg),
    )
