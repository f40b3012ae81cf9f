"""Reading packages, held against independent readers; hostile files are refused in one line."""

from __future__ import annotations

import io
import plistlib
import re
import struct
import subprocess
import sys
import tracemalloc
import warnings
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages import Facts, inspect_package
from restless_tide.core.packages.bounds import Effort
from restless_tide.core.packages.compare import compare
from restless_tide.core.packages.mach_o import read_mach_o
from restless_tide.core.packages.manifest import Element, Given, Manifest, fill
from restless_tide.core.packages.proto_resources import proto_elements
from restless_tide.standins.packages import PackageRecipe, write_apk, write_ipa, write_msix, write_msix_bundle
from tests.toolchain import (
    FRAMEWORK,
    Recipe,
    badging,
    make_aab,
    make_apk,
    make_ipa,
    make_profile,
    program,
    run,
)


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
        limited=(("android.permission.BLUETOOTH", "30"), ("android.permission.NFC", "20")),
        features=("android.hardware.camera", "android.hardware.nfc?"),
        locales=("de", "pt-rBR", "fil", "b+sr+Latn", "b+zh+Hant+TW"),
        icon_pixels=(48, 72, 96),
        processors=("arm64-v8a", "x86_64"),
        debuggable=True,
        test_only=True,
    ),
]


@pytest.mark.toolchain
@pytest.mark.parametrize("recipe", RECIPES, ids=lambda recipe: recipe.version)
def test_the_facts_of_an_apk_agree_with_aapt(tmp_path: Path, recipe: Recipe) -> None:
    apk = make_apk(tmp_path / "app", recipe)
    ours, theirs = read(apk), badging(apk)
    assert (ours.identifier, ours.version, ours.number.text) == (theirs.identifier, theirs.version, str(theirs.number))
    assert (ours.lowest_platform, ours.target_platform) == (theirs.lowest, theirs.target)
    assert ours.permissions == tuple(dict.fromkeys(theirs.permissions))
    assert ours.permission_limits == theirs.limits
    assert (ours.label, ours.labels, ours.locales) == (theirs.label, theirs.labels, theirs.locales)
    assert sorted(ours.features) == sorted(theirs.features)
    assert ours.processors == theirs.processors
    assert (ours.debuggable, ours.test_only) == (theirs.debuggable, theirs.test_only)
    if theirs.icons:
        assert ours.icon is not None
        assert (ours.icon.member, ours.icon.width) == (theirs.icons[-1], max(recipe.icon_pixels))
    assert ours.size_bytes == apk.stat().st_size
    assert run("sha256sum", apk).startswith(ours.sha256)


@pytest.mark.toolchain
def test_splits_are_read_as_aapt_reads_them(tmp_path: Path) -> None:
    make_apk(tmp_path / "app", Recipe(splits=("de",)))
    split = tmp_path / "app" / "split-de.apk"
    ours, theirs = read(split), badging(split)
    assert (ours.split, ours.number.text, ours.locales) == (theirs.split, str(theirs.number), theirs.locales) == ("config.de", "17", ("de",))  # fmt: skip
    assert ours.version == theirs.version == ""


@pytest.mark.toolchain
def test_a_bundle_says_what_the_apk_of_the_same_sources_says(tmp_path: Path) -> None:
    recipe = RECIPES[2]
    apk, bundle = read(make_apk(tmp_path / "app", recipe)), read(make_aab(tmp_path / "bundle", recipe))
    assert bundle.format == "aab"
    same = ("identifier", "version", "number", "lowest_platform", "target_platform", "permissions", "permission_limits",
            "features", "label", "labels", "locales", "processors", "debuggable", "test_only")  # fmt: skip
    assert {name: getattr(bundle, name) for name in same} == {name: getattr(apk, name) for name in same}
    assert bundle.icon is not None
    assert bundle.icon.width == 96
    assert [(part.kind, part.name) for part in bundle.parts] == [("module", "maps")]
    assert (bundle.made_by, bundle.remarks) == ("bundling tool 1.15.6", ())


@pytest.mark.toolchain
def test_our_reading_of_the_wire_format_is_protocs(tmp_path: Path) -> None:
    bundle = make_aab(tmp_path / "bundle", RECIPES[2])
    with zipfile.ZipFile(bundle) as opened:
        manifest = opened.read("base/manifest/AndroidManifest.xml")
    said = subprocess.run(["protoc", "--decode_raw"], input=manifest, capture_output=True, check=True).stdout.decode()
    names = {name for _, name in re.findall(r'^( +)3: "([a-z-]+)"$', said, re.MULTILINE)}
    elements = list(proto_elements(manifest, Effort(), lambda _: True))
    ours = {element.path[-1] for element in elements}
    assert ours == names & ours == {"manifest", "uses-sdk", "uses-permission", "uses-feature", "application"}
    for element in elements:
        for given in (*element.by_id.values(), *element.by_name.values()):
            if given.text and given.text.isalpha() and given.text not in ("true", "false"):
                assert f'"{given.text}"' in said


