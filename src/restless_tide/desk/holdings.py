"""What a store holds of an app: asked there and then, or by the desk's own records."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.versions import Held
from restless_tide.desk.desk import Desk
from restless_tide.records.tables import Berth, Consignment


def held_at(desk: Desk, berth: Berth) -> list[Held]:
    """What the store holds of this app, asked there and then. Raises StoreUnreachable."""
    if not berth.store.reached_by_gateway:
        with desk.look() as session:
            return held_by_record(session, berth)
    answer = desk.gateway(berth.store).holdings(berth.store_ref or "")
    return [Held(**build.model_dump()) for build in answer.builds]


def held_by_record(session: Session, berth: Berth) -> list[Held]:
    """What was sent there from this desk, and what became of it."""
    sent = session.scalars(select(Consignment).where(Consignment.berth_id == berth.id))
    return [
        Held(consignment.build.version, consignment.build.number, refused=consignment.state is ConsignmentState.REFUSED)
        for consignment in sent
    ]
