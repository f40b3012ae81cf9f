"""Reading packages, held against independent readers; hostile files are refused in one line."""

from __future__ import annotations

import io
import plistlib
import random
import struct
import subprocess
import tracemalloc
import warnings
import zipfile
from pathlib import Path

import pytest

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages import Facts, inspect_package
from restless_tide.standins.packages import PackageRecipe, write_apk, write_ipa, write_msix
from tests.toolchain import FRAMEWORK, Recipe, badging, make_apk, make_ipa, run


def read(path: Path) -> Facts:
    with path.open("rb") as source:
        return inspect_package(source)


RECIPES = [
    Recipe(),
    Recipe(version="10.0.3-beta", number=2_000_000_000, lowest=21, target=29, permissions=(), label="Ferryglass & Co"),
    Recipe(
        identifier="org.example.saltgrass.loam",
        version="0.1",
        number=1,
        label="Łąka — 土",
        permissions=("android.permission.CAMERA",) * 2,
    ),
]


@pytest.mark.toolchain
@pytest.mark.parametrize("recipe", RECIPES, ids=lambda recipe: recipe.version)
def test_the_facts_of_an_apk_agree_with_aapt(tmp_path: Path, recipe: Recipe) -> None:
    apk = make_apk(tmp_path / "app", recipe)
    ours, theirs = read(apk), badging(apk)
    assert (ours.identifier, ours.version, ours.number) == (theirs.identifier, theirs.version, theirs.number)
    assert (ours.lowest_platform, ours.target_platform) == (theirs.lowest, theirs.target)
    assert ours.permissions == tuple(dict.fromkeys(theirs.permissions))
    assert ours.label == theirs.label
    assert ours.size_bytes == apk.stat().st_size
    assert run("sha256sum", apk).startswith(ours.sha256)


@pytest.mark.toolchain
def test_a_large_real_package_agrees_with_aapt() -> None:
    ours, theirs = read(FRAMEWORK), badging(FRAMEWORK)
    assert (ours.identifier, ours.version, ours.number, ours.label) == (
        theirs.identifier,
        theirs.version,
        theirs.number,
        theirs.label,
    )


@pytest.mark.toolchain
def test_aapt_reads_the_demo_packages_as_we_do(tmp_path: Path) -> None:
    apk = write_apk(
        tmp_path / "demo.apk",
        PackageRecipe("org.example.saltgrass.marram", "2.4.0", 17, "Marram", ("android.permission.CAMERA",)),
    )
    ours, theirs = read(apk), badging(apk)
    assert (ours.identifier, ours.version, ours.number) == (theirs.identifier, theirs.version, theirs.number)
    assert (ours.lowest_platform, ours.target_platform, ours.permissions) == (
        theirs.lowest,
        theirs.target,
        theirs.permissions,
    )


@pytest.mark.toolchain
@pytest.mark.parametrize("binary", [True, False])
def test_an_ipa_is_read_from_both_forms_of_property_list_as_plistutil_reads_it(tmp_path: Path, binary: bool) -> None:
    ipa = make_ipa(tmp_path / "marram.ipa", number="42", binary=binary)
    facts = read(ipa)
    with zipfile.ZipFile(ipa) as archive:
        (tmp_path / "Info.plist").write_bytes(archive.read("Payload/Marram.app/Info.plist"))
    run("plistutil", "-i", tmp_path / "Info.plist", "-o", tmp_path / "plain.plist", "-f", "xml")
    theirs = plistlib.loads((tmp_path / "plain.plist").read_bytes())
    assert facts.format == "ipa"
    assert (facts.identifier, facts.version, str(facts.number)) == tuple(
        theirs[key] for key in ("CFBundleIdentifier", "CFBundleShortVersionString", "CFBundleVersion")
    )
    assert (facts.label, facts.lowest_platform, facts.target_platform) == (
        "Marram",
        theirs["MinimumOSVersion"],
        theirs["DTPlatformVersion"],
    )
    assert facts.permissions == ("NSLocationWhenInUseUsageDescription",)


