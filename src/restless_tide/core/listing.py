"""In which order long lists may be read, page by page."""

from __future__ import annotations

from enum import StrEnum


class BuildOrder(StrEnum):
    NEWEST = "newest"
    OLDEST = "oldest"
    VERSION = "version"
    NUMBER = "number"


class TesterOrder(StrEnum):
    ADDRESS = "address"
    NAME = "name"
    NEWEST = "newest"


class ReportOrder(StrEnum):
    NEWEST = "newest"
    OLDEST = "oldest"
