"""The processes of a demo or a test: stand-in stores, mail sink and desk, each on its own port."""

from __future__ import annotations

import ctypes
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType
from typing import Self

import httpx

from restless_tide.wire.errors import Conflict, DeskUnreachable

HOST = "127.0.0.1"
START_SECONDS = 120.0
STOP_SECONDS = 15.0
STORES = ("northgate", "openfield", "slatehouse")
IN_A_ROW = 7
FIRST_OUTGOING_PORT = 32_768
LOG_TOLD_CHARACTERS = 500


_LIBC = ctypes.CDLL(None)
_PR_SET_PDEATHSIG = 1


def _end_with_parent() -> None:
    """Have the kernel end this child when its parent dies, however that comes about (prctl(2))."""
    _LIBC.prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)


@dataclass(frozen=True)
class Ports:
    """The desk's port and, counted from it, those of its stand-ins."""

    desk: int

    @property
    def stores(self) -> dict[str, int]:
        return {name: self.desk + place for place, name in enumerate(STORES, 1)}

    @property
    def mail(self) -> int:
        return self.desk + 4

    @property
    def smtp(self) -> int:
        return self.desk + 5

    @property
    def inlet(self) -> int:
        return self.desk + 6

    @property
    def address(self) -> str:
        return f"http://{HOST}:{self.desk}"

    def demand_free(self) -> None:
        """Raise Conflict naming the first port that is taken and how to choose another."""
        for port in (self.desk, *self.stores.values(), self.mail, self.smtp, self.inlet):
            with socket.socket() as probe:
                probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                try:
                    probe.bind((HOST, port))
                except OSError:
                    raise Conflict(
                        f"Port {port} is taken (seven in a row are needed, from {self.desk}).",
                        remedy="Choose others: make demo TIDE_PORT=7200",
                        code="port-taken",
                    ) from None


@contextmanager
def _uninterrupted() -> Iterator[None]:
    """Ctrl-C waits until the end of this: a process that was begun is never forgotten, and all are ended."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    came: list[int] = []
    before = signal.signal(signal.SIGINT, lambda number, _: came.append(number))
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)
    if came:
        raise KeyboardInterrupt


def free_ports(begin: int, end: int = FIRST_OUTGOING_PORT) -> Ports:
    """Seven free ports in a row, looked for from ``begin``; for tests and the tour.

    The kernel gives a port from ``FIRST_OUTGOING_PORT`` on to any outgoing connection, so that one found free there
    may be taken before it is used.
    """
    for first in range(begin, end - IN_A_ROW + 1, IN_A_ROW):
        ports = Ports(first)
        try:
            ports.demand_free()
        except Conflict:
            continue
        return ports
    raise Conflict("No seven free ports in a row were found.")


@dataclass
class Processes:
    """Everything a desk needs around it. Leaving the ``with`` ends all of it, the desk first."""

    folder: Path
    ports: Ports
    environment: Mapping[str, str] = field(default_factory=dict)
    stores: tuple[str, ...] = STORES
    _running: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, wrong: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop_all()

    def start_all(self) -> None:
        """Start everything side by side, then wait for each."""
        names = [*self.stores, "mail", "desk"]
        for name in names:
            self._spawn(name)
        for name in names:
            self._await(name)

    def start(self, name: str) -> None:
        """Start one of the stores, mail or desk, and wait until it answers."""
        self._spawn(name)
        self._await(name)

    def _command(self, name: str) -> list[str]:
        if name == "desk":
            return ["restless_tide.service.serve"]
        folder = str(self.folder / ("mails" if name == "mail" else name))
        if name == "mail":
            return [
                "restless_tide.standins",
                "mail",
                "--port",
                str(self.ports.mail),
                "--smtp-port",
                str(self.ports.smtp),
                "--bounces-to",
                f"{HOST}:{self.ports.inlet}",
                "--data",
                folder,
            ]
        return ["restless_tide.standins", "store", name, "--port", str(self.ports.stores[name]), "--data", folder]

    def _answers_at(self, name: str) -> str:
        if name == "desk":
            return f"{self.ports.address}/healthz"
        if name == "mail":
            return f"http://{HOST}:{self.ports.mail}/count"
        return f"http://{HOST}:{self.ports.stores[name]}/control/state"

    def desk_environment(self) -> dict[str, str]:
        """What the desk is set up by, over this process's own environment."""
        return {
            **{name: value for name, value in os.environ.items() if not name.startswith("TIDE_")},
            "TIDE_DATA": str(self.folder / "desk"),
            "TIDE_HOST": HOST,
            "TIDE_PORT": str(self.ports.desk),
            "TIDE_REPOSITORIES": str(self.folder / "repositories"),
            "TIDE_SMTP_HOST": HOST,
            "TIDE_SMTP_PORT": str(self.ports.smtp),
            "TIDE_INLET_PORT": str(self.ports.inlet),
            **self.environment,
        }

    def kill(self, name: str) -> None:
        """End a process as a crash would (SIGKILL)."""
        process = self._running.pop(name)
        process.kill()
        process.wait()

    def stop(self, name: str) -> None:
        """Ask a process to end and wait for it."""
        process = self._running.pop(name)
        process.send_signal(signal.SIGTERM)
        try:
            process.wait(STOP_SECONDS)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()

    def stop_all(self) -> None:
        with _uninterrupted():
            for name in sorted(self._running, key=lambda name: name != "desk"):
                self.stop(name)

    def pid(self, name: str) -> int:
        return self._running[name].pid

    def ended(self) -> str | None:
        """The name of a process that has ended unexpectedly, if any has."""
        return next((name for name, process in self._running.items() if process.poll() is not None), None)

    def _spawn(self, name: str) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        with _uninterrupted():
            self._running[name] = self._begin(name, self.folder / f"{name}.log")

    def _begin(self, name: str, log: Path) -> subprocess.Popen[bytes]:
        """In a session of its own, so that Ctrl-C reaches only the parent, which then ends all in order."""
        with log.open("ab") as opened:
            return subprocess.Popen(
                [sys.executable, "-m", *self._command(name)],
                stdout=opened,
                stderr=opened,
                stdin=subprocess.DEVNULL,
                env=self.desk_environment() if name == "desk" else None,
                start_new_session=True,
                preexec_fn=_end_with_parent if sys.platform == "linux" else None,
            )

    def _await(self, name: str) -> None:
        deadline = time.monotonic() + START_SECONDS
        while time.monotonic() < deadline and self._running[name].poll() is None:
            try:
                if httpx.get(self._answers_at(name), timeout=2, trust_env=False, verify=False).is_success:  # noqa: S501  (loopback)
                    return
            except httpx.TransportError:
                time.sleep(0.02)
        log = self.folder / f"{name}.log"
        last = log.read_text(errors="replace").strip().rpartition("\n")[2][:LOG_TOLD_CHARACTERS]
        raise DeskUnreachable(
            f"The {name} process did not start{f': {last}' if last else '.'}", remedy=f"Its log: {log}"
        )
