"""What a rulebook says, in plain lines a person can read down."""

from __future__ import annotations

from restless_tide.core.goods import goods_rules_told
from restless_tide.core.pictures import sides_told
from restless_tide.core.rulebook import Numbering, Rulebook
from restless_tide.core.tracks import GETS
from restless_tide.core.way_back import AfterHalt, AfterWithdraw

_NUMBERS = {
    Numbering.RISES_FOR_EVER: "Numbers rise for ever.",
    Numbering.RESTARTS_PER_VERSION: "Numbers restart with each version.",
    Numbering.FOURTH_PART: "The number is the fourth part of the version and restarts with each version.",
}


def told_rules(rules: Rulebook) -> list[str]:
    """The rules that a release manager plans by, a line each."""
    return [
        line
        for line in (
            _packages(rules),
            _numbers(rules),
            _review(rules),
            _texts(rules),
            _pictures(rules),
            _asked(rules),
            f"Sold inside apps: {goods_rules_told(rules.goods)}." if rules.goods is not None else "",
            *_rollout(rules),
            *_rest(rules),
        )
        if line
    ]


def _packages(rules: Rulebook) -> str:
    packages = rules.packages
    text = f"Takes {', '.join(packages.formats)}; usually processed in {rules.processing.usual_minutes:g} minutes."
    if packages.most_packages > 1:
        each = ", one per processor kind" if packages.one_per_processor else ""
        text += f" Up to {packages.most_packages} packages in one build{each}."
    if packages.first_build_by_hand:
        text += " The very first build is handed in on the store's own pages."
    return text


def _numbers(rules: Rulebook) -> str:
    text = _NUMBERS[rules.numbers.numbering]
    if rules.numbers.most_parts > 1:
        text += f" A number has up to {rules.numbers.most_parts} parts."
    return text + (" A version must exceed the live one." if rules.numbers.version_must_exceed_live else "")


def _review(rules: Rulebook) -> str:
    review = rules.review
    return f"Review usually takes {review.usual_hours:g} hours; notes up to {review.notes_limit_characters} {review.notes_counted_in}."


def _texts(rules: Rulebook) -> str:
    listing = rules.listing
    each = ", ".join(
        f"{listing.title(key)} up to {field.limit_characters} {field.counted_in}{' (demanded)' if field.required else ''}"
        for key, field in listing.fields.items()
    )
    where = f" Shown in {', '.join(listing.locales)}." if listing.locales else ""
    return f"Texts: {each}.{where}" if each else ""


def _pictures(rules: Rulebook) -> str:
    listing = rules.listing
    each = "; ".join(
        f"{listing.picture_title(key)} {rule.fewest} to {rule.most}{f' of {sides_told(rule)}' if rule.sizes else ''}"
        f" ({', '.join(listing.picture_formats(key))}{', demanded' if rule.fewest else ''})"
        for key, rule in listing.pictures.items()
    )
    return f"Pictures: {each}." if each else ""


def _asked(rules: Rulebook) -> str:
    asked, ratings = rules.questionnaire, rules.questionnaire.ratings
    if not asked.questions:
        return ""
    grades = f" Grades in {len(ratings.regions)} regions: {', '.join(ratings.grades.values())}." if ratings else ""
    return f"Asks about the app: {' '.join(asked.text(key) for key in asked.questions)}{grades}"


def _rollout(rules: Rulebook) -> list[str]:
    rollout = rules.rollout
    ladder = rollout.dictated_ladder
    return [
        f"Ladder dictated: {ladder.told()}." if ladder else "Any ladder, any share at any time.",
        "Pausing without limit." if rollout.pauses_allowed is None else f"{rollout.pauses_allowed} pauses per rollout.",
        "A halted rollout may be resumed."
        if rollout.after_halt is AfterHalt.RESUME
        else "After a halt only a new build can follow.",
        "A withdrawn release may be offered again."
        if rollout.after_withdraw is AfterWithdraw.OFFER_AGAIN
        else "After a withdrawal only a new release can follow.",
        "Withdrawing brings back the release before."
        if rollout.withdraw_restores_previous
        else "Withdrawing leaves nothing on offer.",
    ]


def _rest(rules: Rulebook) -> list[str]:
    seats = ", ".join(
        f"{kind} {cohort.seats}"
        + (" for each build" if cohort.seats_per_build else "")
        + (" (reviewed first)" if cohort.review_first else "")
        for kind, cohort in rules.cohorts.items()
    )
    name = (
        f"The name is claimed first and expires after {rules.name.expires_unused_days} days without a build."
        if rules.name.expires_unused_days
        else ""
    )
    dated = [
        f"From {question.applies_from:%d %b %Y} on it asks: {question.text}"
        for question in rules.processing.questions
        if question.applies_from is not None
    ]
    dated += [
        f"From {question.applies_from:%d %b %Y} on it asks about the app: {rules.questionnaire.text(key)}"
        for key, question in rules.questionnaire.questions.items()
        if question.applies_from is not None
    ]
    return [f"Seats: {seats}.", _tracks(rules), name, *dated]


def _tracks(rules: Rulebook) -> str:
    """The tracks in their order, those beside it after them."""
    in_order = " → ".join(way.title for way in rules.ways.values() if way.rank is not None)
    beside = ", ".join(way.title for way in rules.ways.values() if way.rank is None)
    own = f" Up to {rules.own_tracks.most} tracks of your own." if rules.own_tracks is not None else ""
    also = f"; beside them {beside}" if beside else ""
    return f"Tracks: {in_order}{also}. Who may use several gets {GETS[rules.people_get]}.{own}"
