"""What the groups of verbs share: the line they speak on."""

from __future__ import annotations

from restless_tide.client.line import Line


class Noun:
    def __init__(self, line: Line) -> None:
        self._line = line
