"""How long reviews take, over many rounds."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from restless_tide.core.rights import Reach, Right
from restless_tide.core.waiting import By
from restless_tide.desk import reviews
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import Reached, TheDesk
from restless_tide.wire.releases import FiguresTold

router = router_of("reviews", "/v1")


@router.get("/review-figures")
@needs(Right.SEE, Reach.SOME)
def figures(
    desk: TheDesk,
    reach: Reached,
    by: By = By.STORE,
    app: Annotated[str | None, Query(max_length=100, description="only of this app")] = None,
    store: Annotated[str | None, Query(max_length=100, description="only at this store")] = None,
) -> list[FiguresTold]:
    """Waiting and deciding time and share refused, by store, app, or the weekday (UTC) on which it was handed in."""
    with desk.look() as session:
        return [FiguresTold.of(one) for one in reviews.figures_of(session, by, app, store, reach)]
