"""Packages, symbol files, pictures and films are read apart: in a process with bounds on memory and time, so that a
hostile file harms nobody but itself.

    python -m restless_tide.desk.reading

A reader has the formats loaded and forks for each package; the fork is bounded by the kernel and ends with its
answer. Requests and answers are JSON, one document a line. A reader ends with the desk that started it.
"""

from __future__ import annotations

import json
import os
import resource
import secrets
import signal
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from restless_tide.core.crashes import read_symbols
from restless_tide.core.errors import Invalid, PackageUnreadable, TideError, TooLarge
from restless_tide.core.packages import Facts, inspect_package, read_icon
from restless_tide.core.picture_rules import PictureFormat
from restless_tide.core.pictures import PictureFacts, Recipe
from restless_tide.records import symbol_index

READERS = 2
MEMORY_BYTES = 1024 * 1024 * 1024
"""Beyond what the reader itself has mapped."""
PROCESSOR_SECONDS = 20
BYTES_A_SECOND = 20_000_000
"""A large file is given so much longer, for its digest."""
MOST_FACTS_BYTES = 16 * 1024 * 1024
_REMEDY = "A file that a build makes takes far less. Build it again, and look at what was changed in it since."


@dataclass(frozen=True)
class SymbolsTold:
    """What a symbol file is, and what ties it to a program; empty for a name map."""

    kind: str
    identity: str


class PackageReader:
    """The readers of one desk, started when the first package comes."""

    def __init__(self, memory_bytes: int = MEMORY_BYTES, processor_seconds: int = PROCESSOR_SECONDS) -> None:
        self._bounds = (str(memory_bytes), str(processor_seconds))
        self._idle: list[subprocess.Popen[str]] = []
        self._lock = threading.Lock()
        self._free = threading.BoundedSemaphore(READERS)

    def read(self, path: Path, sha256: str) -> Facts:
        """The facts of the package at ``path``. Raises PackageUnreadable, also where reading it goes beyond the bounds."""
        told = self._ask({"path": str(path), "sha256": sha256})
        if "facts" in told:
            return Facts.of(told["facts"])
        raise PackageUnreadable(told["detail"], remedy=told["remedy"], code=told["code"])

    def index_symbols(self, path: Path, name: str, index: Path) -> SymbolsTold:
        """Read the symbol file at ``path`` and write its names to ``index``, which appears whole or not at all.

        Raises Invalid, also where reading it goes beyond the bounds.
        """
        part = index.with_name(f"{index.name}.{secrets.token_hex(4)}")
        try:
            told = self._ask({"path": str(path), "symbols": name, "index": str(part)})
            if "kind" in told:
                part.replace(index)
        finally:
            part.unlink(missing_ok=True)
        if "kind" in told:
            return SymbolsTold(told["kind"], told["identity"])
        code = "symbols-unreadable" if told["code"] == PackageUnreadable.code else told["code"]
        raise Invalid(told["detail"], remedy=told["remedy"], code=code)

    def read_picture(self, path: Path, sha256: str) -> PictureFacts:
        """What the picture or film at ``path`` is. Raises Invalid or TooLarge, also where reading it goes beyond the bounds."""
        return PictureFacts(**self._drawn({"path": str(path), "sha256": sha256, "picture": "read"}))

    def make_picture(self, path: Path, recipe: Recipe, into: Path) -> None:
        """Make a file of the original at ``path``. Raises Invalid or TooLarge."""
        self._drawn({"path": str(path), "picture": "make", "recipe": asdict(recipe), "into": str(into)})

    def reduce_picture(self, path: Path, side: int, into: Path) -> None:
        """Write a small copy of a picture, or of the first moment of a film, with sides of ``side`` pixels at most."""
        self._drawn({"path": str(path), "picture": "reduce", "side": side, "into": str(into)})

    def icons_apart(self, path: Path, package: Path) -> float | None:
        """How far the picture at ``path`` is from the icon inside a package; None: one of them cannot be drawn."""
        told = self._drawn({"path": str(path), "picture": "compare", "package": str(package)})
        return None if told["apart"] is None else float(told["apart"])

    def _drawn(self, wanted: dict[str, Any]) -> dict[str, Any]:
        told = self._ask(wanted)
        if "drawn" in told:
            drawn: dict[str, Any] = told["drawn"]
            return drawn
        kind = TooLarge if told["code"] == "picture-too-large" else Invalid
        code = "picture-unreadable" if told["code"] == PackageUnreadable.code else told["code"]
        raise kind(told["detail"], remedy=told["remedy"], code=code)

    def _ask(self, wanted: dict[str, Any]) -> dict[str, Any]:
        """A reader's answer; one that ends without any is not used again."""
        told: dict[str, Any]
        try:
            with self._reader() as reader:
                assert reader.stdin is not None
                assert reader.stdout is not None
                reader.stdin.write(json.dumps(wanted) + "\n")
                reader.stdin.flush()
                told = json.loads(reader.stdout.readline())
        except (BrokenPipeError, json.JSONDecodeError):
            told = json.loads(_refused("The file could not be read."))
        return told

    def close(self) -> None:
        with self._lock:
            for reader in self._idle:
                _end(reader)
            self._idle.clear()

    @contextmanager
    def _reader(self) -> Iterator[subprocess.Popen[str]]:
        with self._free:
            with self._lock:
                reader = self._idle.pop() if self._idle else None
            if reader is not None and reader.poll() is not None:
                _end(reader)
                reader = None
            reader = reader or _start(*self._bounds)
            try:
                yield reader
            except BaseException:
                _end(reader)
                raise
            with self._lock:
                self._idle.append(reader)


