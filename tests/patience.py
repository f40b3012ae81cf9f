"""How long a test waits for anything: so long that only what never comes ends it, and before its runner does."""

from __future__ import annotations

from typing import Any

PATIENCE_SECONDS = 200.0
WHOLE_WAY_SECONDS = 1800.0
"""For what walks through everything in one go."""
OPENLY: dict[str, Any] = {"trust_env": False, "verify": False, "timeout": PATIENCE_SECONDS}
"""For httpx: straight to a place on this machine."""
