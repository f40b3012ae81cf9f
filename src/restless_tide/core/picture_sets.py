"""The pictures of an app: put in once by what they show, taken by each store as its rulebook says.

``common`` holds what all stores share, by locale and meaning; ``own`` what one store gets instead, by locale and that
store's own key of the class. A set is an ordered list of originals, by digest. What a store gets is always worked out
of them: the files that are made of the originals are known by their digests, too, and so is what a store holds.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Mapping
from dataclasses import dataclass

from restless_tide.core.errors import Finding, Level
from restless_tide.core.graph import Standing, locked, locks_later
from restless_tide.core.pictures import CUT_TO_TELL, Fit, Made, PictureFacts, Recipe, fits, megabytes
from restless_tide.core.rulebook import Rulebook
from restless_tide.core.texts import Origin, TextState, takes_locale

Digests = tuple[str, ...]
Sets = Mapping[str, Mapping[str, Digests]]
"""By locale, then by class: digests in their order."""

ALONE = "film-without-pictures"
"""The code of the finding that a film stands without the pictures that it needs."""
ICON = "icon"
"""The meaning of the picture that is held against the icon inside a package."""
MOST_APART = 18.0
"""How far two icons may be apart and still be taken for the same: the mean CIE 1976 colour difference of small copies."""


@dataclass(frozen=True, slots=True)
class PicturesAt:
    """The pictures of an app as one store concerns them. In ``common`` and ``own`` an empty set is one taken out.

    ``language`` is the app's first language there. ``held`` is what the store was last seen to hold, by the digests of
    its files; ``ordered`` what it was ordered and has not confirmed, ``kept`` what is kept until a lock opens,
    ``refused`` what it refused last, and why. ``files`` are the originals, ``made`` what was made of them.
    ``icon_apart``: how far the icon is from the one inside the newest package; None: that cannot be said.
    """

    language: str = "en"
    common: Sets = dataclasses.field(default_factory=dict)
    own: Sets = dataclasses.field(default_factory=dict)
    held: Sets = dataclasses.field(default_factory=dict)
    ordered: Sets = dataclasses.field(default_factory=dict)
    kept: frozenset[tuple[str, str]] = frozenset()
    refused: Sets = dataclasses.field(default_factory=dict)
    refused_because: str = ""
    files: Mapping[str, PictureFacts] = dataclasses.field(default_factory=dict)
    made: Mapping[str, Made] = dataclasses.field(default_factory=dict)
    icon_apart: float | None = None
    taken: dict[int, tuple[Rulebook, list[SetTaken]]] = dataclasses.field(
        init=False, repr=False, compare=False, default_factory=dict
    )
    """What was worked out of it for a rulebook, by the rulebook's identity: it is asked for many times a sheet."""


NO_PICTURES = PicturesAt()


@dataclass(frozen=True, slots=True)
class Piece:
    """One file of a set as a store gets it. ``file`` is its digest; empty: it is not made yet, or the original does not fit."""

    original: PictureFacts
    fit: Fit
    made: Made | None

    @property
    def file(self) -> str:
        if self.fit.code:
            return ""
        if self.fit.recipe is None:
            return self.original.sha256
        return self.made.sha256 if self.made is not None else ""

    @property
    def size_bytes(self) -> int:
        return self.made.size_bytes if self.made is not None else self.original.size_bytes


@dataclass(frozen=True, slots=True)
class SetTaken:
    """A set as one store gets it. ``serves`` is the class whose pictures it takes, where it has none of its own."""

    locale: str
    key: str
    origin: Origin
    serves: str
    pieces: tuple[Piece, ...]

    @property
    def files(self) -> Digests | None:
        """The digests of its files in their order; None: one does not fit or is not made yet."""
        found = tuple(piece.file for piece in self.pieces)
        return found if all(found) else None


def set_at(sets: Sets, locale: str, key: str) -> Digests:
    """One set, or an empty one."""
    return sets.get(locale, {}).get(key, ())


_AREA = "pictures"
UNMADE = "picture-not-made"


def place_of_set(locale: str, key: str) -> str:
    """How a finding names the place of a set."""
    return f"{_AREA}.{locale}.{key}"


def pictures_place(place: str) -> tuple[str, str] | None:
    """The locale and the class that a finding's place names; None where it is about no set."""
    area, _, rest = place.partition(".")
    locale, dot, key = rest.partition(".")
    return (locale, key) if area == _AREA and dot else None


