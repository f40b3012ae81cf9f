"""A maker of demo packages: small but real files in the formats' own binary forms.

An APK gets a binary manifest written chunk by chunk and a signing block; an IPA gets a binary property
list, a profile and the header of a program. The tests hold them against independent readers.
"""

from __future__ import annotations

import base64
import hashlib
import plistlib
import random
import struct
import zipfile
import zlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from xml.sax.saxutils import escape, quoteattr

from cryptography.x509 import Certificate

from restless_tide.standins.signing import certificate_of, profile, signed_apk

_ANDROID = "http://schemas.android.com/apk/res/android"
_ATTRIBUTES = {
    "label": 0x01010001,
    "icon": 0x01010002,
    "name": 0x01010003,
    "debuggable": 0x0101000F,
    "minSdkVersion": 0x0101020C,
    "versionCode": 0x0101021B,
    "versionName": 0x0101021C,
    "targetSdkVersion": 0x01010270,
}
ICON_ABOVE, ICON_BELOW = (0x2F, 0x6F, 0x5E), (0x9F, 0xC9, 0xB8)
"""The two colours of the sample packages' icon."""
_NOTHING = 0xFFFFFFFF
_NOISE_BLOCK_BYTES = 16 * 1024 * 1024
_MOMENT = (2026, 1, 1, 0, 0, 0)


@dataclass(frozen=True)
class PackageRecipe:
    """What the package shall say of itself; ``padding_bytes`` of seeded noise make it as large as wanted.

    Without a ``signer`` an APK is not signed. ``reason`` is why an IPA asks for each of its permissions.
    """

    identifier: str
    version: str
    number: int | str
    label: str
    permissions: Sequence[str] = ()
    lowest_platform: int = 26
    target_platform: int = 34
    padding_bytes: int = 50_000
    processor: str = "x64"
    processors: Sequence[str] = ("arm64-v8a",)
    signer: str = "Saltgrass upload"
    signer_begins: datetime = datetime(2026, 1, 1, tzinfo=UTC)
    profile_ends: datetime = datetime(2047, 9, 1, tzinfo=UTC)
    devices: Sequence[str] | None = None
    rights: Sequence[str] = ()
    icon_pixels: int = 192
    icon_transparent: bool = False
    reason: str | None = None
    debuggable: bool = False
    locales: Sequence[str] = ("en", "de")

    @property
    def certificate(self) -> Certificate:
        return certificate_of(self.signer, self.signer_begins, 9_000)


def write_apk(path: Path, recipe: PackageRecipe) -> Path:
    """Write an APK; the same recipe gives the same bytes."""
    with zipfile.ZipFile(path, "w") as archive:
        _store(archive, "AndroidManifest.xml", _manifest(recipe), zipfile.ZIP_DEFLATED)
        _store(archive, "res/icon.png", _icon(recipe), zipfile.ZIP_STORED)
        _store(archive, "assets/map.bin", _noise(recipe), zipfile.ZIP_STORED)
        for processor in recipe.processors:
            _store(archive, f"lib/{processor}/libdiary.so", b"\x7fELF" + bytes(4092), zipfile.ZIP_DEFLATED)
    if recipe.signer:
        path.write_bytes(signed_apk(path.read_bytes(), recipe.signer, recipe.certificate))
    return path


