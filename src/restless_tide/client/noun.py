"""What the groups of verbs share: the line they speak on."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from inspect import isfunction
from typing import Any

from pydantic import ValidationError

from restless_tide.client.line import Line
from restless_tide.wire.problems import unfit


def _told(verb: Callable[..., Any]) -> Callable[..., Any]:
    """The verb, with values that do not fit told as every error of the family is."""

    @wraps(verb)
    def told(*given: Any, **named: Any) -> Any:
        try:
            return verb(*given, **named)
        except ValidationError as wrong:
            raise unfit(wrong.errors(include_url=False)) from None

    return told


class Noun:
    def __init_subclass__(cls) -> None:
        for name, verb in list(vars(cls).items()):
            if isfunction(verb) and not name.startswith("_"):
                setattr(cls, name, _told(verb))

    def __init__(self, line: Line) -> None:
        self._line = line
