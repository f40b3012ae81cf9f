"""Reading an IPA: the app inside ``Payload/``, what it nests, its profile, its processor kinds."""

from __future__ import annotations

import re
from typing import Any, Literal

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.contents import contents_of
from restless_tide.core.packages.facts import Facts, Icon, Part, Profile, Signature, number_in
from restless_tide.core.packages.mach_o import HEADER_BYTES, Binary, read_mach_o
from restless_tide.core.packages.pictures import largest
from restless_tide.core.packages.property_list import read_property_list, text_of, texts_of
from restless_tide.core.packages.provisioning import read_profile

_INFO = re.compile(r"(Payload/[^/]+\.app/)Info\.plist")
_NESTED = re.compile(r"(PlugIns|Extensions|Frameworks|Watch)/([^/]+)\.(appex|framework|app)/Info\.plist")
_LANGUAGE = re.compile(r"([A-Za-z]{2,3}(?:[-_][A-Za-z0-9]{2,8})*)\.lproj/")
_LABELS = re.compile(r"([A-Za-z]{2,3}(?:[-_][A-Za-z0-9]{2,8})*)\.lproj/InfoPlist\.strings")
_REASON = re.compile(r"NS\w+UsageDescription")
_FAMILIES = {1: "phone", 2: "tablet", 3: "television", 4: "watch", 6: "desktop", 7: "headset"}
_PARTS_LIMIT = 200


def is_ipa(archive: Archive) -> bool:
    return any(_INFO.fullmatch(name) or name.startswith("Payload/") for name in archive.names)


def read_ipa(archive: Archive, size_bytes: int, sha256: str) -> Facts:
    """The facts of an IPA; ``permissions`` are the accesses it gives a reason for. Raises PackageUnreadable."""
    places = [found.group(1) for name in archive.names if (found := _INFO.fullmatch(name))]
    if len(places) != 1:
        raise PackageUnreadable(
            f"An IPA holds one app with a property list; this one holds {len(places)}.",
            remedy="Build the package again.",
        )
    root = places[0]
    info = read_property_list(archive.read(f"{root}Info.plist"), "The app's property list")
    version, number = (
        _needed(info, "CFBundleShortVersionString"),
        number_in(_needed(info, "CFBundleVersion"), "CFBundleVersion"),
    )
    label = text_of(info.get("CFBundleDisplayName")) or text_of(info.get("CFBundleName"))
    binary = _binary(archive, root, info)
    profile, signatures, rights, remarks = _profile(archive, root)
    reasons = {key: text_of(info[key]) or "" for key in info if isinstance(key, str) and _REASON.fullmatch(key)}
    parts = _parts(archive, root)
    remarks += tuple(
        f"The extension {part.name} carries version {part.version} ({part.number}), the app {version} ({number})."
        for part in parts
        if part.kind == "extension" and (part.version, part.number) != (version, number.text)
    )
    return Facts(
        format="ipa",
        identifier=_needed(info, "CFBundleIdentifier"),
        version=version,
        number=number,
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
    return read_mach_o(archive.begin(name, HEADER_BYTES)) if name in archive else None


def _profile(
    archive: Archive, root: str
) -> tuple[Profile | None, tuple[Signature, ...], tuple[str, ...], tuple[str, ...]]:
    name = f"{root}embedded.mobileprovision"
    if name not in archive:
        return None, (), (), ()
    try:
        profile, signature, rights = read_profile(archive.read(name))
    except PackageUnreadable as wrong:
        return None, (), (), (wrong.detail,)
    return profile, (signature,), rights, ()


def _parts(archive: Archive, root: str) -> tuple[Part, ...]:
    parts: list[Part] = []
    for name in archive.names:
        found = _NESTED.fullmatch(name.removeprefix(root)) if name.startswith(root) else None
        if found and len(parts) < _PARTS_LIMIT:
            folder = name.removesuffix("Info.plist")
            parts.append(_part(archive, folder, found.group(2), found.group(3)))
    return tuple(sorted(parts, key=lambda part: (part.kind, part.name)))


def _part(archive: Archive, folder: str, name: str, suffix: str) -> Part:
    info = read_property_list(archive.read(f"{folder}Info.plist"), f"The property list of {name[:80]}")
    kind: Literal["framework", "extension"] = "framework" if suffix == "framework" else "extension"
    binary = _binary(archive, folder, info)
    return Part(
        kind=kind,
        name=name,
        identifier=text_of(info.get("CFBundleIdentifier")) or "",
        version=text_of(info.get("CFBundleShortVersionString")) or "",
        number=text_of(info.get("CFBundleVersion")) or "",
        processors=binary.processors if binary else (),
        size_bytes=sum(member.compress_size for member in archive.members if member.filename.startswith(folder)),
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
            strings = read_property_list(archive.read(name), name)
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
