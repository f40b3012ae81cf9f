"""How a stand-in judges: its own reading of the rulebook, written apart from core's on purpose.

If both sides shared this code, a mistake in it would be invisible: the desk's foresight would agree
with the store for the wrong reason.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Any

from restless_tide.core.packages import Facts
from restless_tide.core.rulebook import PRODUCTION, Numbering, RolloutRules, Rulebook
from restless_tide.core.way_back import AfterHalt, AfterWithdraw

Thing = dict[str, Any]
_ADDRESS = re.compile(
    r"https?://([a-z0-9]([a-z0-9-]*[a-z0-9])?\.)+[a-z0-9]([a-z0-9-]*[a-z0-9])?(:[1-9]\d{0,4})?([/?#]\S*)?",
    re.IGNORECASE,
)


class Refusal(Exception):
    """The store says no, with a status, a stable code and a sentence."""

    def __init__(self, code: str, detail: str, status: int = 409) -> None:
        super().__init__(detail)
        self.code, self.detail, self.status = code, detail, status


def as_tuple(version: str) -> tuple[int, int, int]:
    major, minor, patch, *_ = [*(int(part) for part in version.split(".")), 0, 0]
    return major, minor, patch


def number_as_tuple(number: object) -> tuple[int, int, int]:
    """The one to three parts of a build's number; what is missing counts as zero."""
    return as_tuple(str(number))


def objection_to_build(
    rules: Rulebook, berth: Thing, packages: list[Facts], earlier: list[Thing], live: str | None
) -> str | None:
    """Why the packages of a build are refused together, or None."""
    if len({(package.version, package.number) for package in packages}) != 1:
        return "The packages do not carry the same version and number."
    kinds = [processor for package in packages for processor in package.processors]
    if rules.packages.one_per_processor and len(packages) > 1 and not len(set(kinds)) == len(packages) == len(kinds):
        return f"Each package must be for a processor kind of its own; these are for {', '.join(kinds) or 'any'}."
    for name, wanted in rules.packages.processors_required.items():
        if packages[0].format == name and not set(wanted) <= set(kinds):
            return f"A package for {' and '.join(wanted)} must be there."
    objections = (objection_to_package(rules, berth, package, earlier, live) for package in packages)
    return next((found for found in objections if found), None)


def objection_to_profiles(packages: list[Facts], at: datetime) -> str | None:
    """Why packages are refused whose profile has ended, or None."""
    ended = [facts.profile.name for facts in packages if facts.profile is not None and facts.profile.expires_at <= at]
    return f"The profile {ended[0]} has expired." if ended else None


def objection_to_package(
    rules: Rulebook, berth: Thing, facts: Facts, earlier: Iterable[Thing], live: str | None
) -> str | None:
    """Why a processed package is refused, or None."""
    if facts.format not in rules.packages.formats:
        return f"We take {' and '.join(rules.packages.formats)} here, not {facts.format}."
    if facts.identifier != berth["identifier"]:
        return f"The package belongs to {facts.identifier}, this place to {berth['identifier']}."
    if facts.lacking:
        return f"The package says nothing of its {' and its '.join(facts.lacking)}."
    if facts.debuggable or facts.test_only or facts.simulator:
        return "The package is no release build; people must not get such a build."
    objection = _objection_to_signing(rules, facts, berth, earlier) or _objection_to_icon(rules, facts)
    if objection:
        return objection
    if rules.packages.reasons_required and not all(facts.reasons.values()):
        return "An access is asked for without saying why."
    wanted = rules.packages.lowest_target_platform
    level = facts.target_platform or ""
    if wanted is not None and facts.format == "apk" and (int(level) if level.isdigit() else 0) < wanted:
        return f"The package must target platform level {wanted} or newer."
    rivals = [
        other["number"]
        for other in earlier
        if rules.numbers.numbering is Numbering.RISES_FOR_EVER or as_tuple(other["version"]) == as_tuple(facts.version)
    ]
    highest = max(rivals, key=number_as_tuple, default=None)
    if highest is not None and number_as_tuple(facts.number) <= number_as_tuple(highest):
        return f"Number {facts.number} is not above {highest}."
    if str(facts.number).count(".") >= rules.numbers.most_parts:
        return f"Number {facts.number} has too many parts; we take {rules.numbers.most_parts}."
    if any(int(part) > rules.numbers.largest_number for part in str(facts.number).split(".")):
        return f"Number {facts.number} is larger than we can take."
    if rules.numbers.version_must_exceed_live and live and as_tuple(facts.version) <= as_tuple(live):
        return f"Version {facts.version} is not above the live {live}."
    return None


