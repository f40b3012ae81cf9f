"""Packages made by Debian's real Android tools, and what those tools say of them."""

from __future__ import annotations

import atexit
import hashlib
import os
import plistlib
import re
import shutil
import struct
import subprocess
import tempfile
import zipfile
import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import cache
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import dsa, ec, rsa
from cryptography.hazmat.primitives.serialization import pkcs12
from cryptography.x509.oid import NameOID

FRAMEWORK = Path("/usr/share/android-framework-res/framework-res.apk")

MANIFEST = """<?xml version="1.0" encoding="utf-8"?>
<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="{identifier}"
    android:versionCode="{number}" android:versionName="{version}">
  <uses-sdk android:minSdkVersion="{lowest}" android:targetSdkVersion="{target}"/>
  {permissions}
  <application android:label="@string/app_name" {icon} android:hasCode="false" android:debuggable="{debuggable}"
    android:testOnly="{test_only}"/>
</manifest>
"""

STRINGS = """<?xml version="1.0" encoding="utf-8"?>
<resources><string name="app_name">{label}</string></resources>
"""

PASSWORD = "dune-grass"


QUICK_JAVA = os.environ | {"JAVA_TOOL_OPTIONS": "-XX:TieredStopAtLevel=1 -XX:+UseSerialGC -Xshare:auto"}
"""Each of these tools lives for a second, most of which a compiler would spend on code that is never used again."""


def run(*command: str | Path) -> str:
    words = [str(part) for part in command]
    return subprocess.run(words, check=True, capture_output=True, text=True, env=QUICK_JAVA).stdout


@cache
def _kept() -> Path:
    """Where this process keeps what the tools have made already."""
    folder = tempfile.mkdtemp(prefix="tide-made-")
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return Path(folder)


@dataclass(frozen=True)
class Recipe:
    identifier: str = "org.example.saltgrass.marram"
    version: str = "2.4.0"
    number: int = 17
    lowest: int = 24
    target: int = 29
    permissions: tuple[str, ...] = ("android.permission.INTERNET", "android.permission.VIBRATE")
    limited: tuple[tuple[str, str], ...] = ()
    features: tuple[str, ...] = ()
    label: str = "Marram"
    locales: tuple[str, ...] = ("de",)
    icon_pixels: tuple[int, ...] = ()
    processors: tuple[str, ...] = ()
    padding_bytes: int = 0
    debuggable: bool = False
    test_only: bool = False
    splits: tuple[str, ...] = ()
    """Configurations that go into packages of their own."""


def make_key(folder: Path, name: str = "upload", algorithm: str = "RSA") -> Path:
    """A key store with one key; one of the same name and algorithm is the same key."""
    key = _kept() / f"{name}-{algorithm}.keystore"
    if not key.exists():
        key.write_bytes(_key_store(name, algorithm))
    folder.mkdir(parents=True, exist_ok=True)
    return Path(shutil.copyfile(key, folder / f"{name}.keystore"))


