"""The verbs of the client, grouped by noun as the service's routes are."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any

from httpx_sse import EventSource, SSEError

from restless_tide.client.noun import Noun
from restless_tide.wire.apps import (
    AppTold,
    AppWanted,
    Availability,
    BerthDetailTold,
    BerthTold,
    BerthWanted,
    OfferSheetTold,
    OfferWanted,
)
from restless_tide.wire.changes import ChangedTold
from restless_tide.wire.errors import DeskUnreachable, NotFound
from restless_tide.wire.people import PersonTold, SignInWanted, TokenMade, TokenTold, TokenWanted
from restless_tide.wire.releases import (
    LegWanted,
    NotesWanted,
    RecallWanted,
    ReleaseTold,
    ReleaseWanted,
    SteeringTold,
    SteerWanted,
    SubmitWanted,
    WordWanted,
)
from restless_tide.wire.watching import (
    ChangeTold,
    ClockTold,
    ClockWanted,
    HealthTold,
    LineTold,
    OverviewTold,
    ReadyTold,
    VerificationTold,
)

_FIRST_PAUSE_SECONDS, _LONGEST_PAUSE_SECONDS = 0.5, 15.0


class People(Noun):
    """Who is asking, and tokens."""

    def sign_in(self, email: str, password: str) -> PersonTold:
        """Begin a session on this line. Raises Unauthenticated."""
        return self._line.post("/v1/sign-in", PersonTold, SignInWanted(email=email, password=password))

    def me(self) -> PersonTold:
        return self._line.get("/v1/me", PersonTold)

    def tokens(self) -> list[TokenTold]:
        return self._line.get("/v1/tokens", list[TokenTold])

    def make_token(self, label: str, *, days: float | None = None, apps: Sequence[str] = ()) -> TokenMade:
        """Make a token; its value is only in this answer. With ``apps`` it is a build server's, for these alone."""
        return self._line.post("/v1/tokens", TokenMade, TokenWanted(label=label, days=days, apps=list(apps)))

    def revoke_token(self, token: str) -> None:
        self._line.delete(f"/v1/tokens/{token}")


class Apps(Noun):
    def every(self) -> list[AppTold]:
        return self._line.get("/v1/apps", list[AppTold])

    def one(self, app: str) -> AppTold:
        return self._line.get(f"/v1/apps/{app}", AppTold)

    def register(self, name: str, *, title: str = "", identifiers: Mapping[str, str]) -> AppTold:
        return self._line.post("/v1/apps", AppTold, AppWanted(name=name, title=title, identifiers=dict(identifiers)))

    def open_berth(self, app: str, store: str, *, listed_name: str = "", language: str = "en") -> BerthTold:
        """Order the app's place at a store; look at it again for the store's answer."""
        return self._line.post(
            f"/v1/apps/{app}/berths", BerthTold, BerthWanted(store=store, listed_name=listed_name, language=language)
        )

    def berth(self, app: str, store: str) -> BerthTold:
        """Raises NotFound."""
        for berth in self.one(app).berths:
            if berth.store == store:
                return berth
        raise NotFound(f"{app} has no berth at {store}.", code="berth-unknown")

    def berth_detail(self, app: str, store: str) -> BerthDetailTold:
        """A berth with what is offered there, what may be chosen, and the way to a launch."""
        return self._line.get(f"/v1/apps/{app}/berths/{store}", BerthDetailTold)

    def check_offer(self, app: str, store: str, wanted: Availability) -> OfferSheetTold:
        """What offering the app so would meet and mean, before it is ordered."""
        body = OfferWanted(availability=wanted)
        return self._line.post(f"/v1/apps/{app}/berths/{store}/offer-checks", OfferSheetTold, body)

    def offer(self, app: str, store: str, wanted: Availability, *, reason: str = "") -> BerthDetailTold:
        """Order where, for how much and to whom the app is offered. Raises NotReady with the findings."""
        body = OfferWanted(availability=wanted, reason=reason)
        return self._line.post(f"/v1/apps/{app}/berths/{store}/offers", BerthDetailTold, body)


