"""Which mails the mail server has taken while the records do not tell yet.

The records are written in groups. Until then a line in a file stands for each mail, so that a desk that is killed sends
none of them again, but for one that was taken just then.
"""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple


class Taken(NamedTuple):
    """The server has taken the mail with this ``number``, from 1, of an invitation."""

    invitation: str
    number: int


class SentMails:
    """One file of one desk; ``entries`` are its lines, those of an earlier desk among them."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self.entries = _read(path)

    def add(self, taken: Taken) -> None:
        self.entries.append(taken)
        with self._path.open("a", encoding="ascii") as lines:
            lines.write(f"{taken.invitation} {taken.number}\n")

    def clear(self) -> None:
        """The records tell of all of them now."""
        self.entries = []
        self._path.unlink(missing_ok=True)


def _read(path: Path) -> list[Taken]:
    if not path.exists():
        return []
    found = []
    for line in path.read_text(encoding="ascii", errors="replace").splitlines():
        invitation, _, number = line.partition(" ")
        if number.isdecimal():  # the last line may have been cut off
            found.append(Taken(invitation, int(number)))
    return found