def _key_store(name: str, algorithm: str) -> bytes:
    """PKCS #12, with a certificate that the key has signed itself."""
    match algorithm:
        case "EC":
            made: Any = ec.generate_private_key(ec.SECP256R1())
        case "DSA":
            made = dsa.generate_private_key(2048)
        case _:
            made = rsa.generate_private_key(65_537, 2048)
    whose = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, f"Saltgrass {name}")])
    begins = datetime(2026, 1, 1, tzinfo=UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(whose)
        .issuer_name(whose)
        .public_key(made.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(begins)
        .not_valid_after(begins + timedelta(days=9000))
        .sign(made, hashes.SHA256())
    )
    sealed = serialization.BestAvailableEncryption(PASSWORD.encode())
    return pkcs12.serialize_key_and_certificates(name.encode(), made, certificate, None, sealed)


def make_apk(folder: Path, recipe: Recipe, *options: str | Path, key: Path | None = None) -> Path:
    """An APK compiled and linked by aapt2, aligned by zipalign, signed by apksigner with ``options``."""
    if key is not None:
        return _make_apk(folder, recipe, options, key)
    kept = _kept() / hashlib.sha256(repr((recipe, options)).encode()).hexdigest()[:16] / "made"
    made = kept / f"app-{recipe.number}.apk"
    if not made.exists():
        _make_apk(kept, recipe, options, make_key(kept.parent))
    make_key(folder.parent)
    shutil.copytree(kept, folder, dirs_exist_ok=True)
    return folder / made.name


def _make_apk(folder: Path, recipe: Recipe, options: tuple[str | Path, ...], key: Path) -> Path:
    linked = link_apk(folder, recipe)
    for each in (linked, *sorted(folder.glob("split-*.linked"))):
        sign_apk(each, key, *options)
    return linked.with_suffix(".apk")


def sign_apk(linked: Path, key: Path | None, *options: str | Path) -> Path:
    """Align and sign with ``options``; without a key the options name the signers themselves."""
    aligned, signed = linked.with_suffix(".aligned"), linked.with_suffix(".apk")
    run("zipalign", "-f", "4", linked, aligned)
    signer = ("--ks", key, "--ks-pass", f"pass:{PASSWORD}") if key else ()
    run("apksigner", "sign", *signer, *options, "--out", signed, aligned)
    return signed


def link_apk(folder: Path, recipe: Recipe) -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    qualifiers = {"values": recipe.label} | {f"values-{name}": f"{recipe.label} ({name})" for name in recipe.locales}
    for directory, label in qualifiers.items():
        (folder / "res" / directory).mkdir(parents=True, exist_ok=True)
        text = STRINGS.format(label=escape(label))
        (folder / "res" / directory / "strings.xml").write_text(text, encoding="utf-8")
    densities = dict(zip(("mdpi", "hdpi", "xhdpi", "xxhdpi"), recipe.icon_pixels, strict=False))
    for density, pixels in densities.items():
        (folder / "res" / f"mipmap-{density}").mkdir(parents=True, exist_ok=True)
        (folder / "res" / f"mipmap-{density}" / "icon.png").write_bytes(png(pixels))
    asked = [f'<uses-permission android:name="{name}"/>' for name in recipe.permissions]
    asked += [
        f'<uses-permission android:name="{name}" android:maxSdkVersion="{level}"/>' for name, level in recipe.limited
    ]
    for name in recipe.features:
        wanted = "false" if name.endswith("?") else "true"
        asked.append(f'<uses-feature android:name="{name.rstrip("?")}" android:required="{wanted}"/>')
    manifest = folder / "AndroidManifest.xml"
    manifest.write_text(
        MANIFEST.format(
            identifier=recipe.identifier,
            number=recipe.number,
            version=recipe.version,
            lowest=recipe.lowest,
            target=recipe.target,
            permissions="\n  ".join(asked),
            icon='android:icon="@mipmap/icon"' if densities else "",
            debuggable=str(recipe.debuggable).lower(),
            test_only=str(recipe.test_only).lower(),
        )
    )
    linked = folder / f"app-{recipe.number}.linked"
    splits: list[str | Path] = []
    for name in recipe.splits:
        splits += ["--split", f"{folder / f'split-{name}.linked'}:{name}"]
    run("aapt2", "compile", "--dir", folder / "res", "-o", folder / "compiled.zip")
    run("aapt2", "link", "-I", FRAMEWORK, "--manifest", manifest, "-o", linked, *splits, folder / "compiled.zip")
    with zipfile.ZipFile(linked, "a", zipfile.ZIP_STORED) as archive:
        for processor in recipe.processors:
            archive.writestr(f"lib/{processor}/libdiary.so", b"\x7fELF" + bytes(2000))
        if recipe.padding_bytes:
            with open("/dev/urandom", "rb") as noise:
                archive.writestr("assets/map.bin", noise.read(recipe.padding_bytes))
    return linked


def link_sources(folder: Path, manifest: str, files: Mapping[str, str | bytes]) -> Path:
    """An APK without a signature of any manifest and any files below ``res``, compiled and linked by aapt2."""
    for name, content in files.items():
        path = folder / "res" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content.encode() if isinstance(content, str) else content)
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "AndroidManifest.xml").write_text(manifest, encoding="utf-8")
    linked, compiled = folder / "app.apk", folder / "compiled.zip"
    parts = [compiled] if files else []
    if files:
        run("aapt2", "compile", "--dir", folder / "res", "-o", compiled)
    run("aapt2", "link", "-I", FRAMEWORK, "--manifest", folder / "AndroidManifest.xml", "-o", linked, *parts)
    return linked


def bundle_of(linked: Path) -> Path:
    """A bundle of a linked package: aapt2's other form, put into a base module, not signed."""
    converted, bundle = linked.with_suffix(".proto"), linked.with_suffix(".aab")
    run("aapt2", "convert", "--output-format", "proto", "-o", converted, linked)
    with zipfile.ZipFile(converted) as source, zipfile.ZipFile(bundle, "w", zipfile.ZIP_DEFLATED) as made:
        made.writestr("BundleConfig.pb", b"\x0a\x08\x12\x061.15.6")
        for name in source.namelist():
            place = "manifest/" if name == "AndroidManifest.xml" else ""
            made.writestr(f"base/{place}{name}", source.read(name))
    return bundle


