"""What every list takes in the same words: --find, --state, --since, --sort, --reverse, --limit."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from restless_tide.cli.parsing import Parser, count, instant_argument

if TYPE_CHECKING:
    from restless_tide.cli.call import Call

Row = TypeVar("Row")
_FIND = "only what holds all of these words"
_SINCE = "only what is not older"


@dataclass(frozen=True)
class Listing(Generic[Row]):
    """A list that is read whole: what of its rows is searched, and by what they are put in order.

    ``states`` are the choices of ``--state`` and ``state`` those of a row; ``since`` is the instant that counts.
    The sequence of ``sort`` is that of the columns; without ``--sort`` rows stay as the desk told them.
    """

    words: Callable[[Row], Iterable[object]]
    sort: Mapping[str, Callable[[Row], Any]]
    states: type[StrEnum] | Collection[str] = ()
    state: Callable[[Row], Collection[str]] | None = None
    since: Callable[[Row], datetime] | None = None

    def arguments(self, parser: Parser) -> None:
        find_argument(parser)
        if self.states:
            parser.add_argument("--state", action="append", choices=[*map(str, self.states)], help="may be given again")
        if self.since is not None:
            instant_argument(parser, "--since", _SINCE)
        parser.add_argument("--sort", choices=[*self.sort], help="by this column")
        parser.add_argument("--reverse", action="store_true", help="the other way round")
        parser.add_argument("--limit", type=count, metavar="COUNT", help="at most so many")

    def arranged(self, call: Call, rows: Iterable[Row]) -> list[Row]:
        """The rows that were asked for, in the order that was asked for."""
        given = call.given
        found = [row for row in rows if self._fits(given, row)]
        if given.sort:
            key = self.sort[given.sort]
            found.sort(key=lambda row: _comparable(key(row)))
        if given.reverse:
            found.reverse()
        return found[: given.limit]

    def _fits(self, given: Any, row: Row) -> bool:
        if not holds(given.find, *self.words(row)):
            return False
        if self.state is not None and given.state and not set(given.state) & {*map(str, self.state(row))}:
            return False
        return self.since is None or given.since is None or self.since(row) >= given.since


def holds(words: str, *among: object) -> bool:
    """Whether each of these words stands in one of the texts, in capitals or not; the desk searches the same way."""
    text = " ".join(str(part) for part in among if part is not None).lower()
    return all(word in text for word in words.lower().split())


def find_argument(parser: Parser) -> None:
    parser.add_argument("--find", default="", metavar="TEXT", help=_FIND)


def limit_argument(parser: Parser, limit: int) -> None:
    parser.add_argument("--limit", type=count, metavar="COUNT", default=limit, help=f"at most so many ({limit})")


def paged_arguments(parser: Parser, order: type[StrEnum], *, limit: int, since: bool = False) -> None:
    """The same for a list that the desk searches and sorts itself, since it is long; the first order is the usual one."""
    usual = next(iter(order))
    find_argument(parser)
    if since:
        instant_argument(parser, "--since", _SINCE)
    parser.add_argument("--sort", choices=[*map(str, order)], default=str(usual), help=f"in which order ({usual})")
    limit_argument(parser, limit)


def _comparable(value: Any) -> tuple[int, Any]:
    """Rows without a value come last; words are sorted regardless of capitals."""
    if value is None:
        return (1, "")
    return (0, value.lower() if isinstance(value, str) else value)


def version_key(version: str) -> int:
    """A version as something that sorts: 1.10.0 comes after 1.9.0."""
    from restless_tide.core.versions import version_order  # only where someone sorts by it: it takes long to load

    return version_order(version)