def archive(members: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name, content in members.items():
            made.writestr(name, content)
    return out.getvalue()


def cut_apk(tmp_path: Path) -> bytes:
    return write_apk(tmp_path / "whole.apk", PackageRecipe("a.b", "1.0", 1, "A")).read_bytes()[:20_000]


@pytest.mark.parametrize(
    ("content", "code"),
    [
        (b"", "package-unreadable"),
        (b"just some text", "not-an-archive"),
        (bytes(4096), "not-an-archive"),
        (archive({"readme.txt": b"hello"}), "no-manifest"),
        (archive({"AndroidManifest.xml": b"<manifest package='a.b'/>"}), "package-unreadable"),
        (archive({"AndroidManifest.xml": b""}), "package-unreadable"),
        (archive({"AndroidManifest.xml": struct.pack("<HHI", 3, 8, 4_000_000_000)}), "package-unreadable"),
        (archive({"BundleConfig.pb": b"", "base/manifest/AndroidManifest.xml": b""}), "format-not-read"),
        (archive({"Payload/readme.txt": b""}), "package-unreadable"),
        (archive({"Payload/A.app/Info.plist": b"bplist00 nonsense"}), "package-unreadable"),
        (archive({"Payload/A.app/Info.plist": plistlib.dumps(["no", "dictionary"])}), "package-unreadable"),
        (archive({"Payload/A.app/Info.plist": plistlib.dumps({"CFBundleIdentifier": "a.b"})}), "package-unreadable"),
        (
            archive(
                {
                    "Payload/A.app/Info.plist": plistlib.dumps(
                        {"CFBundleIdentifier": "a.b", "CFBundleShortVersionString": "1", "CFBundleVersion": "1.2"}
                    )
                }
            ),
            "package-unreadable",
        ),
        (
            archive(
                {
                    "Payload/A.app/Info.plist": b"<?xml version='1.0'?><!DOCTYPE plist [<!ENTITY a 'aaaa'>]><plist><string>&a;</string></plist>"
                }
            ),
            "package-unreadable",
        ),
        (archive({"AndroidManifest.xml": bytes(70_000_000)}), "package-unreadable"),
    ],
    ids=[
        "empty",
        "text",
        "zeros",
        "no manifest",
        "source manifest",
        "empty manifest",
        "absurd chunk",
        "bundle",
        "no app",
        "broken list",
        "list",
        "lacks keys",
        "dotted number",
        "entities",
        "bomb",
    ],
)
def test_what_is_no_package_is_refused_in_one_line(content: bytes, code: str) -> None:
    with pytest.raises(PackageUnreadable) as refused:
        inspect_package(io.BytesIO(content))
    assert refused.value.code == code
    assert "\n" not in refused.value.detail


def test_a_cut_off_package_is_named_as_such(tmp_path: Path) -> None:
    with pytest.raises(PackageUnreadable, match="cut off"):
        inspect_package(io.BytesIO(cut_apk(tmp_path)))


def test_a_doubled_member_is_refused() -> None:
    out = io.BytesIO()
    with warnings.catch_warnings(), zipfile.ZipFile(out, "w") as made:
        warnings.simplefilter("ignore")
        made.writestr("AndroidManifest.xml", b"one")
        made.writestr("AndroidManifest.xml", b"two")
    with pytest.raises(PackageUnreadable, match="twice"):
        inspect_package(io.BytesIO(out.getvalue()))


@pytest.mark.toolchain
def test_mutated_packages_never_raise_anything_else(real_apk: Path, tmp_path: Path) -> None:
    seeds = [real_apk.read_bytes(), make_ipa(tmp_path / "a.ipa").read_bytes()]
    dice = random.Random(7)
    for turn in range(1500):
        content = bytearray(seeds[turn % 2])
        for _ in range(dice.randint(1, 12)):
            content[dice.randrange(len(content))] = dice.randrange(256)
        try:
            inspect_package(io.BytesIO(bytes(content)))
        except PackageUnreadable:
            continue


@pytest.mark.toolchain
def test_mutated_manifests_never_raise_anything_else(real_apk: Path) -> None:
    with zipfile.ZipFile(real_apk) as opened:
        members = {name: opened.read(name) for name in ("AndroidManifest.xml", "resources.arsc")}
    dice = random.Random(11)
    for turn in range(1500):
        name = ("AndroidManifest.xml", "resources.arsc")[turn % 2]
        content = bytearray(members[name])
        for _ in range(dice.randint(1, 6)):
            content[dice.randrange(len(content))] = dice.randrange(256)
        try:
            inspect_package(io.BytesIO(archive(members | {name: bytes(content)})))
        except PackageUnreadable:
            continue


def test_memory_stays_flat_whatever_the_size(tmp_path: Path) -> None:
    peaks = []
    for megabytes in (1, 60):
        path = write_ipa(
            tmp_path / f"{megabytes}.ipa", PackageRecipe("a.b", "1.0", 1, "A", padding_bytes=megabytes * 1_000_000)
        )
        tracemalloc.start()
        read(path)
        peaks.append(tracemalloc.get_traced_memory()[1])
        tracemalloc.stop()
    assert peaks[1] < peaks[0] + 2_000_000


def test_the_tools_that_witness_are_the_real_ones() -> None:
    assert subprocess.run(["aapt", "version"], capture_output=True, check=True).stdout


def test_an_msix_package_tells_identity_processor_and_the_fourth_part_as_its_number(tmp_path: Path) -> None:
    recipe = PackageRecipe("org.example.marram", "2.4.0", 7, "Marram & more", ("internetClient",), processor="arm64")
    with write_msix(tmp_path / "a.msix", recipe).open("rb") as source:
        facts = inspect_package(source)
    assert (facts.format, facts.platform, facts.identifier) == ("msix", "desktop", "org.example.marram")
    assert (facts.version, facts.number, facts.processors) == ("2.4.0", 7, ("arm64",))
    assert (facts.label, facts.permissions) == ("Marram & more", ("internetClient",))
    assert facts.publisher == "CN=Saltgrass Collective, C=DE"
    assert (facts.lowest_platform, facts.target_platform) == ("10.0.17763.0", "10.0.22621.0")


@pytest.mark.parametrize(
    ("manifest", "told"),
    [
        (b"<Package", "damaged"),
        (b'<!DOCTYPE p [<!ENTITY a "b">]><Package/>', "declares entities"),
        (b"<Package/>", "no identity"),
    ],
)
def test_a_broken_msix_manifest_is_refused(tmp_path: Path, manifest: bytes, told: str) -> None:
    path = tmp_path / "broken.msix"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("AppxManifest.xml", manifest)
    with path.open("rb") as source, pytest.raises(PackageUnreadable, match=told):
        inspect_package(source)
