"""The texts of an app: entered once by meaning and locale, taken by each store as its rulebook says.

``common`` holds what all stores share, by locale and meaning; ``own`` what one store gets instead, by
locale and that store's own key of the field. What a store gets is always worked out of the two, never
kept a third time.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum

from restless_tide.core.catalogue import Form
from restless_tide.core.changes import measured
from restless_tide.core.errors import Finding, Level
from restless_tide.core.graph import Standing, locked, locks_later
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.wording import is_web_address, remarks

Texts = Mapping[str, Mapping[str, str]]
"""By locale, then by field."""


class Origin(StrEnum):
    """Where a store's text comes from."""

    COMMON = "common"
    OWN = "own"


class TextState(StrEnum):
    """Where a text stands at a store."""

    MISSING = "missing"
    COMPLETE = "complete"
    ORDERED = "ordered"
    WAITS = "waits for the review to end"
    ACCEPTED = "accepted"
    CHANGED = "changed since sent"
    REFUSED = "refused"


@dataclass(frozen=True, slots=True)
class Taken:
    """A text as one store gets it. ``length`` and ``limit`` are counted in ``counted_in``."""

    locale: str
    field: str
    text: str
    origin: Origin
    length: int
    limit: int
    counted_in: str

    @property
    def left(self) -> int:
        """How much more the store takes; negative: so much is too much."""
        return self.limit - self.length


@dataclass(frozen=True, slots=True)
class TextsAt:
    """The texts of an app as one store concerns them. In ``common`` and ``own`` an empty text is one that was taken out.

    ``language`` is the app's first language there. ``held`` is what the store was last seen to hold, ``ordered`` what it
    was ordered and has not confirmed, ``kept`` what is kept until a lock opens, ``refused`` what it refused last, and why.
    """

    language: str
    common: Texts
    own: Texts
    held: Texts
    ordered: Texts
    kept: frozenset[tuple[str, str]] = frozenset()
    refused: Texts = dataclasses.field(default_factory=dict)
    refused_because: str = ""
    name: str = ""


NO_TEXTS = TextsAt(language="en", common={}, own={}, held={}, ordered={})


def at(texts: Texts, locale: str, field: str) -> str:
    """One text, or an empty one."""
    return texts.get(locale, {}).get(field, "")


_AREA = "texts"


def place_of(locale: str, field: str) -> str:
    """How a finding names the place of a text."""
    return f"{_AREA}.{locale}.{field}"


def text_at(place: str) -> tuple[str, str] | None:
    """The locale and the field that a finding's place names; None where it is about no single text."""
    area, _, rest = place.partition(".")
    locale, dot, field = rest.partition(".")
    return (locale, field) if area == _AREA and dot else None


def taken(rules: Rulebook, given: TextsAt) -> list[Taken]:
    """Every text that the store gets, by locale in order of the alphabet and by field in the rulebook's."""
    locales = sorted({*given.common, *given.own})
    found = []
    for locale in locales:
        if not takes_locale(rules, locale):
            continue
        for key, field in rules.listing.fields.items():
            own = at(given.own, locale, key)
            text = own or at(given.common, locale, rules.listing.meaning(key) or "")
            if text:
                found.append(
                    Taken(
                        locale=locale,
                        field=key,
                        text=text,
                        origin=Origin.OWN if own else Origin.COMMON,
                        length=measured(text, field.counted_in),
                        limit=field.limit_characters,
                        counted_in=field.counted_in,
                    )
                )
    return found


def takes_locale(rules: Rulebook, locale: str) -> bool:
    """Whether the store shows texts in this locale."""
    return not rules.listing.locales or locale in rules.listing.locales


def required(rules: Rulebook, given: TextsAt, locales: Iterable[str]) -> list[tuple[str, str]]:
    """The texts that the store demands, by locale and field: in the first language, in each locale begun, and where it says."""
    begun = {given.language, *locales}
    return [
        (locale, key)
        for key, field in rules.listing.fields.items()
        for locale in sorted(begun | set(field.locales_required) if field.required else set(field.locales_required))
        if takes_locale(rules, locale)
    ]


def unwritten(rules: Rulebook, given: TextsAt) -> dict[str, dict[str, str]]:
    """What the store holds and nobody ever wrote here; it stays as it is there."""
    wanted = {(one.locale, one.field) for one in taken(rules, given)}
    found: dict[str, dict[str, str]] = {}
    for locale, fields in given.held.items():
        for field, text in fields.items():
            if (
                field in rules.listing.fields
                and (locale, field) not in wanted
                and not _taken_out(rules, given, locale, field)
            ):
                found.setdefault(locale, {})[field] = text
    return found


def _taken_out(rules: Rulebook, given: TextsAt, locale: str, field: str) -> bool:
    """Whether someone has taken a text out here, so that the store shall not hold it any more."""
    meaning = rules.listing.meaning(field) or ""
    return field in given.own.get(locale, {}) or meaning in given.common.get(locale, {})