@pytest.mark.toolchain
def test_a_large_real_package_agrees_with_aapt() -> None:
    ours, theirs = read(FRAMEWORK), badging(FRAMEWORK)
    assert (ours.identifier, ours.version, ours.number.text, ours.label) == (
        theirs.identifier,
        theirs.version,
        str(theirs.number),
        theirs.label,
    )


@pytest.mark.toolchain
def test_aapt_reads_the_demo_packages_as_we_do(tmp_path: Path) -> None:
    apk = write_apk(
        tmp_path / "demo.apk",
        PackageRecipe("org.example.saltgrass.marram", "2.4.0", 17, "Marram", ("android.permission.CAMERA",)),
    )
    ours, theirs = read(apk), badging(apk)
    assert (ours.identifier, ours.version, ours.number.text) == (theirs.identifier, theirs.version, str(theirs.number))
    assert (ours.lowest_platform, ours.target_platform, ours.permissions) == (
        theirs.lowest,
        theirs.target,
        theirs.permissions,
    )


@pytest.mark.toolchain
@pytest.mark.parametrize("binary", [True, False])
def test_an_ipa_is_read_from_both_forms_of_property_list_as_plistutil_reads_it(tmp_path: Path, binary: bool) -> None:
    ipa = make_ipa(tmp_path / "marram.ipa", number="2026.01.42", binary=binary)
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
    assert facts.reasons == {"NSLocationWhenInUseUsageDescription": "To place your diary pages on the map."}


