"""Builds, numbers and the signing register, by the client."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from restless_tide.client.noun import Noun
from restless_tide.client.uploads import Progress, send_file
from restless_tide.wire.builds import (
    AnswersWanted,
    AppLapseTold,
    BuildTold,
    BuildWanted,
    CheckWanted,
    ClearingTold,
    ClearWanted,
    ComparisonTold,
    ConsignmentTold,
    Facts,
    ProposalTold,
    PushWanted,
    ReservationTold,
    ReserveWanted,
    RetentionRule,
    SheetTold,
    StandingAnswerTold,
    UploadTold,
)
from restless_tide.wire.signing import (
    DeclareWanted,
    DeviceTold,
    DeviceWanted,
    ExpectWanted,
    HoldWanted,
    LockerFileTold,
    RegisterTold,
    ReplaceWanted,
    ReplacingTold,
    SigningTold,
)


class Builds(Noun):
    def of_app(self, app: str, *, limit: int | None = None, **wish: Any) -> list[BuildTold]:
        """The builds of an app, newest first; ``wish`` may name platform, state, text and order. All pages are read."""
        found = self.each(app, **wish)
        return list(found) if limit is None else [build for _, build in zip(range(limit), found, strict=False)]

    def each(self, app: str, **wish: Any) -> Iterator[BuildTold]:
        """The builds one by one, a page at a time (RFC 8288)."""
        after = None
        while True:
            page, more = self._line.page(f"/v1/apps/{app}/builds", list[BuildTold], after=after, **wish)
            yield from page
            if not more:
                return
            after = page[-1].id

    def one(self, build: str) -> BuildTold:
        return self._line.get(f"/v1/builds/{build}", BuildTold)

    def compare(self, before: str, after: str) -> ComparisonTold:
        """Two builds side by side: what a person must notice first."""
        return self._line.get(f"/v1/builds/{before}/comparison", ComparisonTold, to=after)

    def next_numbers(self, app: str, *stores: str, step: str = "patch") -> ProposalTold:
        """The smallest version and number that fit at all these stores (none named: wherever the app has a berth)."""
        return self._line.get(f"/v1/apps/{app}/numbers", ProposalTold, store=list(stores) or None, step=step)

    def reserve(self, app: str, *stores: str, step: str = "patch", label: str = "") -> ProposalTold:
        """Hold the next version and number; nobody else gets the same."""
        wanted = ReserveWanted.model_validate({"stores": list(stores), "step": step, "label": label})
        return self._line.post(f"/v1/apps/{app}/reservations", ProposalTold, wanted)

    def reservations(self, app: str) -> list[ReservationTold]:
        return self._line.get(f"/v1/apps/{app}/reservations", list[ReservationTold])

    def give_back(self, app: str, reservation: str) -> None:
        """Free a number that was reserved and never used."""
        self._line.delete(f"/v1/apps/{app}/reservations/{reservation}")

    def check(self, app: str, store: str, facts: Sequence[Facts]) -> SheetTold:
        """What stands against sending packages of these facts, before any byte travels."""
        return self._line.post(f"/v1/apps/{app}/checks", SheetTold, CheckWanted(store=store, facts=list(facts)))

    def hand_over(
        self, file: str | Path, *, sha256: str | None = None, told: Progress = lambda _: None
    ) -> tuple[str, bool]:
        """Have the desk hold a package file, going on after any cut; returns its SHA-256 and whether it was there."""
        return send_file(self._line, Path(file), told, sha256=sha256)

    def uploads(self) -> list[UploadTold]:
        """Your unfinished uploads."""
        return self._line.get("/v1/uploads", list[UploadTold])

    def package(self, sha256: str) -> Facts:
        """What was read out of a package. Raises NotFound."""
        return self._line.get(f"/v1/packages/{sha256}", Facts)

    def enter(
        self, app: str, packages: Sequence[str], *, revision: str | None = None, repository: str | None = None
    ) -> BuildTold:
        """Enter a build made of packages that were handed over, and of which source."""
        wanted = BuildWanted(packages=list(packages), revision=revision, repository=repository)
        return self._line.post(f"/v1/apps/{app}/builds", BuildTold, wanted)

    def send(self, build: str, store: str) -> ConsignmentTold:
        """Send a build on to a store. Raises NotReady with the findings."""
        return self._line.post(f"/v1/builds/{build}/consignments", ConsignmentTold, PushWanted(store=store))

    def push(
        self,
        *files: str | Path,
        app: str,
        store: str,
        revision: str | None = None,
        repository: str | None = None,
        told: Progress = lambda _: None,
    ) -> ConsignmentTold:
        """Hand the packages of one build over, enter it and send it to a store."""
        packages = [self.hand_over(file, told=told)[0] for file in files]
        return self.send(self.enter(app, packages, revision=revision, repository=repository).id, store)

    def consignment(self, consignment: str) -> ConsignmentTold:
        return self._line.get(f"/v1/consignments/{consignment}", ConsignmentTold)

    def answer(self, consignment: str, answers: Mapping[str, str], *, standing: bool = False) -> ConsignmentTold:
        """Answer what the store holds the build for; ``standing`` has the same answers given by themselves from now on."""
        wanted = AnswersWanted(answers=dict(answers), standing=standing)
        return self._line.post(f"/v1/consignments/{consignment}/answers", ConsignmentTold, wanted)

    def standing_answers(self, app: str, store: str) -> list[StandingAnswerTold]:
        return self._line.get(f"/v1/apps/{app}/berths/{store}/standing-answers", list[StandingAnswerTold])

    def forget_answer(self, app: str, store: str, code: str) -> None:
        """Have a person answer that question again next time."""
        self._line.delete(f"/v1/apps/{app}/berths/{store}/standing-answers/{code}")

    def retention(self, app: str) -> ClearingTold:
        """The app's retention rule, and what it would clear now."""
        return self._line.get(f"/v1/apps/{app}/retention", ClearingTold)

    def set_retention(self, app: str, *, keep_newest: int, keep_days: float) -> ClearingTold:
        rule = RetentionRule(keep_newest=keep_newest, keep_days=keep_days)
        return self._line.put(f"/v1/apps/{app}/retention", ClearingTold, rule)

    def clear(self, app: str, *, dry_run: bool, rule: RetentionRule | None = None) -> ClearingTold:
        """Clear what the rule lets go, or say what that would be."""
        return self._line.post(f"/v1/apps/{app}/clearings", ClearingTold, ClearWanted(rule=rule, dry_run=dry_run))

    def lapses(self, app: str) -> list[AppLapseTold]:
        """What of the app lapses when, the soonest first."""
        return self._line.get(f"/v1/apps/{app}/lapses", list[AppLapseTold])


