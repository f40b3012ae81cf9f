"""Builds, numbers and the signing register, by the client."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import quote

from restless_tide.client.noun import Noun
from restless_tide.client.uploads import Progress, send_file
from restless_tide.wire.builds import (
    AnswersWanted,
    AppExpiryTold,
    BuildTold,
    BuildWanted,
    CheckWanted,
    ClearingTold,
    ClearWanted,
    ComparisonTold,
    ConsignmentTold,
    Facts,
    ProposalTold,
    ReservationTold,
    ReserveWanted,
    RetentionRule,
    SheetTold,
    StandingAnswerTold,
    UploadTold,
)
from restless_tide.wire.push import HandOnWanted, PushTold, PushWanted
from restless_tide.wire.tracks import HowPlaced


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

    def named(self, app: str, name: str, *, platform: str | None = None) -> BuildTold:
        """A build of an app by id, ``VERSION``, ``VERSION (NUMBER)``, ``NUMBER``, ``latest`` or the beginning of its id.

        Raises NotFound, and Invalid where the name fits several.
        """
        return self._line.get(f"/v1/apps/{app}/builds/{quote(name, safe='')}", BuildTold, platform=platform)

    def one(self, build: str) -> BuildTold:
        return self._line.get(f"/v1/builds/{quote(build, safe='')}", BuildTold)

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

    def check(self, app: str, facts: Sequence[Facts], *stores: str) -> list[SheetTold]:
        """What stands against sending packages of these facts, store by store, before any byte travels.

        No store named: every one with an open berth for the platform.
        """
        wanted = CheckWanted(stores=list(stores), facts=list(facts))
        return self._line.post(f"/v1/apps/{app}/checks", list[SheetTold], wanted)

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

    def push(self, *files: str | Path, app: str, told: Progress = lambda _: None, **wish: Any) -> PushTold:
        """Hand the packages of one build over and push it; ``wish`` is what ``push_packages`` takes besides."""
        return self.push_packages(app, [self.hand_over(file, told=told)[0] for file in files], **wish)

    def push_packages(
        self,
        app: str,
        packages: Sequence[str],
        *,
        stores: Sequence[str] = (),
        revision: str | None = None,
        repository: str | None = None,
        hand_on: HandOnWanted | None = None,
        tracks: Sequence[str] = (),
        how: HowPlaced | None = None,
    ) -> PushTold:
        """Send packages that were handed over to these stores (none: every one that takes them), all or none of them.

        ``hand_on`` drafts trials that begin once a store has the build ready; ``tracks`` (such as openfield/early) are
        where it is placed then, and ``how``. Raises NotReady with the findings.
        """
        wanted = PushWanted(
            packages=list(packages), stores=list(stores), revision=revision, repository=repository, hand_on=hand_on,
            tracks=list(tracks), how=how,
        )  # fmt: skip
        return self._line.post(f"/v1/apps/{app}/pushes", PushTold, wanted)

    def send(self, app: str, build: str, *stores: str, hand_on: HandOnWanted | None = None) -> PushTold:
        """Send a build that is entered already to more stores. Raises NotReady with the findings."""
        wanted = PushWanted(build=build, stores=list(stores), hand_on=hand_on)
        return self._line.post(f"/v1/apps/{app}/pushes", PushTold, wanted)

    def consignment(self, consignment: str) -> ConsignmentTold:
        return self._line.get(f"/v1/consignments/{consignment}", ConsignmentTold)

    def answer(
        self, consignment: str, answers: Mapping[str, str], *, standing: bool = False, anyway: bool = False
    ) -> ConsignmentTold:
        """Answer what the store holds the build for; ``standing`` has the same answers given automatically from now on.

        Raises NotReady for an answer that makes the store refuse the build, unless it is given ``anyway``.
        """
        wanted = AnswersWanted(answers=dict(answers), standing=standing, anyway=anyway)
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

    def expiries(self, app: str) -> list[AppExpiryTold]:
        """What of the app expires when, the soonest first."""
        return self._line.get(f"/v1/apps/{app}/expiries", list[AppExpiryTold])
