"""Small servers for tests: an ASGI application on a port of its own, and a place that keeps what is posted to it."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import uvicorn

HOST = "127.0.0.1"


@contextmanager
def running(app: Any, port: int) -> Iterator[str]:
    """The application served on loopback until the end of the block; yields its address."""
    server = uvicorn.Server(uvicorn.Config(app, HOST, port, log_level="warning", date_header=False))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        assert thread.is_alive(), "the server did not start"
        time.sleep(0.02)
    yield f"http://{HOST}:{port}"
    server.should_exit = True
    thread.join()


class Letterbox:
    """Keeps what is posted; ``answers`` are the statuses it gives, the last one for ever."""

    def __init__(self, answers: list[int]) -> None:
        self.got: list[tuple[dict[str, str], bytes]] = []
        box, statuses = self, list(answers)

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                box.got.append(({name.lower(): value for name, value in self.headers.items()}, body))
                self.send_response(statuses.pop(0) if len(statuses) > 1 else statuses[0])
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, *_: object) -> None:
                pass

        self._server = ThreadingHTTPServer((HOST, 0), Handler)
        self.address = f"http://{HOST}:{self._server.server_address[1]}/told"
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True)
        self._thread.start()

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()
        self._thread.join()


@contextmanager
def letterbox(*answers: int) -> Iterator[Letterbox]:
    box = Letterbox(list(answers) or [204])
    yield box
    box.close()
