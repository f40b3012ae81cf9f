"""Processes that live after a blink: everything is loaded once, and each process is a fork of what was loaded.

The standard library's fork server does it. A forked process is what ``python -m`` would have started: a session,
an environment, a folder and files of its own; it can be killed, stopped and waited for. It ends with its parent.
"""

from __future__ import annotations

import ctypes
import importlib
import multiprocessing
import os
import secrets
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import ModuleType
from typing import Any

from restless_tide.demo.processes import Processes
from tests.patience import PATIENCE_SECONDS

_STARTING = threading.Lock()
_END_WITH_PARENT = 1  # PR_SET_PDEATHSIG, prctl(2)

_context = multiprocessing.get_context("forkserver")
_context.set_forkserver_preload(["tests.loaded"])


def _live(words: Sequence[str], environment: Mapping[str, str], folder: str, out: str, errors: str, plant: str) -> None:
    """The life of a forked process: ``python -m`` of the first word with the others, writing to these files."""
    os.setsid()
    ctypes.CDLL(None).prctl(_END_WITH_PARENT, signal.SIGKILL)
    for number, path in ((1, out), (2, errors)):
        opened = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o644)
        os.dup2(opened, number)
        os.close(opened)
    os.environ.clear()
    os.environ.update(environment)
    os.chdir(folder)
    sys.argv = list(words)
    if plant:
        plant_double_send()
    module = importlib.import_module(words[0])
    if hasattr(module, "__path__"):
        module = importlib.import_module(f"{words[0]}.__main__")
    sys.exit(module.main())


def plant_double_send() -> None:
    """Break what keeps a repeated call from acting twice: the mistake that the storm must catch."""
    from restless_tide.gateways.client import Gateway

    call = Gateway._call

    def careless(self: Gateway, method: str, path: str, kind: Any, *, key: str | None = None, **sent: Any) -> Any:
        fresh = f"{key}.{secrets.token_hex(3)}" if key and "/rollout" in path else key
        return call(self, method, path, kind, key=fresh, **sent)

    Gateway._call = careless  # type: ignore[method-assign]


class Forked:
    """A forked process, with the part of ``subprocess.Popen`` that is used here."""

    def __init__(
        self,
        words: Sequence[str],
        *,
        environment: Mapping[str, str] | None = None,
        folder: Path | None = None,
        out: Path | str = os.devnull,
        errors: Path | str = os.devnull,
        plant: str = "",
    ) -> None:
        whole = dict(os.environ if environment is None else environment)
        self.words = list(words)
        self._asking = threading.Lock()
        self._process = _context.Process(
            target=_live, args=(self.words, whole, str(folder or Path.cwd()), str(out), str(errors), plant)
        )
        with _STARTING:  # without a main module of this process, which the fork would run once more
            own, sys.modules["__main__"] = sys.modules["__main__"], ModuleType("__main__")
            try:
                self._process.start()
            finally:
                sys.modules["__main__"] = own

    @property
    def pid(self) -> int:
        assert self._process.pid is not None
        return self._process.pid

    @property
    def returncode(self) -> int | None:
        return self.poll()

    def poll(self) -> int | None:
        with self._asking:
            return self._process.exitcode

    def send_signal(self, number: int) -> None:
        if self.poll() is None:
            os.kill(self.pid, number)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)

    def wait(self, timeout: float | None = None) -> int:
        deadline = None if timeout is None else time.monotonic() + timeout
        while (code := self.poll()) is None:
            if deadline is not None and time.monotonic() > deadline:
                raise subprocess.TimeoutExpired(self.words, timeout or 0.0)
            time.sleep(0.003)
        return code


def run(words: Sequence[str], environment: Mapping[str, str], folder: Path) -> subprocess.CompletedProcess[str]:
    """``python -m`` of these words until it ends, with what it wrote."""
    with tempfile.TemporaryDirectory(prefix="tide-run-") as kept:
        out, errors = Path(kept, "out"), Path(kept, "errors")
        process = Forked(words, environment=environment, folder=folder, out=out, errors=errors)
        try:
            code = process.wait(PATIENCE_SECONDS)
        finally:
            process.kill()
        return subprocess.CompletedProcess(list(words), code, out.read_text(), errors.read_text())


@dataclass
class NurseryProcesses(Processes):
    """Stores, mail server and desk as forks; ``plant`` breaks the desk on purpose."""

    plant: str = ""

    def stop_all(self) -> None:
        """All at once: nobody needs them any more, nor what they would still write down."""
        running = list(self._running.values())
        for process in running:
            process.kill()
        for process in running:
            process.wait()
        self._running.clear()

    def _begin(self, name: str, log: Path) -> Any:
        return Forked(
            self._command(name),
            environment=self.desk_environment() if name == "desk" else None,
            out=log,
            errors=log,
            plant=self.plant if name == "desk" else "",
        )
