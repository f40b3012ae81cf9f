"""The operations of the service as one route: which of some hundred a request is for is looked up by the words of its path.

Starlette holds each request against one route after the other, which is more work than many an operation itself.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from fastapi import FastAPI
from starlette.routing import BaseRoute, Match
from starlette.types import Receive, Scope, Send

from restless_tide.service.location import Route

_PLACES = (1, 2, 4, 6)
"""Where in a path stand the words that tell operations apart, as in /v1/apps/…/releases/…/steering."""
_ANY = "{"
"""Stands for a word that differs from request to request."""
Words = tuple[str, ...]


class Operations(BaseRoute):
    """``routes`` in the sequence in which they are looked for."""

    def __init__(self) -> None:
        self.routes: list[Route] = []
        self._words: list[Words] = []
        self._known: list[set[str]] = []
        self._found: dict[Words, list[Route]] = {}

    def add(self, routes: Sequence[Route]) -> None:
        self.routes.extend(routes)
        self._words.extend(_words_of(route.path) for route in routes)
        self._known = [{words[at] for words in self._words} for at in range(len(_PLACES))]
        self._found.clear()

    def at(self, path: str) -> list[Route]:
        """Those whose path has the same words in the same places, so that no other can match."""
        parts = path.split("/", _PLACES[-1] + 1)
        asked = tuple(
            (word if (word := parts[place] if place < len(parts) else "") in known else _ANY)
            for place, known in zip(_PLACES, self._known, strict=True)
        )
        found = self._found.get(asked)
        if found is None:
            found = self._found[asked] = [
                route for route, words in zip(self.routes, self._words, strict=True) if _fit(words, asked)
            ]
        return found

    def matches(self, scope: Scope) -> tuple[Match, Scope]:
        best: tuple[Match, Scope] = (Match.NONE, {})
        if scope["type"] == "http":
            for route in self.at(scope["path"]):
                match, child = route.matches(scope)
                if match is Match.FULL:
                    return match, child
                if match is Match.PARTIAL and best[0] is Match.NONE:
                    best = match, child
        return best

    async def handle(self, scope: Scope, receive: Receive, send: Send) -> None:
        await scope["route"].handle(scope, receive, send)


def _words_of(path: str) -> Words:
    """The words of a route's path at their places, "" behind its end; what stands behind a part of any length may be anything."""
    parts = path.split("/")
    reach = next((at for at, part in enumerate(parts) if part.endswith(":path}")), None)
    found = []
    for place in _PLACES:
        if reach is not None and place >= reach:
            found.append(_ANY)
        else:
            part = parts[place] if place < len(parts) else ""
            found.append(_ANY if "{" in part else part)
    return tuple(found)


def _fit(words: Words, asked: Words) -> bool:
    return all(word in (_ANY, one) for word, one in zip(words, asked, strict=True))


def operations_of(app: FastAPI) -> list[Route]:
    """All of them."""
    return [route for one in app.routes if isinstance(one, Operations) for route in one.routes]


def routes_at(app: FastAPI, path: str) -> Iterator[BaseRoute]:
    """The routes, the console's among them, that may serve a path."""
    for one in app.routes:
        if isinstance(one, Operations):
            yield from one.at(path)
        else:
            yield one
