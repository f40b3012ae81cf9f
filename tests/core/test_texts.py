"""Texts: entered once, taken as each store takes them, judged before they are sent."""

from __future__ import annotations

from dataclasses import replace

import pytest

from restless_tide.core.catalogue import Form, catalogue
from restless_tide.core.errors import Invalid
from restless_tide.core.graph import Standing, open_and_locked
from restless_tide.core.locales import LONGEST_TAG, locale_of
from restless_tide.core.rulebook import LocksAt, Rulebook, read_rulebook
from restless_tide.core.texts import (
    NO_TEXTS,
    Origin,
    TextsAt,
    TextState,
    check_texts,
    differing,
    lock_told,
    required,
    state_of_text,
    taken,
    unwritten,
)
from restless_tide.core.wording import is_web_address, remarks
from tests.core.test_steering import RULEBOOKS, rulebook

NORTHGATE, OPENFIELD, SLATEHOUSE = (rulebook(name) for name in ("northgate", "openfield", "slatehouse"))
WRITTEN = {"en": {"summary": "A diary.", "description": "For walks.", "privacy-page": "https://example.org/data"}}
GIVEN = replace(NO_TEXTS, common=WRITTEN)


def codes(rules: Rulebook, given: TextsAt) -> list[str]:
    return [found.code for found in check_texts(rules, given, rules.listing.fields)]


@pytest.mark.parametrize(
    ("written", "locale"),
    [("en", "en"), ("DE-at", "de-AT"), ("zh-hant-tw", "zh-Hant-TW"), (" nb ", "nb"), ("es-419", "es-419")],
)
def test_a_locale_is_kept_in_its_usual_form(written: str, locale: str) -> None:
    assert locale_of(written) == locale


@pytest.mark.parametrize(
    "wrong", ["", "e", "english", "de_AT", "de-", "-de", "de AT", "en-" + "a" * LONGEST_TAG, "日本"]
)
def test_what_is_no_language_tag_is_refused(wrong: str) -> None:
    with pytest.raises(Invalid, match="is no locale"):
        locale_of(wrong)


def test_what_means_the_same_is_entered_once_and_goes_under_each_stores_own_key() -> None:
    got = {
        rules.store: {one.field: one.text for one in taken(rules, GIVEN)}
        for rules in (NORTHGATE, OPENFIELD, SLATEHOUSE)
    }
    assert got["Openfield"]["data-page"] == "https://example.org/data"
    assert "data-page" not in got["Northgate"]
    assert got["Slatehouse"] == {"summary": "A diary.", "description": "For walks."}


def test_a_stores_own_text_takes_the_place_of_the_common_one_there_alone() -> None:
    given = replace(GIVEN, own={"en": {"summary": "Short."}})
    found = {(one.field, one.text, one.origin) for one in taken(OPENFIELD, given)}
    assert ("summary", "Short.", Origin.OWN) in found
    assert ("description", "For walks.", Origin.COMMON) in found


@pytest.mark.parametrize(
    ("rules", "field", "text", "length"),
    [
        (OPENFIELD, "summary", "Grüße 🌊", 7),
        (SLATEHOUSE, "rights-holder", "Grüße 🌊", 8),
        (NORTHGATE, "search-words", "Grüße 🌊", 12),
    ],
)
def test_each_store_counts_in_its_own_unit(rules: Rulebook, field: str, text: str, length: int) -> None:
    (one,) = taken(rules, replace(NO_TEXTS, common={"en": {field: text}}))
    assert (one.length, one.left) == (length, one.limit - length)


def test_a_store_gets_only_the_locales_that_it_shows_and_says_so() -> None:
    given = replace(GIVEN, common=WRITTEN | {"fi": {"summary": "Päiväkirja"}})
    assert {one.locale for one in taken(SLATEHOUSE, given)} == {"en"}
    assert "locale-not-shown" in codes(SLATEHOUSE, given)
    assert "locale-not-shown" not in codes(OPENFIELD, given)


def test_a_required_text_is_wanted_in_the_first_language_and_in_every_locale_begun() -> None:
    wanted = required(OPENFIELD, replace(GIVEN, language="de"), ["nb"])
    assert set(wanted) == {(locale, field) for locale in ("de", "nb") for field in ("summary", "description")}


@pytest.mark.parametrize(
    ("field", "text", "code"),
    [
        ("summary", "x" * 161, "text-too-long"),
        ("summary", "x" * 160, None),
        ("summary", "one\ntwo", "text-in-lines"),
        ("privacy-page", "example.org/data", "text-no-address"),
        ("privacy-page", "https://example.org/data", None),
        ("description", "", "text-missing"),
    ],
)
def test_a_text_is_judged_by_the_rules_of_its_field(field: str, text: str, code: str | None) -> None:
    given = replace(
        NO_TEXTS, common={"en": {name: said for name, said in (WRITTEN["en"] | {field: text}).items() if said}}
    )
    assert codes(OPENFIELD, given) == ([code] if code else [])


def test_only_what_differs_is_sent_and_what_was_taken_out_is_emptied() -> None:
    held = {"en": {"summary": "A diary.", "description": "Old."}, "de": {"summary": "Alt."}}
    common = WRITTEN | {"de": {"summary": ""}}
    assert differing(OPENFIELD, replace(GIVEN, common=common, held=held)) == {
        "de": {"summary": ""},
        "en": {"data-page": "https://example.org/data", "description": "For walks."},
    }
    full = {"en": {"summary": "A diary.", "description": "For walks.", "data-page": "https://example.org/data"}}
    assert differing(OPENFIELD, replace(GIVEN, held=full)) == {}