def archive(members: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name, content in members.items():
            made.writestr(name, content)
    return out.getvalue()


def overlapping() -> bytes:
    """Two names for the same octets: the second's place in the directory is the first's."""
    content = bytearray(archive({"AndroidManifest.xml": b"manifest", "assets/bb.bin": b"manifest"}))
    second = content.rindex(b"PK\x01\x02")
    content[second + 42 : second + 46] = bytes(4)
    return bytes(content)


def long_directory() -> bytes:
    """An end record that states a directory of half a gibibyte."""
    content = bytearray(archive({"AndroidManifest.xml": b"manifest"}))
    end = content.rindex(b"PK\x05\x06")
    content[end + 12 : end + 16] = struct.pack("<I", 1 << 29)
    return bytes(content)


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
        (archive({"BundleConfig.pb": b"", "base/manifest/AndroidManifest.xml": b""}), "package-unreadable"),
        (archive({"Payload/readme.txt": b""}), "package-unreadable"),
        (archive({"Payload/A.app/Info.plist": b"bplist00 nonsense"}), "package-unreadable"),
        (archive({"Payload/A.app/Info.plist": plistlib.dumps(["no", "dictionary"])}), "package-unreadable"),
        (archive({"Payload/A.app/Info.plist": plistlib.dumps({"CFBundleVersion": "1"})}), "package-unreadable"),
        (
            archive(
                {
                    "Payload/A.app/Info.plist": plistlib.dumps(
                        {"CFBundleIdentifier": "a.b", "CFBundleShortVersionString": "1", "CFBundleVersion": "one"}
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
            "manifest-unfit",
        ),
        (lambda: archive({"AndroidManifest.xml": bytes(70_000_000)}), "unpacks-too-large"),
        (lambda: archive({"AndroidManifest.xml": b"", "assets/a.bin": bytes(600_000_000)}), "unpacks-too-large"),
        (archive({"AndroidManifest.xml": b"", "../../etc/hosts": b"x"}), "path-unfit"),
        (archive({"AndroidManifest.xml": b"", "C:\\a": b"x"}), "path-unfit"),
        (overlapping(), "members-overlap"),
        (long_directory(), "directory-too-large"),
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
        "number in words",
        "entities",
        "bomb",
        "bomb beside",
        "path out",
        "drive",
        "overlap",
        "long directory",
    ],
)
def test_what_is_no_package_is_refused_in_one_line(content: bytes | Callable[[], bytes], code: str) -> None:
    with pytest.raises(PackageUnreadable) as refused:
        inspect_package(io.BytesIO(content() if callable(content) else content))
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
def test_mutated_packages_of_every_format_are_read_or_refused_within_bounds(tmp_path: Path) -> None:
    """In a process of its own, since the bounds are the process's."""
    said = run(sys.executable, "-m", "tests.core.fuzz", "--turns", "1500", "--seed", "7")
    assert "1500 packages, seed 7" in said


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
    assert (facts.version, facts.number.text, facts.processors) == ("2.4.0", "7", ("arm64",))
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


@pytest.mark.toolchain
@pytest.mark.parametrize(
    ("target", "processors", "simulator"),
    [
        ("arm64-apple-ios16.0", ("arm64",), False),
        ("arm64-apple-ios16.0-simulator", ("arm64",), True),
        ("x86_64-apple-macos12.0", ("x86_64",), False),
        ("armv7-apple-ios9.0", ("armv7",), False),
    ],
)
def test_a_program_is_read_as_llvm_wrote_it(
    tmp_path: Path, target: str, processors: tuple[str, ...], simulator: bool
) -> None:
    made = program(tmp_path, target)
    found = read_mach_o(made.read_bytes())
    assert found is not None
    assert (found.processors, found.simulator) == (processors, simulator)
    headers = run("llvm-objdump", "--macho", "--private-headers", made)
    assert ("platform iossimulator" in headers) == simulator


@pytest.mark.toolchain
def test_a_program_for_two_processors_is_read_from_its_first_lines(tmp_path: Path) -> None:
    both = tmp_path / "both"
    slices = [program(tmp_path, target) for target in ("arm64-apple-ios16.0", "x86_64-apple-ios16.0-simulator")]
    run("llvm-lipo-14", "-create", *slices, "-output", both)
    found = read_mach_o(both.read_bytes())
    assert found is not None
    assert found.processors == ("arm64", "x86_64")
    assert set(run("llvm-lipo-14", "-archs", both).split()) == set(found.processors)


@pytest.mark.toolchain
@pytest.mark.parametrize(
    ("content", "kind"),
    [
        ({}, "store"),
        ({"ProvisionedDevices": ["a1", "b2"]}, "named devices"),
        ({"Entitlements": {"get-task-allow": True}, "ProvisionedDevices": []}, "development"),
        ({"ProvisionsAllDevices": True}, "any device"),
    ],
    ids=["store", "named devices", "development", "any device"],
)
def test_a_profile_signed_by_openssl_is_read_and_verified(
    tmp_path: Path, content: dict[str, object], kind: str
) -> None:
    ipa = make_ipa(tmp_path / "a.ipa", profile=make_profile(tmp_path, content))
    facts = read(ipa)
    assert facts.profile is not None
    assert (facts.profile.kind, facts.profile.team, facts.profile.name) == (kind, "SALT1", "Marram")
    assert facts.profile.devices == tuple(content.get("ProvisionedDevices", ()))  # type: ignore[call-overload]
    assert facts.profile.expires_at.isoformat() == "2027-09-01T00:00:00+00:00"
    assert facts.debuggable == (kind == "development")
    assert [(entry.scheme, entry.verified) for entry in facts.signatures] == [("profile", True)]
    digest = run("openssl", "x509", "-in", tmp_path / "cert.pem", "-noout", "-fingerprint", "-sha256")
    assert facts.profile.certificates[0].sha256 == digest.strip().partition("=")[2].replace(":", "").lower()


@pytest.mark.toolchain
def test_a_profile_changed_after_it_was_signed_is_noticed(tmp_path: Path) -> None:
    profile = make_profile(tmp_path, {})
    facts = read(make_ipa(tmp_path / "a.ipa", profile=profile.replace(b"Marram", b"Barram")))
    assert [(entry.verified, entry.trouble) for entry in facts.signatures] == [
        (False, "its content was changed after it was signed")
    ]


def test_an_extension_of_another_version_is_remarked(tmp_path: Path) -> None:
    ipa = make_ipa(tmp_path / "a.ipa", number="5", extension_number="4")
    facts = read(ipa)
    assert [(part.kind, part.name, part.number) for part in facts.parts] == [("extension", "Tiles", "4")]
    assert facts.remarks == ("The extension Tiles carries version 2.4.0 (4), the app 2.4.0 (5).",)


def rewritten(source: Path, target: Path, change: dict[str, bytes]) -> Path:
    with zipfile.ZipFile(source) as opened, zipfile.ZipFile(target, "w") as made:
        for name in dict.fromkeys([*opened.namelist(), *change]):
            made.writestr(name, change[name] if name in change else opened.read(name))
    return target


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({"map.bin": b"other"}, "map.bin is not what the block map states"),
        ({"more.txt": b"more"}, "more.txt does not stand in the block map"),
        ({"more.msix": b"more"}, "more.msix does not stand in the block map"),
        ({"more.msix": b"more", "map.bin": b"other"}, "map.bin is not what the block map states"),
    ],
)
def test_an_msix_package_is_held_against_its_block_map(tmp_path: Path, change: dict[str, bytes], told: str) -> None:
    good = write_msix(tmp_path / "a.msix", PackageRecipe("a.b", "1.0.0", 1, "A", padding_bytes=150_000))
    assert read(good).signatures[0].verified is None
    wrong = read(rewritten(good, tmp_path / "b.msix", change)).signatures[0]
    assert (wrong.verified, wrong.trouble) == (False, told)


