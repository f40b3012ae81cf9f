"""A made-up history of an app's source, as a real git repository."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path


@dataclass(frozen=True)
class Entry:
    """A commit; ``version`` marks the one that a version was built from."""

    message: str
    author: str = "Wren Aldous <wren@example.org>"
    version: str = ""
    reverts: str = ""


MARRAM = (
    Entry("feat(pages): begin a diary of walks"),
    Entry("feat(photos): turn and crop photos of finds", "Tam Okoro <tam@example.org>", version="2.3.0"),
    Entry("fix(photos): keep the date of a photo that was cropped (#118)\n\nRefs: DUNE-31"),
    Entry("feat(maps): draw contour lines on dune maps\n\nCo-authored-by: Noor Haddad <noor@example.org>\nRefs: DUNE-40"),
    Entry("chore: renew the build image", "Bo Lindqvist <bo@example.org>"),
    Entry("feat(pages): tag a page with the tide", "Tam Okoro <tam@example.org>"),
    Entry("perf(maps): load the tiles of a walk at once"),
    Entry("feat(share): send a page by mail", "Tam Okoro <tam@example.org>"),
    Entry("", "Tam Okoro <tam@example.org>", reverts="feat(share)"),
    Entry("fix(maps): keep the lines readable in bright sun (#124)", version="2.4.0"),
    Entry("feat(finds)!: name finds by the new list of species\n\nBREAKING CHANGE: Old names are shown once, beside the new ones.", version="2.5.0"),
)  # fmt: skip
FERRYGLASS = (
    Entry("feat: show the evening ferries of the outer islands", version="5.1.0"),
    Entry("feat(lock): show departures on the lock screen", "Tam Okoro <tam@example.org>", version="5.2.0"),
    Entry("fix: start when the timetable is empty (FERRY-77)", version="5.2.1"),
    Entry("feat(desktop): keep departures in the corner of the screen", version="5.3.0"),
)
HISTORIES = {"marram": MARRAM, "ferryglass": FERRYGLASS}


def write_history(folder: Path, entries: Sequence[Entry], begin: datetime) -> dict[str, str]:
    """Make the repository; returns the revision that each version was built from."""
    folder.mkdir(parents=True, exist_ok=True)
    _git(folder, "init", "--quiet", "--initial-branch=main")
    revisions: dict[str, str] = {}
    for place, entry in enumerate(entries):
        at = begin + timedelta(days=place)
        if entry.reverts:
            target = _git(folder, "log", "--format=%H", "-1", "--fixed-strings", f"--grep={entry.reverts}")
            _git(folder, "revert", "--no-edit", target, author=entry.author, at=at)
        else:
            (folder / f"step-{place:02}.txt").write_text(f"{entry.message}\n", encoding="utf-8")
            _git(folder, "add", ".")
            _git(folder, "commit", "--quiet", "--message", entry.message, author=entry.author, at=at)
        if entry.version:
            revisions[entry.version] = _git(folder, "rev-parse", "HEAD")
    return revisions


def _git(folder: Path, *words: str, author: str = "", at: datetime | None = None) -> str:
    name, _, email = author.partition(" <")
    environment = {
        "PATH": os.environ.get("PATH", "/usr/bin:/bin"),
        "HOME": str(folder),
        "GIT_CONFIG_GLOBAL": os.devnull,
        "GIT_CONFIG_NOSYSTEM": "1",
    }
    for role in ("AUTHOR", "COMMITTER") if at is not None else ():
        environment |= {
            f"GIT_{role}_NAME": name,
            f"GIT_{role}_EMAIL": email.rstrip(">"),
            f"GIT_{role}_DATE": at.isoformat() if at else "",
        }
    command = ["git", "-C", str(folder), *words]
    done = subprocess.run(command, env=environment, check=True, capture_output=True, text=True)
    return done.stdout.strip()