def make_aab(folder: Path, recipe: Recipe) -> Path:
    """A bundle of the same sources: aapt2's other form, put into a base module, signed by jarsigner."""
    linked, converted = link_apk(folder, recipe), folder / "proto.apk"
    run("aapt2", "convert", "--output-format", "proto", "-o", converted, linked)
    bundle = folder / f"app-{recipe.number}.aab"
    with zipfile.ZipFile(converted) as source, zipfile.ZipFile(bundle, "w", zipfile.ZIP_DEFLATED) as made:
        made.writestr("BundleConfig.pb", b"\x0a\x08\x12\x061.15.6")
        for name in source.namelist():
            place = "manifest/" if name == "AndroidManifest.xml" else ""
            made.writestr(f"base/{place}{name}", source.read(name))
        manifest = source.read("AndroidManifest.xml")
        made.writestr("maps/manifest/AndroidManifest.xml", manifest)
        made.writestr("maps/assets/tiles.bin", bytes(30_000))
    key = make_key(folder.parent)
    run("jarsigner", "-keystore", key, "-storepass", PASSWORD, bundle, key.stem)
    return bundle


def png(pixels: int, *, transparent: bool = False) -> bytes:
    """A plain square picture."""
    channels = 4 if transparent else 3

    def chunk(kind: bytes, content: bytes) -> bytes:
        return struct.pack(">I", len(content)) + kind + content + struct.pack(">I", zlib.crc32(kind + content))

    rows = zlib.compress((b"\0" + b"\x2a" * channels * pixels) * pixels)
    head = struct.pack(">IIBBBBB", pixels, pixels, 8, 6 if transparent else 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", rows) + chunk(b"IEND", b"")


def make_ipa(
    path: Path,
    identifier: str = "org.example.saltgrass.marram",
    version: str = "2.4.0",
    number: str = "1",
    binary: bool = True,
    profile: bytes | None = None,
    extension_number: str | None = None,
) -> Path:
    """An IPA put together by hand: a Payload folder with property lists in it."""
    form = plistlib.FMT_BINARY if binary else plistlib.FMT_XML
    info = {
        "CFBundleIdentifier": identifier,
        "CFBundleShortVersionString": version,
        "CFBundleVersion": number,
        "CFBundleDisplayName": "Marram",
        "MinimumOSVersion": "15.0",
        "DTPlatformVersion": "17.2",
        "NSLocationWhenInUseUsageDescription": "To place your diary pages on the map.",
    }
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("Payload/Marram.app/Info.plist", plistlib.dumps(info, fmt=form))
        archive.writestr("Payload/Marram.app/Marram", b"\xcf\xfa\xed\xfe" + bytes(2048))
        if profile is not None:
            archive.writestr("Payload/Marram.app/embedded.mobileprovision", profile)
        if extension_number is not None:
            inner = info | {"CFBundleIdentifier": f"{identifier}.tiles", "CFBundleVersion": extension_number}
            archive.writestr("Payload/Marram.app/PlugIns/Tiles.appex/Info.plist", plistlib.dumps(inner, fmt=form))
    return path


def make_profile(folder: Path, content: dict[str, object]) -> bytes:
    """A provisioning profile signed by openssl."""
    key, cert = folder / "key.pem", folder / "cert.pem"
    run("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", key, "-out", cert, "-days", "900",
        "-subj", "/CN=Saltgrass signing/O=Saltgrass")  # fmt: skip
    run("openssl", "x509", "-in", cert, "-outform", "DER", "-out", folder / "cert.der")
    whole = {
        "Name": "Marram",
        "TeamIdentifier": ["SALT1"],
        "TeamName": "Saltgrass",
        "ExpirationDate": datetime(2027, 9, 1),
        "DeveloperCertificates": [(folder / "cert.der").read_bytes()],
        "Entitlements": {"application-identifier": "SALT1.org.example"},
    } | content
    (folder / "profile.plist").write_bytes(plistlib.dumps(whole))
    signed = folder / "profile.cms"
    run("openssl", "cms", "-sign", "-nodetach", "-binary", "-outform", "DER", "-signer", cert, "-inkey", key,
        "-in", folder / "profile.plist", "-out", signed)  # fmt: skip
    return signed.read_bytes()


def program(folder: Path, target: str, code: str = ".globl _main\n_main:\n") -> Path:
    """A Mach-O file for ``target``, assembled by LLVM."""
    source, made = folder / f"{target}.s", folder / f"{target}.o"
    platform = "macos" if "macos" in target else "ios"
    # the simulator's platform has no name in assembly; the target alone says it
    line = "" if target.startswith("armv7") or target.endswith("simulator") else f".build_version {platform}, 16, 0"
    source.write_text(f"{line}\n{code}")
    run("llvm-mc", f"-triple={target}", "-filetype=obj", source, "-o", made)
    return made


@dataclass(frozen=True)
class Badging:
    """What ``aapt dump badging`` says of a package."""

    implied: tuple[str, ...]
    launchable: str | None
    densities: tuple[str, ...]
    highest: str | None
    identifier: str
    version: str
    number: int
    lowest: str | None
    target: str | None
    permissions: tuple[str, ...]
    limits: dict[str, str]
    features: tuple[str, ...]
    label: str | None
    labels: dict[str, str]
    locales: tuple[str, ...]
    processors: tuple[str, ...]
    icons: tuple[str, ...]
    split: str | None
    debuggable: bool
    test_only: bool


def badging(apk: Path) -> Badging:
    said = run("aapt", "dump", "badging", apk)

    def one(pattern: str) -> str | None:
        found = re.search(pattern, said, re.MULTILINE)
        return found.group(1) if found else None

    def quoted(pattern: str) -> tuple[str, ...]:
        return tuple(re.findall(r"'([^']*)'", one(pattern) or ""))

    direct = re.sub(
        r"^uses-permission: name='([^']*)'.*\nuses-implied-permission: name='\\1'.*$", "", said, flags=re.MULTILINE
    )
    implied = re.findall(r"uses-implied-feature: name='([^']*)'", said)
    asked = [name for name in re.findall(r"^  uses-feature: name='([^']*)'", said, re.MULTILINE) if name not in implied]
    optional = [f"{name}?" for name in re.findall(r"uses-feature-not-required: name='([^']*)'", said)]
    return Badging(
        implied=tuple(re.findall(r"^uses-implied-permission: name='([^']*)'", said, re.MULTILINE)),
        launchable=one(r"^launchable-activity: name='([^']*)'"),
        densities=quoted(r"^densities:(.*)$"),
        highest=one(r"^maxSdkVersion:'([^']*)'"),
        identifier=one(r"^package: name='([^']*)'") or "",
        version=one(r"versionName='([^']*)'") or "",
        number=int(one(r"versionCode='([^']*)'") or -1),
        lowest=one(r"^sdkVersion:'([^']*)'"),
        target=one(r"^targetSdkVersion:'([^']*)'"),
        permissions=tuple(re.findall(r"^uses-permission: name='([^']*)'", direct, re.MULTILINE)),
        limits=dict(re.findall(r"^uses-permission: name='([^']*)' maxSdkVersion='([^']*)'", direct, re.MULTILINE)),
        features=(*asked, *optional),
        label=one(r"^application-label:'([^']*)'"),
        labels=dict(re.findall(r"^application-label-([\w-]+):'([^']*)'", said, re.MULTILINE)),
        locales=tuple(name for name in quoted(r"^locales:(.*)$") if name != "--_--"),
        processors=quoted(r"^native-code:(.*)$"),
        icons=tuple(re.findall(r"^application-icon-\d+:'([^']*)'", said, re.MULTILINE)),
        split=one(r"^package:.* split='([^']*)'"),
        debuggable="application-debuggable" in said,
        test_only="testOnly='-1'" in said,
    )


@dataclass(frozen=True)
class Verdict:
    """What ``apksigner verify`` says of a package."""

    verifies: bool
    schemes: dict[str, bool]
    digests: tuple[str, ...]


def verdict(apk: Path) -> Verdict:
    said = subprocess.run(
        ["apksigner", "verify", "--print-certs", "-v", "--min-sdk-version", "24", str(apk)],
        capture_output=True,
        text=True,
        check=False,
        env=QUICK_JAVA,
    )
    return Verdict(
        said.returncode == 0,
        {name: held == "true" for name, held in re.findall(r"using (v[123]) scheme .*: (true|false)", said.stdout)},
        tuple(re.findall(r"certificate SHA-256 digest: (\w+)", said.stdout)),
    )
