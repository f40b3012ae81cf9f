"""The goods sold inside an app."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path

from restless_tide.core.limits import LONGEST_REFERENCE
from restless_tide.core.rights import Right
from restless_tide.desk import app_goods, find, making
from restless_tide.service import shown_goods
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.routes.dossier import MatchHeader, read_revision
from restless_tide.service.signed_in import SignedIn, TheDesk
from restless_tide.wire.goods import GoodsTold, GoodWanted

router = router_of("goods", "/v1/apps/{app}/dossier/goods")


@router.get("")
@needs(Right.SEE)
def read_goods(app: str, desk: TheDesk, _: SignedIn) -> GoodsTold:
    """The goods of an app as they are entered, and what each store gets of them."""
    with desk.look() as session:
        return shown_goods.goods_of(session, find.app(session, app))


@router.put("/{reference}")
@needs(Right.PREPARE)
def write_good(
    app: str,
    reference: Annotated[str, Path(max_length=LONGEST_REFERENCE, description="such as map-of-the-north")],
    wanted: GoodWanted,
    desk: TheDesk,
    person: SignedIn,
    if_match: MatchHeader = None,
) -> GoodsTold:
    """Enter a good, or change it; none takes it out. Stores that hold it take it from sale when the goods are sent."""
    with desk.act(person.id) as act:
        app_goods.write(act, app, reference, wanted.good, read_revision(if_match))
    making.make_for(desk, app)
    with desk.look() as session:
        return shown_goods.goods_of(session, find.app(session, app))
