"""Threads that other requests cannot take: for what stops a release, and for hashing passwords."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from anyio import CapacityLimiter, to_thread
from fastapi import FastAPI, Request

from restless_tide.desk.passwords import HASHES_AT_ONCE

Answer = TypeVar("Answer")

FOR_STEERING = 8
MOST_WAITING_TO_SIGN_IN = 20
FOR_KEEPING = 4
"""For single statements around an act that carries a key or a condition: a halt must not wait for other requests there."""


class Threads:
    """The kept threads of one service."""

    def __init__(self) -> None:
        self.steering = CapacityLimiter(FOR_STEERING)
        self.hashing = CapacityLimiter(HASHES_AT_ONCE)
        self.keeping = CapacityLimiter(FOR_KEEPING)
        self.signing_in = 0
        """How many passwords are being checked or wait for it; counted here, since a limiter counts them a moment later."""

    @property
    def sign_in_is_busy(self) -> bool:
        return self.signing_in >= HASHES_AT_ONCE + MOST_WAITING_TO_SIGN_IN


def threads_of(request: Request) -> Threads:
    return _kept(request.app)


def _kept(app: FastAPI) -> Threads:
    kept = app.state.threads
    assert isinstance(kept, Threads)
    return kept


async def steering(request: Request, work: Callable[[], Answer]) -> Answer:
    """Do what a person waits for at the button that stops a release, however busy all else is."""
    return await to_thread.run_sync(work, limiter=threads_of(request).steering)


async def keeping(app: FastAPI, work: Callable[[], Answer]) -> Answer:
    """Do what is noted around an act, however busy all else is."""
    return await to_thread.run_sync(work, limiter=_kept(app).keeping)


async def hashing(request: Request, work: Callable[[], Answer]) -> Answer:
    kept = threads_of(request)
    kept.signing_in += 1
    try:
        return await to_thread.run_sync(work, limiter=kept.hashing)
    finally:
        kept.signing_in -= 1
