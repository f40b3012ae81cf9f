"""Two revisions of a rulebook compared: what changed, in words, and what it touches."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from restless_tide.core.rulebook import Rulebook

_ASKED = "questionnaire.questions."
_IDENTITY = frozenset({"revision", "in_force_since"})


@dataclass(frozen=True, slots=True)
class RuleChange:
    """One rule that differs: ``place`` in the rulebook, and both values in words."""

    place: str
    name: str
    before: str
    after: str

    @property
    def area(self) -> str:
        return self.place.partition(".")[0]

    def told(self) -> str:
        return f"{self.name}: {self.before} → {self.after}"


def compare(old: Rulebook, new: Rulebook) -> list[RuleChange]:
    """Every rule that differs between two revisions, in the order of the rulebook."""
    before, after = dict(_leaves(old.model_dump())), dict(_leaves(new.model_dump()))
    changes: list[RuleChange] = []
    for place in {**before, **after}:
        if place in _IDENTITY or before.get(place) == after.get(place):
            continue
        if place.startswith(_ASKED) and place in before and place in after:
            changes += _within(place, before[place], after[place])
            continue
        changes.append(RuleChange(place, _name(place), _words(place, before, old), _words(place, after, new)))
    return changes


def _within(place: str, before: dict[str, Any], after: dict[str, Any]) -> Iterator[RuleChange]:
    """What differs within a question about an app that both revisions ask."""
    for rule in after:
        if before.get(rule) != after[rule]:
            name = f"{_name(place)}, {rule.replace('_', ' ')}"
            yield RuleChange(f"{place}.{rule}", name, _plain(before.get(rule)), _plain(after[rule]))


def _leaves(values: dict[str, Any], place: str = "") -> Iterator[tuple[str, Any]]:
    for key, value in values.items():
        here = f"{place}.{key}" if place else str(key)
        if here == "processing.questions":
            yield from ((f"{here}.{question['code']}", question) for question in value)
        elif here.startswith(_ASKED):
            yield here, value
        elif isinstance(value, dict) and here != "rollout.dictated_ladder":
            yield from _leaves(value, here)
        else:
            yield here, value


def _name(place: str) -> str:
    if (title := _title(place)) is not None:
        return title
    if place.startswith("processing.questions."):
        return f"Question {place.rpartition('.')[2]}"
    if place.startswith(_ASKED):
        return f"Question about the app, {place.removeprefix(_ASKED)}"
    if place.startswith("cohorts."):
        _, kind, rule = place.split(".")
        return f"{kind.capitalize()} testers, {rule.replace('_', ' ')}"
    if place.startswith("listing.fields."):
        _, _, field, rule = place.split(".")
        return f"Text {field}, {rule.replace('_', ' ')}"
    if place.startswith("listing.pictures."):
        _, _, key, rule = place.split(".")
        return f"Pictures {key}, {rule.replace('_', ' ')}"
    return place.replace(".", ", ").replace("_", " ").capitalize()


def _title(place: str) -> str | None:
    """The title that the rulebook's model gives a rule."""
    model: Any = Rulebook
    *areas, rule = place.split(".")
    for area in areas:
        field = model.model_fields.get(area)
        if field is None or not isinstance(field.annotation, type) or not issubclass(field.annotation, BaseModel):
            return None
        model = field.annotation
    field = model.model_fields.get(rule)
    return field.title if field is not None else None


def _words(place: str, values: dict[str, Any], rules: Rulebook) -> str:
    value = values.get(place)
    if place == "rollout.dictated_ladder":
        return rules.rollout.dictated_ladder.told() if rules.rollout.dictated_ladder else "none: any ladder"
    if place.startswith("processing.questions."):
        if value is None:
            return "not asked"
        since = f" from {value['applies_from']:%d %b %Y} on" if value["applies_from"] else ""
        return f"{value['text']}{since}"
    if place.startswith(_ASKED):
        if value is None:
            return "not asked"
        since = f" from {value['applies_from']:%d %b %Y} on" if value["applies_from"] else ""
        return f"{rules.questionnaire.text(place.removeprefix(_ASKED))}{since}"
    if value is None and place == "rollout.pauses_allowed":
        return "no limit"
    return _plain(value)


def _plain(value: Any) -> str:
    match value:
        case True:
            return "yes"
        case False:
            return "no"
        case None:
            return "nothing"
        case tuple() | list() if any(isinstance(one, dict) for one in value):
            return "1 rule" if len(value) == 1 else f"{len(value)} rules"
        case tuple() | list() | dict():
            return ", ".join(map(str, value)) or "none"
    return str(value)
