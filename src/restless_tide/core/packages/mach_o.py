"""The header of a Mach-O file: processor kinds and the platform it was built for.

Source: the public headers of the format (mach-o/loader.h, mach-o/fat.h).
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

HEADER_BYTES = 64 * 1024
_THIN = {
    b"\xcf\xfa\xed\xfe": ("<", 32),
    b"\xce\xfa\xed\xfe": ("<", 28),
    b"\xfe\xed\xfa\xcf": (">", 32),
    b"\xfe\xed\xfa\xce": (">", 28),
}
_FAT, _FAT_64 = b"\xca\xfe\xba\xbe", b"\xca\xfe\xba\xbf"
_PROCESSORS = {7: "i386", 0x01000007: "x86_64", 12: "arm", 0x0100000C: "arm64", 0x0200000C: "arm64_32"}
_SUBTYPES = {(12, 9): "armv7", (12, 11): "armv7s", (0x0100000C, 2): "arm64e"}
_BUILD_VERSION, _LOWEST_PHONE = 0x32, 0x25
_OF_COMPUTERS = (7, 0x01000007)
_SIMULATORS = (7, 8, 9, 12)
_SLICES_LIMIT = 30
_COMMANDS_LIMIT = 500


@dataclass(frozen=True)
class Binary:
    """``slices``: where each program of a file for several processors begins, in bytes, as far as it is not looked at yet."""

    processors: tuple[str, ...]
    simulator: bool
    slices: tuple[int, ...] = ()


def read_mach_o(start: bytes) -> Binary | None:
    """What the first bytes of a file say; None when it is no Mach-O file."""
    try:
        if start[:4] in _THIN:
            return _thin(start)
        if start[:4] in (_FAT, _FAT_64):
            return _fat(start)
    except struct.error:
        return None
    return None


def _thin(start: bytes) -> Binary:
    order, header_bytes = _THIN[start[:4]]
    processor, subtype, _, commands = struct.unpack_from(f"{order}IIII", start, 4)
    simulator, at = False, header_bytes
    for _ in range(min(commands, _COMMANDS_LIMIT)):
        if at + 12 > len(start):
            break
        command, size, platform = struct.unpack_from(f"{order}III", start, at)
        if command == _BUILD_VERSION and platform in _SIMULATORS:
            simulator = True
        if command == _LOWEST_PHONE and processor in _OF_COMPUTERS:  # phones have none of these processors
            simulator = True
        if size < 8:
            break
        at += size
    return Binary((_name(processor, subtype),), simulator)


def _fat(start: bytes) -> Binary | None:
    (count,) = struct.unpack_from(">I", start, 4)
    if not 0 < count <= _SLICES_LIMIT:  # the same first bytes begin a compiled Java class
        return None
    form, stride = (">IIQ", 32) if start[:4] == _FAT_64 else (">III", 20)
    kinds = [struct.unpack_from(form, start, 8 + place * stride) for place in range(count)]
    names = tuple(sorted({_name(processor, subtype) for processor, subtype, _ in kinds}))
    return Binary(names, False, tuple(sorted(at for _, _, at in kinds)))


def _name(processor: int, subtype: int) -> str:
    return _SUBTYPES.get((processor, subtype & 0xFFFFFF)) or _PROCESSORS.get(processor, f"kind {processor:#x}")
