"""A nursery of desks: everything is loaded once, and each desk is a fork of it, so that it lives after a blink.

Each line on the input asks for one desk; its process id is the answer. ``plant double-send`` has every
call go out under a fresh idempotency key: the mistake that the storm must catch.
"""

from __future__ import annotations

import os
import secrets
import signal
import sys
from typing import Any

from restless_tide.gateways.client import Gateway
from restless_tide.service.serve import serve


def plant_double_send() -> None:
    """Break what keeps a repeated call from acting twice."""
    call = Gateway._call

    def careless(self: Gateway, method: str, path: str, kind: Any, *, key: str | None = None, **sent: Any) -> Any:
        fresh = f"{key}.{secrets.token_hex(3)}" if key and "/rollout" in path else key
        return call(self, method, path, kind, key=fresh, **sent)

    Gateway._call = careless  # type: ignore[method-assign]


def main() -> None:
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    if sys.argv[1:] == ["plant", "double-send"]:
        plant_double_send()
    print("ready", flush=True)
    for _ in sys.stdin:
        child = os.fork()
        if child == 0:
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            null = os.open(os.devnull, os.O_RDWR)
            os.dup2(null, 0)
            os.dup2(null, 1)
            try:
                serve(os.environ)
            finally:
                os._exit(0)
        print(child, flush=True)


if __name__ == "__main__":
    main()
