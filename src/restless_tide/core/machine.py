"""What all life cycles share: a table of (state, event) to state, and the ways to read it.

Each life cycle is a file of its own beside this one and holds its table as a literal that can be
read like a page. Nothing else knows the rules: routes, orders, buttons and the diagrams in docs/
are derived from the tables. An event that the table does not hold is refused by name.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Generic, TypeVar

from restless_tide.core.errors import ImpossibleAct

State = TypeVar("State", bound=StrEnum)
Event = TypeVar("Event", bound=StrEnum)


@dataclass(frozen=True)
class Machine(Generic[State, Event]):
    """A life cycle: ``noun`` is what it is the life of, ``table`` its rules."""

    noun: str
    initial: State
    table: Mapping[tuple[State, Event], State]

    def after(self, state: State, event: Event) -> State:
        """The state that follows. Raises ImpossibleAct naming state, event and what is possible."""
        try:
            return self.table[(state, event)]
        except KeyError:
            raise ImpossibleAct(
                f"{self.noun} is {state}: {event} is not possible.",
                possible=self.possible(state),
            ) from None

    def allows(self, state: State, event: Event) -> bool:
        """Whether the event has a meaning in this state."""
        return (state, event) in self.table

    def event_to(self, before: str, after: str) -> Event | None:
        """The event that leads from one state to another in one step; None when there is none."""
        found = (event for (state, event), follows in self.table.items() if state == before and follows == after)
        return next(found, None)

    def leads_to(self, event: Event) -> State:
        """The one state that an event leads to. Raises ValueError when that depends on where it happens."""
        (state,) = {follows for (_, happens), follows in self.table.items() if happens == event}
        return state

    def possible(self, state: State) -> list[Event]:
        """The events that have a meaning in this state, in the order of the table."""
        return [event for (here, event) in self.table if here == state]

    def final(self) -> list[State]:
        """The states that nothing leads out of."""
        starts = {state for state, _ in self.table}
        return [state for state in dict.fromkeys(self.table.values()) if state not in starts]

    def diagram(self) -> str:
        """The table drawn as a Mermaid state diagram."""
        lines = ["stateDiagram-v2", f"    [*] --> {_node(self.initial)}"]
        for (state, event), follows in self.table.items():
            lines.append(f"    {_node(state)} --> {_node(follows)}: {event}")
        lines.extend(f"    {_node(state)} --> [*]" for state in self.final())
        return "\n".join(lines)


def _node(state: StrEnum) -> str:
    return str(state).replace(" ", "_").replace("-", "_")
