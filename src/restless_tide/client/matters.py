"""Matters: what stores have refused, as work; and standing checks."""

from __future__ import annotations

from restless_tide.client.noun import Noun
from restless_tide.wire.matters import (
    CheckKind,
    CheckTold,
    CheckWanted,
    MatterArranged,
    MatterDecision,
    MatterEvent,
    MatterTold,
    NoteTold,
)


class Matters(Noun):
    """Matters: what stores have refused, as work; and standing checks."""

    def of_app(self, app: str, *, version: str | None = None, settled: bool = False) -> list[MatterTold]:
        """The matters of an app or of one release, the newest refusal first; settled ones only where they are wanted."""
        query = {"settled": settled} | ({"version": version} if version is not None else {})
        return self._line.get(f"/v1/apps/{app}/matters", list[MatterTold], **query)

    def decide(self, app: str, matter: str, event: MatterEvent | str, said: str = "") -> MatterTold:
        """``event``: answer, fix, dispute or reopen. Raises ImpossibleAct saying what is possible."""
        body = MatterDecision(event=MatterEvent(event), said=said)
        return self._line.post(f"/v1/apps/{app}/matters/{matter}/decisions", MatterTold, body)

    def arrange(
        self,
        app: str,
        matter: str,
        *,
        taken_by: str | None = None,
        ticket: str | None = None,
        due_on: str | None = None,
    ) -> MatterTold:
        """Who takes it, its ticket, its due day; what is None stays, an empty text takes it away."""
        body = MatterArranged(taken_by=taken_by, ticket=ticket, due_on=due_on)
        return self._line.patch(f"/v1/apps/{app}/matters/{matter}", MatterTold, body)

    def drafted_note(self, app: str, version: str, store: str) -> str:
        """What the next round would say to the reviewer."""
        return self._line.get(f"/v1/apps/{app}/releases/{version}/legs/{store}/reviewer-note", NoteTold).text

    def checks(self, app: str, version: str | None = None) -> list[CheckTold]:
        """The standing checks of an app; with a version, what was ticked for it."""
        query = {"version": version} if version is not None else {}
        return self._line.get(f"/v1/apps/{app}/standing-checks", list[CheckTold], **query)

    def teach(self, app: str, kind: CheckKind | str, text: str, *, matter: str | None = None) -> CheckTold:
        """Make a standing check. Raises Conflict for one that stands already."""
        body = CheckWanted(kind=CheckKind(kind), text=text, matter=matter)
        return self._line.post(f"/v1/apps/{app}/standing-checks", CheckTold, body)

    def end_check(self, app: str, check: str, *, reason: str) -> None:
        self._line.send("POST", f"/v1/apps/{app}/standing-checks/{check}/end", json={"reason": reason})

    def tick(self, app: str, version: str, check: str) -> CheckTold:
        """Answer a check with yes for one release."""
        return self._line.post(f"/v1/apps/{app}/releases/{version}/standing-checks/{check}/tick", CheckTold)
