"""Webhooks leave on a loop of their own, each by itself: a receiver that is slow holds nobody but itself.

One deadline bounds a whole exchange, from the connection to the last byte of the answer, of which little is read.
"""

from __future__ import annotations

import asyncio
import ssl
import threading
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import httpx
import structlog

from restless_tide.core.dates import seconds_asked
from restless_tide.core.errors import TideError
from restless_tide.peers import LeadsInward, hold_outward_later
from restless_tide.tls import verified

DEADLINE_SECONDS = 15.0
MOST_AT_ONCE = 32
MOST_READ_BYTES = 64 * 1024
_log = structlog.get_logger("engine")


@dataclass(frozen=True)
class Letter:
    """What is posted to one address; ``receiver`` has one of them under way at a time."""

    id: str
    receiver: str
    address: str
    body: str
    headers: dict[str, str]


@dataclass(frozen=True)
class Answer:
    """The result. ``trouble`` is None when it was taken; ``asked_seconds`` is the receiver's own wish."""

    trouble: str | None
    status: int | None = None
    asked_seconds: float = 0.0


class Webhooks:
    """The way out for webhooks. ``post`` returns at once; ``settled`` is called later, on another thread.

    ``demand`` raises TideError for an address to which nothing may go; ``freed`` is called when a receiver takes the next.
    ``outward``: no connection may lead to this machine or into a private network.
    """

    def __init__(
        self,
        demand: Callable[[str], None],
        settled: Callable[[Letter, Answer], None],
        freed: Callable[[], None],
        deadline_seconds: float = DEADLINE_SECONDS,
        outward: bool = False,
    ) -> None:
        self._demand, self._settled, self._freed, self._deadline = demand, settled, freed, deadline_seconds
        self._outward = outward
        self._loop = asyncio.new_event_loop()
        self._thread: threading.Thread | None = None
        self._under_way: dict[str, Letter] = {}
        self._lock = threading.Lock()

    def post(self, letter: Letter) -> bool:
        """Post it, unless its receiver has one under way, or too many are; it is offered again then."""
        with self._lock:
            if letter.receiver in self._under_way or len(self._under_way) >= MOST_AT_ONCE:
                return False
            self._under_way[letter.receiver] = letter
            if self._thread is None:
                self._thread = threading.Thread(target=self._loop.run_forever, name="webhooks", daemon=True)
                self._thread.start()
        asyncio.run_coroutine_threadsafe(self._carry(letter), self._loop)
        return True

    def close(self) -> None:
        """What is under way is cut off, and goes once more later."""
        if self._thread is not None:
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._thread.join()
            for task in asyncio.all_tasks(self._loop):
                task.cancel()
            self._loop.run_until_complete(asyncio.sleep(0))
        self._loop.close()

    @property
    def busy(self) -> set[str]:
        """The receivers that have one under way."""
        with self._lock:
            return set(self._under_way)

    async def _carry(self, letter: Letter) -> None:
        try:
            answer = await asyncio.wait_for(self._exchange(letter), self._deadline)
        except TideError as wrong:
            answer = Answer(wrong.detail)
        except TimeoutError:
            answer = Answer(f"it was not answered within {self._deadline:g} s")
        except LeadsInward as wrong:
            answer = Answer(str(wrong))
        except (httpx.HTTPError, httpx.InvalidURL, ValueError) as wrong:
            answer = Answer(f"nothing takes it there ({type(wrong).__name__})")
        except Exception:  # noqa: BLE001  (whatever goes wrong with one, it is settled and the others go)
            _log.exception("a notice could not be posted", notice=letter.id)
            answer = Answer("the desk could not post it; its log has the details")
        try:
            await asyncio.to_thread(self._settled, letter, answer)
        except Exception:  # noqa: BLE001  (it is still queued, and goes again)
            _log.exception("what came of a notice could not be written down", notice=letter.id)
        finally:
            with self._lock:
                self._under_way.pop(letter.receiver, None)
            self._freed()

    async def _exchange(self, letter: Letter) -> Answer:
        await asyncio.to_thread(self._demand, letter.address)
        proof = await asyncio.to_thread(verified, letter.address)
        return await _posted(letter, proof, outward=self._outward)


async def _posted(letter: Letter, proof: ssl.SSLContext | Literal[False], *, outward: bool) -> Answer:
    hooks = {"request": [hold_outward_later]} if outward else None
    async with (
        httpx.AsyncClient(timeout=None, trust_env=False, verify=proof, event_hooks=hooks) as http,  # noqa: S113  (a deadline is around it)
        http.stream("POST", letter.address, content=letter.body, headers=letter.headers) as answer,
    ):
        read = 0
        async for part in answer.aiter_raw():
            read += len(part)
            if read > MOST_READ_BYTES:
                break
        if answer.is_success:
            return Answer(None, answer.status_code)
        asked = seconds_asked(answer.headers.get("retry-after", ""))
        return Answer(f"it was answered {answer.status_code}", answer.status_code, asked)
