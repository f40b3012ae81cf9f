"""Packages made by Debian's real Android tools, and what those tools say of them."""

from __future__ import annotations

import plistlib
import re
import subprocess
import zipfile
from dataclasses import dataclass
from pathlib import Path
from xml.sax.saxutils import escape

FRAMEWORK = Path("/usr/share/android-framework-res/framework-res.apk")

MANIFEST = """<?xml version="1.0" encoding="utf-8"?>
<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="{identifier}"
    android:versionCode="{number}" android:versionName="{version}">
  <uses-sdk android:minSdkVersion="{lowest}" android:targetSdkVersion="{target}"/>
  {permissions}
  <application android:label="@string/app_name" android:hasCode="false" android:debuggable="{debuggable}"/>
</manifest>
"""

STRINGS = """<?xml version="1.0" encoding="utf-8"?>
<resources><string name="app_name">{label}</string></resources>
"""


def run(*command: str | Path) -> str:
    return subprocess.run([str(part) for part in command], check=True, capture_output=True, text=True).stdout


@dataclass(frozen=True)
class Recipe:
    identifier: str = "org.example.saltgrass.marram"
    version: str = "2.4.0"
    number: int = 17
    lowest: int = 24
    target: int = 29
    permissions: tuple[str, ...] = ("android.permission.INTERNET", "android.permission.ACCESS_FINE_LOCATION")
    label: str = "Marram"
    padding_bytes: int = 0
    debuggable: bool = False


def make_key(folder: Path) -> Path:
    key = folder / "upload.keystore"
    if not key.exists():
        run(
            "keytool",
            "-genkeypair",
            "-keystore",
            key,
            "-storepass",
            "dune-grass",
            "-keypass",
            "dune-grass",
            "-alias",
            "upload",
            "-keyalg",
            "RSA",
            "-keysize",
            "2048",
            "-validity",
            "9000",
            "-dname",
            "CN=Saltgrass Collective",
        )
    return key


def make_apk(folder: Path, recipe: Recipe) -> Path:
    """An APK compiled and linked by aapt2, aligned by zipalign, signed by apksigner."""
    folder.mkdir(parents=True, exist_ok=True)
    for directory, text in (
        ("values", STRINGS.format(label=escape(recipe.label))),
        ("values-de", STRINGS.format(label=escape(f"{recipe.label} (de)"))),
    ):
        (folder / "res" / directory).mkdir(parents=True, exist_ok=True)
        (folder / "res" / directory / "strings.xml").write_text(text, encoding="utf-8")
    permissions = "\n  ".join(f'<uses-permission android:name="{name}"/>' for name in recipe.permissions)
    manifest = folder / "AndroidManifest.xml"
    manifest.write_text(
        MANIFEST.format(
            identifier=recipe.identifier,
            number=recipe.number,
            version=recipe.version,
            lowest=recipe.lowest,
            target=recipe.target,
            permissions=permissions,
            debuggable=str(recipe.debuggable).lower(),
        )
    )
    run("aapt2", "compile", "--dir", folder / "res", "-o", folder / "compiled.zip")
    run("aapt2", "link", "-I", FRAMEWORK, "--manifest", manifest, "-o", folder / "linked.apk", folder / "compiled.zip")
    if recipe.padding_bytes:
        with (
            zipfile.ZipFile(folder / "linked.apk", "a", zipfile.ZIP_STORED) as archive,
            open("/dev/urandom", "rb") as noise,
        ):
            archive.writestr("assets/map.bin", noise.read(recipe.padding_bytes))
    aligned = folder / "aligned.apk"
    run("zipalign", "-f", "4", folder / "linked.apk", aligned)
    signed = folder / f"app-{recipe.number}.apk"
    run("apksigner", "sign", "--ks", make_key(folder.parent), "--ks-pass", "pass:dune-grass", "--out", signed, aligned)
    return signed


def make_ipa(
    path: Path,
    identifier: str = "org.example.saltgrass.marram",
    version: str = "2.4.0",
    number: str = "1",
    binary: bool = True,
) -> Path:
    """An IPA put together by hand: a Payload folder with a property list in it."""
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
        archive.writestr(
            "Payload/Marram.app/Info.plist",
            plistlib.dumps(info, fmt=plistlib.FMT_BINARY if binary else plistlib.FMT_XML),
        )
        archive.writestr("Payload/Marram.app/Marram", b"\xcf\xfa\xed\xfe" + bytes(2048))
    return path


@dataclass(frozen=True)
class Badging:
    """What ``aapt dump badging`` says of a package."""

    identifier: str
    version: str
    number: int
    lowest: str | None
    target: str | None
    permissions: tuple[str, ...]
    label: str | None


def badging(apk: Path) -> Badging:
    said = run("aapt", "dump", "badging", apk)

    def one(pattern: str) -> str | None:
        found = re.search(pattern, said, re.MULTILINE)
        return found.group(1) if found else None

    return Badging(
        identifier=one(r"^package: name='([^']*)'") or "",
        version=one(r"versionName='([^']*)'") or "",
        number=int(one(r"versionCode='([^']*)'") or -1),
        lowest=one(r"^sdkVersion:'([^']*)'"),
        target=one(r"^targetSdkVersion:'([^']*)'"),
        permissions=tuple(re.findall(r"^uses-permission: name='([^']*)'", said, re.MULTILINE)),
        label=one(r"^application-label:'([^']*)'"),
    )