def differing(rules: Rulebook, given: TextsAt) -> dict[str, dict[str, str]]:
    """What the store would have to be sent: texts that it does not hold so; an empty one takes it out there."""
    wanted = {(one.locale, one.field): one.text for one in taken(rules, given)}
    held = {
        (locale, field): text
        for locale, fields in given.held.items()
        for field, text in fields.items()
        if field in rules.listing.fields and ((locale, field) in wanted or _taken_out(rules, given, locale, field))
    }
    changed: dict[str, dict[str, str]] = {}
    for locale, field in sorted(wanted.keys() | held.keys()):
        if wanted.get((locale, field), "") != held.get((locale, field), ""):
            changed.setdefault(locale, {})[field] = wanted.get((locale, field), "")
    return changed


def lock_told(rules: Rulebook, field: str, standing: Standing) -> str:
    """Why a text cannot be changed now, or when it will lock; nothing for one that may change any time."""
    title, locks_at = rules.listing.title(field), rules.lock_of_field(field)
    return locked(title, locks_at, standing) or locks_later(title, locks_at, standing)


def state_of_text(given: TextsAt, locale: str, field: str, text: str) -> TextState:
    """Where a text that the store gets stands there."""
    held = at(given.held, locale, field)
    if text == held:
        return TextState.ACCEPTED if text else TextState.MISSING
    if field in given.ordered.get(locale, {}) and at(given.ordered, locale, field) == text:
        return TextState.ORDERED
    if (locale, field) in given.kept:
        return TextState.WAITS
    if field in given.refused.get(locale, {}) and at(given.refused, locale, field) == text:
        return TextState.REFUSED
    if not text:
        return TextState.MISSING
    return TextState.CHANGED if held else TextState.COMPLETE


def check_texts(rules: Rulebook, given: TextsAt, fields: Iterable[str], *, only_new: bool = False) -> list[Finding]:
    """What the store's rules say against the texts of these fields as they are written, and what a reader would remark.

    ``only_new``: a text that the store holds as it is written is looked at no more.
    """
    chosen = list(fields)
    written = [one for one in taken(rules, given) if one.field in chosen]
    there = {(one.locale, one.field) for one in written}
    begun = {one.locale for one in written}
    findings = [
        text_missing(rules, locale, field)
        for locale, field in required(rules, given, begun)
        if field in chosen and (locale, field) not in there
    ]
    for one in written:
        if not only_new or at(given.held, one.locale, one.field) != one.text:
            findings += _check(rules, given, one)
    written_in = {
        locale for texts in (given.common, given.own) for locale, fields in texts.items() if any(fields.values())
    }
    left_out = sorted(locale for locale in written_in if not takes_locale(rules, locale))
    if left_out:
        findings.append(
            Finding(
                "locale-not-shown",
                Level.NOTE,
                f"{rules.store} shows no texts in {', '.join(left_out)}; they stay here.",
                _AREA,
            )
        )
    return findings


def against_sending(rules: Rulebook, given: TextsAt) -> list[Finding]:
    """What the store would refuse of the texts that it does not hold as they are written."""
    changed = differing(rules, given)
    new = [one for one in taken(rules, given) if one.field in changed.get(one.locale, {})]
    return [found for one in new for found in _check(rules, given, one) if found.level is Level.BLOCKER]


def text_missing(rules: Rulebook, locale: str, field: str) -> Finding:
    """The finding that a text which the store demands is not there."""
    return Finding(
        "text-missing",
        Level.BLOCKER,
        f"{rules.store} wants {rules.listing.title(field)} in {locale}.",
        place_of(locale, field),
        f"Write it for {locale}.",
    )


def _check(rules: Rulebook, given: TextsAt, one: Taken) -> list[Finding]:
    title, place = rules.listing.title(one.field), place_of(one.locale, one.field)
    form, findings = rules.listing.form(one.field), []
    if one.left < 0:
        findings.append(
            Finding(
                "text-too-long",
                Level.BLOCKER,
                f"{title} in {one.locale} has {one.length} {one.counted_in}; {rules.store} takes {one.limit}.",
                place,
                f"Shorten it by {-one.left}, or write {rules.store} a shorter one.",
            )
        )
    if form is Form.ADDRESS and not is_web_address(one.text):
        findings.append(
            Finding(
                "text-no-address",
                Level.BLOCKER,
                f"{title} in {one.locale} is no web address: {one.text[:80]!r}.",
                place,
                "Write it whole, such as https://example.org/help.",
            )
        )
    if form in (Form.LINE, Form.ADDRESS) and "\n" in one.text:
        findings.append(
            Finding(
                "text-in-lines",
                Level.BLOCKER,
                f"{title} in {one.locale} is one line, and this has {one.text.count(chr(10)) + 1}.",
                place,
                "Write it in one line.",
            )
        )
    source = given.own if one.origin is Origin.OWN else given.common
    key = one.field if one.origin is Origin.OWN else rules.listing.meaning(one.field) or ""
    elsewhere = {locale: at(source, locale, key) for locale in source if locale != one.locale}
    findings += [
        Finding("text-remark", Level.CAUTION, f"{title} in {one.locale}: {found.said}", place, words=found.words)
        for found in remarks(one.text, form, one.locale, elsewhere, given.name)
    ]
    return findings
