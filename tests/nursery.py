"""Processes that live after a blink: everything is loaded once, and each process is a fork of what was loaded.

One process, the nursery, has everything loaded and forks on request, for all workers of a run. A forked process is
what ``python -m`` would have started: a session, an environment, a folder and files of its own; it can be killed,
stopped and waited for. It ends with the process that asked for it.

    python -m tests.nursery ADDRESS    (until its standard input ends)
"""

from __future__ import annotations

import atexit
import ctypes
import importlib
import json
import os
import secrets
import selectors
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import traceback
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Self

from restless_tide.demo.processes import Processes
from tests.patience import PATIENCE_SECONDS

WHERE = "TIDE_TESTS_NURSERY"
"""The environment variable with the address of the run's nursery."""
_ROOT = Path(__file__).parents[1]
_END_WITH_PARENT = 1  # PR_SET_PDEATHSIG, prctl(2)
_LONGEST_MESSAGE_BYTES = 100_000
_STANDARD = (0, 1, 2)
_address = ""
"""In the nursery and its forks: where it listens."""


# who asks


def open_nursery() -> str:
    """The address of the run's nursery, which is started by the first who asks and ends with that process."""
    if _address or WHERE in os.environ:
        return _address or os.environ[WHERE]
    folder = tempfile.mkdtemp(prefix="tide-nursery-")
    os.environ[WHERE] = address = str(Path(folder, "asked"))
    process = subprocess.Popen(
        [sys.executable, "-m", __name__, address], stdin=subprocess.PIPE, cwd=_ROOT, start_new_session=True
    )

    def close() -> None:
        with process:
            process.kill()  # and its forks with it
        shutil.rmtree(folder, ignore_errors=True)

    atexit.register(close)
    return address


def _connected() -> socket.socket:
    address, deadline = open_nursery(), time.monotonic() + PATIENCE_SECONDS
    while True:
        asking = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        try:
            asking.connect(address)
        except OSError:  # it is about to listen
            asking.close()
            if time.monotonic() > deadline:
                raise
            time.sleep(0.01)
        else:
            return asking


class Forked:
    """A forked process, with the part of ``subprocess.Popen`` that is used here."""

    def __init__(
        self,
        words: Sequence[str],
        *,
        environment: Mapping[str, str] | None = None,
        folder: Path | None = None,
        out: Path | str | int = os.devnull,
        errors: Path | str | int = os.devnull,
        given: int | None = None,
        plant: str = "",
    ) -> None:
        """``given``: the descriptor of its standard input; ``out`` and ``errors`` may be descriptors, too."""
        self.words = list(words)
        self._asking = threading.Lock()
        self._code: int | None = None
        opened = [os.open(os.devnull, os.O_RDONLY) if given is None else given, _opened(out), _opened(errors)]
        whole = dict(os.environ if environment is None else environment)
        wanted = {
            "words": self.words, "environment": whole, "folder": str(folder or Path.cwd()), "umask": _umask(),
            "plant": plant,
        }  # fmt: skip
        self._line = _connected()
        try:
            socket.send_fds(self._line, [json.dumps(wanted).encode()], opened)
            self.pid: int = json.loads(self._line.recv(_LONGEST_MESSAGE_BYTES))["pid"]
        finally:
            for own, asked in zip(opened, (given, out, errors), strict=True):
                if own != asked:
                    os.close(own)

    @property
    def returncode(self) -> int | None:
        return self.poll()

    def poll(self) -> int | None:
        return self._told(0)

    def _told(self, seconds: float | None) -> int | None:
        """The exit code, once the nursery has told it."""
        with self._asking:
            if self._code is None:
                self._line.settimeout(seconds)
                with suppress(BlockingIOError, TimeoutError):
                    told = self._line.recv(_LONGEST_MESSAGE_BYTES)
                    self._code = json.loads(told)["code"] if told else -signal.SIGKILL
                    self._line.close()
            return self._code

    def send_signal(self, number: int) -> None:
        if self.poll() is None:
            with suppress(ProcessLookupError):
                os.kill(self.pid, number)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)

    def wait(self, timeout: float | None = None) -> int:
        code = self._told(timeout)
        if code is None:
            raise subprocess.TimeoutExpired(self.words, timeout or 0.0)
        return code


def _opened(where: Path | str | int) -> int:
    return where if isinstance(where, int) else os.open(where, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o644)


def _umask() -> int:
    """Of this process, which its children inherit."""
    told = Path("/proc/self/status").read_text().partition("Umask:")[2]
    return int(told.split()[0], 8)


class ForkedReader(Forked):
    """A process that is asked and answers line by line: what desk/reading.py starts, as a fork."""

    def __init__(self, *bounds: str) -> None:
        given, ask = os.pipe()
        answer, out = os.pipe()
        super().__init__(["restless_tide.desk.reading", *bounds], out=out, errors=2, given=given)
        os.close(given)
        os.close(out)
        self.stdin, self.stdout = os.fdopen(ask, "w"), os.fdopen(answer)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        with suppress(BrokenPipeError):
            self.stdin.close()
        self.stdout.close()
        self.wait()


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