def write_ipa(path: Path, recipe: PackageRecipe) -> Path:
    """Write an IPA; the same recipe gives the same bytes."""
    info = {
        "CFBundleIdentifier": recipe.identifier,
        "CFBundleShortVersionString": recipe.version,
        "CFBundleVersion": str(recipe.number),
        "CFBundleDisplayName": recipe.label,
        "CFBundleExecutable": recipe.label,
        "CFBundleIcons": {"CFBundlePrimaryIcon": {"CFBundleIconFiles": ["AppIcon60x60"]}},
        "UIDeviceFamily": [1, 2],
        "ITSAppUsesNonExemptEncryption": False,
        "MinimumOSVersion": "16.0",
        "DTPlatformVersion": "18.0",
        **dict.fromkeys(
            recipe.permissions,
            recipe.reason if recipe.reason is not None else f"{recipe.label} needs it for your diary.",
        ),
    }
    folder = f"Payload/{recipe.label}.app"
    with zipfile.ZipFile(path, "w") as archive:
        _store(archive, f"{folder}/Info.plist", plistlib.dumps(info, fmt=plistlib.FMT_BINARY), zipfile.ZIP_DEFLATED)
        _store(archive, f"{folder}/{recipe.label}", _PROGRAM, zipfile.ZIP_DEFLATED)
        _store(archive, f"{folder}/AppIcon60x60@3x.png", _icon(recipe), zipfile.ZIP_STORED)
        permit = profile(
            recipe.signer, recipe.identifier, recipe.certificate, recipe.profile_ends,
            devices=recipe.devices, rights=recipe.rights,
        )  # fmt: skip
        _store(archive, f"{folder}/embedded.mobileprovision", permit, zipfile.ZIP_DEFLATED)
        for locale in recipe.locales:
            strings = plistlib.dumps({"CFBundleDisplayName": recipe.label}, fmt=plistlib.FMT_BINARY)
            _store(archive, f"{folder}/{locale}.lproj/InfoPlist.strings", strings, zipfile.ZIP_DEFLATED)
        _store(archive, f"{folder}/map.bin", _noise(recipe), zipfile.ZIP_STORED)
    return path


def write_msix(path: Path, recipe: PackageRecipe) -> Path:
    """Write an MSIX package for one processor kind, with its block map; the same recipe gives the same bytes."""
    content = {
        "AppxManifest.xml": _msix_manifest(recipe).encode(),
        "[Content_Types].xml": _CONTENT_TYPES.encode(),
        "Assets/Logo.png": _icon(recipe),
        "map.bin": _noise(recipe),
    }
    content["AppxBlockMap.xml"] = _block_map({name: part for name, part in content.items() if name[0] != "["}).encode()
    with zipfile.ZipFile(path, "w") as archive:
        for name, part in content.items():
            _store(archive, name, part, zipfile.ZIP_STORED)
    return path


def write_msix_bundle(path: Path, packages: Sequence[Path], recipe: PackageRecipe) -> Path:
    """Write a bundle of packages that were written before, one for each processor kind."""
    listed = "".join(
        f'<Package Type="application" Version="{recipe.version}.{recipe.number}" FileName={quoteattr(package.name)} />'
        for package in packages
    )
    manifest = (
        '<?xml version="1.0" encoding="UTF-8"?><Bundle xmlns="http://schemas.microsoft.com/appx/2013/bundle">'
        f'<Identity Name={quoteattr(recipe.identifier)} Publisher="CN=Saltgrass Collective, C=DE"'
        f' Version="{recipe.version}.{recipe.number}"/><Packages>{listed}</Packages></Bundle>'
    )
    content = {"AppxMetadata/AppxBundleManifest.xml": manifest.encode()}
    with zipfile.ZipFile(path, "w") as archive:
        for package in packages:
            _store(archive, package.name, package.read_bytes(), zipfile.ZIP_STORED)
        for name, part in content.items():
            _store(archive, name, part, zipfile.ZIP_DEFLATED)
        _store(archive, "AppxBlockMap.xml", _block_map(content).encode(), zipfile.ZIP_DEFLATED)
    return path


def _icon(recipe: PackageRecipe) -> bytes:
    return picture(recipe.icon_pixels, transparent=recipe.icon_transparent)


