"""What all of the contract's models share."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class Wanted(BaseModel):
    """What a caller hands in; an unknown field is a mistake and refused."""

    model_config = ConfigDict(extra="forbid")


class Told(BaseModel):
    """What the service answers."""

    model_config = ConfigDict(frozen=True, defer_build=True)
