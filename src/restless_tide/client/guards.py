"""What is counted by the hour, and the guards that watch it, by the client."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from restless_tide.client.noun import Noun
from restless_tide.wire.guards import (
    CourseTold,
    GaugesTaken,
    GaugesTold,
    GaugesWanted,
    GuardTold,
    GuardTrialTold,
    GuardTrialWanted,
    GuardWanted,
    SilenceWanted,
    WatchTold,
)
from restless_tide.wire.retiring import ReasonWanted


class Guards(Noun):
    """Guards of an app, what they say of a release, and the counts that they look at.

    >>> tide.guards.set_up("marram", name="crashes", on_breach="halt", every_store=True)
    """

    def of_app(self, app: str) -> list[GuardTold]:
        return self._line.get(f"/v1/apps/{app}/guards", list[GuardTold])

    def set_up(self, app: str, **wanted: Any) -> GuardTold:
        """Have a guard watch every rollout of an app; the fields are those of ``GuardWanted``, what is left out is usual.

        Raises Invalid for a rule that makes no sense, Conflict for a name that is taken.
        """
        return self._line.post(f"/v1/apps/{app}/guards", GuardTold, GuardWanted.model_validate(wanted))

    def change(self, app: str, guard: str, **wanted: Any) -> GuardTold:
        """Change what is named of a guard. Raises NotFound, Invalid, Conflict."""
        known = next((one for one in self.of_app(app) if one.name == guard), None)
        before = known.model_dump(include=set(GuardWanted.model_fields)) if known is not None else {"name": guard}
        if "against" in wanted and "bound" not in wanted:
            before.pop("bound", None)
        if "watched" in wanted and "tolerance" not in wanted:
            before.pop("tolerance", None)
        body = GuardWanted.model_validate(before | wanted)
        return self._line.put(f"/v1/apps/{app}/guards/{guard}", GuardTold, body)

    def end(self, app: str, guard: str, *, reason: str = "") -> None:
        body = ReasonWanted(reason=reason).model_dump(mode="json")
        self._line.send("POST", f"/v1/apps/{app}/guards/{guard}/end", json=body)

    def watches(self, app: str, version: str) -> list[WatchTold]:
        """What each guard says of a release."""
        return self._line.get(f"/v1/apps/{app}/releases/{version}/watches", list[WatchTold])

    def watch(self, app: str, version: str, guard: str) -> list[WatchTold]:
        """The same of one guard, with its evidence hour by hour."""
        return self._line.get(f"/v1/apps/{app}/releases/{version}/watches/{guard}", list[WatchTold])

    def course(self, app: str, version: str) -> list[CourseTold]:
        """The share, the people and what went wrong over time, store by store."""
        return self._line.get(f"/v1/apps/{app}/releases/{version}/course", list[CourseTold])

    def silence(
        self,
        app: str,
        version: str,
        guard: str,
        until: datetime | None = None,
        *,
        hours: float | None = None,
        reason: str = "",
    ) -> list[WatchTold]:
        """Have a guard do nothing at a release until an instant, or for some hours; neither: it speaks again."""
        body = SilenceWanted(until=until, hours=hours, reason=reason)
        return self._line.put(f"/v1/apps/{app}/releases/{version}/watches/{guard}/silence", list[WatchTold], body)

    def try_out(self, app: str, **wanted: Any) -> GuardTrialTold:
        """Try a guard on a release's counts (``version``) or made-up ones (``ratio``); nothing is stopped."""
        return self._line.post(f"/v1/apps/{app}/guard-trials", GuardTrialTold, GuardTrialWanted.model_validate(wanted))

    def counted(
        self,
        app: str,
        store: str,
        *,
        source: str = "",
        versions: Sequence[str] = (),
        since: datetime | None = None,
        until: datetime | None = None,
    ) -> GaugesTold:
        """What was counted at a store, by the hour, or by the day where it is old; the last two weeks, unless you say."""
        asked: dict[str, Any] = {"store": store, "source": source, "version": list(versions)}
        asked |= {"since": since.isoformat()} if since else {}
        asked |= {"until": until.isoformat()} if until else {}
        return self._line.get(f"/v1/apps/{app}/gauges", GaugesTold, **asked)

    def enter(self, app: str, store: str, hours: Sequence[Any], *, source: str = "") -> GaugesTaken:
        """Hand in counts of a team's own collector, or as they are read at a hand-carried store.

        Raises Invalid, and takes nothing, where one of them cannot be so.
        """
        body = GaugesWanted.model_validate({"store": store, "source": source, "hours": list(hours)})
        return self._line.post(f"/v1/apps/{app}/gauges", GaugesTaken, body)