# the nursery


class _Nursery:
    """Forks on request, tells how each fork ended, and ends a fork whose asker is gone."""

    def __init__(self, address: str) -> None:
        self._listener = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._listener.bind(address)
        self._listener.listen(socket.SOMAXCONN)
        self._ended, wake = socket.socketpair()
        self._ended.setblocking(False)
        wake.setblocking(False)
        self._wake = wake
        signal.signal(signal.SIGCHLD, lambda *_: None)
        signal.set_wakeup_fd(wake.fileno(), warn_on_full_buffer=False)
        self._lines: dict[int, socket.socket] = {}
        self._looking = selectors.DefaultSelector()
        for what in (self._listener, self._ended, sys.stdin):
            self._looking.register(what, selectors.EVENT_READ)

    def serve(self) -> None:
        while True:
            for key, _ in self._looking.select():
                if key.fileobj is sys.stdin:
                    return
                if key.fileobj is self._listener:
                    self._fork()
                elif key.fileobj is self._ended:
                    with suppress(BlockingIOError):
                        self._ended.recv(4096)
                else:  # who asked is gone, or tells nothing that is listened to
                    self._forget(key.data)
            self._tell_ends()

    def _fork(self) -> None:
        line, _ = self._listener.accept()
        asked, opened, _, _ = socket.recv_fds(line, _LONGEST_MESSAGE_BYTES, len(_STANDARD))
        if not asked:
            line.close()
            return
        pid = os.fork()
        if pid == 0:
            os._exit(_live(json.loads(asked), opened))
        for descriptor in opened:
            os.close(descriptor)
        self._lines[pid] = line
        self._looking.register(line, selectors.EVENT_READ, pid)
        with suppress(OSError):
            line.send(json.dumps({"pid": pid}).encode())

    def _forget(self, pid: int) -> None:
        line = self._lines.pop(pid, None)
        if line is not None:
            self._looking.unregister(line)
            line.close()
            os.kill(pid, signal.SIGKILL)

    def _tell_ends(self) -> None:
        with suppress(ChildProcessError):
            while (ended := os.waitpid(-1, os.WNOHANG)) != (0, 0):
                line = self._lines.pop(ended[0], None)
                if line is not None:
                    self._looking.unregister(line)
                    with suppress(OSError):
                        line.send(json.dumps({"code": os.waitstatus_to_exitcode(ended[1])}).encode())
                    line.close()


def _live(wanted: dict[str, Any], opened: Sequence[int]) -> int:
    """The life of a fork: ``python -m`` of the first word with the others. Returns its exit code."""
    signal.set_wakeup_fd(-1)
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    os.setsid()
    ctypes.CDLL(None).prctl(_END_WITH_PARENT, signal.SIGKILL)
    for number, descriptor in zip(_STANDARD, opened, strict=True):
        os.dup2(descriptor, number)
    os.closerange(len(_STANDARD), os.sysconf("SC_OPEN_MAX"))
    os.environ.clear()
    os.environ.update(wanted["environment"])
    os.chdir(wanted["folder"])
    os.umask(wanted["umask"])
    sys.argv = wanted["words"]
    if wanted["plant"]:
        plant_double_send()
    code: Any = 1
    try:
        module = importlib.import_module(sys.argv[0])
        if hasattr(module, "__path__"):
            module = importlib.import_module(f"{sys.argv[0]}.__main__")
        code = module.main()
    except SystemExit as end:
        code = end.code
    except BaseException:  # noqa: BLE001  (as the interpreter does with what nobody has caught)
        traceback.print_exc()
    if isinstance(code, str):
        print(code, file=sys.stderr)
        code = 1
    with suppress(Exception):
        threading._shutdown()  # type: ignore[attr-defined]
    with suppress(OSError):
        sys.stdout.flush()
        sys.stderr.flush()
    return int(code or 0)


def plant_double_send() -> None:
    """Break what keeps a repeated call from acting twice: the mistake that the storm must catch."""
    from restless_tide.gateways.client import Gateway

    call = Gateway._call

    def careless(self: Gateway, method: str, path: str, kind: Any, *, key: str | None = None, **sent: Any) -> Any:
        fresh = f"{key}.{secrets.token_hex(3)}" if key and "/rollout" in path else key
        return call(self, method, path, kind, key=fresh, **sent)

    Gateway._call = careless  # type: ignore[method-assign]


def main() -> None:
    global _address
    _address = sys.argv[1]
    nursery = _Nursery(_address)
    importlib.import_module("tests.loaded")
    nursery.serve()


if __name__ == "__main__":
    sys.modules["tests.nursery"] = sys.modules["__main__"]
    main()
