"""Steps that people carry by hand."""

from __future__ import annotations

from itertools import islice
from pathlib import Path

from restless_tide.client.noun import Noun
from restless_tide.wire.steps import OutcomeWanted, StepFile, StepTold, UndoWanted


class Steps(Noun):
    """What people carry to a store by hand."""

    def waiting(self) -> list[StepTold]:
        return self._line.get("/v1/steps", list[StepTold], state="waiting")

    def settled(self, limit: int | None = 100) -> list[StepTold]:
        """Newest first, at most ``limit``; None: all that the desk has."""
        each = self._line.each("/v1/steps", StepTold, state="settled", limit=min(limit or 500, 500))
        return list(islice(each, limit))

    def one(self, step: str) -> StepTold:
        return self._line.get(f"/v1/steps/{step}", StepTold)

    def settle(self, step: str, outcome: str, *, said: str = "") -> StepTold:
        """Report the result: one of its outcomes. Raises Invalid, ImpossibleAct."""
        return self._line.post(f"/v1/steps/{step}/outcome", StepTold, OutcomeWanted(outcome=outcome, said=said))

    def undo(self, step: str, *, reason: str = "") -> StepTold:
        """Take a mistaken confirmation back. Raises ImpossibleAct."""
        return self._line.post(f"/v1/steps/{step}/undo", StepTold, UndoWanted(reason=reason))

    def fetch(self, file: StepFile, to: Path) -> Path:
        """Fetch a file of a step, whole, into ``to``."""
        self._line.fetch(file.address, to)
        return to
