"""How a stand-in misbehaves: what a store's network face does on a bad day, set by its control."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime

from fastapi import FastAPI, Request, Response
from fastapi.responses import HTMLResponse, JSONResponse, RedirectResponse, StreamingResponse
from pydantic import BaseModel, Field

from restless_tide.gateways import protocol
from restless_tide.standins.store import SimulatedStore, problem

PROBLEM = "application/problem+json"


class Mischief(BaseModel):
    """How the store shall misbehave; what is not named stays as it is."""

    outage: bool | None = Field(default=None, description="every call is answered 503")
    lose_answers: int | None = Field(default=None, description="so many acts are done and their answers lost")
    too_many: int | None = Field(default=None, description="so many calls are answered 429")
    too_many_acts: int | None = Field(default=None, description="so many acts are answered 429; questions are not")
    retry_after_seconds: float | None = Field(default=None, description="what a 429 asks for")
    fail: int | None = Field(default=None, description="so many calls are answered 500 before anything is done")
    slow_seconds: float | None = Field(default=None, description="how long it takes before it acts")
    nonsense: str | None = Field(default=None, description="redirect, page or endless; empty: none")
    clock_off_seconds: float | None = Field(default=None, description="its clock differs from real time by so much")
    reject_next: list[str] | None = None
    reject_item_next: dict[str, list[str]] | None = Field(
        default=None, description="reasons by item of the next review"
    )
    ask_next: list[str] | None = Field(default=None, description="what reviewers ask back next, one question a review")
    asking_rate: float | None = Field(default=None, ge=0, le=1, description="share of reviews in which one asks back")
    late_rate: float | None = Field(
        default=None, ge=0, le=1, description="share of reviews that take five times as long"
    )
    reject_trial_next: list[str] | None = None
    refuse_texts: str | None = Field(default=None, description="why the next texts are refused")
    refuse_pictures: str | None = Field(default=None, description="why the next pictures are refused")
    refuse_answers: str | None = Field(default=None, description="why the next answers are refused")
    refuse_goods: str | None = Field(default=None, description="why the next goods are refused")
    whim_rate: float | None = Field(default=None, ge=0, le=1, description="share of reviews rejected by whim")
    failing_rate: float | None = Field(default=None, ge=0, le=1, description="share of builds whose processing fails")
    taken_names: list[str] | None = None
    bad_numbers: list[str | int] | None = Field(default=None, description="builds that crash often")
    uncounted: bool | None = Field(default=None, description="what people do with builds is not counted")
    spoil_rulebook: bool | None = Field(default=None, description="the rulebook it serves breaks the schema")
    push_off: bool | None = Field(default=None, description="no event is pushed")
    push_late_seconds: float | None = None
    push_doubled: bool | None = None
    push_shuffled: bool | None = None
    push_forged: bool | None = Field(default=None, description="beside each event a forged one is sent")


def install(app: FastAPI, store: SimulatedStore) -> None:
    @app.middleware("http")
    async def misbehave(request: Request, proceed: Callable[[Request], Awaitable[Response]]) -> Response:
        if not request.url.path.startswith("/v1"):
            return await proceed(request)
        answer = _instead(store, request) or await proceed(request)
        answer.headers[protocol.CLOCK_HEADER] = store.clock.now().isoformat()
        now = datetime.now(UTC) + timedelta(seconds=store.setting("clock_off_seconds", 0.0))
        answer.headers["Date"] = format_datetime(now, usegmt=True)
        if request.method == "POST" and request.url.path != "/v1/token" and _one_less(store, "lose_answers"):
            return JSONResponse(problem("lost", "The answer was lost on the way."), 502, media_type=PROBLEM)
        return answer


def _instead(store: SimulatedStore, request: Request) -> Response | None:
    if store.setting("outage", False):
        return JSONResponse(problem("outage", "The store is closed for a while."), 503, media_type=PROBLEM)
    if request.url.path == "/v1/token":
        return None
    match store.setting("nonsense", ""):
        case "redirect":
            return RedirectResponse("http://127.0.0.1:9/elsewhere", 302)
        case "page":
            return HTMLResponse("<h1>Welcome</h1>")
        case "endless":
            return StreamingResponse(_endless(), media_type="application/json")
    if _one_less(store, "too_many") or (request.method == "POST" and _one_less(store, "too_many_acts")):
        wait = store.setting("retry_after_seconds", 2.0)
        headers = {"Retry-After": f"{wait:.0f}"}
        return JSONResponse(problem("too-many", "Too many calls; come again later."), 429, headers, PROBLEM)
    if _one_less(store, "fail"):
        return JSONResponse(problem("failed", "Something went wrong here."), 500, media_type=PROBLEM)
    return None


def _one_less(store: SimulatedStore, name: str) -> bool:
    left = store.setting(name, 0)
    if left:
        store.shelf.keep_setting(name, left - 1)
    return bool(left)


async def _endless() -> AsyncIterator[bytes]:
    yield b"["
    while True:
        yield b'"and so on",' * 20_000
        await asyncio.sleep(0)