def chosen(rules: Rulebook, given: PicturesAt, locale: str, key: str) -> tuple[Digests, Origin, str]:
    """The originals that a store gets in a locale for a class, where they come from, and for which class they were put in."""
    own = set_at(given.own, locale, key)
    if own:
        return own, Origin.OWN, key
    common = set_at(given.common, locale, rules.listing.picture_meaning(key) or "")
    if common:
        return common, Origin.COMMON, key
    if key in given.own.get(locale, {}):
        return (), Origin.OWN, key
    for other in rules.listing.pictures[key].also_from:
        found, origin, _ = chosen(rules, given, locale, other)
        if found:
            return found, origin, other
    return (), Origin.COMMON, key


def taken_sets(rules: Rulebook, given: PicturesAt) -> list[SetTaken]:
    """Every set that the store gets, by class in the rulebook's order and by locale in order of the alphabet."""
    _, found = given.taken.get(id(rules)) or given.taken.setdefault(id(rules), (rules, _take(rules, given)))
    return found


def _take(rules: Rulebook, given: PicturesAt) -> list[SetTaken]:
    found = []
    alike: dict[tuple[object, ...], list[Fit]] = {}
    for key, rule in rules.listing.pictures.items():
        for locale in _locales(rules, given) if rule.by_locale else [given.language]:
            originals, origin, serves = chosen(rules, given, locale, key)
            if serves != key and not rule.fewest:
                originals = _fitting(rules, given, key, originals)
            if originals:
                pieces = [piece for one in originals for piece in _pieces(rules, given, key, one, alike)]
                found.append(SetTaken(locale, key, origin, serves, tuple(pieces)))
    return found


def _fitting(rules: Rulebook, given: PicturesAt, key: str, originals: Digests) -> Digests:
    """Those of another class's pictures that serve a class which may be left out: they never stand against anything."""
    fine = [one for one in originals if not any(fit.code for fit in fits(rules.listing, key, given.files[one]))]
    return tuple(fine[: rules.listing.pictures[key].most])


def _locales(rules: Rulebook, given: PicturesAt) -> list[str]:
    return [locale for locale in sorted({*given.common, *given.own}) if takes_locale(rules, locale)]


def _pieces(
    rules: Rulebook, given: PicturesAt, key: str, original: str, alike: dict[tuple[object, ...], list[Fit]]
) -> list[Piece]:
    """``alike`` remembers how originals of the same kind fit; many are."""
    facts = given.files[original]
    kind = (key, *facts.kind)
    if kind not in alike:
        alike[kind] = fits(rules.listing, key, facts)
    found = []
    for fit in alike[kind]:
        if fit.recipe is None:
            found.append(Piece(facts, fit, None))
            continue
        recipe = dataclasses.replace(fit.recipe, original=original)
        found.append(Piece(facts, dataclasses.replace(fit, recipe=recipe), given.made.get(recipe.key)))
    return found


def recipes(rules: Rulebook, given: PicturesAt) -> list[Recipe]:
    """Everything that is to be made for a store."""
    fitted = (piece.fit.recipe for one in taken_sets(rules, given) for piece in one.pieces)
    return list(dict.fromkeys(recipe for recipe in fitted if recipe is not None))


def _taken_out(rules: Rulebook, given: PicturesAt, locale: str, key: str) -> bool:
    """Whether someone has taken a set out here, so that the store shall not hold it any more."""
    meaning = rules.listing.picture_meaning(key) or ""
    return key in given.own.get(locale, {}) or meaning in given.common.get(locale, {})


def differing_sets(rules: Rulebook, given: PicturesAt) -> dict[tuple[str, str], Digests | None]:
    """By locale and class, what the store would have to be sent: sets that it does not hold so.

    An empty set takes it out there; None is one that cannot be sent as it is.
    """
    wanted: dict[tuple[str, str], Digests | None] = {
        (one.locale, one.key): one.files for one in taken_sets(rules, given)
    }
    emptied = [
        (locale, key)
        for locale, held in given.held.items()
        for key, files in held.items()
        if files and key in rules.listing.pictures and _taken_out(rules, given, locale, key)
    ]
    wanted |= {place: () for place in emptied if place not in wanted}
    return {place: files for place, files in wanted.items() if files is None or files != set_at(given.held, *place)}


