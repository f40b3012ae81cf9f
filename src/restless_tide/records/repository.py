"""A git repository, read by git itself. Nothing that a repository brings along is executed."""

from __future__ import annotations

import os
import re
import subprocess
from datetime import datetime
from pathlib import Path

from restless_tide.core.changes import Commit
from restless_tide.core.errors import Invalid, NotFound

COMMITS_LIMIT = 5_000
_TIMEOUT_SECONDS = 30
_REVISION = re.compile(r"[0-9a-f]{7,64}")
_FORMAT = "%H%x00%P%x00%an%x00%aI%x00%B%x00%x1e"
_SAFE = (
    "-c", "safe.directory=*", "-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-c", "log.showSignature=false",
    "-c", "core.pager=cat", "-c", "protocol.allow=never",
)  # fmt: skip


class Repository:
    """The repository at ``path``, which must lie below ``root``. Raises Invalid."""

    def __init__(self, root: Path | None, path: str) -> None:
        if root is None:
            raise Invalid(
                "This desk reads no repositories.",
                remedy="Have the operator set TIDE_REPOSITORIES to the folder they lie in.",
                code="repositories-off",
            )
        place = (root / path).resolve()
        if not place.is_relative_to(root.resolve()) or not place.is_dir():
            raise NotFound(
                f"There is no repository {path!r} at this desk.",
                remedy="Name it as it lies below the desk's folder of repositories.",
                code="repository-unknown",
            )
        self._place = place

    def commits(self, until: str, since: str | None) -> list[Commit]:
        """The commits that ``until`` has and ``since`` lacks, newest first, at most COMMITS_LIMIT."""
        spans = [_demand_revision(until)] + ([f"^{_demand_revision(since)}"] if since else [])
        said = self._git("log", f"--format={_FORMAT}", "--no-show-signature", "--topo-order", f"-{COMMITS_LIMIT}", *spans, "--")  # fmt: skip
        found = []
        for record in said.split("\x1e"):
            parts = record.lstrip("\n").split("\0")
            if len(parts) >= 5:
                revision, parents, author, at, message = parts[:5]
                found.append(Commit(revision, tuple(parents.split()), author, datetime.fromisoformat(at), message))
        return found

    def _git(self, *words: str) -> str:
        environment = {
            "PATH": os.environ.get("PATH", "/usr/bin:/bin"),
            "GIT_CONFIG_NOSYSTEM": "1",
            "GIT_CONFIG_GLOBAL": os.devnull,
            "GIT_TERMINAL_PROMPT": "0",
            "GIT_OPTIONAL_LOCKS": "0",
            "LC_ALL": "C.UTF-8",
        }
        try:
            said = subprocess.run(  # noqa: S603  (git with our own words; revisions are hexadecimal)
                ["git", *_SAFE, "-C", str(self._place), *words],  # noqa: S607
                capture_output=True,
                check=True,
                timeout=_TIMEOUT_SECONDS,
                env=environment,
            )
        except FileNotFoundError:
            raise Invalid("git is not installed where the desk runs.", code="git-missing") from None
        except subprocess.TimeoutExpired:
            raise Invalid("git takes too long to read this repository.", code="git-slow") from None
        except subprocess.CalledProcessError as wrong:
            told = wrong.stderr.decode("utf-8", "replace").strip().splitlines()
            raise Invalid(
                f"git cannot read that: {told[-1] if told else 'no reason given'}.",
                remedy="Fetch the repository at the desk, and name revisions that are in it.",
                code="git-refused",
            ) from None
        return said.stdout.decode("utf-8", "replace")


def _demand_revision(text: str) -> str:
    if not _REVISION.fullmatch(text):
        raise Invalid(f"{text!r} is no revision.", remedy="Write 7 to 64 hexadecimal digits.", code="revision-unfit")
    return text