def test_what_a_store_holds_and_nobody_wrote_here_stays_as_it_is() -> None:
    given = replace(GIVEN, held={"en": {"summary": "A diary."}, "de": {"summary": "Alt."}})
    assert unwritten(OPENFIELD, given) == {"de": {"summary": "Alt."}}
    assert "de" not in differing(OPENFIELD, given)


def test_what_is_locked_is_kept_apart_field_by_field() -> None:
    fields = differing(OPENFIELD, GIVEN)["en"]
    free, kept = open_and_locked(fields, OPENFIELD.lock_of_field, Standing(version_in_review=True))
    assert free == {"data-page": "https://example.org/data"}
    assert set(kept) == {"summary", "description"}
    assert OPENFIELD.lock_of_field("summary") is LocksAt.EACH_VERSION
    assert "under review" in lock_told(OPENFIELD, "summary", Standing(version_in_review=True))
    assert lock_told(OPENFIELD, "data-page", Standing(version_in_review=True)) == ""


@pytest.mark.parametrize(
    ("changed", "state"),
    [
        ({}, TextState.COMPLETE),
        ({"held": {"en": {"summary": "A diary."}}}, TextState.ACCEPTED),
        ({"held": {"en": {"summary": "Another."}}}, TextState.CHANGED),
        ({"ordered": {"en": {"summary": "A diary."}}}, TextState.ORDERED),
        ({"ordered": {"en": {"summary": "Another."}}}, TextState.COMPLETE),
        ({"kept": frozenset({("en", "summary")})}, TextState.WAITS),
        ({"refused": {"en": {"summary": "A diary."}}}, TextState.REFUSED),
        ({"refused": {"en": {"summary": "Another."}}}, TextState.COMPLETE),
    ],
)
def test_where_a_text_stands_is_told_apart(changed: dict, state: TextState) -> None:
    assert state_of_text(replace(GIVEN, **changed), "en", "summary", "A diary.") is state


@pytest.mark.parametrize(
    ("text", "so"),
    [
        ("https://example.org", True),
        ("http://sub.example.org:8080/a?b=c#d", True),
        ("example.org", False),
        ("ftp://example.org", False),
        ("https://", False),
        ("https://example", False),
        ("https://example.org/a b", False),
        ("http://[::1", False),
        ("https://exämple.org", False),
        ("https://example.org:99999", False),
    ],
)
def test_a_web_address_is_one_that_a_browser_opens(text: str, so: bool) -> None:
    assert is_web_address(text) is so


@pytest.mark.parametrize(
    ("text", "form", "said"),
    [
        ("A calm diary for the shore.", Form.TEXT, None),
        ("Walk the the shore.", Form.TEXT, "twice in a row: “the the”"),
        ("walk " * 4 + "on " + "walk far " * 3, Form.TEXT, "stuffed"),
        ("The BEST DIARY EVER MADE for you.", Form.LINE, "shouts: “BEST DIARY EVER MADE”"),
        ("Get it now!!!", Form.LINE, "shouts: “!!!”"),
        ("See http://broken for more.", Form.TEXT, "no web address"),
        ("See https://example.org/a, too.", Form.TEXT, None),
        ("walk, shore, walk", Form.WORDS, "more than once: “walk”"),
        ("diary, marram", Form.WORDS, "in the app's name already: “marram”"),
        ("plain\u202etxet", Form.LINE, "change the direction of writing (U+202E)"),
        ("in\u200bvisible", Form.LINE, "nobody sees (U+200B)"),
    ],
)
def test_a_careful_reader_remarks_on_it(text: str, form: Form, said: str | None) -> None:
    found = remarks(text, form, "en", {}, "Marram")
    assert (said in " ".join(one.said for one in found)) if said else not found
    assert all(word.casefold() in text.casefold() for one in found for word in one.words)
    assert all(one.words for one in found if "“" in one.said)


def test_another_languages_text_left_in_is_remarked_and_its_sister_is_not() -> None:
    text = "A diary for people who walk along the shore."
    assert "word for word the text of en" in " ".join(one.said for one in remarks(text, Form.TEXT, "de", {"en": text}))
    assert not remarks(text, Form.TEXT, "en-GB", {"en": text})


@pytest.mark.parametrize(
    ("changed", "told"),
    [
        (('means = "privacy-page"', 'means = "secrets"'), "which the catalogue does not know"),
        (('means = "privacy-page"', 'means = "summary"'), "both mean summary"),
        (('kind = "text"', 'kind = "text"\nfields = ["nothing"]'), "which no field is called"),
        (('kind = "build"', 'kind = "build"\nfields = ["summary"]'), "only a thing of kind text names fields"),
    ],
)
def test_a_rulebook_whose_fields_mean_nothing_is_refused(changed: tuple[str, str], told: str) -> None:
    text = (RULEBOOKS / "openfield.toml").read_text(encoding="utf-8")
    assert changed[0] in text
    with pytest.raises(Invalid, match=told):
        read_rulebook(text.replace(*changed, 1))


def test_every_field_of_the_catalogue_says_what_it_is() -> None:
    assert all(meaning.title and meaning.help for meaning in catalogue().fields.values())