class Signing(Noun):
    """The signing register and the locker."""

    def register(self, app: str) -> RegisterTold:
        return self._line.get(f"/v1/apps/{app}/signing", RegisterTold)

    def expect(
        self, app: str, platform: str, *, reason: str, build: str | None = None, sha256: str | None = None
    ) -> SigningTold:
        """Expect another certificate from now on."""
        wanted = ExpectWanted(platform=platform, build=build, sha256=sha256, reason=reason)
        return self._line.put(f"/v1/apps/{app}/signing/expected", SigningTold, wanted)

    def declare(self, app: str, platform: str, names: Sequence[str], *, reason: str) -> SigningTold:
        """Declare which permissions and rights the app is meant to ask for."""
        wanted = DeclareWanted(platform=platform, names=list(names), reason=reason)
        return self._line.put(f"/v1/apps/{app}/signing/declared", SigningTold, wanted)

    def hold(self, app: str, platform: str, holder: str, *, reason: str) -> SigningTold:
        """Say who holds the key: team or store."""
        wanted = HoldWanted.model_validate({"platform": platform, "holder": holder, "reason": reason})
        return self._line.put(f"/v1/apps/{app}/signing/holder", SigningTold, wanted)

    def replace(self, app: str, platform: str, sha256: str, *, reason: str) -> ReplacingTold:
        """Replace a lost upload key."""
        wanted = ReplaceWanted(platform=platform, sha256=sha256, reason=reason)
        return self._line.post(f"/v1/apps/{app}/signing/replacements", ReplacingTold, wanted)

    def add_device(
        self, app: str, platform: str, identifier: str, *, name: str = "", lapses_at: datetime | None = None
    ) -> DeviceTold:
        wanted = DeviceWanted(platform=platform, identifier=identifier, name=name, lapses_at=lapses_at)
        return self._line.post(f"/v1/apps/{app}/devices", DeviceTold, wanted)

    def remove_device(self, app: str, device: str) -> None:
        self._line.delete(f"/v1/apps/{app}/devices/{device}")

    def put(self, app: str, file: str | Path, *, platform: str, kind: str = "other", name: str = "") -> LockerFileTold:
        """Lay a file into the locker."""
        path = Path(file)
        answer = self._line.send(
            "PUT",
            f"/v1/apps/{app}/locker/{name or path.name}",
            params={"platform": platform, "kind": kind},
            content=path.read_bytes(),
            headers={"Content-Type": "application/octet-stream"},
        )
        return LockerFileTold.model_validate_json(answer.content)

    def fetch(self, app: str, name: str) -> bytes:
        """A file out of the locker; that stands in the logbook."""
        return self._line.send("GET", f"/v1/apps/{app}/locker/{name}/content").content

    def take_out(self, app: str, name: str, *, reason: str = "") -> None:
        self._line.send("DELETE", f"/v1/apps/{app}/locker/{name}", params={"reason": reason})
