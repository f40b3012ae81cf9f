"""The live feed: server-sent events, taken up again after a cut by Last-Event-ID."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import suppress
from typing import Annotated

from fastapi import Header, Query, Request
from fastapi.concurrency import run_in_threadpool
from sse_starlette import EventSourceResponse, ServerSentEvent

from restless_tide.core.errors import Denied, Unauthenticated
from restless_tide.core.numbers import whole_number
from restless_tide.core.rights import Apps, Reach, Right
from restless_tide.desk import feed
from restless_tide.desk.desk import Changed, Desk
from restless_tide.service import shown
from restless_tide.service.rights import needs
from restless_tide.service.router import router_of
from restless_tide.service.signed_in import Asking, Reached, TheDesk, WhoAsks
from restless_tide.wire.base import Number
from restless_tide.wire.watching import ChangeTold

router = router_of("watching")

_PAGE = 200
_QUIET_SECONDS = 1.0
START_OVER = "start over"
"""The kind of a change that says: what you have seen is not of this desk; load everything anew."""


class Bell:
    """Wakes the feeds of this process when an act was committed, from whichever thread."""

    def __init__(self) -> None:
        self._loop: asyncio.AbstractEventLoop | None = None
        self._waiting: set[asyncio.Event] = set()

    def hang(self, desk: Desk) -> None:
        self._loop = asyncio.get_running_loop()
        desk.on_change(self._ring_from_anywhere)

    def _ring_from_anywhere(self, changed: Changed) -> None:
        if self._loop is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._ring)

    def _ring(self) -> None:
        for event in self._waiting:
            event.set()

    async def wait(self, seconds: float) -> None:
        event = asyncio.Event()
        self._waiting.add(event)
        try:
            with suppress(TimeoutError):
                await asyncio.wait_for(event.wait(), seconds)
        finally:
            self._waiting.discard(event)


@router.get(
    "/v1/live",
    response_class=EventSourceResponse,
    summary="Follow everything that changes",
    responses={
        200: {
            "content": {
                "text/event-stream": {
                    "schema": {
                        "type": "string",
                        "contentMediaType": "application/json",
                        "contentSchema": {"$ref": "#/components/schemas/ChangeTold"},
                    }
                }
            },
            "description": "server-sent events; the data of each is a ChangeTold",
        }
    },
)
@needs(Right.SEE, Reach.SOME)
async def live(
    request: Request,
    desk: TheDesk,
    who: WhoAsks,
    _: Reached,
    last_event_id: Annotated[str | None, Header()] = None,
    after: Annotated[Number | None, Query(description="go on after this event; none: from now on")] = None,
) -> EventSourceResponse:
    """Server-sent events; each is a ChangeTold. A reconnecting client sends Last-Event-ID and misses nothing."""
    given = whole_number(last_event_id) if last_event_id else None
    begin = after if given is None else given
    return EventSourceResponse(_feed(desk, who, request.app.state.bell, begin), ping=15)


async def _feed(desk: Desk, who: Asking, bell: Bell, after: int | None) -> AsyncIterator[ServerSentEvent]:
    """What changes, until whoever asks is no longer let in: a revoked token ends it at once."""
    newest = await run_in_threadpool(_newest, desk)
    position = after if after is not None else newest
    yield ServerSentEvent(comment="following", retry=1000)
    # ahead: the desk was restored from a backup since; far behind: what came meanwhile is no longer kept
    if position > newest or position < await run_in_threadpool(_oldest, desk) - 1:
        position = newest
        told = ChangeTold(id=newest, at=desk.clock.now(), kind=START_OVER, app=None, subject="desk", said="")
        yield ServerSentEvent(data=told.model_dump_json(), id=str(newest), event="change")
    while True:
        try:
            await run_in_threadpool(who.asker)
        except (Unauthenticated, Denied):
            return
        reach = who.apps
        changes = await run_in_threadpool(_changes, desk, position)
        for change in changes:
            position = change.id
            if reach is not None and change.app is not None and change.app not in reach:
                continue
            yield ServerSentEvent(data=_within(change, reach).model_dump_json(), id=str(change.id), event="change")
        if len(changes) < _PAGE:
            await bell.wait(_QUIET_SECONDS)


def _within(change: ChangeTold, reach: Apps) -> ChangeTold:
    """A change as it may be shown: the words of what concerns the desk as a whole are for those who reach all apps."""
    return change if reach is None or change.app is not None else change.model_copy(update={"said": ""})


def _newest(desk: Desk) -> int:
    with desk.look() as session:
        return feed.newest(session)


def _oldest(desk: Desk) -> int:
    with desk.look() as session:
        return feed.oldest(session)


def _changes(desk: Desk, after: int) -> list[ChangeTold]:
    with desk.look() as session:
        return [shown.change(row) for row in feed.after(session, after, _PAGE)]
