"""Matters and standing checks: what stands in the way, what the reviewer is told, what is found again."""

from __future__ import annotations

import pytest

from restless_tide.core.check import Check, CheckKind, Drawn, Readable, failed, pictures_wanted
from restless_tide.core.errors import Invalid
from restless_tide.core.matter import (
    MatterKnown,
    MatterState,
    check_matters,
    note_for_reviewer,
    same_words,
)

S, K = MatterState, CheckKind


def test_only_open_matters_stand_in_the_way() -> None:
    known = [MatterKnown(number, f"Reason {number}.", state) for number, state in enumerate(S, 1)]
    found = check_matters(known)
    assert [(one.place, one.level.value) for one in found] == [("matter 1", "blocker")]
    assert "Reason 1." in found[0].detail
    long = check_matters([MatterKnown(1, "x" * 5000, S.OPEN)])[0].detail
    assert len(long) < 200


def test_the_reviewer_is_told_what_was_done_about_each_reason() -> None:
    note = note_for_reviewer(
        [
            MatterKnown(1, "The first page\n does not load.", S.FIXED, "It is kept on the phone now."),
            MatterKnown(2, "No sign-in.", S.OPEN),
            MatterKnown(3, "It tracks people.", S.DISPUTED, "It gathers nothing."),
            MatterKnown(4, "Old.", S.SETTLED, "done"),
        ],
        "1.0.0 (2)",
    )
    assert note == (
        "Since the last review:\n"
        "1. The first page does not load.\n   Fixed: It is kept on the phone now.\n"
        "2. It tracks people.\n   We think otherwise: It gathers nothing.\n"
        "This is another build: 1.0.0 (2)."
    )
    assert note_for_reviewer([MatterKnown(1, "Open.", S.OPEN)]) == ""


@pytest.mark.parametrize(
    ("one", "other", "same"),
    [("No picture.", "no  PICTURE.\n", True), ("No picture.", "No pictures.", False), ("", " ", True)],
)
def test_a_reason_is_known_again_whatever_its_spacing(one: str, other: str, same: bool) -> None:
    assert same_words(one, other) is same


@pytest.mark.parametrize(
    ("check", "codes"),
    [
        (Check("c", K.QUESTION, "Does it start without a network?"), ["check-question"]),
        (Check("c", K.QUESTION, "Does it start without a network?", ticked=True), []),
        (Check("c", K.NO_WORDS, "best app"), ["check-words", "check-words"]),
        (Check("c", K.NO_WORDS, "shore"), ["check-words"]),
        (Check("c", K.NO_WORDS, "bes"), []),
        (Check("c", K.NO_WORDS, "(a+)+$"), []),
        (Check("c", K.NO_PERMISSION, "android.permission.CAMERA"), ["check-permission"]),
        (Check("c", K.NO_PERMISSION, "android.permission.VIBRATE"), []),
    ],
)
def test_what_a_refusal_has_taught_is_found_again(check: Check, codes: list[str]) -> None:
    texts = [
        Readable("texts.en.summary", "summary in en", "The BEST APP at the shore"),
        Readable("notes.en", "notes in en", "Still the best app."),
    ]
    assert [one.code for one in failed([check], texts, ["android.permission.CAMERA"])] == codes


@pytest.mark.parametrize("text", ["phone", "phone 0", "phone 100", "phone three", "pocket 3", " 3", "phone -1", ""])
def test_a_check_of_pictures_names_a_class_and_a_number(text: str) -> None:
    with pytest.raises(Invalid, match="names no class") as wrong:
        pictures_wanted(text)
    assert "phone" in wrong.value.remedy


def test_a_check_of_pictures_is_held_against_every_language() -> None:
    drawn = [
        Drawn("phone", "pictures.en.stills", "Stills in en", 3),
        Drawn("phone", "pictures.de.stills", "Stills in de", 2),
        Drawn("icon", "pictures.en.icon", "Icon in en", 1),
    ]
    found = failed([Check("c", K.PICTURES, "phone 3")], [], [], drawn)
    assert [(one.code, one.place, one.level.value) for one in found] == [
        ("check-pictures", "pictures.de.stills", "blocker")
    ]
    assert "2 of the 3" in found[0].detail
    assert failed([Check("c", K.PICTURES, "phone 2")], [], [], drawn) == []
