"""The id of the request that is under way. It goes along with every order, to the store and into the store's own log."""

from __future__ import annotations

from contextvars import ContextVar

request_id: ContextVar[str] = ContextVar("request_id", default="")
