"""What all parts of a rulebook are made of: the model they share, and the conditions on which a rule applies."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator


class Rules(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)


CountedIn = Literal["characters", "UTF-16 units", "bytes"]
"""How a store counts the length of a text."""

MOST_DEEP, MOST_BESIDE = 6, 40


class When(Rules):
    """A condition: one comparison, or several put together with ``all``, ``any`` and ``not``."""

    model_config = ConfigDict(serialize_by_alias=True)

    all: tuple[When, ...] = Field(default=(), max_length=MOST_BESIDE)
    any: tuple[When, ...] = Field(default=(), max_length=MOST_BESIDE)
    not_: When | None = Field(default=None, alias="not")
    answer: str | None = Field(default=None, description="a question of this store; with one_of or at_least")
    one_of: tuple[str, ...] = Field(default=(), description="choices, or with kind attributes, of which one was given")
    kind: str | None = Field(default=None, description="of a grid: the row that one_of is about")
    at_least: int | None = Field(default=None, description="of a number: it is this or more")
    permission: str | None = Field(default=None, description="a package of the build asks for it")
    capability: str | None = Field(default=None, description="a package's signature grants it")
    target_at_least: int | None = Field(default=None, description="a package reaches this target level")
    paid: bool | None = Field(default=None, description="the app costs something, or does not")
    offered_in: str | None = Field(default=None, description="the app is offered in this country (ISO 3166)")

    @model_validator(mode="after")
    def _is_one_thing(self) -> Self:
        given = [name for name in _HEADS if getattr(self, name) not in (None, ())]
        if len(given) != 1:
            shown = ", ".join(name.rstrip("_") for name in _HEADS)
            raise ValueError(f"a condition has exactly one of {shown}; this one has {len(given)}")
        if (self.answer is not None) != (bool(self.one_of) or self.at_least is not None):
            raise ValueError("a condition on an answer has one_of or at_least, and no other has them")
        if self.kind is not None and not self.one_of:
            raise ValueError("kind belongs to one_of")
        return self

    def parts(self) -> tuple[When, ...]:
        """The conditions that it is put together from."""
        return (*self.all, *self.any, *([self.not_] if self.not_ is not None else []))

    def comparisons(self) -> Iterator[When]:
        """Every single comparison in it."""
        parts = self.parts()
        if not parts:
            yield self
        for part in parts:
            yield from part.comparisons()

    def depth(self) -> int:
        """How deeply it is put together; 1 for a single comparison."""
        return 1 + max((part.depth() for part in self.parts()), default=0)

    def answers_named(self) -> set[str]:
        """The questions whose answers it looks at."""
        return {one.answer for one in self.comparisons() if one.answer is not None}


_HEADS = (
    "all", "any", "not_", "answer", "permission", "capability", "target_at_least", "paid", "offered_in",
)  # fmt: skip


def decided(when: When, compared: Callable[[When], bool | None]) -> bool | None:
    """Whether a condition holds, given what each single comparison comes to; None where that is open."""
    if when.all:
        return _both([decided(part, compared) for part in when.all])
    if when.any:
        return _turned(_both([_turned(decided(part, compared)) for part in when.any]))
    if when.not_ is not None:
        return _turned(decided(when.not_, compared))
    return compared(when)


def _both(parts: Sequence[bool | None]) -> bool | None:
    if False in parts:
        return False
    return None if None in parts else True


def _turned(said: bool | None) -> bool | None:
    return None if said is None else not said