def _objection_to_signing(rules: Rulebook, facts: Facts, berth: Thing, earlier: Iterable[Thing]) -> str | None:
    if any(signature.verified is False for signature in facts.signatures):
        return "The package was changed after it was signed."
    if rules.packages.signature_required and not facts.signatures:
        return "The package is not signed."
    kinds = rules.packages.profile_kinds
    if kinds and (facts.profile is None or facts.profile.kind not in kinds):
        return f"We take packages with a profile for {' or '.join(kinds)} only."
    signed = [other["signers"] for other in earlier if other.get("signers") and other["state"] != "refused"]
    mine = {certificate.sha256 for certificate in facts.signers}
    before = {certificate.sha256 for signature in facts.signatures for certificate in signature.lineage}
    wanted = berth.get("signers") or (signed[0] if signed else [])
    if rules.packages.certificate_stays and not set(wanted) <= mine | before:
        return "The package is signed with another key than the one we know."
    return None


def _objection_to_icon(rules: Rulebook, facts: Facts) -> str | None:
    icon, smallest = facts.icon, rules.packages.smallest_icon_pixels
    if icon is None:
        return None
    if smallest is not None and (icon.width < smallest or icon.height < smallest):
        return f"The icon is smaller than {smallest} pixels."
    return "The icon is transparent." if rules.packages.icon_opaque and icon.transparent else None


def questions_for(rules: Rulebook, packages: list[Facts], now: datetime, given: dict[str, str]) -> list[Thing]:
    """What is asked next about a build, after the answers ``given``."""
    asked = []
    permissions = {permission for package in packages for permission in package.permissions}
    levels = [package.target_platform or "" for package in packages]
    targets = [int(level) for level in levels if level.isdigit()]
    for question in rules.processing.questions:
        if question.code in given or any(given.get(code) != said for code, said in question.when_answers.items()):
            continue
        if question.applies_from is not None and now < question.applies_from:
            continue
        if question.when_permission is not None and question.when_permission not in permissions:
            continue
        if question.when_target_at_least is not None and max(targets, default=0) < question.when_target_at_least:
            continue
        if question.when_target_below is not None and min(targets, default=0) >= question.when_target_below:
            continue
        asked.append(
            {"code": question.code, "text": question.text, "help": question.help, "choices": list(question.choices)}
        )
    return asked


def length_in(text: str, counted_in: str) -> int:
    return {
        "characters": len(text),
        "bytes": len(text.encode("utf-8")),
        "UTF-16 units": sum(2 if ord(letter) > 0xFFFF else 1 for letter in text),
    }[counted_in]


def demand_text(rules: Rulebook, field: str, locale: str, text: str) -> None:
    """Raise Refusal for a text that does not fit its field."""
    known = rules.listing.fields.get(field)
    if known is None:
        raise Refusal("field-unknown", f"We have no field {field!r}.")
    if length_in(text, known.counted_in) > known.limit_characters:
        most = f"{known.limit_characters} {known.counted_in}"
        raise Refusal("text-too-long", f"{field} in {locale} has more than {most}.")
    form = rules.listing.form(field)
    if form in ("line", "address") and "\n" in text:
        raise Refusal("text-in-lines", f"{field} in {locale} is one line.")
    if form == "address" and text and not _ADDRESS.fullmatch(text):
        raise Refusal("text-no-address", f"{field} in {locale} is no web address.")


def reasons_against_texts(rules: Rulebook, texts: dict[str, dict[str, str]], language: str) -> list[str]:
    """What the review desk misses among the texts of an app whose first language this is."""
    reasons = []
    for name, field in rules.listing.fields.items():
        wanted = set(field.locales_required)
        if field.required:
            wanted |= {language} | {locale for locale, held in texts.items() if held}
        if rules.listing.locales:
            wanted &= set(rules.listing.locales)
        reasons += [
            f"There is no {name} in {locale}." for locale in sorted(wanted) if not texts.get(locale, {}).get(name)
        ]
    return reasons


def reasons_against(rules: Rulebook, submission: Thing) -> list[str]:
    """What the review desk finds by the rulebook about what was handed in."""
    way = rules.tracks.get(submission.get("track", PRODUCTION))
    if way is not None and not way.notes_taken:
        return []
    reasons = []
    for locale in rules.review.notes_locales_required:
        if not submission["notes"].get(locale, "").strip():
            reasons.append(f"There are no notes in {locale} about what is new.")
    for locale, text in submission["notes"].items():
        if length_in(text, rules.review.notes_counted_in) > rules.review.notes_limit_characters:
            reasons.append(
                f"The notes in {locale} are longer than {rules.review.notes_limit_characters} {rules.review.notes_counted_in}."
            )
    return reasons


