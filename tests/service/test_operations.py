"""Which operation a request is for: looked up by words, and just the one that holding it against all of them finds."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import product
from typing import Any

import pytest
from starlette.routing import BaseRoute, Match

from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings
from restless_tide.service.app import desk_app
from restless_tide.service.location import Route
from restless_tide.service.operations import Operations

PARAMETER = re.compile(r"\{[^}:]+(:path)?\}")
METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE", "HEAD")
GIVEN = ("marram", "releases", "legs", "v1", "1.0.0")
"""What stands in a path for a name: also words that tell operations apart."""
REACHING = ("openfield", "slatehouse/classrooms", "legs/messages")
"""The same where a name may have a slash."""


@pytest.fixture(scope="module")
def operations(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Operations]:
    desk = Desk(Settings(data=tmp_path_factory.mktemp("operations")), RealClock())
    (found,) = (one for one in desk_app(desk).routes if isinstance(one, Operations))
    yield found
    desk.close()


def paths_of(pattern: str) -> Iterator[str]:
    """The paths that a pattern serves, its names replaced by each of a few."""
    for word, reach in product(GIVEN, REACHING):
        yield PARAMETER.sub(lambda found, word=word, reach=reach: reach if found.group(1) else word, pattern)  # type: ignore[misc]


def first(routes: list[BaseRoute], scope: dict[str, Any]) -> tuple[Match, Any]:
    """The first route that serves a request, or at least its path."""
    partly: tuple[Match, Any] = (Match.NONE, None)
    for route in routes:
        match, _ = route.matches(scope)
        if match is Match.FULL:
            return match, route
        if match is Match.PARTIAL and partly[0] is Match.NONE:
            partly = match, route
    return partly


def test_words_find_just_the_operation_that_all_together_would(operations: Operations) -> None:
    every = list(operations.routes)
    assert len(every) > 200
    asked = {path for route in every for path in paths_of(route.path)}
    for path in sorted(asked):
        serving: list[BaseRoute] = [route for route in every if route.path_regex.match(path)]
        for method in METHODS:
            scope: dict[str, Any] = {"type": "http", "path": path, "method": method}
            match, child = operations.matches(scope)
            assert (match, child.get("route")) == first(serving, scope), (method, path)


def test_a_name_with_slashes_may_stand_before_words_that_tell_operations_apart() -> None:
    made = Operations()
    made.add([Route("/v1/{thing:path}/kept", lambda: None), Route("/v1/apps/{app}/legs", lambda: None)])
    for path, at in (("/v1/apps/a/kept", 0), ("/v1/apps/kept", 0), ("/v1/a/b/c/d/e/f/kept", 0), ("/v1/apps/a/legs", 1)):
        match, child = made.matches({"type": "http", "path": path, "method": "GET"})
        assert (match, child.get("route")) == (Match.FULL, made.routes[at]), path


def test_what_is_asked_at_random_is_not_remembered(operations: Operations) -> None:
    operations.at("/v1/nothing-here")
    before = len(operations._found)
    for number in range(2_000):
        assert operations.matches({"type": "http", "path": f"/v1/{number}/a/{number}/b/{number}", "method": "GET"}) == (
            Match.NONE,
            {},
        )
    assert len(operations._found) <= before + 2
