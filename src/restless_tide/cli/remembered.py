"""The desk that was signed in to last: its address and token, in a file that only its owner can read."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from pathlib import Path

DEFAULT_URL = "http://127.0.0.1:7100"


@dataclass(frozen=True)
class Remembered:
    url: str = DEFAULT_URL
    token: str = ""


def place() -> Path:
    base = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(base) / "restless-tide" / "desk.json"


def desk() -> Remembered:
    try:
        kept = json.loads(place().read_text(encoding="utf-8"))
        return Remembered(url=str(kept["url"]), token=str(kept["token"]))
    except (OSError, ValueError, KeyError, TypeError):
        return Remembered()


def keep(url: str, token: str) -> None:
    path = place()
    path.parent.mkdir(parents=True, exist_ok=True)
    path.unlink(missing_ok=True)
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "w", encoding="utf-8") as file:
        json.dump({"url": url, "token": token}, file)


def forget() -> None:
    place().unlink(missing_ok=True)
