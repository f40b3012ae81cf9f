"""What packages say of themselves, held against the tools that build and install them: what earlier readers missed."""

from __future__ import annotations

import io
import plistlib
import struct
import subprocess
import zipfile
from dataclasses import replace
from pathlib import Path

import pytest

from restless_tide.core.errors import Level, PackageUnreadable
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.packages import Facts, inspect_package
from restless_tide.core.packages.bounds import PARTS_LIMIT
from restless_tide.core.packages.chunks import StringPool, chunks
from restless_tide.core.packages.compare import compare
from restless_tide.core.packages.levels import told
from restless_tide.core.readiness import check_packages, check_push
from restless_tide.standins.packages import PackageRecipe, write_apk
from tests.core import aimed
from tests.core.test_steering import NOW, rulebook
from tests.toolchain import FRAMEWORK, badging, bundle_of, link_sources, png, run

MANIFEST = """<?xml version="1.0" encoding="utf-8"?>
<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="org.example.marram" {version}>
  {inside}
</manifest>
"""
NAMED = 'android:versionCode="7" android:versionName="1.0.0"'
STRINGS = "<resources><string name='label'>{}</string></resources>"
APPLICATION = '<application android:label="@string/label" android:hasCode="false">{}</application>'


def read(content: Path | bytes) -> Facts:
    return inspect_package(io.BytesIO(content if isinstance(content, bytes) else content.read_bytes()))


def made(folder: Path, inside: str, files: dict[str, str | bytes] | None = None, version: str = NAMED) -> Path:
    return link_sources(folder, MANIFEST.format(version=version, inside=inside), files or {})


@pytest.mark.toolchain
def test_a_package_without_version_and_number_is_read_as_devices_take_it(tmp_path: Path) -> None:
    apk = made(tmp_path, "<application android:hasCode='false'/>", version="")
    facts, theirs = read(apk), badging(apk)
    assert (facts.lacking, facts.version, facts.number) == (("version", "number"), "", BuildNumber(0))
    assert theirs.version == ""
    found = check_packages(rulebook("openfield"), [facts], facts.identifier)
    assert {"version-missing", "number-missing"} <= {one.code for one in found if one.level is Level.BLOCKER}


@pytest.mark.toolchain
def test_a_number_that_is_a_text_is_refused_by_aapt_and_by_us(tmp_path: Path) -> None:
    (tmp_path / "res/values").mkdir(parents=True)
    (tmp_path / "res/values/strings.xml").write_text(STRINGS.format("seven"))
    given = MANIFEST.format(version='android:versionCode="@string/label" android:versionName="1.0.0"', inside="")
    (tmp_path / "AndroidManifest.xml").write_text(given)
    apk = tmp_path / "app.apk"
    run("aapt", "package", "-M", tmp_path / "AndroidManifest.xml", "-S", tmp_path / "res", "-I", FRAMEWORK, "-F", apk)
    with pytest.raises(subprocess.CalledProcessError) as wrong:
        run("aapt", "dump", "badging", apk)
    assert "attribute is not an integer value" in wrong.value.stderr
    with pytest.raises(PackageUnreadable, match="'seven', is no whole number of 32 bits"):
        read(apk)


@pytest.mark.toolchain
@pytest.mark.parametrize(
    ("sdk", "asked"),
    [
        ('android:minSdkVersion="3"', ""),
        ('android:minSdkVersion="3" android:targetSdkVersion="15"', "READ_CONTACTS,WRITE_CONTACTS"),
        ('android:minSdkVersion="24" android:targetSdkVersion="29"', "WRITE_EXTERNAL_STORAGE"),
        ('android:minSdkVersion="24" android:targetSdkVersion="29"', "WRITE_EXTERNAL_STORAGE,READ_EXTERNAL_STORAGE"),
        ('android:minSdkVersion="24" android:targetSdkVersion="29" android:maxSdkVersion="33"', ""),
    ],
)
def test_what_devices_grant_unasked_is_what_aapt_says(tmp_path: Path, sdk: str, asked: str) -> None:
    names = [f"android.permission.{name}" for name in asked.split(",") if name]
    wanted = "".join(f'<uses-permission android:name="{name}"/>' for name in names)
    apk = made(tmp_path, f"<uses-sdk {sdk}/>{wanted}<application android:hasCode='false'/>")
    facts, theirs = read(apk), badging(apk)
    assert sorted(facts.implied_permissions) == sorted(theirs.implied)
    assert facts.highest_platform == theirs.highest
    assert all(facts.implied_permissions.values())


