"""What our core says each person has equals what the stand-ins' devices have, whatever is placed, raised and stopped.

The stand-ins decide by their own code which device gets which build; core decides by the rulebook from
what the gateway tells of the tracks.
"""

from __future__ import annotations

import tempfile
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import (
    RuleBasedStateMachine,
    initialize,
    invariant,
    precondition,
    rule,
    run_state_machine_as_test,
)

from restless_tide.core.numbers import BuildNumber
from restless_tide.core.rollout import OFFERED
from restless_tide.core.rulebook import Audience, Rulebook, read_rulebook
from restless_tide.core.tracks import Offer, gets, reaches
from restless_tide.core.trial import TrialState
from restless_tide.gateways import protocol
from restless_tide.standins import testing, tracks
from restless_tide.standins.__main__ import RULEBOOKS
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.shelf import Thing
from restless_tide.standins.store import SimulatedStore

STORES = ("northgate", "openfield", "slatehouse")
PEOPLE = tuple(f"{name}@example.org" for name in ("wren", "tam", "bo", "edda", "petra"))


def rules_of(name: str) -> Rulebook:
    return read_rulebook((RULEBOOKS / f"{name}.toml").read_text(encoding="utf-8"))


class Coast(RuleBasedStateMachine):
    """One store, in which anything may happen, and what core says each of its devices has."""

    name = ""

    def __init__(self) -> None:
        super().__init__()
        self.folder = tempfile.TemporaryDirectory()
        self.rules = rules_of(self.name)
        self.store = SimulatedStore(self.rules, Path(self.folder.name))
        wanted = protocol.BerthRequest(
            identifier="org.example.a", name="A", platform=self.rules.platforms[0], language="en", reference="a"
        )
        self.berth = self.store.open_berth(wanted)["id"]
        self.told: dict[str, Offer | None] = {}
        self.count = 0

    def teardown(self) -> None:
        self.store.shelf.close()
        self.folder.cleanup()

    @initialize()
    def a_first_build_is_ready(self) -> None:
        self.a_build_is_ready(0)

    @rule(minor=st.integers(0, 3))
    def a_build_is_ready(self, minor: int) -> None:
        """Its number rises; its version may be lower than an earlier one's."""
        self.count += 1
        thing = {"id": f"c{self.count}", "berth": self.berth, "version": f"1.{minor}.0", "number": str(self.count)}
        self.store.shelf.put("consignment", thing | {"state": "ready", "uploads": [], "questions": [], "reason": None})

    @rule(data=st.data())
    def a_build_is_tried(self, data: st.DataObject) -> None:
        kinds = [
            (key, kind) for key, way in self.rules.ways.items() for kind in way.kinds if kind in self.rules.cohorts
        ]
        key, kind = data.draw(st.sampled_from(kinds))
        build = self.drawn(data, "consignment")
        who = tuple(data.draw(st.sets(st.sampled_from(PEOPLE), min_size=1)))
        wanted = protocol.TrialRequest(
            consignment=build["id"], kind=kind, cohort="c", track=key, brief={"en": "x", "de": "x"},
            sign_in={"how": "none is needed"}, testers=who,
        )  # fmt: skip
        try:
            trial = self.store.needed("trial", testing.open_trial(self.store, self.berth, wanted)["id"])
        except Refusal:
            return
        if trial["state"] != TrialState.OPEN:
            self.store.open_for_testers(trial)

    @rule(data=st.data())
    def a_build_is_launched(self, data: st.DataObject) -> None:
        open_tracks = [key for key, way in self.rules.ways.items() if way.audience is not Audience.COHORTS]
        build, track = self.drawn(data, "consignment"), data.draw(st.sampled_from(open_tracks))
        notes = {"en": "New."}
        wanted = protocol.SubmissionRequest(consignment=build["id"], version=build["version"], notes=notes, track=track)
        try:
            submission = self.store.submit(self.berth, wanted)["id"]
        except Refusal:
            return
        self.store.tell(
            "submission", self.store.needed("submission", submission) | {"state": "approved", "due_at": None}
        )
        ladder = self.rules.rollout_on(track).dictated_ladder
        share = ladder.stages[0].share if ladder else data.draw(st.sampled_from([0.1, 0.5, 1.0]))
        self.store.launch(submission, share)

    @precondition(lambda self: self.store.shelf.all("rollout"))
    @rule(data=st.data(), act=st.sampled_from(["pause", "resume", "halt", "withdraw"]))
    def somebody_steers(self, data: st.DataObject, act: str) -> None:
        try:
            self.store.steer(self.drawn(data, "rollout")["id"], act)
        except Refusal:
            return

    @precondition(lambda self: self.store.shelf.all("rollout"))
    @rule(data=st.data(), share=st.sampled_from([0.35, 0.7, 1.0]))
    def a_share_is_raised(self, data: st.DataObject, share: float) -> None:
        try:
            self.store.set_share(self.drawn(data, "rollout")["id"], share)
        except Refusal:
            return

    @precondition(lambda self: self.store.shelf.all("trial"))
    @rule(data=st.data())
    def a_trial_ends(self, data: st.DataObject) -> None:
        trial = self.drawn(data, "trial")
        if trial["state"] == TrialState.OPEN:
            testing.close_trial(self.store, trial["id"])

    @rule(hours=st.sampled_from([1, 13, 30]))
    def time_passes(self, hours: int) -> None:
        self.store.clock.step(timedelta(hours=hours))
        self.store.turn()

    def drawn(self, data: st.DataObject, kind: str) -> Thing:
        found: Thing = data.draw(st.sampled_from(self.store.shelf.all(kind)))
        return found

    @invariant()
    def each_device_has_what_core_says(self) -> None:
        held = protocol.Tracks.model_validate(tracks.listing(self.store, self.berth))
        placed = [(track.key, entry) for track in held.tracks for entry in track.placements]
        seats = {trial["id"]: set(trial["testers"]) for trial in self.store.shelf.all("trial")}
        for device in tracks.look_for_updates(self.store, self.berth):
            sits = {entry.trial for _, entry in placed if entry.trial and device["address"] in seats[entry.trial]}
            may_use = {key for key, entry in placed if entry.trial in sits and entry.trial}
            if device["chosen"] and reaches(self.rules, device["chosen"], device["country"]):
                may_use.add(device["chosen"])
            offers = [
                offer_of(key, entry)
                for key, entry in placed
                if (entry.trial in sits if entry.trial else entry.state in OFFERED)
            ]
            line = lambda offer, name=device["id"]: place_in_line(self.store, name, offer)  # noqa: E731
            got = self.told[device["id"]] = gets(self.rules, may_use, offers, line, self.told.get(device["id"]))
            has = device.get("has")
            assert (got and (got.version, got.number.text)) == (has and (has["version"], has["number"])), device


def offer_of(track: str, entry: protocol.HeldPlacement) -> Offer:
    return Offer(
        entry.submission or entry.trial or "",
        track,
        entry.version,
        BuildNumber(entry.number.text),
        entry.since,
        entry.share,
    )


def place_in_line(store: SimulatedStore, device: str, offer: Offer) -> float:
    """A seat is no draw: who has one gets the build."""
    return 0.0 if store.shelf.get("trial", offer.id) else tracks.place_in_line(store, device, offer.id)


@pytest.mark.parametrize("name", STORES)
def test_each_device_has_what_core_says(name: str) -> None:
    machine: Any = type(f"Coast_{name}", (Coast,), {"name": name})
    run_state_machine_as_test(machine, settings=settings(max_examples=12, stateful_step_count=14, deadline=None))
