"""A stable fingerprint of a crash: equal crashes of other builds, phones and days have the same one.

It is made of what stays: the kind of error, and the class and function of the innermost frames of the
app's own code. Lines, addresses, messages, and the names that compilers make up anew with each build are
left out; a recursion counts once, however deep it went.
"""

from __future__ import annotations

import hashlib
import re
from itertools import groupby

from restless_tide.core.crashes.stack import Crash, Frame

FRAMES = 5
_RUNTIME = (
    "java.", "javax.", "kotlin.", "kotlinx.", "android.", "androidx.", "dalvik.", "libcore.", "com.android.", "sun.", "jdk.",
    "libsystem", "libobjc", "libdispatch", "libc.so", "libart", "libswift", "CoreFoundation", "Foundation", "UIKit", "ntdll",
    "kernel32", "KERNELBASE", "ucrtbase", "linux-vdso", "dyld",
)  # fmt: skip
_MADE_UP = (
    (re.compile(r"\$\$?(?:Lambda|ExternalSyntheticLambda|lambda)[\w$/-]*"), "$lambda"),
    (re.compile(r"lambda\$([\w]+)\$\d+"), r"lambda$\1"),
    (re.compile(r"\$\d+"), "$"),
    (re.compile(r"(?:\.|_)(?:constprop|isra|part|cold|llvm)[.\d]*"), ""),
    (re.compile(r"\$[sS][\w$]*?TW$"), ""),
    (re.compile(r"(?:-\$\$Nest\$\w+)"), ""),
)


def own_frames(crash: Crash) -> list[Frame]:
    """The frames of the app's own code; all of them where none is its own."""
    own = [frame for frame in crash.frames if not frame.module.startswith(_RUNTIME)]
    return own or list(crash.frames)


def fingerprint(crash: Crash) -> str:
    """32 hexadecimal digits: SHA-256, cut, over the kind of error and the innermost own frames."""
    names = [_steady(frame) for frame in own_frames(crash)]
    steady = _without_recursion([name for name, _ in groupby(names)])[:FRAMES]
    return hashlib.sha256("\n".join([_plain(crash.thrown), *steady]).encode()).hexdigest()[:32]


def _without_recursion(names: list[str]) -> list[str]:
    """Each name where it is first met; functions that call each other in turn count once."""
    return list(dict.fromkeys(names))


def headline(crash: Crash) -> str:
    """The crash in a line: what was thrown, and where."""
    own = own_frames(crash)
    thrown = crash.thrown.rpartition(".")[2] or crash.thrown
    if not own:
        return thrown
    frame = own[0]
    name = ".".join(part for part in (frame.module.rpartition(".")[2], frame.function) if part)
    return f"{thrown} in {name}" if frame.function else f"{thrown} at {frame.told}"


def _steady(frame: Frame) -> str:
    if not frame.function and frame.address is not None:
        return f"{frame.module}+{frame.address:x}"
    return _plain(f"{frame.module}.{frame.function}")


def _plain(name: str) -> str:
    for made_up, instead in _MADE_UP:
        name = made_up.sub(instead, name)
    return name
