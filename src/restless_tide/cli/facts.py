"""Package facts and readiness sheets as the command line prints them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from restless_tide.cli import sheet
from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.telling import on_the_day
from restless_tide.core.errors import Level
from restless_tide.core.packages import Facts, inspect_package
from restless_tide.core.packages.levels import told
from restless_tide.core.sizes import size

if TYPE_CHECKING:
    from restless_tide.wire.problems import FindingTold

LEVEL_MARKS = {Level.BLOCKER: "✖", Level.CAUTION: "▲", Level.NOTE: "·"}
"""In the sequence in which they are told."""
_CONTENTS_SHOWN = 6


def read(path: Path) -> Facts:
    """Raises PackageUnreadable."""
    with path.open("rb") as source:
        return inspect_package(source)


def show_facts(facts: Facts) -> None:
    """A readable sheet of what a package says of itself."""
    sheet.show([(name, value) for name, value in _rows(facts) if value])


def show_sheet(call: Call, store: str, findings: Sequence[FindingTold]) -> None:
    """The findings for one store, what blocks first."""
    if not findings:
        call.say(f"{store}: nothing blocks it.")
        return
    call.say(f"{store}:")
    table = call.table("", "", "")
    table.show_header = False
    for finding in sorted(findings, key=lambda finding: list(LEVEL_MARKS).index(finding.level)):
        told = f"{finding.detail}\n{finding.remedy}" if finding.remedy else finding.detail
        table.add_row(f"{LEVEL_MARKS[finding.level]} {finding.level}", finding.place, cell(told))
    call.console.print(table)


def exit_of(findings: Sequence[FindingTold]) -> Exit:
    """By the worst level on the sheet."""
    levels = {finding.level for finding in findings}
    return Exit.REFUSED if "blocker" in levels else Exit.CAUTION if "caution" in levels else Exit.DONE


def _rows(facts: Facts) -> list[tuple[str, str | None]]:
    shares = [f"{share.name}  {size(share.size_bytes)}" for share in facts.contents[:_CONTENTS_SHOWN]]
    said = (
        (facts.debuggable, "debug build"), (facts.test_only, "for tests only"), (facts.simulator, "for a simulator"),
    )  # fmt: skip
    return [
        ("format", facts.format + (f", split {facts.split}" if facts.split else "")),
        ("identifier", facts.identifier),
        ("label", facts.label),
        ("labels", "\n".join(f"{locale}: {label}" for locale, label in facts.labels.items())),
        ("version", "none named" if "version" in facts.lacking else facts.version),
        ("number", "none named; devices take 0" if "number" in facts.lacking else str(facts.number)),
        ("no release build", ", ".join(word for so, word in said if so)),
        ("lowest platform", facts.lowest_platform),
        ("target platform", facts.target_platform),
        ("highest platform", facts.highest_platform),
        ("installs on", told(facts.installs)),
        ("processors", ", ".join(facts.processors) or "any"),
        ("device families", ", ".join(facts.device_families)),
        ("languages", ", ".join(facts.locales)),
        ("permissions", "\n".join(_permission(facts, name) for name in facts.permissions) or "none"),
        ("granted unasked", "\n".join(f"{name}: {why}" for name, why in facts.implied_permissions.items())),
        ("rights", "\n".join(facts.capabilities)),
        ("features", "\n".join(facts.features)),
        ("encryption", {None: "", True: "none to report", False: "to be reported"}[facts.encryption_exempt]),
        ("icon", _icon(facts)),
        ("starts with", facts.launchable),
        ("densities", ", ".join(map(_density, facts.densities))),
        ("signatures", "\n".join(_signatures(facts)) or "nobody signed it"),
        ("profile", _profile(facts)),
        ("publisher", facts.publisher),
        ("parts", "\n".join(f"{part.kind} {part.name} {part.version}".rstrip() for part in facts.parts)),
        ("size", size(facts.size_bytes)),
        ("largest parts", "\n".join(shares)),
        ("made by", facts.made_by),
        ("remarks", "\n".join(facts.remarks)),
        ("SHA-256", facts.sha256),
    ]


def _permission(facts: Facts, name: str) -> str:
    if name in facts.permission_limits:
        return f"{name}, up to level {facts.permission_limits[name]}"
    reason = facts.reasons.get(name)
    return f"{name}: {reason}" if reason else name


def _density(dots: int) -> str:
    return {65534: "any", 65535: "as it is"}.get(dots, str(dots))


def _icon(facts: Facts) -> str:
    if facts.icon is None:
        return "none found"
    return f"{facts.icon.width} × {facts.icon.height}{', transparent' if facts.icon.transparent else ''}"


def _signatures(facts: Facts) -> list[str]:
    words = {True: "holds", False: "DOES NOT HOLD", None: "not verified"}
    lines = []
    for signature in facts.signatures:
        trouble = f": {signature.trouble}" if signature.trouble else ""
        lines.append(f"{signature.scheme} {words[signature.verified]}{trouble}")
        for signer in signature.signers:
            lines.append(f"  {signer.subject}, to {on_the_day(signer.valid_until)}")
            lines.append(f"  {signer.sha256}")
        lines.extend(f"  before it: {older.subject} {older.sha256[:16]}…" for older in signature.lineage)
    return lines


def _profile(facts: Facts) -> str:
    if facts.profile is None:
        return ""
    found = facts.profile
    devices = f", {len(found.devices)} devices" if found.devices else ""
    return f"{found.name}, for {found.kind}, of {found.team_name} ({found.team}){devices}, to {on_the_day(found.expires_at)}"