def test_the_block_maps_digests_are_openssls(tmp_path: Path) -> None:
    good = write_msix(tmp_path / "a.msix", PackageRecipe("a.b", "1.0.0", 1, "A", padding_bytes=60_000))
    with zipfile.ZipFile(good) as opened:
        (tmp_path / "map.bin").write_bytes(opened.read("map.bin"))
        stated = opened.read("AppxBlockMap.xml").decode()
    digest = run("sh", "-c", f"openssl dgst -sha256 -binary {tmp_path / 'map.bin'} | base64").strip()
    assert f'Hash="{digest}"' in stated


def test_a_bundle_of_msix_packages_is_one_with_all_its_processors(tmp_path: Path) -> None:
    recipes = [PackageRecipe("a.b", "1.0.0", 1, "A", processor=kind) for kind in ("x64", "arm64")]
    packages = [write_msix(tmp_path / f"{recipe.processor}.msix", recipe) for recipe in recipes]
    facts = read(write_msix_bundle(tmp_path / "a.msixbundle", packages, recipes[0]))
    assert (facts.format, facts.platform, facts.processors) == ("msixbundle", "desktop", ("arm64", "x64"))
    assert [(part.name, part.processors) for part in facts.parts] == [("x64.msix", ("x64",)), ("arm64.msix", ("arm64",))]  # fmt: skip
    assert facts.signatures[0].verified is None


def test_a_bundle_holds_no_better_than_what_is_in_it(tmp_path: Path) -> None:
    recipe = PackageRecipe("a.b", "1.0.0", 1, "A")
    good = write_msix(tmp_path / "x64.msix", recipe)
    wrong = rewritten(good, tmp_path / "arm64.msix", {"map.bin": b"other"})
    found = read(write_msix_bundle(tmp_path / "a.msixbundle", [good, wrong], recipe)).signatures
    assert [(entry.verified, entry.trouble) for entry in found] == [
        (False, "arm64.msix: map.bin is not what the block map states")
    ]
    stowaway = rewritten(tmp_path / "a.msixbundle", tmp_path / "b.msixbundle", {"other.msix": good.read_bytes()})
    assert read(stowaway).signatures[0].verified is False


def test_two_builds_side_by_side_tell_first_what_must_be_noticed(tmp_path: Path) -> None:
    before = PackageRecipe("a.b", "1.0.0", 1, "Marram", ("android.permission.INTERNET",))
    after = PackageRecipe("a.b", "1.1.0", 2, "Marram", ("android.permission.CAMERA",), lowest_platform=29,
                          padding_bytes=400_000, signer="Someone else", processors=("x86_64",))  # fmt: skip
    found = compare([read(write_apk(tmp_path / "a.apk", before))], [read(write_apk(tmp_path / "b.apk", after))])
    assert [difference.code for difference in found if difference.level == "caution"] == [
        "certificate",
        "permission-added",
        "lowest-raised",
        "processor-gone",
        "size-grown",
    ]
    grown = next(difference for difference in found if difference.code == "size-grown")
    assert grown.lines[0] == "assets/map.bin: +350000 bytes"
    assert {difference.code for difference in found} >= {"permission-gone", "processor-added"}


def test_a_build_beside_itself_shows_no_difference(tmp_path: Path) -> None:
    facts = read(write_ipa(tmp_path / "a.ipa", PackageRecipe("a.b", "1.0.0", 1, "A")))
    assert compare([facts], [facts]) == []


def test_a_number_that_no_platform_has_is_refused_as_a_package_is() -> None:
    by_id = {0x0101021B: Given("7"), 0x01010576: Given("9" * 18)}
    with pytest.raises(PackageUnreadable, match="The manifest: .* is no build number"):
        fill(Manifest(), [Element(("manifest",), by_id, {"package": Given("a.b")})])