def unplaced_sets(rules: Rulebook, given: PicturesAt) -> list[tuple[str, str]]:
    """The sets that the store holds and nobody ever put in here; they stay there."""
    wanted = {(one.locale, one.key) for one in taken_sets(rules, given)}
    return [
        (locale, key)
        for locale, held in given.held.items()
        for key, files in held.items()
        if files and key in rules.listing.pictures and (locale, key) not in wanted
        and not _taken_out(rules, given, locale, key)
    ]  # fmt: skip


def picture_lock_told(rules: Rulebook, key: str, standing: Standing) -> str:
    """Why the pictures of a class cannot be changed now, or when they lock; nothing for those that may change any time."""
    locks_at = rules.lock_of_picture(key)
    return locked("The set", locks_at, standing) or locks_later("The set", locks_at, standing)


def state_of_set(given: PicturesAt, locale: str, key: str, files: Digests | None) -> TextState:
    """Where a set that the store gets stands there; ``files`` None: it cannot be sent as it is."""
    held = set_at(given.held, locale, key)
    if files is not None and files == held:
        return TextState.ACCEPTED if files else TextState.MISSING
    if files is not None and key in given.ordered.get(locale, {}) and set_at(given.ordered, locale, key) == files:
        return TextState.ORDERED
    if (locale, key) in given.kept:
        return TextState.WAITS
    if files and key in given.refused.get(locale, {}) and set_at(given.refused, locale, key) == files:
        return TextState.REFUSED
    if files == ():
        return TextState.MISSING
    return TextState.CHANGED if held else TextState.COMPLETE


def required_sets(rules: Rulebook, given: PicturesAt) -> list[tuple[str, str]]:
    """The sets that the store demands, by locale and class: in the first language, whose pictures the others show."""
    language = given.language
    return [
        (language, key) for key, rule in rules.listing.pictures.items() if rule.fewest and takes_locale(rules, language)
    ]


def check_sets(
    rules: Rulebook, given: PicturesAt, classes: Collection[str], *, only_new: bool = False
) -> list[Finding]:
    """What the store's rules say against the pictures of these classes, and what a person should look at.

    ``only_new``: a set that the store holds as it is put in here is looked at no more.
    """
    sets = [one for one in taken_sets(rules, given) if one.key in classes]
    there = {(one.locale, one.key) for one in sets}
    findings = [
        set_missing(rules, locale, key)
        for locale, key in required_sets(rules, given)
        if key in classes and (locale, key) not in there
    ]
    findings += [
        Finding(
            "pictures-not-served",
            Level.NOTE,
            f"{rules.listing.picture_title(key)}: those of {rules.listing.picture_title(serves)} in {locale} do not fit, and none are demanded.",
            place_of_set(locale, key),
        )
        for locale, key, serves in _not_served(rules, given)
        if key in classes and (locale, key) not in there
    ]
    for one in sets:
        if not only_new or set_at(given.held, one.locale, one.key) != one.files:
            findings += _check(rules, given, one)
    return findings


def _not_served(rules: Rulebook, given: PicturesAt) -> list[tuple[str, str, str]]:
    """By locale, class, and the class whose pictures would serve if they did fit."""
    return [
        (locale, key, serves)
        for key, rule in rules.listing.pictures.items()
        for locale in (_locales(rules, given) if rule.by_locale else [given.language])
        for originals, _, serves in [chosen(rules, given, locale, key)]
        if serves != key and originals
    ]


def against_sending_sets(rules: Rulebook, given: PicturesAt) -> list[Finding]:
    """What the store would refuse of the pictures that it does not hold as they are put in.

    A film may be sent before the pictures that it needs; whether they are there, the review looks.
    """
    changed = differing_sets(rules, given)
    return [
        found
        for one in taken_sets(rules, given)
        if (one.locale, one.key) in changed
        for found in _check(rules, given, one)
        if found.level is Level.BLOCKER and found.code != ALONE
    ]


def films_alone(rules: Rulebook, given: PicturesAt) -> list[Finding]:
    """A blocker for each film that the store holds without the pictures that it needs beside it, there or in the first language."""
    return [
        _alone(rules, locale, key)
        for locale, held in given.held.items()
        for key, files in held.items()
        if files
        and key in rules.listing.pictures
        and (needs := rules.listing.pictures[key].needs) is not None
        and not (set_at(given.held, locale, needs) or set_at(given.held, given.language, needs))
    ]


def _alone(rules: Rulebook, locale: str, key: str) -> Finding:
    beside = rules.listing.picture_title(rules.listing.pictures[key].needs or key)
    said = f"{rules.listing.picture_title(key)} in {locale} is shown only beside {beside}, and there are none."
    return Finding(ALONE, Level.BLOCKER, said, place_of_set(locale, key), "Put those in, too.")