def thing_of(rules: Rulebook, kind: str) -> str | None:
    """The thing of the rulebook's graph that is of a kind, where there is one alone."""
    found = [key for key, thing in rules.graph.items() if thing.kind == kind]
    return found[0] if len(found) == 1 else None


def rising_rules(rules: Rulebook, track: str) -> RolloutRules:
    """How a share rises on a track: by its own rules, or by the store's."""
    own = rules.tracks[track].rollout if track in rules.tracks else None
    return own if own is not None else rules.rollout


def looked_at(rules: Rulebook, track: str, build: Thing, approved: Iterable[Thing]) -> bool:
    """Whether a submission for this track passes without a review; ``approved`` are those of this app that have passed."""
    way = rules.tracks.get(track)
    if way is None:
        return False
    if not way.review_first:
        return True
    for other in approved:
        there = other.get("track", PRODUCTION)
        if there not in way.review_holds_from:
            continue
        same_build = other["consignment"] == build["id"]
        same_version = as_tuple(other["version"]) == as_tuple(build["version"])
        if same_build or (same_version and rules.tracks[there].reviewed_once_per == "version"):
            return True
    return False


def demand_stood(rules: Rulebook, track: str, build: Thing, stood: dict[str, tuple[float, int]]) -> None:
    """Raise Refusal unless the build has been where the rulebook wants it; ``stood`` has hours and people by track."""
    way = rules.tracks.get(track)
    for wanted in way.after if way is not None else ():
        hours, people = stood.get(wanted.track, (0.0, 0))
        if hours < wanted.hours or people < wanted.people:
            raise Refusal(
                "track-too-early",
                f"We want it on {wanted.track} for {wanted.hours:g} hours with {wanted.people} people before;"
                f" build {build['version']} was there {hours:.0f} hours with {people}.",
            )


def demand_first_share(rules: RolloutRules, share: float) -> None:
    ladder = rules.dictated_ladder
    if ladder is not None and share not in (ladder.stages[0].share, 1.0):
        raise Refusal("share-dictated", f"A rollout begins at {ladder.stages[0].share:.0%} here.")


def demand_share(rules: RolloutRules, rollout: Thing, share: float, now: datetime) -> None:
    if rollout["state"] == "paused" and not (share == 1.0 and rules.finish_while_paused):
        raise Refusal("paused", "The rollout is paused; resume it first.")
    if rollout["state"] not in ("rising", "paused"):
        raise Refusal("not-rising", f"The rollout is {rollout['state']}.")
    if share <= rollout["share"]:
        raise Refusal("share-falls", f"The share stands at {rollout['share']:.0%} and only rises.")
    ladder = rules.dictated_ladder
    if share == 1.0 and rules.finish_early:
        return
    if ladder is None:
        return
    shares = [stage.share for stage in ladder.stages]
    here = shares.index(rollout["share"])
    if share != shares[here + 1]:
        raise Refusal("share-dictated", f"After {shares[here]:.0%} comes {shares[here + 1]:.0%} here.")
    dwell = ladder.stages[here].dwell or timedelta()
    held = timedelta(seconds=rollout["held_seconds"]) + (now - datetime.fromisoformat(rollout["since"]))
    if held < dwell:
        raise Refusal("too-early", f"This stage is held for {dwell}; {dwell - held} are left.", status=425)


def demand_steering(rules: RolloutRules, rollout: Thing, act: str) -> None:
    """Whether pause, resume, halt or withdraw is taken here."""
    state = rollout["state"]
    resumed = ["paused"]
    if rules.after_halt is AfterHalt.RESUME:
        resumed.append("halted")
    if rules.after_withdraw is AfterWithdraw.OFFER_AGAIN:
        resumed.append("withdrawn")
    starts = {
        "pause": ("rising",),
        "resume": tuple(resumed),
        "halt": ("rising", "paused", "complete") if rules.halt_when_complete else ("rising", "paused"),
        "withdraw": ("rising", "paused", "complete", "halted") if rules.withdraw else (),
    }
    if act not in starts:
        raise Refusal("act-unknown", f"We know no act called {act}.", status=404)
    if state not in starts[act]:
        raise Refusal("act-impossible", f"A rollout that is {state} cannot be taken through {act} here.")
    if act == "pause" and rules.pauses_allowed is not None and rollout["pauses"] >= rules.pauses_allowed:
        raise Refusal("pauses-used-up", f"The {rules.pauses_allowed} pauses of this rollout are used up.")
