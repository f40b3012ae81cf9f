"""Two builds side by side: what a person must notice first."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from restless_tide.core.errors import Level
from restless_tide.core.packages.facts import Facts, Share
from restless_tide.core.packages.levels import narrower, told

GROWN_SHARE = 0.1
"""Growth by more than this share of the size before is a caution."""
_CONTRIBUTORS = 5


@dataclass(frozen=True, slots=True)
class Difference:
    """One thing that differs. ``before`` and ``after`` are for people; ``lines`` go into detail."""

    code: str
    level: Level
    title: str
    before: str
    after: str
    lines: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Grown:
    """A part of the packages and by how many bytes it grew, packed."""

    name: str
    by_bytes: int


def compare(before: Sequence[Facts], after: Sequence[Facts]) -> list[Difference]:
    """What differs between two builds, each of one or more packages; cautions first."""
    one, other = before[0], after[0]
    found = [
        *_signing(before, after),
        *_gained_and_lost("permission", "Permission", _all(before, "permissions"), _all(after, "permissions"), gained=Level.CAUTION),
        *_limits(before, after),
        *_gained_and_lost("capability", "Right", _all(before, "capabilities"), _all(after, "capabilities"), gained=Level.CAUTION),
        *_level("lowest", "Lowest platform level", one.lowest_platform, other.lowest_platform, rises=Level.CAUTION),
        *_level("target", "Target platform level", one.target_platform, other.target_platform, rises=Level.NOTE),
        *_gained_and_lost("processor", "Processor kind", _all(before, "processors"), _all(after, "processors"), lost=Level.CAUTION),
        *_gained_and_lost("device-family", "Device family", _all(before, "device_families"), _all(after, "device_families"), lost=Level.CAUTION),
        *_gained_and_lost("feature", "Device feature", _all(before, "features"), _all(after, "features"), gained=Level.CAUTION),
        *_gained_and_lost("locale", "Language", _all(before, "locales"), _all(after, "locales"), lost=Level.CAUTION),
        *_gained_and_lost("part", "Part", _parts(before), _parts(after)),
        *_version(one, other),
        *_number(one, other),
        *_installs(one, other),
        *_changed("highest", "Highest platform level", one.highest_platform, other.highest_platform, Level.CAUTION),
        *_gained_and_lost("implied-permission", "Unasked permission", _all(before, "implied_permissions"), _all(after, "implied_permissions"), gained=Level.CAUTION),
        *_changed("launchable", "What the icon starts", one.launchable, other.launchable, Level.CAUTION),
        *_changed("publisher", "Publisher", one.publisher, other.publisher, Level.CAUTION),
        *_icons(one, other),
        *_changed("label", "Label", one.label, other.label, Level.CAUTION),
        *_changed("identifier", "Identifier", one.identifier, other.identifier, Level.CAUTION),
        *_changed("encryption", "Encryption declaration", _declared(one), _declared(other), Level.CAUTION),
        *_changed("debuggable", "Can be debugged", _yes(before, "debuggable"), _yes(after, "debuggable"), Level.CAUTION),
        *_changed("test-only", "For tests only", _yes(before, "test_only"), _yes(after, "test_only"), Level.CAUTION),
        *_changed("simulator", "For a simulator", _yes(before, "simulator"), _yes(after, "simulator"), Level.CAUTION),
        *_changed("profile-kind", "Profile", _profile(one), _profile(other), Level.CAUTION),
        *_changed("packages", "Packages", str(len(before)), str(len(after)), Level.NOTE),
        *_size(before, after),
    ]  # fmt: skip
    return sorted(found, key=lambda difference: list(Level).index(difference.level))


def growth(before: Sequence[Facts], after: Sequence[Facts]) -> list[Grown]:
    """Each part of the packages that weighs another amount now, what grew most first."""
    then, now = _weights(before), _weights(after)
    grown = [Grown(name, now.get(name, 0) - then.get(name, 0)) for name in {*then, *now}]
    return sorted((part for part in grown if part.by_bytes), key=lambda part: (-part.by_bytes, part.name))


def _signing(before: Sequence[Facts], after: Sequence[Facts]) -> list[Difference]:
    then, now = _certificates(before), _certificates(after)
    if then == now:
        return []
    known = {certificate.sha256 for facts in after for entry in facts.signatures for certificate in entry.lineage}
    followed = bool(then) and set(then) <= known
    title = "Signed with a key that follows the one before" if followed else "Signed with another certificate"
    level = Level.NOTE if followed else Level.CAUTION
    return [Difference("certificate", level, title, _told(then), _told(now), (*then, *now))]


def _certificates(packages: Sequence[Facts]) -> dict[str, str]:
    return {
        certificate.sha256: f"{certificate.subject}, {certificate.sha256[:16]}…"
        for facts in packages
        for certificate in facts.signers
    }


def _told(certificates: dict[str, str]) -> str:
    return "; ".join(certificates.values()) or "nobody"


def _all(packages: Sequence[Facts], name: str) -> list[str]:
    return list(dict.fromkeys(value for facts in packages for value in getattr(facts, name)))


def _parts(packages: Sequence[Facts]) -> list[str]:
    return [f"{part.kind} {part.name}" for facts in packages for part in facts.parts]


def _gained_and_lost(
    code: str,
    title: str,
    before: Iterable[str],
    after: Iterable[str],
    *,
    gained: Level = Level.NOTE,
    lost: Level = Level.NOTE,
) -> list[Difference]:
    then, now = list(before), list(after)
    added, removed = [name for name in now if name not in then], [name for name in then if name not in now]
    found = []
    if added:
        new = f"{title}{'s' if len(added) > 1 else ''} added".replace("ys added", "ies added")
        found.append(Difference(f"{code}-added", gained, new, "–", ", ".join(added), tuple(added)))
    if removed:
        gone = f"{title}{'s' if len(removed) > 1 else ''} gone".replace("ys gone", "ies gone")
        found.append(Difference(f"{code}-gone", lost, gone, ", ".join(removed), "–", tuple(removed)))
    return found


def _limits(before: Sequence[Facts], after: Sequence[Facts]) -> list[Difference]:
    then = {name: level for facts in before for name, level in facts.permission_limits.items()}
    now = {name: level for facts in after for name, level in facts.permission_limits.items()}
    asked = set(_all(before, "permissions")) & set(_all(after, "permissions"))
    return [
        Difference(
            "permission-limit",
            Level.NOTE if name in now else Level.CAUTION,
            f"{name} is asked for on other levels",
            f"up to {then[name]}" if name in then else "on all",
            f"up to {now[name]}" if name in now else "on all",
        )
        for name in sorted(asked)
        if then.get(name) != now.get(name)
    ]


def _level(code: str, title: str, before: str | None, after: str | None, *, rises: Level) -> list[Difference]:
    if before == after:
        return []
    raised = _parted(after) > _parted(before)
    word, level = ("raised", rises) if raised else ("lowered", Level.NOTE)
    if not raised and code == "target":
        level = Level.CAUTION
    return [Difference(f"{code}-{word}", level, f"{title} {word}", before or "none", after or "none")]


def _parted(level: str | None) -> tuple[int, ...]:
    return tuple(int(part) for part in (level or "").split(".") if part.isdecimal())


def _changed(code: str, title: str, before: str | None, after: str | None, level: Level) -> list[Difference]:
    if before == after:
        return []
    return [Difference(f"{code}-changed", level, f"{title} changed", before or "none", after or "none")]


def _declared(facts: Facts) -> str:
    return {None: "not declared", True: "none to report", False: "to be reported"}[facts.encryption_exempt]


def _yes(packages: Sequence[Facts], name: str) -> str:
    return "yes" if any(getattr(facts, name) for facts in packages) else "no"


def _version(one: Facts, other: Facts) -> list[Difference]:
    """Another version; one that falls is to be noticed."""
    if one.version == other.version:
        return []
    then, now = _parted(one.version), _parted(other.version)
    fallen = now < then
    title, level = ("Version lower than before", Level.CAUTION) if fallen else ("Version changed", Level.NOTE)
    code = "version-lowered" if fallen else "version-changed"
    return [Difference(code, level, title, one.version or "none", other.version or "none")]


def _installs(one: Facts, other: Facts) -> list[Difference]:
    """Other devices, where that comes of the signatures; what the levels it asks for say is told by these."""
    if not (narrower(one) or narrower(other)):
        return []
    return _changed("installs", "Where it installs", told(one.installs), told(other.installs), Level.CAUTION)


def _number(one: Facts, other: Facts) -> list[Difference]:
    """Another number. Devices install no lower one over a higher."""
    if one.number == other.number:
        return []
    fallen = other.number < one.number
    title, level = ("Number lower than before", Level.CAUTION) if fallen else ("Number raised", Level.NOTE)
    code = "number-lowered" if fallen else "number-raised"
    return [Difference(code, level, title, str(one.number), str(other.number))]


def _icons(one: Facts, other: Facts) -> list[Difference]:
    """Another icon, as far as a difference shows without drawing them."""
    then, now = one.icon, other.icon
    told = [None if icon is None else f"{icon.width} × {icon.height}{', transparent' if icon.transparent else ''}" for icon in (then, now)]  # fmt: skip
    drawn_anew = then is not None and now is not None and then.sha256 and now.sha256 and then.sha256 != now.sha256
    if told[0] == told[1] and drawn_anew:
        return [Difference("icon-changed", Level.NOTE, "Icon changed", f"{told[0]}", f"{told[1]}, another picture")]
    return _changed("icon", "Icon", told[0], told[1], Level.NOTE)


def _profile(facts: Facts) -> str:
    return "none" if facts.profile is None else f"{facts.profile.kind} of {facts.profile.team_name or 'no team'}"


def _size(before: Sequence[Facts], after: Sequence[Facts]) -> list[Difference]:
    then, now = sum(facts.size_bytes for facts in before), sum(facts.size_bytes for facts in after)
    if then == now:
        return []
    level = Level.CAUTION if now > then * (1 + GROWN_SHARE) else Level.NOTE
    word = "grown" if now > then else "shrunk"
    parts = growth(before, after)
    parts = parts[:_CONTRIBUTORS] if now > then else parts[: -_CONTRIBUTORS - 1 : -1]
    lines = tuple(f"{part.name}: {part.by_bytes:+d} bytes" for part in parts)
    title = f"Size {word} by {abs(now / max(then, 1) - 1):.1%}"
    return [Difference(f"size-{word}", level, title, f"{then} bytes", f"{now} bytes", lines)]


def _weights(packages: Sequence[Facts]) -> dict[str, int]:
    weights: dict[str, int] = {}
    shares: Iterable[Share] = (share for facts in packages for share in facts.contents)
    for share in shares:
        weights[share.name] = weights.get(share.name, 0) + share.size_bytes
    return weights
