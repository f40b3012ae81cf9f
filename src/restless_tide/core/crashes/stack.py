"""A crash as it came in: what was thrown, and the frames it came through, the innermost first.

Two forms are read: the text that a Java or Kotlin runtime prints, and lines of a native backtrace with
an image and an address in it. What is structured already comes in as frames.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

MOST_FRAMES = 256
LONGEST_STACK = 200_000
_LINE_NUMBER = re.compile(r"[0-9]{1,9}")
_THROWN = re.compile(
    r"^(?:Exception in thread \"[^\"]*\" |Caused by: |FATAL EXCEPTION: .*\n)?([\w$.]+(?:[\w$]))(?:: (.*))?$"
)
_MANAGED = re.compile(r"^\s*at ([\w$.<>/-]+)\.([\w$<>-]+)\(([^)]*)\)\s*$")
_OFFSET_FIRST = re.compile(r"^\s*#?\d+\s+(?:pc\s+)?(?:0x)?([0-9a-fA-F]{4,16})\s+(\S+)(?:\s+\(([^()+]+)\+\d+\))?.*$")
_IMAGE_FIRST = re.compile(r"^\s*#?\d+\s+(\S+)\s+0x[0-9a-fA-F]+\s+(\S.*?)\s\+\s(\d+)\s*$")
_MORE = re.compile(r"^\s*\.\.\. \d+ (?:more|common frames omitted)")


@dataclass(frozen=True, slots=True)
class Frame:
    """One call. ``module`` is a class or an image; ``address`` an offset into the image where no name is known yet."""

    module: str = ""
    function: str = ""
    file: str = ""
    line: int | None = None
    address: int | None = None

    @property
    def told(self) -> str:
        """As a person reads it."""
        name = f"{self.module}.{self.function}" if self.function else self.module
        if not self.function and self.address is not None:
            name = f"{self.module} at {self.address:#x}"
        where = f"{self.file}:{self.line}" if self.file and self.line else self.file
        return f"{name} ({where})" if where else name


@dataclass(frozen=True)
class Crash:
    """``thrown`` is the kind of error, ``message`` its own words, which differ from phone to phone."""

    thrown: str
    message: str = ""
    frames: tuple[Frame, ...] = ()
    symbolised: bool = False

    def through(self, frames: tuple[Frame, ...], thrown: str | None = None) -> Crash:
        """The same crash with names brought back."""
        return replace(self, frames=frames, thrown=thrown or self.thrown, symbolised=True)


def read_stack(text: str) -> Crash | None:
    """Read a stack; None when the text holds no frame. Of nested errors the innermost cause counts.

    It is what went wrong; what wrapped it differs by who noticed.
    """
    thrown = message = ""
    frames: list[Frame] = []
    for line in text[:LONGEST_STACK].splitlines():
        if _MORE.match(line) or not line.strip():
            continue
        managed = _MANAGED.match(line)
        if managed:
            if len(frames) < MOST_FRAMES:
                frames.append(_managed(*managed.groups()))
            continue
        native = _native(line)
        if native is not None:
            if len(frames) < MOST_FRAMES:
                frames.append(native)
            continue
        named = _THROWN.match(line.strip())
        if named and ("." in named.group(1) or not thrown):
            if line.lstrip().startswith("Caused by:"):
                frames = []
            elif frames:
                continue
            thrown, message = named.group(1), (named.group(2) or "").strip()
    return Crash(thrown or "crash", message, tuple(frames)) if frames else None


def _managed(module: str, function: str, where: str) -> Frame:
    file, _, line = where.partition(":")
    known = file not in ("Unknown Source", "Native Method", "SourceFile")
    return Frame(module, function, file if known else "", int(line) if _LINE_NUMBER.fullmatch(line) else None)


def _native(line: str) -> Frame | None:
    """A line with an offset and an image, or with an image, an address and a place that it is counted from."""
    found = _OFFSET_FIRST.match(line)
    if found:
        offset, image, name = found.groups()
        return Frame(image.rpartition("/")[2], (name or "").strip(), address=int(offset, 16))
    found = _IMAGE_FIRST.match(line)
    if found:
        image, base, distance = found.groups()
        if base.startswith("0x"):
            return Frame(image, address=int(distance))
        return Frame(image, base)
    return None