def set_missing(rules: Rulebook, locale: str, key: str) -> Finding:
    """The finding that a set which the store demands is not there."""
    fewest = rules.listing.pictures[key].fewest
    return Finding(
        "pictures-missing",
        Level.BLOCKER,
        f"{rules.store} wants {rules.listing.picture_title(key)} in {locale}: {fewest} at least.",
        place_of_set(locale, key),
        "Put them in.",
    )


def _check(rules: Rulebook, given: PicturesAt, one: SetTaken) -> list[Finding]:
    rule, title, place = (
        rules.listing.pictures[one.key],
        rules.listing.picture_title(one.key),
        place_of_set(one.locale, one.key),
    )
    about = f"{title} in {one.locale}"
    count = len(dict.fromkeys(piece.original.sha256 for piece in one.pieces))
    findings = []
    if count > rule.most:
        said = f"{about}: {count} are there; {rules.store} takes {rule.most}."
        findings.append(Finding("pictures-too-many", Level.BLOCKER, said, place, f"Take {count - rule.most} out, or put in others for {rules.store} alone."))  # fmt: skip
    if count < rule.fewest:
        said = f"{about}: {count} {'is' if count == 1 else 'are'} there; {rules.store} wants {rule.fewest} at least."
        findings.append(Finding("pictures-too-few", Level.BLOCKER, said, place, "Put more in."))
    if rule.needs is not None and not _beside(rules, given, one.locale, rule.needs):
        findings.append(_alone(rules, one.locale, one.key))
    order = {
        original: at for at, original in enumerate(dict.fromkeys(piece.original.sha256 for piece in one.pieces), 1)
    }
    for piece in one.pieces:
        findings += _check_piece(rules, one, piece, f"{about}, number {order[piece.original.sha256]},", place)
    if (
        rules.listing.picture_meaning(one.key) == ICON
        and given.icon_apart is not None
        and given.icon_apart > MOST_APART
    ):
        said = f"{about} does not resemble the icon inside the newest package (they are {given.icon_apart:.0f} apart; up to {MOST_APART:.0f} pass as the same)."
        findings.append(Finding("icon-differs", Level.CAUTION, said, place, "Compare both."))
    return findings


def _beside(rules: Rulebook, given: PicturesAt, locale: str, key: str) -> bool:
    """Whether a film finds pictures of this class: in its language, or those of the first one."""
    there = rules.listing.pictures[key].by_locale
    return any(
        chosen(rules, given, place, key)[0] or set_at(given.held, place, key)
        for place in ({locale, given.language} if there else {given.language})
    )


def _check_piece(rules: Rulebook, one: SetTaken, piece: Piece, about: str, place: str) -> list[Finding]:
    fit, made = piece.fit, piece.made
    if fit.code:
        advice = f"Put in another one, or one for {rules.store} alone."
        return [Finding(fit.code, Level.BLOCKER, f"{about} {fit.why}.", place, advice)]
    if fit.recipe is None:
        return []
    most = rules.listing.largest_file(one.key)
    if made is None:
        return [Finding("picture-to-make", Level.CAUTION, f"{about} is still being made for {rules.store}.", place)]
    if made.trouble:
        said = f"{about} cannot be made for {rules.store}: {made.trouble}"
        return [Finding(UNMADE, Level.BLOCKER, said, place, "Put in another one.")]
    if made.size_bytes > most:
        said = f"{about} has {megabytes(made.size_bytes)} as {made.width} × {made.height} {made.format}; {rules.store} takes {megabytes(most)}."
        return [Finding("picture-too-heavy", Level.BLOCKER, said, place, "Put in one with fewer details.")]
    findings = []
    if fit.cut >= CUT_TO_TELL:
        said = f"{about} loses {fit.cut:.0%} at its edges to become {made.width} × {made.height}."
        findings.append(Finding("picture-cut", Level.CAUTION, said, place, "Look at what is left."))
    if fit.flat:
        said = f"{about} is transparent; {rules.store} gets it on white."
        findings.append(Finding("picture-flat", Level.CAUTION, said, place, "Look at it there."))
    if not piece.original.plain:
        said = f"{about} is written for print or lies on its side; {rules.store} gets it upright in the colours of screens."
        findings.append(Finding("picture-redrawn", Level.CAUTION, said, place, "Look at it there."))
    return findings
