"""Apps and their berths."""

from __future__ import annotations

from collections.abc import Mapping

from restless_tide.client.noun import Noun
from restless_tide.wire.apps import (
    AppChange,
    AppTold,
    AppWanted,
    Availability,
    BerthDetailTold,
    BerthNameWanted,
    BerthTold,
    BerthWanted,
    OfferSheetTold,
    OfferWanted,
)
from restless_tide.wire.errors import NotFound
from restless_tide.wire.retiring import OutlookTold, ReasonWanted
from restless_tide.wire.second_person import SecondPersonWanted


class Apps(Noun):
    def every(self) -> list[AppTold]:
        return self._line.get("/v1/apps", list[AppTold])

    def one(self, app: str) -> AppTold:
        return self._line.get(f"/v1/apps/{app}", AppTold)

    def register(self, name: str, *, title: str = "", identifiers: Mapping[str, str]) -> AppTold:
        return self._line.post("/v1/apps", AppTold, AppWanted(name=name, title=title, identifiers=dict(identifiers)))

    def change(self, app: str, *, title: str | None = None, identifiers: Mapping[str, str] | None = None) -> AppTold:
        """Correct the title, or an identifier that nothing uses yet. Raises Conflict with what uses it."""
        body = AppChange(title=title, identifiers=dict(identifiers or {}))
        return self._line.patch(f"/v1/apps/{app}", AppTold, body)

    def demand_second_person(self, app: str, demanded: bool) -> AppTold:
        """Have what brings its releases to people wait for a second person, or no longer."""
        return self._line.put(f"/v1/apps/{app}/second-person", AppTold, SecondPersonWanted(demanded=demanded))

    def remove(self, app: str) -> None:
        """Remove an app that nothing hangs on. Raises Conflict with what does."""
        self._line.delete(f"/v1/apps/{app}")

    def outlook(self, app: str) -> OutlookTold:
        """What retiring an app would meet."""
        return self._line.get(f"/v1/apps/{app}/retirement", OutlookTold)

    def retire(self, app: str, *, reason: str = "") -> AppTold:
        """Take an app out of use. Raises ImpossibleAct with what is under way."""
        return self._line.put(f"/v1/apps/{app}/retirement", AppTold, ReasonWanted(reason=reason))

    def restore(self, app: str, *, reason: str = "") -> AppTold:
        return self._line.delete_for(f"/v1/apps/{app}/retirement", AppTold, reason=reason)

    def rename_berth(self, app: str, store: str, name: str, *, reason: str = "") -> BerthTold:
        """Order another name at a store; look at the berth again for the store's answer."""
        body = BerthNameWanted(name=name, reason=reason)
        return self._line.post(f"/v1/apps/{app}/berths/{store}/names", BerthTold, body)

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
