"""Small servers for tests: an ASGI application on a port of its own, and a place that keeps what is posted to it."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from enum import StrEnum
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import uvicorn

from restless_tide.core.limits import IDLE_CONNECTION_SECONDS

HOST = "127.0.0.1"


@contextmanager
def running(app: Any, port: int) -> Iterator[str]:
    """The application served on loopback until the end of the block; yields its address."""
    idle = IDLE_CONNECTION_SECONDS
    server = uvicorn.Server(
        uvicorn.Config(app, HOST, port, log_level="warning", date_header=False, timeout_keep_alive=idle)
    )
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        assert thread.is_alive(), "the server did not start"
        time.sleep(0.02)
    yield f"http://{HOST}:{port}"
    server.should_exit = True
    thread.join()


Given = int | tuple[int, dict[str, str]]


class Letterbox:
    """Keeps what is posted; ``answers`` are the statuses it gives, some with headers, the last one for ever."""

    def __init__(self, answers: list[Given]) -> None:
        self.got: list[tuple[dict[str, str], bytes]] = []
        box, statuses = self, list(answers)

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                box.got.append(({name.lower(): value for name, value in self.headers.items()}, body))
                given = statuses.pop(0) if len(statuses) > 1 else statuses[0]
                status, headers = given if isinstance(given, tuple) else (given, {})
                self.send_response(status)
                for name, value in headers.items():
                    self.send_header(name, value)
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
def letterbox(*answers: Given) -> Iterator[Letterbox]:
    box = Letterbox(list(answers) or [204])
    yield box
    box.close()


class Slow(StrEnum):
    """How a receiver keeps whoever asks waiting."""

    SILENT = "says nothing"
    HEADERS = "one byte of its headers now and then"
    BODY = "one byte of its answer now and then"
    ENDLESS = "an answer without end"


class SlowReceiver:
    def __init__(self, how: Slow) -> None:
        self._how, self._over = how, threading.Event()
        self.sent_bytes = 0
        self._socket = socket.create_server((HOST, 0))
        self.address = f"http://{HOST}:{self._socket.getsockname()[1]}/told"
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def _serve(self) -> None:
        with suppress(OSError):
            line, _ = self._socket.accept()
            with line:
                line.recv(65_536)
                if self._how in (Slow.BODY, Slow.ENDLESS):
                    line.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 400000000\r\n\r\n")
                elif self._how is Slow.HEADERS:
                    line.sendall(b"HTTP/1.1 200 OK\r\nX: ")
                part = b"x" * 65_536 if self._how is Slow.ENDLESS else b"x"
                while not self._over.wait(0 if self._how is Slow.ENDLESS else 0.1):
                    if self._how is not Slow.SILENT:
                        self.sent_bytes += line.send(part)

    def over(self) -> None:
        self._over.set()
        self._socket.close()
        self._thread.join()


@contextmanager
def slow(how: Slow) -> Iterator[SlowReceiver]:
    receiver = SlowReceiver(how)
    yield receiver
    receiver.over()
