"""The client: one object that holds the line to a desk, its verbs grouped by noun."""

from __future__ import annotations

from types import TracebackType
from typing import Self

from restless_tide.client.builds import Builds, Signing
from restless_tide.client.line import Line
from restless_tide.client.nouns import Apps, People, Releases, Watching
from restless_tide.client.reports import Reports
from restless_tide.client.standing import Notices, Steps, Stores
from restless_tide.client.testing import Testing


class Tide:
    """A desk at ``url``, as the person whose ``token`` it is. Close it, or use it in a ``with``."""

    def __init__(self, url: str, *, token: str | None = None) -> None:
        self._line = Line(url, token)
        self.people = People(self._line)
        self.stores = Stores(self._line)
        self.apps = Apps(self._line)
        self.builds = Builds(self._line)
        self.signing = Signing(self._line)
        self.testing = Testing(self._line)
        self.reports = Reports(self._line)
        self.releases = Releases(self._line)
        self.steps = Steps(self._line)
        self.notices = Notices(self._line)
        self.watching = Watching(self._line)

    def close(self) -> None:
        self._line.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, wrong: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