class Releases(Noun):
    def of_app(self, app: str) -> list[ReleaseTold]:
        return self._line.get(f"/v1/apps/{app}/releases", list[ReleaseTold])

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
        needs_word: bool | None = None,
        not_before: datetime | None = None,
        with_other_legs: bool | None = None,
        revision: int | None = None,
    ) -> ReleaseTold:
        """Change a leg; what is left out stays as it is."""
        wanted = LegWanted(
            build=build, ladder=ladder, needs_word=needs_word, not_before=not_before, with_other_legs=with_other_legs
        )
        return self._line.patch(
            f"/v1/apps/{app}/releases/{version}/legs/{store}", ReleaseTold, wanted, _match(revision)
        )

    def submit(self, app: str, version: str, *, store: str | None = None) -> ReleaseTold:
        """Hand a leg, or all that can be, to review. Raises NotReady with the findings."""
        return self._line.post(f"/v1/apps/{app}/releases/{version}/submissions", ReleaseTold, SubmitWanted(store=store))

    def recall(self, app: str, version: str, store: str, *, reason: str = "") -> ReleaseTold:
        return self._line.post(
            f"/v1/apps/{app}/releases/{version}/recalls", ReleaseTold, RecallWanted(store=store, reason=reason)
        )

    def give_word(self, app: str, version: str, *, store: str | None = None, reason: str = "") -> ReleaseTold:
        return self._line.post(
            f"/v1/apps/{app}/releases/{version}/words", ReleaseTold, WordWanted(store=store, reason=reason)
        )

    def steer(
        self, app: str, version: str, act: str, *, reason: str, store: str | None = None, share: float | None = None
    ) -> SteeringTold:
        """``act``: advance, pause, resume, halt, finish or withdraw. Raises ImpossibleAct saying what is possible."""
        wanted = SteerWanted.model_validate({"act": act, "reason": reason, "store": store, "share": share})
        return self._line.post(f"/v1/apps/{app}/releases/{version}/steering", SteeringTold, wanted)


class Watching(Noun):
    """What is so, what needs a person, and what was done."""

    def ready(self) -> ReadyTold:
        """Whether the service can do its work. Raises DeskUnreachable when nothing answers."""
        return self._line.get("/readyz", ReadyTold)

    def health(self) -> HealthTold:
        return self._line.get("/healthz", HealthTold)

    def overview(self) -> OverviewTold:
        return self._line.get("/v1/overview", OverviewTold)

    def logbook(self, *, app: str | None = None, limit: int | None = None) -> Iterator[LineTold]:
        """The logbook's lines, newest first, page by page as they are asked for."""
        path: str | None = "/v1/logbook"
        params = {
            name: value
            for name, value in (("app", app), ("limit", min(limit, 500) if limit else None))
            if value is not None
        }
        left = limit
        while path is not None:
            answer = self._line.send("GET", path, params=params or None)
            for line in answer.json():
                if left is not None and left <= 0:
                    return
                left = None if left is None else left - 1
                yield LineTold.model_validate(line)
            path, params = answer.links.get("next", {}).get("url"), {}

    def verify_logbook(self) -> VerificationTold:
        return self._line.get("/v1/logbook/verification", VerificationTold)

    def follow(self, *, after: int | None = None) -> Iterator[ChangeTold]:
        """Everything that changes, as it changes, without end; a cut line is taken up where it broke.

        Raises DeskUnreachable only when the desk does not answer at the very beginning.
        """
        position, pause, begun = after, _FIRST_PAUSE_SECONDS, False
        while True:
            headers = {"Accept": "text/event-stream"} | (
                {"Last-Event-ID": str(position)} if position is not None else {}
            )
            try:
                with self._line.stream("/v1/live", headers) as answer:
                    begun, pause = True, _FIRST_PAUSE_SECONDS
                    for event in EventSource(answer).iter_sse():
                        if event.event == "change":
                            change = ChangeTold.model_validate_json(event.data)
                            position = change.id
                            yield change
            except (DeskUnreachable, SSEError):
                if not begun:
                    raise
            time.sleep(pause)
            pause = min(pause * 2, _LONGEST_PAUSE_SECONDS)

    def clock(self) -> ClockTold:
        return self._line.get("/v1/clock", ClockTold)

    def move_clock(self, *, step_hours: float = 0.0, show: datetime | None = None) -> ClockTold:
        """Move the clock of a throw-away desk. Raises Denied on every other."""
        return self._line.post("/v1/clock", ClockTold, ClockWanted(step_hours=step_hours, show=show))

    def contract(self) -> dict[str, Any]:
        """The service's OpenAPI document."""
        document: dict[str, Any] = self._line.send("GET", "/v1/openapi.json").json()
        return document


def _match(revision: int | None) -> dict[str, str] | None:
    return None if revision is None else {"If-Match": f'"{revision}"'}