def _start(*bounds: str) -> subprocess.Popen[str]:
    return subprocess.Popen(  # noqa: S603  (this very module)
        [sys.executable, "-P", "-m", __name__, *bounds],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        env={name: value for name, value in os.environ.items() if not name.startswith("TIDE_")},
        start_new_session=True,
    )


def _end(reader: subprocess.Popen[str]) -> None:
    with reader:
        reader.kill()


# in the reader


def main() -> None:
    """Read what is asked for until the desk is gone."""
    memory_bytes, processor_seconds = int(sys.argv[1]), int(sys.argv[2])
    from restless_tide.desk import picture_files  # noqa: F401  (loaded here once; the service itself never draws)

    for line in sys.stdin:
        asked = json.loads(line)
        sys.stdout.write(_read_apart(asked, memory_bytes, processor_seconds) + "\n")
        sys.stdout.flush()


def _read_apart(asked: dict[str, Any], memory_bytes: int, processor_seconds: int) -> str:
    """The answer of a fork that reads one file, or what its end says."""
    out, into = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.close(out)
            _bound(memory_bytes, processor_seconds + os.path.getsize(asked["path"]) // BYTES_A_SECOND)
            with os.fdopen(into, "w") as answer:
                answer.write(_answer(asked))
            os._exit(0)
        except MemoryError:
            os._exit(1)
        except BaseException:  # noqa: BLE001  (whatever it is, it ends this fork, and the reader says so)
            os._exit(2)
    os.close(into)
    with os.fdopen(out, "rb") as answer:
        content = answer.read(MOST_FACTS_BYTES + 1)
    endless = len(content) > MOST_FACTS_BYTES
    if endless:
        os.kill(child, signal.SIGKILL)
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    if endless:
        return _refused(f"The file says more of itself than {MOST_FACTS_BYTES // 1024**2} MiB.")
    if code == 0:
        return content.decode()
    if code in (-signal.SIGXCPU, -signal.SIGKILL):
        return _refused(f"It takes more than {processor_seconds} seconds of a processor to read this file.")
    if code == 1:
        return _refused(f"It takes more than {memory_bytes // 1024**2} MiB of memory to read this file.")
    return _refused("The file could not be read.")


def _bound(memory_bytes: int, seconds: int) -> None:
    pages = int(Path("/proc/self/statm").read_text().split()[5]) if sys.platform == "linux" else 0
    memory = pages * resource.getpagesize() + memory_bytes  # of data: the file itself may be mapped as a whole
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_DATA, (memory, memory))
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 5))


def _answer(asked: dict[str, Any]) -> str:
    try:
        if "picture" in asked:
            return json.dumps({"drawn": _draw(asked)})
        if "symbols" in asked:
            found = read_symbols(Path(asked["path"]).read_bytes(), asked["symbols"])
            symbol_index.write(Path(asked["index"]), found)
            return json.dumps({"kind": found.kind, "identity": found.identity})
        with open(asked["path"], "rb") as source:
            facts = inspect_package(source, asked["sha256"])
    except TideError as wrong:
        return _refused(wrong.detail, wrong.remedy, wrong.code)
    return json.dumps({"facts": facts.document()})


def _draw(asked: dict[str, Any]) -> dict[str, Any]:
    """What is asked of a picture or a film."""
    from restless_tide.desk import picture_files

    path = Path(asked["path"])
    match asked["picture"]:
        case "read":
            return asdict(picture_files.read_file(path, asked["sha256"]))
        case "make":
            told = asked["recipe"]
            recipe = Recipe(**{**told, "format": PictureFormat(told["format"])})
            picture_files.make(path, recipe, Path(asked["into"]))
        case "reduce":
            picture_files.reduce(path, asked["side"], Path(asked["into"]))
        case "compare":
            with open(asked["package"], "rb") as source:
                icon = read_icon(source, inspect_package(source))
            return {"apart": picture_files.apart(path, icon) if icon is not None else None}
    return {}


def _refused(detail: str, remedy: str = _REMEDY, code: str = PackageUnreadable.code) -> str:
    told: dict[str, Any] = {"detail": detail, "remedy": remedy, "code": code}
    return json.dumps(told)


if __name__ == "__main__":
    main()
