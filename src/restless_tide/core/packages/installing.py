"""Which platform levels install an APK, by its signatures and what it asks for.

Sources: Android's public descriptions of its signature schemes. Levels before 24 look at v1 alone; from 24 on at v2,
from 28 at v3, from 33 at v3.1, each the newest it finds, and at no older one when that does not hold. From level 30
on a package that targets 30 or above needs more than v1.
"""

from __future__ import annotations

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.certificates import certificates_of
from restless_tide.core.packages.facts import Levels, Signature
from restless_tide.core.packages.jar_signature import STRONGEST_FROM, JarJudged, judge_jar
from restless_tide.core.packages.levels import run_of
from restless_tide.core.packages.manifest import UNRELEASED, Manifest
from restless_tide.core.packages.signing_block import SCHEME_FROM, Judged, read_layout, signatures_of

BLOCK_FROM = SCHEME_FROM["v2"]
"""The first level that looks at a signing block; before it only v1 counts."""
NOT_ALONE_FROM = 30
"""From this level on v1 alone does not do for a package that targets it."""
SANDBOX_FROM = 26
"""From this level on a package that asks for the newer sandbox needs more than v1."""
_NEWEST_LOOKED_AT = 100


def read_signatures(
    archive: Archive, manifest: Manifest
) -> tuple[tuple[Signature, ...], tuple[Levels, ...], tuple[str, ...]]:
    """The signatures, oldest scheme first, the levels that install the package, and remarks. Raises PackageUnreadable."""
    layout = read_layout(archive)
    block = signatures_of(archive, layout) if layout else ()
    lowest = manifest.lowest
    counts = lowest < BLOCK_FROM or not block
    schemes = tuple(judged.signature.scheme for judged in block)
    jar = judge_jar(archive, "v1", schemes, members=counts, before=lowest < STRONGEST_FROM)
    first = _first(archive, jar, counts=counts) if jar else None
    levels = _levels(jar, block, manifest) if archive.verify else ()
    signatures = tuple(judged.signature for judged in block)
    remarks = jar.remarks if jar and counts else ()
    return (first, *signatures) if first else signatures, levels, remarks


def _first(archive: Archive, jar: JarJudged, *, counts: bool) -> Signature:
    """The v1 signature; one that no level looks at is not verified, unless something it says is gone."""
    trouble = jar.trouble
    if not trouble and jar.stripped:
        trouble = f"it was signed with {', '.join(jar.stripped)} too, and that signature is gone"
    verified: bool | None = not trouble
    if not counts or not archive.verify:
        verified, trouble = (False, trouble) if trouble else (None, "no platform level that installs it looks at it")
        if not archive.verify and verified is None:
            trouble = "not verified"
    try:
        signers = certificates_of(jar.signers)
    except PackageUnreadable:
        signers = ()
    return Signature(scheme="v1", verified=verified, trouble=trouble, signers=signers)


def _levels(jar: JarJudged | None, block: tuple[Judged, ...], manifest: Manifest) -> tuple[Levels, ...]:
    """The runs of levels that install it, from the lowest it names on. What holds on the newest level known holds later."""
    if manifest.lowest >= UNRELEASED:
        return ()
    runs: list[tuple[int, int]] = []
    newest = max(_NEWEST_LOOKED_AT, manifest.lowest)
    for level in range(manifest.lowest, newest + 1):
        if not _installs(level, jar, block, manifest):
            continue
        if runs and runs[-1][1] == level - 1:
            runs[-1] = runs[-1][0], level
        else:
            runs.append((level, level))
    return tuple(run_of(first, None if last == newest else last) for first, last in runs)


def _installs(level: int, jar: JarJudged | None, block: tuple[Judged, ...], manifest: Manifest) -> bool:
    for judged in reversed(block):
        if level < SCHEME_FROM[judged.signature.scheme]:
            continue
        reach = next((reach for reach in judged.reaches if reach.first <= level <= reach.last), None)
        if reach is not None:
            return reach.holds_on(level)
        if judged.signature.scheme != "v3.1":  # below the level that a rotation begins at, the older one counts
            return False
    if jar is None or (jar.trouble if level >= STRONGEST_FROM else jar.trouble_before):
        return False
    if level >= BLOCK_FROM and any(level >= SCHEME_FROM.get(scheme, level + 1) for scheme in jar.stripped):
        return False
    if level >= NOT_ALONE_FROM and manifest.target >= NOT_ALONE_FROM:
        return False
    return level < SANDBOX_FROM or manifest.sandbox < 2
