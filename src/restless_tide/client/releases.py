"""Releases and their rollouts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from restless_tide.client.noun import Noun
from restless_tide.wire.changes import ChangedTold
from restless_tide.wire.releases import (
    Condition,
    FiguresTold,
    FixWanted,
    GoAheadWanted,
    HaltsTold,
    HaltsWanted,
    LegWanted,
    NewLegWanted,
    NotesWanted,
    PaceWanted,
    RecallWanted,
    ReleaseChange,
    ReleaseTold,
    ReleaseWanted,
    SteeringTold,
    SteerWanted,
)
from restless_tide.wire.reviewing import BriefWanted, LookTold, SubmitWanted
from restless_tide.wire.second_person import DropWanted, WaitingActTold


class Releases(Noun):
    def of_app(self, app: str) -> list[ReleaseTold]:
        """Every release of an app, newest first; all pages are read."""
        return list(self._line.each(f"/v1/apps/{app}/releases", ReleaseTold))

    def one(self, app: str, version: str) -> ReleaseTold:
        return self._line.get(f"/v1/apps/{app}/releases/{version}", ReleaseTold)

    def changes(self, app: str, version: str) -> ChangedTold:
        """What changed since the builds that people have, and the notes drafted from it."""
        return self._line.get(f"/v1/apps/{app}/releases/{version}/changes", ChangedTold)

    def draft(
        self, app: str, version: str, *, legs: Mapping[str, LegWanted], notes: Mapping[str, str] | None = None
    ) -> ReleaseTold:
        """Draft a release; ``legs`` by store. Raises Conflict, Invalid, NotFound."""
        wanted = ReleaseWanted(version=version, legs=dict(legs), notes=dict(notes or {}))
        return self._line.post(f"/v1/apps/{app}/releases", ReleaseTold, wanted)

    def write_notes(
        self, app: str, version: str, locale: str, text: str, *, revision: int | None = None
    ) -> ReleaseTold:
        """Write the notes of a locale; with ``revision`` only if nobody changed the release since. Raises StaleView."""
        return self._line.put(
            f"/v1/apps/{app}/releases/{version}/notes/{locale}", ReleaseTold, NotesWanted(text=text), _match(revision)
        )

    def change_leg(
        self,
        app: str,
        version: str,
        store: str,
        *,
        build: str | None = None,
        ladder: str | None = None,
        conditions: Sequence[Condition] | None = None,
        needs_go_ahead: bool | None = None,
        not_before: datetime | None = None,
        no_date: bool = False,
        with_other_legs: bool | None = None,
        revision: int | None = None,
    ) -> ReleaseTold:
        """Change a leg; what is left out stays as it is, and ``no_date`` takes its date away.

        ``conditions`` replace all that its launch waits for. Raises Invalid for those that can never hold together.
        """
        wanted = LegWanted(
            build=build,
            ladder=ladder,
            conditions=None if conditions is None else tuple(conditions),
            needs_go_ahead=needs_go_ahead,
            not_before=not_before,
            no_date=no_date,
            with_other_legs=with_other_legs,
        )
        return self._line.patch(
            f"/v1/apps/{app}/releases/{version}/legs/{store}", ReleaseTold, wanted, _match(revision)
        )

    def add_leg(self, app: str, version: str, store: str, wish: LegWanted) -> ReleaseTold:
        """Take one more store into a release. Raises Conflict where it is in already."""
        body = NewLegWanted(store=store, **wish.model_dump(exclude_unset=True))
        return self._line.post(f"/v1/apps/{app}/releases/{version}/legs", ReleaseTold, body)

    def drop_leg(self, app: str, version: str, store: str) -> ReleaseTold:
        """Take a store out of a release, before it was handed in there. Raises ImpossibleAct."""
        return self._line.delete_for(f"/v1/apps/{app}/releases/{version}/legs/{store}", ReleaseTold)

    def rename(self, app: str, version: str, new_version: str) -> ReleaseTold:
        """Give a draft that was handed in nowhere another version. Raises ImpossibleAct, Conflict."""
        return self._line.patch(f"/v1/apps/{app}/releases/{version}", ReleaseTold, ReleaseChange(version=new_version))

    def discard(self, app: str, version: str) -> None:
        """Discard a draft that was handed in nowhere. Raises ImpossibleAct."""
        self._line.delete(f"/v1/apps/{app}/releases/{version}")

    def look(self, app: str, version: str, *, store: str | None = None) -> LookTold:
        """All that people and reviewers will see of a release, beside what is live; at one place, or at all of them."""
        query = {"store": store} if store is not None else {}
        return self._line.get(f"/v1/apps/{app}/releases/{version}/look", LookTold, **query)

    def submit(
        self,
        app: str,
        version: str,
        *,
        store: str | None = None,
        looked: str | None = None,
        without: Sequence[str] = (),
        for_reviewer: str | None = None,
        brief: BriefWanted | None = None,
        in_spite_of: str = "",
    ) -> ReleaseTold:
        """Hand a leg, or all that can be, to review. Raises NotReady with the findings.

        ``looked`` is the revision of the last look at it: without it Invalid is raised, StaleView where it has changed since.
        ``without`` are items that are kept back. ``for_reviewer`` goes along as a note; without it, the one that is drafted
        from what was done about the matters; ``brief`` is told in this round instead of what stands. With ``in_spite_of``, a
        reason, open matters are not in the way.
        """
        wanted = SubmitWanted(
            store=store,
            looked=looked,
            without=list(without),
            for_reviewer=for_reviewer,
            brief=brief or BriefWanted(),
            in_spite_of=in_spite_of,
        )
        return self._line.post(f"/v1/apps/{app}/releases/{version}/submissions", ReleaseTold, wanted)

    def figures(self, by: str = "store", *, app: str | None = None, store: str | None = None) -> list[FiguresTold]:
        """How long reviews take and how many are refused; ``by``: store, app or weekday."""
        wanted = {"app": app, "store": store}
        query = {"by": by} | {name: value for name, value in wanted.items() if value is not None}
        return self._line.get("/v1/review-figures", list[FiguresTold], **query)

    def fix(self, app: str, version: str, *builds: str) -> ReleaseTold:
        """Draft what takes a launched release's place, with these builds. Raises ImpossibleAct, Invalid, Conflict."""
        return self._line.post(f"/v1/apps/{app}/releases/{version}/fixes", ReleaseTold, FixWanted(builds=list(builds)))

    def recall(self, app: str, version: str, store: str, *, reason: str = "") -> ReleaseTold:
        return self._line.post(
            f"/v1/apps/{app}/releases/{version}/recalls", ReleaseTold, RecallWanted(store=store, reason=reason)
        )

    def give_go_ahead(self, app: str, version: str, *, store: str | None = None, reason: str = "") -> ReleaseTold:
        return self._line.post(
            f"/v1/apps/{app}/releases/{version}/go-ahead", ReleaseTold, GoAheadWanted(store=store, reason=reason)
        )

    def take_back_go_ahead(self, app: str, version: str, *, store: str | None = None, reason: str = "") -> ReleaseTold:
        """Withdraw one's own go-ahead. Raises ImpossibleAct where it is launched already, or none was given."""
        body = GoAheadWanted(store=store, reason=reason)
        return self._line.post(f"/v1/apps/{app}/releases/{version}/go-ahead-withdrawals", ReleaseTold, body)

    def steer(
        self, app: str, version: str, act: str, *, reason: str, store: str | None = None, share: float | None = None
    ) -> SteeringTold:
        """``act``: advance, pause, resume, halt, finish or withdraw. Raises ImpossibleAct saying what is possible."""
        wanted = SteerWanted.model_validate({"act": act, "reason": reason, "store": store, "share": share})
        return self._line.post(f"/v1/apps/{app}/releases/{version}/steering", SteeringTold, wanted)

    def halt_all(
        self, *, reason: str, app: str | None = None, platform: str | None = None, complete_too: bool = False
    ) -> HaltsTold:
        """Halt every rollout of an app, of a platform, or of both together. Raises ImpossibleAct when nothing can be halted."""
        wanted = HaltsWanted(reason=reason, app=app, platform=platform, complete_too=complete_too)
        return self._line.post("/v1/halts", HaltsTold, wanted)

    def set_pace(
        self, app: str, version: str, kind: str, *, reason: str = "", revision: int | None = None, **wish: Any
    ) -> ReleaseTold:
        """Say how its stores rise beside each other: ``kind`` is free, in step or lead.

        ``wish``: apart (stores that it does not concern); of a lead also lead (its store), share (0 to 1) and steady_hours.
        Raises Invalid, NotFound, StaleView.
        """
        wanted = PaceWanted.model_validate({"kind": kind, "reason": reason, **wish})
        return self._line.put(f"/v1/apps/{app}/releases/{version}/pace", ReleaseTold, wanted, headers=_match(revision))

    # acts that wait for a second person

    def waiting(self) -> list[WaitingActTold]:
        """What waits for a second person, the oldest first."""
        return self._line.get("/v1/proposals", list[WaitingActTold])

    def agree(self, proposal: str) -> None:
        """Agree as the second person; it is done with that. Raises Denied for who asked."""
        self._line.act("POST", f"/v1/proposals/{proposal}/agreement")

    def drop(self, proposal: str, *, reason: str) -> None:
        """Drop what was asked; it is not done."""
        self._line.act("POST", f"/v1/proposals/{proposal}/drop", DropWanted(reason=reason))


def _match(revision: int | None) -> dict[str, str] | None:
    return None if revision is None else {"If-Match": f'"{revision}"'}
