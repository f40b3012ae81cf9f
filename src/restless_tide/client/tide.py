"""The client: one object that holds the line to a desk, its verbs grouped by noun."""

from __future__ import annotations

from functools import cached_property
from types import TracebackType
from typing import TYPE_CHECKING, Self

from restless_tide.client.line import Line

if TYPE_CHECKING:
    from restless_tide.client.apps import Apps
    from restless_tide.client.builds import Builds
    from restless_tide.client.dossier import Dossier
    from restless_tide.client.freezes import Freezes
    from restless_tide.client.guards import Guards
    from restless_tide.client.ladders import Ladders
    from restless_tide.client.live import Live
    from restless_tide.client.matters import Matters
    from restless_tide.client.notices import Notices
    from restless_tide.client.people import People
    from restless_tide.client.releases import Releases
    from restless_tide.client.reports import Reports
    from restless_tide.client.reviewers import Reviewers
    from restless_tide.client.signing import Signing
    from restless_tide.client.steps import Steps
    from restless_tide.client.stores import Stores
    from restless_tide.client.testing import Testing
    from restless_tide.client.tracks import Tracks
    from restless_tide.client.watching import Watching


class Tide:
    """A desk at ``url``, as the person whose ``token`` it is. Close it, or use it in a ``with``.

    Each noun is loaded when it is first used: most callers, and every command, need one or two.
    """

    def __init__(self, url: str, *, token: str | None = None) -> None:
        self._line = Line(url, token)

    @cached_property
    def people(self) -> People:
        from restless_tide.client.people import People

        return People(self._line)

    @cached_property
    def stores(self) -> Stores:
        from restless_tide.client.stores import Stores

        return Stores(self._line)

    @cached_property
    def apps(self) -> Apps:
        from restless_tide.client.apps import Apps

        return Apps(self._line)

    @cached_property
    def builds(self) -> Builds:
        from restless_tide.client.builds import Builds

        return Builds(self._line)

    @cached_property
    def dossier(self) -> Dossier:
        from restless_tide.client.dossier import Dossier

        return Dossier(self._line)

    @cached_property
    def signing(self) -> Signing:
        from restless_tide.client.signing import Signing

        return Signing(self._line)

    @cached_property
    def testing(self) -> Testing:
        from restless_tide.client.testing import Testing

        return Testing(self._line)

    @cached_property
    def tracks(self) -> Tracks:
        from restless_tide.client.tracks import Tracks

        return Tracks(self._line)

    @cached_property
    def reports(self) -> Reports:
        from restless_tide.client.reports import Reports

        return Reports(self._line)

    @cached_property
    def releases(self) -> Releases:
        from restless_tide.client.releases import Releases

        return Releases(self._line)

    @cached_property
    def ladders(self) -> Ladders:
        from restless_tide.client.ladders import Ladders

        return Ladders(self._line)

    @cached_property
    def live(self) -> Live:
        from restless_tide.client.live import Live

        return Live(self._line)

    @cached_property
    def freezes(self) -> Freezes:
        from restless_tide.client.freezes import Freezes

        return Freezes(self._line)

    @cached_property
    def reviewers(self) -> Reviewers:
        from restless_tide.client.reviewers import Reviewers

        return Reviewers(self._line)

    @cached_property
    def matters(self) -> Matters:
        from restless_tide.client.matters import Matters

        return Matters(self._line)

    @cached_property
    def guards(self) -> Guards:
        from restless_tide.client.guards import Guards

        return Guards(self._line)

    @cached_property
    def steps(self) -> Steps:
        from restless_tide.client.steps import Steps

        return Steps(self._line)

    @cached_property
    def notices(self) -> Notices:
        from restless_tide.client.notices import Notices

        return Notices(self._line)

    @cached_property
    def watching(self) -> Watching:
        from restless_tide.client.watching import Watching

        return Watching(self._line)

    def close(self) -> None:
        self._line.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, wrong: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
