"""Sending a file to the desk by tus 1.0: any cut is survived, and what has arrived is never sent again."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from restless_tide import tus
from restless_tide.client.line import Line
from restless_tide.wire.errors import DeskUnreachable, NotFound, TideError

Progress = Callable[[int], None]
"""Called with the number of bytes that have arrived so far."""

PATIENCE_SECONDS = 120.0
"""How long a desk that does not answer is waited for, from the last byte that arrived."""
_BLOCK_BYTES = 1024 * 1024
_STILL_WRITING = ("upload-busy", "offset-differs")
"""What the desk answers while it has not yet noticed that an earlier line was cut."""
_FIRST_PAUSE_SECONDS, _LONGEST_PAUSE_SECONDS = 0.2, 5.0


def digest_of(path: Path) -> str:
    with path.open("rb") as source:
        return hashlib.file_digest(source, "sha256").hexdigest()


def send_file(
    line: Line, path: Path, told: Progress, patience_seconds: float = PATIENCE_SECONDS, sha256: str | None = None
) -> tuple[str, bool]:
    """Have the desk hold this file; returns its SHA-256 and whether the desk had it already.

    An unfinished upload of the same bytes goes on where it stands, whoever began it on whatever machine
    with this person's token. ``sha256`` spares the digest where it is known; the desk checks it.
    Raises DeskUnreachable when the desk stays away longer than the patience.
    """
    sha256, size_bytes = sha256 or digest_of(path), path.stat().st_size
    try:
        line.send("HEAD", f"/v1/packages/{sha256}")
    except NotFound:
        pass
    else:
        told(size_bytes)
        return sha256, True
    _Sending(line, path, sha256, size_bytes, told, patience_seconds).run()
    return sha256, False


class _Sending:
    def __init__(
        self, line: Line, path: Path, sha256: str, size_bytes: int, told: Progress, patience_seconds: float
    ) -> None:
        self._line, self._path, self._sha256, self._size, self._told = line, path, sha256, size_bytes, told
        self._patience = patience_seconds

    def run(self) -> None:
        pause, arrived, moved_at = _FIRST_PAUSE_SECONDS, -1, time.monotonic()
        while True:
            try:
                place, offset = self._begin()
                if offset > arrived:
                    arrived, moved_at, pause = offset, time.monotonic(), _FIRST_PAUSE_SECONDS
                self._send_from(place, offset)
                return
            except DeskUnreachable:
                if time.monotonic() - moved_at > self._patience:
                    raise
                time.sleep(pause)
                pause = min(pause * 2, _LONGEST_PAUSE_SECONDS)
                if self._is_there():
                    self._told(self._size)
                    return

    def _begin(self) -> tuple[str, int]:
        """The upload's address and how far it has come."""
        headers = tus.to_begin(self._size, {"sha256": self._sha256, "filename": self._path.name})
        answer = self._line.send("POST", "/v1/uploads", headers=headers)
        return answer.headers["Location"], tus.arrived(answer.headers)

    def _send_from(self, place: str, offset: int) -> None:
        headers = tus.to_go_on(offset) | {"Content-Length": str(self._size - offset)}
        try:
            self._line.send("PATCH", place, content=self._blocks(offset), headers=headers, timeout=None)
        except TideError as wrong:
            if wrong.code in _STILL_WRITING:
                raise DeskUnreachable(wrong.detail, code=wrong.code) from None
            raise

    def _is_there(self) -> bool:
        """The last bytes arrived and only their confirmation was lost."""
        try:
            self._line.send("HEAD", f"/v1/packages/{self._sha256}")
        except (NotFound, DeskUnreachable):
            return False
        return True

    def _blocks(self, offset: int) -> Iterator[bytes]:
        with self._path.open("rb") as source:
            source.seek(offset)
            while block := source.read(_BLOCK_BYTES):
                yield block
                offset += len(block)
                self._told(offset)
