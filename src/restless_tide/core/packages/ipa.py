"""Reading an IPA: the app inside ``Payload/``, what it nests, its profile, its processor kinds."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.bounds import MIB, PARTS_LIMIT, PROPERTY_LIST_LIMIT_BYTES, SIGNED_DATA_LIMIT_BYTES
from restless_tide.core.packages.contents import contents_of
from restless_tide.core.packages.directory import shown
from restless_tide.core.packages.facts import Facts, Icon, Part, PartKind, Profile, Signature, number_in
from restless_tide.core.packages.kinds import APP_INFO
from restless_tide.core.packages.mach_o import HEADER_BYTES, Binary, read_mach_o
from restless_tide.core.packages.pictures import largest
from restless_tide.core.packages.property_list import read_property_list, text_of, texts_of
from restless_tide.core.packages.provisioning import read_profile

_NESTED = re.compile(
    r"((?:(?:PlugIns|Extensions|Frameworks|Watch|AppClips)/[^/]+\.(?:appex|framework|app)/)+)Info\.plist"
)
_OUTER = re.compile(r"(PlugIns|Extensions|Frameworks|Watch|AppClips)/([^/]+)\.(appex|framework|app)/")
_LANGUAGE = re.compile(r"([A-Za-z]{2,3}(?:[-_][A-Za-z0-9]{2,8})*)\.lproj/")
_LABELS = re.compile(r"([A-Za-z]{2,3}(?:[-_][A-Za-z0-9]{2,8})*)\.lproj/InfoPlist\.strings")
_REASON = re.compile(r"(?:NS|NFC)\w+UsageDescription")
_KINDS: dict[str, PartKind] = {"appex": "extension", "framework": "framework"}
_APPS: dict[str, PartKind] = {"Watch": "watch app", "AppClips": "app clip"}
_OF_THE_SAME_VERSION = ("extension", "watch app", "app clip")
_FAMILIES = {1: "phone", 2: "tablet", 3: "television", 4: "watch", 6: "desktop", 7: "headset"}
_SLICE_LOOKED_AT_BYTES = 4096
_FARTHEST_SLICE_BYTES = 256 * MIB


def read_ipa(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    """The facts of an IPA; ``permissions`` are the accesses it gives a reason for. Raises PackageUnreadable."""
    places = [found.group(1) for name in archive.names if (found := APP_INFO.fullmatch(name))]
    if len(places) != 1:
        raise PackageUnreadable(
            f"An IPA holds one app with a property list; this one holds {len(places)}.",
            remedy="Build the package again.",
        )
    root = places[0]
    info = read_property_list(
        archive.read(f"{root}Info.plist", PROPERTY_LIST_LIMIT_BYTES), "The app's property list", archive.effort
    )
    version, stated = text_of(info.get("CFBundleShortVersionString")) or "", text_of(info.get("CFBundleVersion")) or ""
    number = number_in(stated or 0, "CFBundleVersion")
    label = text_of(info.get("CFBundleDisplayName")) or text_of(info.get("CFBundleName"))
    binary = _binary(archive, root, info)
    profile, signatures, rights, remarks = _profile(archive, root)
    reasons = {key: text_of(info[key]) or "" for key in info if isinstance(key, str) and _REASON.fullmatch(key)}
    parts, told = _parts(archive, root)
    remarks += told
    remarks += tuple(
        f"The {part.kind} {part.name} carries version {part.version} ({part.number}), the app {version} ({number})."
        for part in parts
        if part.kind in _OF_THE_SAME_VERSION and (part.version, part.number) != (version, number.text)
    )
    return Facts(
        format="ipa",
        identifier=_needed(info, "CFBundleIdentifier"),
        version=version,
        number=number,
        lacking=tuple(name for name, there in (("version", version), ("number", stated)) if not there),
        lowest_platform=text_of(info.get("MinimumOSVersion")),
        target_platform=text_of(info.get("DTPlatformVersion")),
        permissions=tuple(sorted(reasons)),
        reasons=reasons,
        features=texts_of(info.get("UIRequiredDeviceCapabilities")),
        capabilities=rights,
        label=label,
        labels=_labels(archive, root, label),
        locales=_locales(archive, root),
        debuggable=profile is not None and profile.kind == "development",
        simulator=_simulator(info) or (binary is not None and binary.simulator),
        encryption_exempt=_exempt(info),
        processors=binary.processors if binary else (),
        device_families=_families(info),
        parts=parts,
        signatures=signatures,
        profile=profile,
        icon=_icon(archive, root, info),
        contents=contents_of(archive, strip=root),
        remarks=remarks,
        size_bytes=size_bytes,
        sha256=sha256,
    )


def _binary(archive: Archive, folder: str, info: dict[str, Any]) -> Binary | None:
    name = folder + (
        text_of(info.get("CFBundleExecutable")) or folder.rstrip("/").rpartition("/")[2].rpartition(".")[0]
    )
    found = read_mach_o(archive.begin(name, HEADER_BYTES)) if name in archive else None
    if found is not None and found.slices:
        found = replace(found, simulator=_all_for_simulators(archive, name, found.slices))
    return found


def _all_for_simulators(archive: Archive, name: str, slices: tuple[int, ...]) -> bool:
    """Whether every program of a file for several processors is built for a simulator. They begin where its head says."""
    waiting, at, kept = list(slices), 0, b""
    if waiting[-1] > min(archive.size(name), _FARTHEST_SLICE_BYTES):
        return False
    for block in archive.blocks(name):
        kept, at = kept + block, at + len(block)
        while waiting and (waiting[0] + _SLICE_LOOKED_AT_BYTES <= at or at >= archive.size(name)):
            begin = waiting.pop(0) - (at - len(kept))
            one = read_mach_o(kept[begin : begin + _SLICE_LOOKED_AT_BYTES]) if begin >= 0 else None
            if one is None or not one.simulator:
                return False
        if not waiting:
            return True
        kept = kept[-_SLICE_LOOKED_AT_BYTES:]
    return False


def _profile(
    archive: Archive, root: str
) -> tuple[Profile | None, tuple[Signature, ...], tuple[str, ...], tuple[str, ...]]:
    name = f"{root}embedded.mobileprovision"
    if name not in archive:
        return None, (), (), ()
    try:
        profile, signature, rights = read_profile(archive.read(name, SIGNED_DATA_LIMIT_BYTES))
    except PackageUnreadable as wrong:
        return None, (), (), (wrong.detail,)
    return profile, (signature,), rights, ()


def _parts(archive: Archive, root: str) -> tuple[tuple[Part, ...], tuple[str, ...]]:
    """What is nested in the app, at any depth, and what is to be remarked of it."""
    found: list[tuple[str, list[tuple[str, str, str]]]] = []
    for name in archive.names:
        if name.endswith("/Info.plist") and name.startswith(root):
            nested = _NESTED.fullmatch(name.removeprefix(root))
            if nested:
                found.append((name.removesuffix("Info.plist"), _OUTER.findall(nested.group(1))))
    parts, remarks = [], []
    if len(found) > PARTS_LIMIT:
        remarks.append(f"The app holds {len(found)} parts; {PARTS_LIMIT} of them were read.")
    weights = _weights(archive, {folder for folder, _ in found[:PARTS_LIMIT]})
    for folder, way in found[:PARTS_LIMIT]:
        archive.effort.spend(100)
        try:
            parts.append(_part(archive, folder, way, weights[folder]))
        except PackageUnreadable as wrong:
            remarks.append(wrong.detail)
    return tuple(sorted(parts, key=lambda part: (part.kind, part.name))), tuple(remarks)


def _weights(archive: Archive, folders: set[str]) -> dict[str, int]:
    """What each of the folders takes up, in bytes, with everything inside it."""
    weights = dict.fromkeys(folders, 0)
    for member in archive.members:
        at = member.name.rfind("/")
        while at >= 0:
            folder = member.name[: at + 1]
            if folder in weights:
                weights[folder] += member.packed_bytes
            at = member.name.rfind("/", 0, at)
    return weights


def _part(archive: Archive, folder: str, way: list[tuple[str, str, str]], size_bytes: int) -> Part:
    name = "/".join(one for _, one, _ in way)
    info = read_property_list(
        archive.read(f"{folder}Info.plist", PROPERTY_LIST_LIMIT_BYTES),
        f"The property list of {shown(name)}",
        archive.effort,
    )
    place, _, suffix = way[-1]
    kind: PartKind = _KINDS.get(suffix) or _APPS.get(place, "app")
    binary = _binary(archive, folder, info)
    return Part(
        kind=kind,
        name=name,
        identifier=text_of(info.get("CFBundleIdentifier")) or "",
        version=text_of(info.get("CFBundleShortVersionString")) or "",
        number=text_of(info.get("CFBundleVersion")) or "",
        processors=binary.processors if binary else (),
        size_bytes=size_bytes,
    )


def _locales(archive: Archive, root: str) -> tuple[str, ...]:
    found = {
        match.group(1).replace("_", "-")
        for name in archive.names
        if name.startswith(root) and (match := _LANGUAGE.match(name.removeprefix(root)))
    }
    return tuple(sorted(found - {"Base"}))


def _labels(archive: Archive, root: str, label: str | None) -> dict[str, str]:
    """The label by language, where its strings are a property list; older text forms are left out."""
    labels = {}
    for name in archive.names:
        found = _LABELS.fullmatch(name.removeprefix(root)) if name.startswith(root) else None
        if found is None:
            continue
        try:
            strings = read_property_list(archive.read(name, PROPERTY_LIST_LIMIT_BYTES), shown(name), archive.effort)
        except PackageUnreadable:
            continue
        text = text_of(strings.get("CFBundleDisplayName"))
        if text and text != label:
            labels[found.group(1).replace("_", "-")] = text
    return labels


def _icon(archive: Archive, root: str, info: dict[str, Any]) -> Icon | None:
    names: list[str] = []
    for key in ("CFBundleIcons", "CFBundleIcons~ipad"):
        icons = info.get(key)
        primary = icons.get("CFBundlePrimaryIcon") if isinstance(icons, dict) else None
        names.extend(texts_of(primary.get("CFBundleIconFiles")) if isinstance(primary, dict) else ())
    names.extend(texts_of(info.get("CFBundleIconFiles")))
    begins = tuple(f"{root}{name.removesuffix('.png')}" for name in names)
    members = [name for name in archive.names if begins and name.startswith(begins) and name.endswith(".png")]
    return largest(archive, members)


def _families(info: dict[str, Any]) -> tuple[str, ...]:
    given = info.get("UIDeviceFamily")
    numbers = given if isinstance(given, list) else [given]
    return tuple(_FAMILIES[number] for number in numbers if isinstance(number, int) and number in _FAMILIES)


def _simulator(info: dict[str, Any]) -> bool:
    platforms = (*texts_of(info.get("CFBundleSupportedPlatforms")), text_of(info.get("DTPlatformName")) or "")
    return any(platform.lower().endswith("simulator") for platform in platforms)


def _exempt(info: dict[str, Any]) -> bool | None:
    uses = info.get("ITSAppUsesNonExemptEncryption")
    return None if not isinstance(uses, bool) else not uses


def _needed(info: dict[str, Any], key: str) -> str:
    text = text_of(info.get(key))
    if not text:
        raise PackageUnreadable(
            f"The app's property list lacks {key}.", remedy=f"Set {key} in the project and build again."
        )
    return text
