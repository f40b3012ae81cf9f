"""Tracks, by the client."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TypedDict, Unpack

from restless_tide.client.noun import Noun
from restless_tide.wire.cohorts import SignInWanted
from restless_tide.wire.retiring import ReasonWanted
from restless_tide.wire.tracks import (
    BoardTold,
    ClearedTold,
    GotTold,
    MoveSheetTold,
    OwnTrackTold,
    PlacedTold,
    PlacementWanted,
    PromotionWanted,
    RuleBuildWanted,
    TrackChange,
    TrackOpened,
    TrackRuleTold,
    TrackRuleWanted,
    TrackTold,
)


class How(TypedDict, total=False):
    """How a build is placed; what is left out is as the cohort, the release or the store has it.

    ``rank`` is every track of that rank before production in place of named ones; ``brief`` and ``notes`` are by locale.
    """

    rank: int
    brief: Mapping[str, str]
    contact: str
    remarks_to: str
    sign_in: SignInWanted
    notes: Mapping[str, str]
    ladder: str
    submit: bool
    reason: str


class HowPromoted(How, total=False):
    """The same for a promotion; ``to`` is the key of a track, ``build`` which one where a track offers several."""

    to: str
    build: str


class Asks(TypedDict, total=False):
    """What a rule asks for; ``crash_free`` is a share of sessions from 0 to 1, ``no_open`` are kinds of field reports."""

    to: str
    hours: float
    people: int
    crash_free: float
    no_open: Sequence[str]
    needs_go_ahead: bool
    reason: str


class Tracks(Noun):
    """What stands on which track, and what moves up next. A track is written like ``openfield/early``."""

    def board(self, app: str) -> BoardTold:
        return self._line.get(f"/v1/apps/{app}/tracks", BoardTold)

    def one(self, app: str, at: str) -> TrackTold:
        """One track, with what it held."""
        return self._line.get(f"/v1/apps/{app}/tracks/{at}", TrackTold)

    def people(
        self, app: str, store: str, *, cohort: str | None = None, chosen: Sequence[str] = (), country: str | None = None
    ) -> list[GotTold]:
        """What people of a cohort, or who have chosen some tracks, have at a store; without either: everybody else."""
        path = f"/v1/apps/{app}/track-people/{store}"
        return self._line.get(path, list[GotTold], cohort=cohort, chosen=list(chosen) or None, country=country)

    def sheet(self, app: str, build: str, at: Sequence[str] = (), **how: Unpack[How]) -> list[MoveSheetTold]:
        """What placing a build on tracks would mean; ``how`` as for ``place``."""
        wanted = PlacementWanted.model_validate({"build": build, "at": list(at), **how})
        return self._line.post(f"/v1/apps/{app}/placement-sheets", list[MoveSheetTold], wanted)

    def place(self, app: str, build: str, at: Sequence[str] = (), **how: Unpack[How]) -> list[PlacedTold]:
        """Place a build on tracks, all of them or none. Raises NotReady with the findings, Invalid, NotFound."""
        wanted = PlacementWanted.model_validate({"build": build, "at": list(at), **how})
        return self._line.post(f"/v1/apps/{app}/placements", list[PlacedTold], wanted)

    def promotion_sheet(self, app: str, source: str | None = None, **how: Unpack[HowPromoted]) -> list[MoveSheetTold]:
        """What promoting would mean; ``how`` as for ``promote``."""
        wanted = PromotionWanted.model_validate({"source": source, **how})
        return self._line.post(f"/v1/apps/{app}/promotion-sheets", list[MoveSheetTold], wanted)

    def promote(self, app: str, source: str | None = None, **how: Unpack[HowPromoted]) -> list[PlacedTold]:
        """Promote what a track offers to the next one. Raises ImpossibleAct, NotReady with the findings, Invalid."""
        wanted = PromotionWanted.model_validate({"source": source, **how})
        return self._line.post(f"/v1/apps/{app}/promotions", list[PlacedTold], wanted)

    def clear(self, app: str, at: str, reason: str) -> ClearedTold:
        """Nobody new gets a build over the track."""
        return self._line.post(f"/v1/apps/{app}/tracks/{at}/clear", ClearedTold, ReasonWanted(reason=reason))

    def open(self, app: str, at: str, title: str = "", *, reason: str = "") -> OwnTrackTold:
        """Open a track of the team's own."""
        store, _, key = at.partition("/")
        wanted = TrackOpened(store=store, key=key, title=title, reason=reason)
        return self._line.post(f"/v1/apps/{app}/tracks", OwnTrackTold, wanted)

    def rename(self, app: str, at: str, title: str, *, reason: str = "") -> OwnTrackTold:
        wanted = TrackChange(title=title, reason=reason)
        return self._line.patch(f"/v1/apps/{app}/tracks/{at}", OwnTrackTold, wanted)

    def close(self, app: str, at: str, *, reason: str = "") -> OwnTrackTold:
        return self._line.post(f"/v1/apps/{app}/tracks/{at}/close", OwnTrackTold, ReasonWanted(reason=reason))

    # rules

    def rules(self, app: str) -> list[TrackRuleTold]:
        """The rules by which builds move up automatically, each with what is still missing."""
        return self._line.get(f"/v1/apps/{app}/track-rules", list[TrackRuleTold])

    def make_rule(self, app: str, source: str, **asks: Unpack[Asks]) -> TrackRuleTold:
        """Have builds move up automatically. Raises Invalid, and Conflict for a second rule between two tracks."""
        wanted = TrackRuleWanted.model_validate({"source": source, **asks})
        return self._line.post(f"/v1/apps/{app}/track-rules", TrackRuleTold, wanted)

    def end_rule(self, app: str, rule: str, *, reason: str = "") -> None:
        self._line.send("POST", f"/v1/apps/{app}/track-rules/{rule}/end", json={"reason": reason})

    def give_go_ahead(self, app: str, rule: str, build: str, *, reason: str = "") -> TrackRuleTold:
        """Let one build move up by a rule as soon as all else is there."""
        wanted = RuleBuildWanted(build=build, reason=reason)
        return self._line.post(f"/v1/apps/{app}/track-rules/{rule}/go-ahead", TrackRuleTold, wanted)

    def try_again(self, app: str, rule: str, build: str) -> TrackRuleTold:
        """What blocked it is fixed: the rule looks at the build again."""
        return self._line.post(f"/v1/apps/{app}/track-rules/{rule}/retry", TrackRuleTold, RuleBuildWanted(build=build))
