"""Pictures are drawn in a process of their own: drawing keeps a core busy for a second, and a halt must not wait for it."""

from __future__ import annotations

import os
import subprocess
import sys
import threading

import structlog
from pydantic import TypeAdapter

from restless_tide.core.errors import NotDrawn
from restless_tide.plots.pictures import Picture

LONGEST_SECONDS = 60
AT_ONCE = 2
"""So many pictures are drawn at the same time; others wait."""
_log = structlog.get_logger("plots")
_turn = threading.BoundedSemaphore(AT_ONCE)


def drawn(picture: Picture) -> bytes:
    """A picture as PNG. Raises NotDrawn."""
    values = TypeAdapter[Picture](Picture).dump_json(picture)
    with _turn:
        try:
            done = subprocess.run(
                [sys.executable, "-P", "-m", "restless_tide.plots"],
                input=values,
                capture_output=True,
                timeout=LONGEST_SECONDS,
                check=True,
                env={name: value for name, value in os.environ.items() if not name.startswith("TIDE_")},
            )
        except (subprocess.SubprocessError, OSError) as wrong:
            _log.error("a picture could not be drawn", why=type(wrong).__name__, said=_said(wrong))
            raise NotDrawn("The picture could not be drawn.", remedy="The table beside it says the same.") from wrong
    return done.stdout


def _said(wrong: Exception) -> str:
    """The end of what the process has said about its fault."""
    said = getattr(wrong, "stderr", None) or b""
    return said[-2000:].decode("utf-8", "replace")
