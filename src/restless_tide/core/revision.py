"""Two revisions of a rulebook compared: what changed, in words, and what it touches."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel

from restless_tide.core.rulebook import Rulebook

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
    changes = []
    for place in {**before, **after}:
        if place in _IDENTITY or before.get(place) == after.get(place):
            continue
        changes.append(RuleChange(place, _name(place), _words(place, before, old), _words(place, after, new)))
    return changes


def _leaves(values: dict[str, Any], place: str = "") -> Iterator[tuple[str, Any]]:
    for key, value in values.items():
        here = f"{place}.{key}" if place else str(key)
        if here == "processing.questions":
            yield from ((f"{here}.{question['code']}", question) for question in value)
        elif isinstance(value, dict) and here != "rollout.dictated_ladder":
            yield from _leaves(value, here)
        else:
            yield here, value


def _name(place: str) -> str:
    if (title := _title(place)) is not None:
        return title
    if place.startswith("processing.questions."):
        return f"Question {place.rpartition('.')[2]}"
    if place.startswith("cohorts."):
        _, kind, rule = place.split(".")
        return f"{kind.capitalize()} testers, {rule.replace('_', ' ')}"
    if place.startswith("listing.fields."):
        _, _, field, rule = place.split(".")
        return f"Text {field}, {rule.replace('_', ' ')}"
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
    match value:
        case True:
            return "yes"
        case False:
            return "no"
        case None:
            return "no limit" if place == "rollout.pauses_allowed" else "nothing"
        case tuple() | list():
            return ", ".join(map(str, value)) or "none"
    return str(value)
