"""Android's platform levels as people know them: by the number of the release. Source: the platform's public list of levels."""

from __future__ import annotations

from collections.abc import Sequence

from restless_tide.core.numbers import whole_number
from restless_tide.core.packages.facts import Facts, Levels
from restless_tide.core.words import listed

_RELEASES = {
    14: "4.0", 15: "4.0.3", 16: "4.1", 17: "4.2", 18: "4.3", 19: "4.4", 20: "4.4W", 21: "5.0", 22: "5.1", 23: "6.0", 24: "7.0",
    25: "7.1", 26: "8.0", 27: "8.1", 28: "9", 29: "10", 30: "11", 31: "12", 32: "12L", 33: "13", 34: "14", 35: "15", 36: "16",
}  # fmt: skip


def release_of(level: int) -> str:
    """A level as people call it; one that is not on the list by its number."""
    return _RELEASES.get(level, f"level {level}")


def run_of(first: int, last: int | None) -> Levels:
    """A run of levels with its name: "7.0 and later", "7.0 to 14"."""
    name = release_of(first)
    if last is None:
        name += " and later"
    elif last != first:
        name += f" to {release_of(last)}"
    return Levels(first=first, last=last, said=name)


def told(installs: Sequence[Levels]) -> str:
    """On which releases a package installs, in words."""
    return listed([one.said for one in installs])


def narrower(facts: Facts) -> bool:
    """Whether signatures keep a package from levels that it asks to be installed on."""
    runs = facts.installs
    return bool(runs) and (len(runs) > 1 or runs[0].first > lowest_of(facts) or runs[-1].last is not None)


def lowest_of(facts: Facts) -> int:
    """The lowest level that a package asks for; one that names none asks for all."""
    return whole_number(facts.lowest_platform or "") or 1
