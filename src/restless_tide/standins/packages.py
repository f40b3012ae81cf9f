"""A maker of demo packages: small but real files in the formats' own binary forms.

An APK gets a binary manifest written chunk by chunk; an IPA gets a binary property list. Neither is
signed. The tests hold them against independent readers.
"""

from __future__ import annotations

import plistlib
import random
import struct
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

_ANDROID = "http://schemas.android.com/apk/res/android"
_ATTRIBUTES = {
    "label": 0x01010001,
    "name": 0x01010003,
    "minSdkVersion": 0x0101020C,
    "versionCode": 0x0101021B,
    "versionName": 0x0101021C,
    "targetSdkVersion": 0x01010270,
}
_NOTHING = 0xFFFFFFFF
_NOISE_BLOCK_BYTES = 16 * 1024 * 1024
_MOMENT = (2026, 1, 1, 0, 0, 0)


@dataclass(frozen=True)
class PackageRecipe:
    """What the package shall say of itself; ``padding_bytes`` of seeded noise make it as large as wanted."""

    identifier: str
    version: str
    number: int
    label: str
    permissions: Sequence[str] = ()
    lowest_platform: int = 26
    target_platform: int = 34
    padding_bytes: int = 50_000


def write_apk(path: Path, recipe: PackageRecipe) -> Path:
    """Write an APK; the same recipe gives the same bytes."""
    with zipfile.ZipFile(path, "w") as archive:
        _store(archive, "AndroidManifest.xml", _manifest(recipe), zipfile.ZIP_DEFLATED)
        _store(archive, "assets/map.bin", _noise(recipe), zipfile.ZIP_STORED)
    return path


def write_ipa(path: Path, recipe: PackageRecipe) -> Path:
    """Write an IPA; the same recipe gives the same bytes."""
    info = {
        "CFBundleIdentifier": recipe.identifier,
        "CFBundleShortVersionString": recipe.version,
        "CFBundleVersion": str(recipe.number),
        "CFBundleDisplayName": recipe.label,
        "MinimumOSVersion": "16.0",
        "DTPlatformVersion": "18.0",
        **dict.fromkeys(recipe.permissions, f"{recipe.label} needs it for your diary."),
    }
    folder = f"Payload/{recipe.label}.app"
    with zipfile.ZipFile(path, "w") as archive:
        _store(archive, f"{folder}/Info.plist", plistlib.dumps(info, fmt=plistlib.FMT_BINARY), zipfile.ZIP_DEFLATED)
        _store(archive, f"{folder}/map.bin", _noise(recipe), zipfile.ZIP_STORED)
    return path


def _store(archive: zipfile.ZipFile, name: str, content: bytes, compression: int) -> None:
    member = zipfile.ZipInfo(name, _MOMENT)
    member.compress_type = compression
    archive.writestr(member, content)


def _noise(recipe: PackageRecipe) -> bytes:
    dice = random.Random(f"{recipe.identifier} {recipe.version} {recipe.number}")
    blocks = (
        min(_NOISE_BLOCK_BYTES, recipe.padding_bytes - at) for at in range(0, recipe.padding_bytes, _NOISE_BLOCK_BYTES)
    )
    return b"".join(dice.randbytes(size) for size in blocks)


@dataclass
class _Strings:
    """The string pool while it is being filled; attribute names come first, so that the resource map fits."""

    known: list[str] = field(default_factory=lambda: list(_ATTRIBUTES))

    def index(self, text: str) -> int:
        if text not in self.known:
            self.known.append(text)
        return self.known.index(text)

    def chunk(self) -> bytes:
        offsets, blob = [], b""
        for text in self.known:
            offsets.append(len(blob))
            blob += struct.pack("<H", len(text)) + text.encode("utf-16-le") + b"\0\0"
        blob += b"\0" * (-len(blob) % 4)
        header = 28 + 4 * len(offsets)
        body = struct.pack("<IIIII", len(offsets), 0, 0, header, 0) + struct.pack(f"<{len(offsets)}I", *offsets) + blob
        return struct.pack("<HHI", 0x0001, 28, 8 + len(body)) + body


def _manifest(recipe: PackageRecipe) -> bytes:
    strings = _Strings()
    body = _namespace(strings, 0x0100)
    body += _begin(
        strings,
        "manifest",
        {"versionCode": recipe.number, "versionName": recipe.version},
        {"package": recipe.identifier},
    )
    body += _begin(
        strings, "uses-sdk", {"minSdkVersion": recipe.lowest_platform, "targetSdkVersion": recipe.target_platform}
    )
    body += _end(strings, "uses-sdk")
    for permission in recipe.permissions:
        body += _begin(strings, "uses-permission", {"name": permission}) + _end(strings, "uses-permission")
    body += _begin(strings, "application", {"label": recipe.label}) + _end(strings, "application")
    body += _end(strings, "manifest") + _namespace(strings, 0x0101)
    resource_map = struct.pack(f"<HHI{len(_ATTRIBUTES)}I", 0x0180, 8, 8 + 4 * len(_ATTRIBUTES), *_ATTRIBUTES.values())
    content = strings.chunk() + resource_map + body
    return struct.pack("<HHI", 0x0003, 8, 8 + len(content)) + content


def _namespace(strings: _Strings, kind: int) -> bytes:
    return struct.pack("<HHIIIII", kind, 16, 24, 1, _NOTHING, strings.index("android"), strings.index(_ANDROID))


def _begin(
    strings: _Strings, name: str, attributes: dict[str, str | int], plain: dict[str, str] | None = None
) -> bytes:
    packed = [
        _attribute(strings, strings.index(_ANDROID), key, attributes[key])
        for key in sorted(attributes, key=list(_ATTRIBUTES).index)
    ]
    packed += [_attribute(strings, _NOTHING, key, value) for key, value in (plain or {}).items()]
    body = struct.pack(
        "<IIIIHHHHHH", 1, _NOTHING, _NOTHING, strings.index(name), 20, 20, len(packed), 0, 0, 0
    ) + b"".join(packed)
    return struct.pack("<HHI", 0x0102, 16, 8 + len(body)) + body


def _attribute(strings: _Strings, namespace: int, name: str, value: str | int) -> bytes:
    if isinstance(value, int):
        return struct.pack("<IIIHBBI", namespace, strings.index(name), _NOTHING, 8, 0, 0x10, value)
    text = strings.index(value)
    return struct.pack("<IIIHBBI", namespace, strings.index(name), text, 8, 0, 0x03, text)


def _end(strings: _Strings, name: str) -> bytes:
    return struct.pack("<HHIIIII", 0x0103, 16, 24, 1, _NOTHING, _NOTHING, strings.index(name))