def picture(pixels: int, *, transparent: bool = False) -> bytes:
    """A plain square PNG in the scenario's green; with transparency where it is wanted."""

    def chunk(kind: bytes, content: bytes) -> bytes:
        return struct.pack(">I", len(content)) + kind + content + struct.pack(">I", zlib.crc32(kind + content))

    veil, kind_of_colour = (b"\x80", 6) if transparent else (b"", 2)
    half = b"\x00" + (bytes(ICON_ABOVE) + veil) * pixels
    wave = b"\x00" + (bytes(ICON_BELOW) + veil) * pixels
    rows = zlib.compress(half * (pixels // 2) + wave * (pixels - pixels // 2))
    head = struct.pack(">IIBBBBB", pixels, pixels, 8, kind_of_colour, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", rows) + chunk(b"IEND", b"")


# a 64-bit program for phones: header, and the command that names the platform it was built for
_PROGRAM = struct.pack("<8I", 0xFEEDFACF, 0x0100000C, 0, 2, 1, 24, 0, 0) + struct.pack(
    "<6I", 0x32, 24, 2, 0x100000, 0x120000, 0
)

_CONTENT_TYPES = (
    '<?xml version="1.0" encoding="UTF-8"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
    '<Default Extension="xml" ContentType="application/vnd.ms-appx.manifest+xml"/>'
    '<Default Extension="bin" ContentType="application/octet-stream"/>'
    '<Default Extension="png" ContentType="image/png"/></Types>'
)
_BLOCK_BYTES = 65_536


def _msix_manifest(recipe: PackageRecipe) -> str:
    capabilities = "".join(f"<Capability Name={quoteattr(name)}/>" for name in recipe.permissions)
    languages = "".join(f"<Resource Language={quoteattr(name)}/>" for name in recipe.locales)
    return f"""<?xml version="1.0" encoding="utf-8"?>
<Package xmlns="http://schemas.microsoft.com/appx/manifest/foundation/windows10">
  <Identity Name={quoteattr(recipe.identifier)} Version="{recipe.version}.{recipe.number}"
    ProcessorArchitecture={quoteattr(recipe.processor)} Publisher="CN=Saltgrass Collective, C=DE"/>
  <Properties><DisplayName>{escape(recipe.label)}</DisplayName><Logo>Assets\\Logo.png</Logo></Properties>
  <Dependencies><TargetDeviceFamily Name="Desktop" MinVersion="10.0.17763.0" MaxVersionTested="10.0.22621.0"/></Dependencies>
  <Resources>{languages}</Resources>
  <Capabilities>{capabilities}</Capabilities>
</Package>
"""


def _block_map(parts: dict[str, bytes]) -> str:
    files = "".join(
        f'<File Name={quoteattr(name.replace("/", chr(92)))} Size="{len(part)}">'
        + "".join(
            f'<Block Hash="{base64.b64encode(hashlib.sha256(part[at : at + _BLOCK_BYTES]).digest()).decode()}"/>'
            for at in range(0, len(part), _BLOCK_BYTES)
        )
        + "</File>"
        for name, part in parts.items()
    )
    return (
        '<?xml version="1.0" encoding="UTF-8"?><BlockMap xmlns="http://schemas.microsoft.com/appx/2010/blockmap"'
        f' HashMethod="http://www.w3.org/2001/04/xmlenc#sha256">{files}</BlockMap>'
    )


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
        {"versionCode": int(recipe.number), "versionName": recipe.version},
        {"package": recipe.identifier},
    )
    body += _begin(
        strings, "uses-sdk", {"minSdkVersion": recipe.lowest_platform, "targetSdkVersion": recipe.target_platform}
    )
    body += _end(strings, "uses-sdk")
    for permission in recipe.permissions:
        body += _begin(strings, "uses-permission", {"name": permission}) + _end(strings, "uses-permission")
    application: dict[str, str | int] = {"label": recipe.label, "icon": "res/icon.png"}
    if recipe.debuggable:
        application["debuggable"] = True
    body += _begin(strings, "application", application) + _end(strings, "application")
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
    if isinstance(value, bool):
        return struct.pack("<IIIHBBI", namespace, strings.index(name), _NOTHING, 8, 0, 0x12, _NOTHING if value else 0)
    if isinstance(value, int):
        return struct.pack("<IIIHBBI", namespace, strings.index(name), _NOTHING, 8, 0, 0x10, value)
    text = strings.index(value)
    return struct.pack("<IIIHBBI", namespace, strings.index(name), text, 8, 0, 0x03, text)


def _end(strings: _Strings, name: str) -> bytes:
    return struct.pack("<HHIIIII", 0x0103, 16, 24, 1, _NOTHING, _NOTHING, strings.index(name))