@pytest.mark.toolchain
def test_what_the_icon_starts_is_the_activity_that_aapt_names(tmp_path: Path) -> None:
    started = (
        '<intent-filter><action android:name="android.intent.action.MAIN"/>'
        '<category android:name="android.intent.category.LAUNCHER"/></intent-filter>'
    )
    other = '<intent-filter><action android:name="android.intent.action.MAIN"/></intent-filter>'
    inside = APPLICATION.format(
        f'<activity android:name=".Quiet">{other}</activity>'
        f'<activity android:name=".Shore">{other}{started}</activity>'
        f'<activity-alias android:name=".Other" android:targetActivity=".Shore">{started}</activity-alias>'
    )
    apk = made(tmp_path, inside, {"values/strings.xml": STRINGS.format("Marram")})
    assert read(apk).launchable == badging(apk).launchable == "org.example.marram.Shore"
    assert read(bundle_of(apk)).launchable == "org.example.marram.Shore"


@pytest.mark.toolchain
def test_densities_and_labels_are_those_of_a_plain_device(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {
        "values/strings.xml": "<resources><string name='label'>Marram</string><string name='more'>More</string></resources>",
        "values-de/strings.xml": STRINGS.format("Strandhafer"),
        "values-de-land/strings.xml": STRINGS.format("Breiter Strandhafer"),
        "values-de-rAT/strings.xml": "<resources><string name='more'>Mehr</string></resources>",
        "values-fr-v31/strings.xml": STRINGS.format("Oyat neuf"),
        "values-fr/strings.xml": STRINGS.format("Oyat"),
        "values-land/strings.xml": STRINGS.format("Wide Marram"),
        "values-b+sr+Latn/strings.xml": STRINGS.format("Trava"),
        "mipmap-mdpi/icon.png": png(8),
        "mipmap-xhdpi/icon.png": png(16),
    }
    apk = made(tmp_path, APPLICATION.format("").replace("hasCode", "icon='@mipmap/icon' android:hasCode"), files)
    facts, theirs = read(apk), badging(apk)
    assert facts.label == theirs.label == "Marram"
    assert facts.labels == {name: label for name, label in theirs.labels.items() if label != theirs.label}
    assert facts.labels["de"] == facts.labels["de-AT"] == "Strandhafer"
    assert facts.locales == theirs.locales
    assert tuple(map(str, facts.densities)) == theirs.densities
    bundle = read(bundle_of(apk))
    assert (bundle.labels, bundle.locales, bundle.densities) == (facts.labels, facts.locales, facts.densities)


@pytest.mark.toolchain
def test_a_debuggable_that_a_resource_decides_is_found(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {
        "values/bools.xml": "<resources><bool name='open'>false</bool></resources>",
        "values-v31/bools.xml": "<resources><bool name='open'>true</bool></resources>",
    }
    apk = made(tmp_path, "<application android:debuggable='@bool/open' android:hasCode='false'/>", files)
    assert read(apk).debuggable
    assert read(bundle_of(apk)).debuggable
    files["values-v31/bools.xml"] = "<resources><bool name='open'>false</bool></resources>"
    assert not read(made(tmp_path / "no", "<application android:debuggable='@bool/open' android:hasCode='false'/>", files)).debuggable  # fmt: skip


@pytest.mark.toolchain
def test_an_icon_is_found_behind_any_path_and_in_a_drawing_of_a_bundle(tmp_path: Path) -> None:
    drawing = (
        '<adaptive-icon xmlns:android="http://schemas.android.com/apk/res/android">'
        '<background android:drawable="@mipmap/ground"/><foreground android:drawable="@mipmap/front"/></adaptive-icon>'
    )
    files: dict[str, str | bytes] = {
        "values/strings.xml": STRINGS.format("Ma<b>rr</b>am"),
        "mipmap-anydpi-v26/icon.xml": drawing,
        "mipmap-mdpi/front.png": png(24),
        "mipmap-mdpi/ground.png": png(16),
    }
    inside = APPLICATION.format("").replace("hasCode", "icon='@mipmap/icon' android:hasCode")
    apk = made(tmp_path, inside, files)
    bundle = read(bundle_of(apk))
    assert bundle.icon is not None
    assert (bundle.icon.member, bundle.icon.width) == ("base/res/mipmap-mdpi-v4/front.png", 24)
    assert bundle.label == read(apk).label == "Marram"
    plain = {"values/strings.xml": files["values/strings.xml"], "mipmap-mdpi/icon.png": png(32)}
    there = made(tmp_path / "plain", inside, plain)
    hidden = io.BytesIO()
    with zipfile.ZipFile(there) as source, zipfile.ZipFile(hidden, "w") as target:
        for name in source.namelist():
            content = source.read(name).replace(b"v4/icon.png", b"v4/icon_png")
            target.writestr(name.replace("v4/icon.png", "v4/icon_png"), content)
    found = read(hidden.getvalue()).icon
    assert found is not None
    assert (found.member, found.width, found.media_type) == ("res/mipmap-mdpi-v4/icon_png", 32, "image/png")


@pytest.mark.toolchain
def test_of_two_limits_on_one_permission_the_higher_counts_and_none_beats_both(tmp_path: Path) -> None:
    def asked(*levels: str) -> str:
        limits = (f' android:maxSdkVersion="{level}"' if level else "" for level in levels)
        return "".join(f'<uses-permission android:name="a.b.C"{limit}/>' for limit in limits)

    rest = "<application android:hasCode='false'/>"
    assert read(made(tmp_path / "1", asked("30", "20") + rest)).permission_limits == {"a.b.C": "30"}
    assert read(made(tmp_path / "2", asked("9", "20") + rest)).permission_limits == {"a.b.C": "20"}
    assert read(made(tmp_path / "3", asked("20", "", "30") + rest)).permission_limits == {}


def test_signs_beyond_sixteen_bits_are_read_in_both_of_their_forms() -> None:
    wave = "\N{WATER WAVE}"
    broken = "".join(chr(half) for half in struct.unpack("<2H", wave.encode("utf-16-le"))).encode(
        "utf-8", "surrogatepass"
    )
    data = aimed.pool([b"Marram " + wave.encode(), b"Marram " + broken, b"\xff\xfe"])
    strings = StringPool(data, next(chunks(data, 0, len(data), "a pool")))
    assert (strings[0], strings[1]) == (f"Marram {wave}", f"Marram {wave}")
    assert "\N{REPLACEMENT CHARACTER}" in strings[2]


# IPA


def app(more: dict[str, bytes], info: dict[str, object] | None = None) -> Facts:
    told_ = plistlib.dumps({**aimed.INFO, **(info or {})})
    return read(aimed.ipa(told_, **{f"Payload/A.app/{name}": content for name, content in more.items()}))


def nested(name: str, version: str = "1.0", number: str = "1") -> bytes:
    return plistlib.dumps(
        {"CFBundleIdentifier": f"a.b.{name}", "CFBundleShortVersionString": version, "CFBundleVersion": number}
    )


def test_everything_that_is_nested_in_an_app_is_told() -> None:
    facts = app(
        {
            "AppClips/Clip.app/Info.plist": nested("clip"),
            "Watch/Wrist.app/Info.plist": nested("wrist"),
            "Watch/Wrist.app/PlugIns/Face.appex/Info.plist": nested("face", "0.9"),
            "PlugIns/Share.appex/Info.plist": nested("share"),
            "PlugIns/Share.appex/Frameworks/Kit.framework/Info.plist": nested("kit", "3.0"),
            "Extensions/New.appex/Info.plist": nested("new"),
        }
    )
    assert {(part.kind, part.name) for part in facts.parts} == {
        ("app clip", "Clip"),
        ("watch app", "Wrist"),
        ("extension", "Wrist/Face"),
        ("extension", "Share"),
        ("framework", "Share/Kit"),
        ("extension", "New"),
    }
    assert facts.remarks == ("The extension Wrist/Face carries version 0.9 (1), the app 1.0 (1).",)
    shares = {part.name: part.size_bytes for part in facts.parts}
    assert shares["Wrist"] > shares["Wrist/Face"] > 0


def test_more_parts_than_are_read_are_remarked_and_a_broken_one_keeps_no_other_out() -> None:
    many = {f"PlugIns/E{at:04}.appex/Info.plist": nested(f"e{at}") for at in range(PARTS_LIMIT + 5)}
    facts = app(many)
    assert len(facts.parts) == PARTS_LIMIT
    assert facts.remarks[0] == f"The app holds {PARTS_LIMIT + 5} parts; {PARTS_LIMIT} of them were read."
    broken = app({"PlugIns/A.appex/Info.plist": b"bplist00", "PlugIns/B.appex/Info.plist": nested("b")})
    assert [part.name for part in broken.parts] == ["B"]
    assert broken.remarks == ("The property list of A is damaged.",)


def test_the_reason_for_near_field_tags_is_one_of_the_reasons() -> None:
    assert app({}, {"NFCReaderUsageDescription": "To read a tag."}).reasons == {"NFCReaderUsageDescription": "To read a tag."}  # fmt: skip


def program(processor: int, platform: int) -> bytes:
    """The head of a program for a platform: 2 phones, 7 their simulator."""
    head = struct.pack("<8I", 0xFEEDFACF, processor, 0, 2, 1, 24, 0, 0)
    return head + struct.pack("<6I", 0x32, 24, platform, 0x100000, 0x120000, 0)


def fat(*programs: bytes, apart: int = 0x4000) -> bytes:
    """A file for several processors, each program at a page of its own."""
    kinds = [struct.unpack_from("<II", one, 4) for one in programs]
    head = struct.pack(">II", 0xCAFEBABE, len(programs))
    for place, (processor, subtype) in enumerate(kinds, 1):
        head += struct.pack(">IIIII", processor, subtype, apart * place, len(programs[place - 1]), 14)
    return head.ljust(apart, b"\0") + b"".join(one.ljust(apart, b"\0") for one in programs)


INTEL, ARM = 0x01000007, 0x0100000C


@pytest.mark.parametrize(
    ("content", "simulator", "processors"),
    [
        (fat(program(INTEL, 7), program(ARM, 7)), True, ("arm64", "x86_64")),
        (fat(program(INTEL, 7), program(ARM, 2)), False, ("arm64", "x86_64")),
        (fat(program(INTEL, 7), program(ARM, 7), apart=3_000_000), True, ("arm64", "x86_64")),
        (fat(program(INTEL, 7), program(ARM, 2), apart=3_000_000), False, ("arm64", "x86_64")),
        (program(ARM, 7), True, ("arm64",)),
        (
            struct.pack("<8I", 0xFEEDFACF, INTEL, 0, 2, 1, 16, 0, 0) + struct.pack("<4I", 0x25, 16, 0, 0),
            True,
            ("x86_64",),
        ),
        (b"\xca\xfe\xba\xbe" + struct.pack(">I", 61), False, ()),
    ],
    ids=["both", "one for phones", "far apart", "far apart, one for phones", "thin", "an older mark", "no program"],
)
def test_a_program_for_several_processors_is_one_for_a_simulator_if_all_its_parts_are(
    content: bytes, simulator: bool, processors: tuple[str, ...]
) -> None:
    facts = app({"A": content}, {"CFBundleExecutable": "A"})
    assert (facts.simulator, facts.processors) == (simulator, processors)


# side by side


def test_a_lower_version_or_number_and_another_publisher_or_icon_are_noticed(tmp_path: Path) -> None:
    facts = read(write_apk(tmp_path / "a.apk", PackageRecipe("a.b", "1.2.0", 4, "Marram")))
    assert facts.icon is not None
    other = replace(
        facts,
        version="1.1.0",
        number=BuildNumber(3),
        test_only=True,
        simulator=True,
        publisher="CN=Someone",
        launchable="a.b.Main",
        icon=replace(facts.icon, sha256="0" * 64),
    )
    found = {one.code: one for one in compare([facts], [other])}
    assert found.keys() == {
        "version-lowered", "number-lowered", "test-only-changed", "simulator-changed", "publisher-changed", "launchable-changed",
        "icon-changed",
    }  # fmt: skip
    assert found["version-lowered"].level is found["number-lowered"].level is Level.CAUTION
    back = {one.code: one.level for one in compare([other], [facts])}
    assert back["version-changed"] is back["number-raised"] is Level.NOTE
    assert compare([facts], [facts]) == []


def test_the_sheet_says_what_facts_mean_for_people(tmp_path: Path) -> None:
    facts = read(write_apk(tmp_path / "a.apk", PackageRecipe("a.b", "1.2.0", 4, "Marram")))
    rules = rulebook("openfield")
    assert told(facts.installs) == "8.0 and later"
    notes = {one.code: one.detail for one in check_push(rules, [], [facts], "a.b", NOW)}
    assert notes["installs-on"] == "It installs on 8.0 and later."
    fewer = replace(facts, lowest_platform="21", implied_permissions={"a.b.C": "an old library asks for less"})
    cautions = {
        one.code: one.detail for one in check_push(rules, [], [fewer], "a.b", NOW) if one.level is Level.CAUTION
    }
    assert cautions["installs-not-everywhere"] == "It asks for 5.0 or later, but by its signatures it installs on 8.0 and later only."  # fmt: skip
    assert cautions["permission-implied"] == "Devices grant a.b.C without its being asked for: an old library asks for less."  # fmt: skip


def test_facts_come_back_from_their_document_as_they_were(tmp_path: Path) -> None:
    facts = read(write_apk(tmp_path / "a.apk", PackageRecipe("a.b", "1.2.0", 4, "Marram", ("a.b.C",))))
    assert Facts.of(facts.document()) == facts
