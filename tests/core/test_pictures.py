"""Pictures: how an original becomes what a store takes, what each store gets, and where a file of a script belongs."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given as drawn
from hypothesis import strategies as st

from restless_tide.core.errors import Invalid
from restless_tide.core.evidence import evidence
from restless_tide.core.graph import Standing, open_and_locked
from restless_tide.core.known import Evidence, Known, MendAct, NodeState
from restless_tide.core.picture_rules import PictureClasses, PictureFormat
from restless_tide.core.picture_sets import (
    MOST_APART,
    PicturesAt,
    against_sending_sets,
    check_sets,
    differing_sets,
    pictures_place,
    place_of_set,
    recipes,
    state_of_set,
    taken_sets,
    unplaced_sets,
)
from restless_tide.core.pictures import MOST_CUT, Made, PictureFacts, fits, sides_told
from restless_tide.core.recognising import Found, name_order, recognise
from restless_tide.core.rulebook import Rulebook, read_rulebook
from restless_tide.core.texts import TextState
from tests.core.test_steering import NOW, rulebook

NORTHGATE, OPENFIELD, SLATEHOUSE = (rulebook(name) for name in ("northgate", "openfield", "slatehouse"))
S, M = NodeState, MendAct


def classes(**rule: Any) -> PictureClasses:
    return PictureClasses.model_validate({"pictures": {"phone": rule}})


def facts(width: int = 1080, height: int = 2300, sha256: str = "a" * 64, **changed: Any) -> PictureFacts:
    return replace(PictureFacts(sha256, "png", width, height, 90_000), **changed)


def film(**changed: Any) -> PictureFacts:
    return replace(PictureFacts("f" * 64, "mp4", 640, 1280, 40_000, seconds=9.0, codec="h264"), **changed)


# fitting


@pytest.mark.parametrize(
    ("rule", "picture", "made"),
    [
        ({"sizes": [[1080, 2300]]}, facts(), "as it is"),
        ({"sizes": [[1080, 2300], [540, 1150]]}, facts(2160, 4600), "1080 × 2300 png"),
        ({"sizes": [[540, 1150], [600, 600]]}, facts(), "540 × 1150 png"),
        ({"sizes": [[1200, 2400]]}, facts(), "picture-too-small"),
        ({"sizes": [[1000, 1000]]}, facts(), "picture-wrong-shape"),
        ({"sizes": [[1080, 2300]]}, facts(format="jpeg"), "1080 × 2300 png"),
        ({"sizes": [[1080, 2300]], "formats": ["jpeg"]}, facts(), "1080 × 2300 jpeg"),
        ({"sizes": [[1080, 2300]], "formats": ["jpeg", "webp"]}, facts(transparent=True), "1080 × 2300 webp"),
        ({"sizes": [[1080, 2300]], "transparent": "refused"}, facts(transparent=True), "1080 × 2300 png"),
        ({"sizes": [[1080, 2300]], "transparent": "required"}, facts(), "picture-not-transparent"),
        ({"sizes": [[1080, 2300]]}, facts(plain=False), "1080 × 2300 png"),
        ({"sizes": [[1080, 2300]]}, film(), "picture-wrong-form"),
        ({"smallest_side": 500}, facts(), "as it is"),
        ({"smallest_side": 1081}, facts(), "picture-too-small"),
        ({"largest_side": 1150}, facts(), "540 × 1150 png"),
        ({"longest_to_shorter": 2}, facts(), "1080 × 2160 png"),
        ({"longest_to_shorter": 1}, facts(800, 1000), "800 × 800 png"),
        ({"largest_side": 1000, "smallest_side": 450}, facts(), "469 × 1000 png"),
        ({"largest_bytes": 50_000}, facts(), "1080 × 2300 png"),
    ],
)  # fmt: skip
def test_a_picture_becomes_what_a_class_takes_or_it_is_said_why_not(
    rule: dict[str, Any], picture: PictureFacts, made: str
) -> None:
    (fit,) = fits(classes(**rule), "phone", picture)
    recipe = fit.recipe
    told = f"{recipe.width} × {recipe.height} {recipe.format}" if recipe else "as it is"
    assert (fit.code or told) == made
    assert bool(fit.why) == bool(fit.code)


def test_of_several_sizes_the_one_that_loses_least_is_chosen_and_of_those_the_largest() -> None:
    rule = classes(sizes=[[1000, 2000], [500, 1150], [1000, 2300], [800, 1840]])
    (fit,) = fits(rule, "phone", facts(1200, 2760))
    assert fit.recipe is not None
    assert (fit.recipe.width, fit.recipe.height, fit.cut) == (1000, 2300, 0)


def test_a_class_that_wants_every_size_gets_one_file_in_each() -> None:
    made = [fit.recipe for fit in fits(SLATEHOUSE.listing, "tile", facts(1000, 1000))]
    assert [(one.width, one.height) for one in made if one] == [(900, 900), (450, 450), (225, 225)]


@drawn(
    st.integers(16, 5000), st.integers(16, 5000), st.lists(st.tuples(st.integers(8, 4000), st.integers(8, 4000)), max_size=4),
    st.integers(8, 2000), st.integers(2000, 6000), st.sampled_from([None, 1.0, 1.5, 2.4]),
)  # fmt: skip
def test_nothing_is_ever_enlarged_or_distorted_and_what_is_made_fits(
    width: int, height: int, sizes: list[tuple[int, int]], low: int, high: int, ratio: float | None
) -> None:
    rule = (
        classes(sizes=sizes)
        if sizes
        else classes(smallest_side=low, largest_side=high, **({"longest_to_shorter": ratio} if ratio else {}))
    )
    (fit,) = fits(rule, "phone", facts(width, height))
    recipe = fit.recipe
    if recipe is None:
        return
    assert recipe.width <= recipe.part_width <= width
    assert recipe.height <= recipe.part_height <= height
    assert 0 <= recipe.left <= width - recipe.part_width
    assert 0 <= recipe.top <= height - recipe.part_height
    assert fit.cut <= MOST_CUT
    # a part is whole pixels, so its shape is off by half a pixel at most
    shape = Fraction(recipe.part_width, recipe.part_height) / Fraction(recipe.width, recipe.height)
    assert abs(shape - 1) <= Fraction(1, min(recipe.part_width, recipe.part_height))
    (again,) = fits(rule, "phone", facts(recipe.width, recipe.height))
    assert (again.code, again.recipe) == ("", None)


@pytest.mark.parametrize(
    ("changed", "code"),
    [
        ({}, ""),
        ({"seconds": 5.0}, "film-wrong-length"),
        ({"seconds": 27.0}, "film-wrong-length"),
        ({"codec": "hevc"}, "film-wrong-codec"),
        ({"format": "webm"}, "picture-wrong-format"),
        ({"width": 300}, "picture-wrong-size"),
        ({"size_bytes": 45_000_001}, "picture-too-heavy"),
    ],
)
def test_a_film_goes_as_it_is_or_not_at_all(changed: dict[str, Any], code: str) -> None:
    (fit,) = fits(NORTHGATE.listing, "moving", film(**changed))
    assert (fit.code, fit.recipe) == (code, None)


@pytest.mark.parametrize(
    ("rule", "told"),
    [
        ({"sizes": [[3, 4], [5, 6]]}, "3 × 4 or 5 × 6 pixels"),
        ({"sizes": [[3, 4], [5, 6]], "every_size": True}, "3 × 4 and 5 × 6 pixels"),
        ({"smallest_side": 480, "largest_side": 3000, "longest_to_shorter": 2.4},
         "sides of 480 to 3000 pixels, the longer at most 2.4 times the shorter"),
        ({"smallest_side": 480}, "sides of 480 pixels or more"),
        ({"largest_side": 900}, "sides of up to 900 pixels"),
        ({"longest_to_shorter": 1, "smallest_side": 80, "largest_side": 90}, "a square of 80 to 90 pixels"),
    ],
)  # fmt: skip
def test_what_sides_a_class_takes_is_told_in_words(rule: dict[str, Any], told: str) -> None:
    assert sides_told(classes(**rule).pictures["phone"]) == told


# rulebooks


@pytest.mark.parametrize(
    ("rules", "said"),
    [
        ('phone = { means = "watch" }', "means 'watch', which the catalogue does not know"),
        ('phone = {}\nother = { means = "phone" }', "both mean phone"),
        ('phone = { formats = ["mp4"] }', "no format of a picture"),
        ("phone = { longest_seconds = 4 }", "a picture does not have"),
        ('phone-film = { transparent = "required" }', "a film does not have"),
        ("phone = { fewest = 4, most = 3 }", "nothing is between them"),
        ("phone = { every_size = true }", "every_size needs sizes"),
        ("phone = { sizes = [[3, 3]], smallest_side = 2 }", "sizes stand alone"),
        ("phone = { smallest_side = 5, largest_side = 4 }", "above its upper bound"),
        ('phone = { transparent = "required", formats = ["jpeg"] }', "none of its formats can have it"),
        ('phone = { also_from = ["watch"] }', "no other class is called"),
        ('phone = { also_from = ["tablet"] }\ntablet = { also_from = ["phone"] }', "in a circle"),
        ('phone = { also_from = ["phone-film"] }\nphone-film = {}', "a class of another form"),
        ('phone-film = { needs = "desktop-film" }\ndesktop-film = {}', "names a class of films"),
        ("phone = { sizes = [[0, 4]] }", "greater than or equal to 1"),
    ],
)
def test_a_rulebook_whose_classes_of_pictures_do_not_fit_together_is_refused(rules: str, said: str) -> None:
    text = (
        'store = "S"\nrevision = "1"\nin_force_since = 2026-01-01T00:00:00Z\nplatforms = ["android"]\ncohorts = {}\nrollout = {}\n'
        '[packages]\nformats = ["apk"]\n[numbers]\nnumbering = "rises for ever"\n[processing]\nusual_minutes = 1\n'
        f"[review]\nusual_hours = 1\n[listing.pictures]\n{rules}\n"
    )
    with pytest.raises(Invalid, match=said):
        read_rulebook(text)


def test_a_thing_names_classes_that_are_there() -> None:
    document = OPENFIELD.model_dump(mode="json")
    document["things"]["clip"]["pictures"] = ["trailer"]
    with pytest.raises(ValueError, match="which no class is called"):
        Rulebook.model_validate(document)
    document["things"]["clip"] |= {"pictures": ["clip"], "kind": "page"}
    with pytest.raises(ValueError, match="only a thing of kind picture names pictures"):
        Rulebook.model_validate(document)


# what a store gets

A, B, C, ICON = (letter * 64 for letter in "abc1")
FILES = {
    A: facts(1080, 2300, A), B: facts(1080, 2300, B), C: facts(700, 1500, C), ICON: facts(640, 640, ICON),
}  # fmt: skip


def at(common: dict[str, tuple[str, ...]] | None = None, **changed: Any) -> PicturesAt:
    sets = {"phone": (A, B), "icon": (ICON,)} if common is None else common
    given = PicturesAt(common={"en": sets}, files=FILES, **changed)
    made = {one.key: Made(f"{one.key[:60]}made", one.format, one.width, one.height, 9_000) for rules in (NORTHGATE, OPENFIELD) for one in recipes(rules, given)}  # fmt: skip
    return replace(given, made=made)


def files_of(rules: Rulebook, given: PicturesAt) -> dict[str, Any]:
    return {one.key: one.files for one in taken_sets(rules, given)}


def test_one_set_serves_each_class_that_takes_it_and_a_class_of_its_own_goes_before() -> None:
    given = at()
    sets = {one.key: one for one in taken_sets(NORTHGATE, given)}
    assert (sets["scenes"].files, sets["badge"].files) == ((A, B), (ICON,))
    assert (sets["scenes-small"].serves, len(sets["scenes-small"].pieces)) == ("scenes", 2)
    own = replace(given, own={"en": {"scenes-small": (C,)}})
    assert {one.key: one.serves for one in taken_sets(NORTHGATE, own)}["scenes-small"] == "scenes-small"


def test_a_set_for_one_store_stands_instead_of_that_of_all() -> None:
    given = at(own={"en": {"scenes": (B,)}})
    assert files_of(NORTHGATE, given)["scenes"] == (B,)
    assert files_of(OPENFIELD, given)["views"] == (A, B)


def test_what_is_not_made_yet_cannot_be_sent_and_is_said() -> None:
    given = replace(at(), made={})
    assert files_of(NORTHGATE, given)["scenes-small"] is None
    assert differing_sets(NORTHGATE, given)[("en", "scenes-small")] is None
    assert [one.code for one in check_sets(NORTHGATE, given, ["scenes-small"])] == ["picture-to-make"] * 2


def test_an_optional_class_is_served_by_what_fits_and_the_rest_stands_against_nothing() -> None:
    given = at({"phone": (C,)})
    assert "views-tablet" not in files_of(OPENFIELD, given)
    assert [(one.code, str(one.level)) for one in check_sets(OPENFIELD, given, ["views-tablet"])] == [
        ("pictures-not-served", "note")
    ]
    assert against_sending_sets(OPENFIELD, given) == []


def test_a_class_for_all_languages_takes_the_first_ones_and_another_language_inherits() -> None:
    given = replace(at(), common={"en": {"icon": (ICON,)}, "de": {"icon": (ICON,), "phone": (A,)}})
    assert [(one.locale, one.key) for one in taken_sets(OPENFIELD, given)] == [
        ("en", "mark"), ("de", "views"), ("de", "views-tablet"),
    ]  # fmt: skip
    assert "pictures-missing" not in [one.code for one in check_sets(OPENFIELD, given, ["mark"])]


def test_only_what_differs_is_to_be_sent_and_what_nobody_put_in_stays() -> None:
    held = {"en": {"views": (A, B), "mark": (ICON,), "head": (C,), "views-tablet": (A, B)}}
    given = at(held=held)
    assert differing_sets(OPENFIELD, given) == {}
    assert unplaced_sets(OPENFIELD, given) == [("en", "head")]
    turned = at({"phone": (B, A), "icon": (ICON,)}, held=held)
    assert differing_sets(OPENFIELD, turned) == {("en", "views"): (B, A), ("en", "views-tablet"): (B, A)}
    emptied = at({"phone": (), "icon": (ICON,)}, held=held)
    assert differing_sets(OPENFIELD, emptied)[("en", "views")] == ()


@pytest.mark.parametrize(
    ("files", "changed", "state"),
    [
        ((A,), {}, TextState.COMPLETE),
        ((A,), {"held": {"en": {"views": (A,)}}}, TextState.ACCEPTED),
        ((A,), {"held": {"en": {"views": (B,)}}}, TextState.CHANGED),
        ((A,), {"ordered": {"en": {"views": (A,)}}}, TextState.ORDERED),
        ((A,), {"kept": frozenset({("en", "views")})}, TextState.WAITS),
        ((A,), {"refused": {"en": {"views": (A,)}}}, TextState.REFUSED),
        ((), {}, TextState.MISSING),
        (None, {}, TextState.COMPLETE),
    ],
)
def test_where_a_set_stands(files: Any, changed: dict[str, Any], state: TextState) -> None:
    assert state_of_set(PicturesAt(**changed), "en", "views", files) is state


def test_counts_films_and_icons_are_looked_at() -> None:
    given = replace(at(), files=FILES | {"f" * 64: film()}, common={"en": {"phone-film": ("f" * 64,)}})
    assert "film-without-pictures" in [one.code for one in check_sets(NORTHGATE, given, ["moving"])]
    few = at({"phone": (A,), "icon": (ICON,)})
    assert [one.code for one in check_sets(NORTHGATE, few, ["scenes"])] == ["pictures-too-few"]
    unlike = at(icon_apart=MOST_APART + 1)
    assert [one.code for one in check_sets(NORTHGATE, unlike, ["badge"])] == ["icon-differs"]
    assert check_sets(NORTHGATE, at(icon_apart=MOST_APART), ["badge"]) == []


def test_locks_follow_the_thing_that_a_class_belongs_to() -> None:
    reviewed = Standing(version_in_review=True)
    assert open_and_locked({"views": 1, "clip": 2}, OPENFIELD.lock_of_picture, reviewed) == ({"views": 1}, {"clip": 2})
    assert pictures_place(place_of_set("de-AT", "views")) == ("de-AT", "views")
    assert pictures_place("texts.de.views") is None


# evidence

HELD = {"en": {"views": (A, B), "mark": (ICON,), "views-tablet": (A, B)}}


@pytest.mark.parametrize(
    ("pictures", "state", "codes", "mend"),
    [
        (at(held=HELD), S.DONE, [], M.NONE),
        (at(), S.MISSING, ["pictures-not-sent", "pictures-not-sent"], M.SEND_PICTURES),
        (at({}), S.MISSING, ["pictures-missing", "pictures-missing"], M.PUT_PICTURES),
        (at(ordered=HELD), S.WAITING, [], M.WAIT),
        (at({"phone": (A,), "icon": (ICON,)}, held=HELD), S.DOUBTFUL, [], M.SEND_PICTURES),
        (at({}, held=HELD), S.DONE, [], M.NONE),
        (at(held=HELD, icon_apart=60.0), S.DONE, [], M.NONE),
    ],
    ids=["held", "not sent", "nothing", "ordered", "changed", "put in at the store", "held, though the icons differ"],
)  # fmt: skip
def test_pictures_block_a_release_only_where_the_store_holds_nothing_better(
    pictures: PicturesAt, state: NodeState, codes: list[str], mend: MendAct
) -> None:
    found = stands(pictures)
    assert (found.state, [one.code for one in found.findings if one.level != "note"], found.mend) == (
        state,
        codes,
        mend,
    )


def stands(pictures: PicturesAt) -> Evidence:
    return evidence(OPENFIELD, "pictures", Known(now=NOW, day=NOW, identifier="org.example.a", pictures=pictures))


def test_a_film_may_go_before_its_pictures_and_blocks_a_release_only_while_it_stands_there_alone() -> None:
    alone = replace(at({}), files={"f" * 64: film()}, common={"en": {"phone-film": ("f" * 64,)}})
    assert against_sending_sets(OPENFIELD, alone) == []
    assert "film-without-pictures" in [one.code for one in check_sets(OPENFIELD, alone, ["clip"])]
    known = Known(now=NOW, day=NOW, identifier="a", pictures=alone)
    assert evidence(OPENFIELD, "clip", known).state is S.DOUBTFUL
    held = evidence(OPENFIELD, "clip", replace(known, pictures=replace(alone, held={"en": {"clip": ("f" * 64,)}})))
    assert (held.state, held.mend, [one.code for one in held.findings]) == (
        S.MISSING,
        M.PUT_PICTURES,
        ["film-without-pictures"],
    )
    beside = replace(alone, held={"de": {"clip": ("f" * 64,)}, "en": {"views": (A,)}})
    assert evidence(OPENFIELD, "clip", replace(known, pictures=beside)).state is not S.MISSING


# recognising


def test_files_of_a_script_are_known_by_their_names_and_sides() -> None:
    named = {
        "en-GB/10 list.png": A, "en-GB/9 map.png": B, "start.de.png": C, "icon/new.any.png": ICON, "odd.png": "0" * 64,
        "phone/nb/x.png": "2" * 64, "tablet/y.png": A,
    }  # fmt: skip
    sides = FILES | {"0" * 64: facts(30, 20, "0" * 64), "2" * 64: facts(1080, 2300, "2" * 64)}
    found = recognise([NORTHGATE, OPENFIELD], [Found(name, sides[one]) for name, one in named.items()], "en", {"de"})
    assert [(one.name, one.locale, one.picture_class, bool(one.why)) for one in found] == [
        ("en-GB/9 map.png", "en-GB", "phone", False),
        ("en-GB/10 list.png", "en-GB", "phone", False),
        ("icon/new.any.png", "en", "icon", False),
        ("odd.png", "en", "", True),
        ("phone/nb/x.png", "nb", "phone", False),
        ("start.de.png", "de", "phone", False),
        ("tablet/y.png", "en", "tablet", False),
    ]


def test_names_are_sorted_as_people_sort_them() -> None:
    assert sorted(["b10", "b9", "a", "B2"], key=name_order) == ["a", "B2", "b9", "b10"]


def test_a_recipe_is_known_again_by_all_that_makes_it_another_file() -> None:
    (recipe,) = recipes(NORTHGATE, PicturesAt(common={"en": {"icon": (A,)}}, files={A: facts(900, 900, A)}))
    others = [replace(recipe, width=3), replace(recipe, flat=True), replace(recipe, format=PictureFormat.JPEG)]
    assert len({recipe.key, *(one.key for one in others)}) == 4
    assert replace(recipe).key == recipe.key
