"""A simulated store: what happens in it, act by act and as its clock runs."""

from __future__ import annotations

import hashlib
import json
import random
import secrets
from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.limits import LARGEST_FILM_BYTES
from restless_tide.core.packages import Facts, inspect_package
from restless_tide.core.rulebook import PRODUCTION, Rulebook
from restless_tide.gateways import protocol
from restless_tide.standins import judgement, tracks, verdicts
from restless_tide.standins.clock import StoreClock
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.population import counts_of, on_offer
from restless_tide.standins.shelf import Shelf, Thing

BY_HAND = "by-hand"
"""How the keys of acts on the store's own pages begin; no caller has one."""
EMPTY_DOSSIER: Thing = {"texts": {}, "pictures": {}, "answers": {}, "goods": {}}
"""A dossier in which nothing stands."""
_SHORTEST, _LONGEST = 0.6, 1.6
_FOR_REVIEWERS = ("attachments", "items", "verdicts", "messages", "sent", "asked", "waits", "late", "appeals", "mood")
_OWN_AFFAIRS = frozenset({"due_at", "testers", "offers", "brief", "sign_in", "opened_at", *_FOR_REVIEWERS})
"""What a thing has that is not told outside."""


class SimulatedStore:
    """One store with its shelf, its clock and its rulebook. ``seed`` fixes how long things take."""

    def __init__(self, rules: Rulebook, folder: Path, seed: int = 1) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.shelf = Shelf(folder / "store.sqlite")
        kept = self.shelf.setting("rulebook")
        self.rules = Rulebook.model_validate(kept) if kept else rules
        self.clock = StoreClock(self.shelf)
        self.uploads = folder / "uploads"
        self.uploads.mkdir(exist_ok=True)
        self.address = ""
        self.seed = seed
        self._key: str | None = None
        self._counted_until: datetime | None = None

    # acts

    def perform(
        self,
        key: str,
        act: str,
        subject: str,
        body: Thing,
        work: Callable[[], Thing],
        request: str = "",
        reached: float | None = None,
    ) -> tuple[int, Thing]:
        """Carry out an act once: the same key gives the same answer, another body under it a conflict.

        The events it causes carry the key, unless it was done on the store's own pages. ``reached`` is when the
        call came to the door (seconds since 1970), which may be long before a slow store acts on it.
        """
        digest = hashlib.sha256(json.dumps([act, subject, body], sort_keys=True).encode()).hexdigest()
        self.turn()
        with self.shelf.transaction():
            given = self.shelf.given_answer(key)
            if given is not None:
                if given[0] != digest:
                    return 409, problem("key-reused", "This key was used for another act.")
                return given[1], given[2]
            self._key = None if key.startswith(BY_HAND) else key
            try:
                status, answer, outcome = 200, work(), "done"
            except Refusal as refusal:
                status, answer, outcome = (
                    refusal.status,
                    problem(refusal.code, refusal.detail),
                    f"refused: {refusal.code}",
                )
            finally:
                self._key = None
            if status != 425:
                self.shelf.keep_answer(key, digest, status, answer)
                self.shelf.record_act(self.clock.now().isoformat(), key, act, subject, outcome, request, reached)
        return status, answer

    def open_berth(self, wanted: protocol.BerthRequest) -> Thing:
        if wanted.platform not in self.rules.platforms:
            raise Refusal("platform-unknown", f"We carry apps for {', '.join(self.rules.platforms)}.")
        self._demand_name(wanted.name, self._berths())
        if any(berth["identifier"] == wanted.identifier for berth in self._berths()):
            raise Refusal("identifier-taken", f"{wanted.identifier} has its place here already.")
        berth = {"id": fresh("berth"), "state": "open", **wanted.model_dump()}
        days = self.rules.name.expires_unused_days
        if days is not None:
            berth["due_at"] = (self.clock.now() + timedelta(days=days)).isoformat()
        self.shelf.put("berth", berth)
        tracks.count_choosers(self, berth["id"])
        return berth

    def rename_berth(self, berth_id: str, name: str) -> Thing:
        berth = self.needed("berth", berth_id)
        self._demand_name(name, [other for other in self._berths() if other["id"] != berth_id])
        return self.shelf.put("berth", berth | {"name": name})

    def _demand_name(self, name: str, others: list[Thing]) -> None:
        if len(name) > self.rules.name.longest:
            raise Refusal("name-too-long", f"A name has at most {self.rules.name.longest} characters here.")
        taken = {berth["name"].casefold() for berth in others} | set(self.setting("taken_names", []))
        if name.casefold() in taken:
            raise Refusal("name-taken", f"The name {name!r} is taken by someone else.")

    def _berths(self) -> list[Thing]:
        return [berth for berth in self.shelf.all("berth") if berth.get("state") != "expired"]

    def begin_upload(self, berth: str, length: int) -> Thing:
        self.needed("berth", berth)
        documents = [one.largest_bytes for one in self.rules.questionnaire.questions.values()]
        films = [LARGEST_FILM_BYTES] if self.rules.listing.pictures or self.rules.goods else []
        largest = max(self.rules.packages.largest_bytes, *documents, *films)
        if length > largest:
            raise Refusal("upload-too-large", f"We take {largest} bytes at most.", status=413)
        upload = fresh("upload")
        (self.uploads / upload).touch()
        return self.shelf.put("upload", {"id": upload, "berth": berth, "length": length})

    def consign(self, berth_id: str, wanted: protocol.ConsignmentRequest, *, by_hand: bool = False) -> Thing:
        berth = self.needed("berth", berth_id)
        if berth.get("state") == "expired":
            raise Refusal("berth-expired", "The name of this berth expired unused.")
        if self.rules.packages.first_build_by_hand and not by_hand and not self._ever_handed_in(berth_id):
            raise Refusal(protocol.FIRST_BUILD_BY_HAND, "The very first build is handed in on our own pages.")
        if len(wanted.uploads) > self.rules.packages.most_packages:
            raise Refusal("too-many-packages", f"We take {self.rules.packages.most_packages} packages in one build.")
        for upload in wanted.uploads:
            kept = self.needed("upload", upload)
            if kept["length"] > self.rules.packages.largest_bytes:
                most = self.rules.packages.largest_bytes
                raise Refusal("package-too-large", f"We take {most} bytes at most.", status=413)
            if (self.uploads / upload).stat().st_size != kept["length"]:
                raise Refusal("upload-incomplete", f"Upload {upload} has not arrived whole.")
        consignment = {
            "id": fresh("consignment"),
            "berth": berth_id,
            "uploads": list(wanted.uploads),
            "version": wanted.version,
            "number": wanted.number.text,
            "state": "processing",
            "questions": [],
            "reason": None,
        }
        if berth.get("due_at"):
            self.shelf.put("berth", berth | {"due_at": None})
        return self.due(consignment, "consignment", minutes=self.rules.processing.usual_minutes)

    def _ever_handed_in(self, berth_id: str) -> bool:
        return any(entry["berth"] == berth_id for entry in self.shelf.all("consignment"))

    def hand_in(self, identifier: str, content: bytes) -> Thing:
        """Someone hands a package in on the store's own pages."""
        berth = next((entry for entry in self._berths() if entry["identifier"] == identifier), None)
        if berth is None:
            raise Refusal("berth-unknown", f"Nothing here is called {identifier}.", status=404)
        upload = self.begin_upload(berth["id"], len(content))["id"]
        (self.uploads / upload).write_bytes(content)
        facts, trouble = self._read({"uploads": [upload]})
        if trouble is not None or not facts:
            raise Refusal("package-unfit", trouble or "This is no package.")
        wanted = protocol.ConsignmentRequest(uploads=(upload,), version=facts[0].version, number=facts[0].number)
        return self.consign(berth["id"], wanted, by_hand=True)

    def take_key(self, identifier: str, sha256: str) -> Thing:
        """From now on the app at this identifier is known by another key."""
        berth = next((entry for entry in self.shelf.all("berth") if entry["identifier"] == identifier), None)
        if berth is None:
            raise Refusal("berth-unknown", f"We know no app called {identifier}.", 404)
        berth |= {"signers": [sha256]}
        with self.shelf.transaction():
            self.shelf.put("berth", berth)
        return berth

    def answer(self, consignment_id: str, answers: dict[str, str]) -> Thing:
        consignment = self.needed("consignment", consignment_id)
        if consignment["state"] != "held":
            raise Refusal("not-held", f"The build is {consignment['state']}; nothing is asked.")
        asked = {question["code"]: question for question in consignment["questions"]}
        for code, answer in answers.items():
            if code not in asked:
                raise Refusal("question-unknown", f"We did not ask {code!r}.")
            if answer not in asked[code]["choices"]:
                raise Refusal("answer-unknown", f"{answer!r} is none of {', '.join(asked[code]['choices'])}.")
        missing = [code for code in asked if code not in answers]
        if missing:
            raise Refusal("answers-missing", f"Still open: {', '.join(missing)}.")
        for question in self.rules.processing.questions:
            if answers.get(question.code) in question.refused_answers and question.code in answers:
                return self.tell(
                    "consignment",
                    consignment
                    | {
                        "state": "refused",
                        "reason": f"We do not take apps that answer {answers[question.code]!r} to: {question.text}",
                    },
                )
        given = consignment.get("answers", {}) | answers
        more = judgement.questions_for(self.rules, self._read(consignment)[0] or [], self.clock.now(), given)
        state = "held" if more else "ready"
        return self.tell("consignment", consignment | {"state": state, "questions": more, "answers": given})

    def open_for_testers(self, trial: Thing, at: datetime | None = None) -> Thing:
        days = next(rules.trial_days for kind, rules in self.rules.cohorts.items() if kind == trial["kind"])
        ends = ((at or self.clock.now()) + timedelta(days=days)).isoformat() if days else None
        opened = (at or self.clock.now()).isoformat()
        return self.tell("trial", trial | {"state": "open", "was_open": True, "opened_at": opened, "due_at": ends}, at)

    def submit(self, berth_id: str, wanted: protocol.SubmissionRequest, attached: Sequence[Thing] = ()) -> Thing:
        """``attached`` are the files that came for the reviewer."""
        consignment = self.needed("consignment", wanted.consignment)
        if consignment["berth"] != berth_id or consignment["state"] != "ready":
            raise Refusal("build-not-ready", "This build is not ready here.")
        if judgement.as_tuple(consignment["version"]) != judgement.as_tuple(wanted.version):
            raise Refusal("version-differs", f"The build carries {consignment['version']}, not {wanted.version}.")
        if any(
            other["berth"] == berth_id and other["state"] in ("queued", "in hand")
            for other in self.shelf.all("submission")
        ):
            raise Refusal("already-under-review", "Something of this app is under review already.")
        if wanted.track not in tracks.open_to_rollouts(self):
            raise Refusal("track-unfit", f"Releases go to {', '.join(tracks.open_to_rollouts(self))} here.")
        held = EMPTY_DOSSIER | (self.shelf.get("dossier", berth_id) or {})
        verdicts.demand_items(self, berth_id, wanted.items, wanted.track, held)
        judgement.demand_stood(self.rules, wanted.track, consignment, tracks.stood(self, berth_id, consignment))
        submission = {
            "id": fresh("submission"),
            "berth": berth_id,
            "track": wanted.track,
            "consignment": wanted.consignment,
            "version": wanted.version,
            "notes": wanted.notes,
            "reviewer_note": wanted.reviewer_note,
            "sign_in": wanted.sign_in,
            "attachments": list(attached),
            "verdicts": [],
            "mood": verdicts.mood_for(self),
            "items": list(wanted.items),
            "state": "queued",
            "reasons": [],
        }
        approved = [
            other
            for other in self.shelf.all("submission")
            if other["berth"] == berth_id and other["state"] == "approved"
        ]
        if judgement.looked_at(self.rules, wanted.track, consignment, approved):
            return self.tell("submission", submission | {"state": "approved"})
        return self.due(submission, "submission", minutes=self.review_hours(submission) * 9)

    def review_hours(self, submission: Thing) -> float:
        way = self.rules.tracks.get(submission.get("track", PRODUCTION))
        own = way.review_usual_hours if way is not None else None
        return self.rules.review.usual_hours if own is None else own

    def recall(self, submission_id: str) -> Thing:
        submission = self.needed("submission", submission_id)
        if submission["state"] not in ("queued", "in hand"):
            raise Refusal("not-under-review", f"It is {submission['state']}.")
        return self.tell("submission", submission | {"state": "recalled", "due_at": None})

    def launch(self, submission_id: str, share: float) -> Thing:
        submission = self.needed("submission", submission_id)
        if submission["state"] != "approved":
            raise Refusal("not-approved", f"It is {submission['state']}.")
        if self.shelf.get("rollout", submission_id) is not None:
            raise Refusal("launched-already", "This release was launched already.")
        track = submission.get("track", PRODUCTION)
        judgement.demand_first_share(judgement.rising_rules(self.rules, track), share)
        for other in self._rollouts(submission["berth"], track):
            if other["state"] in ("rising", "paused", "halted"):
                self.tell("rollout", other | {"state": "superseded"})
        rollout = {
            "id": submission_id,
            "berth": submission["berth"],
            "submission": submission_id,
            "track": track,
            "consignment": submission["consignment"],
            "version": submission["version"],
            "share": 0.0,
            "number": self.needed("consignment", submission["consignment"])["number"],
            "pauses": 0,
            "held_seconds": 0.0,
            "offers": [],
        }
        return self._risen(rollout, share)

    def set_share(self, submission_id: str, share: float) -> Thing:
        rollout = self.needed("rollout", submission_id)
        judgement.demand_share(judgement.rising_rules(self.rules, tracks.of(rollout)), rollout, share, self.clock.now())
        return self._risen(rollout, share)

    def steer(self, submission_id: str, act: str) -> Thing:
        rollout = self.needed("rollout", submission_id)
        judgement.demand_steering(judgement.rising_rules(self.rules, tracks.of(rollout)), rollout, act)
        now = self.clock.now()
        if act in ("halt", "withdraw", "resume"):
            offered = rollout["share"] if act == "resume" else 0.0
            rollout["offers"] = [*rollout.get("offers", []), [now.isoformat(), offered]]
        if rollout["state"] == "rising":
            rollout["held_seconds"] += (now - datetime.fromisoformat(rollout["since"])).total_seconds()
        if act == "pause":
            rollout |= {"state": "paused", "pauses": rollout["pauses"] + 1}
        elif act == "resume":
            if rollout["state"] == "withdrawn":
                self._make_room_for(rollout)
            rollout |= {"state": "complete" if rollout["share"] == 1.0 else "rising", "since": now.isoformat()}
        elif act == "halt":
            rollout |= {"state": "halted"}
        else:
            rollout |= {"state": "withdrawn"}
        told = self.tell("rollout", rollout)
        if act == "withdraw":
            self._offer_previous(rollout)
        return told

    def holdings(self, berth_id: str) -> Thing:
        self.needed("berth", berth_id)
        stages = {rollout["version"]: rollout["state"] for rollout in self._rollouts(berth_id, PRODUCTION)}
        in_release = {
            submission["consignment"]
            for submission in self.shelf.all("submission")
            if submission["berth"] == berth_id and submission["state"] in ("queued", "in hand", "approved")
        }
        builds = [
            {
                "version": consignment["version"],
                "number": consignment["number"],
                "refused": consignment["state"] == "refused",
                "in_release": consignment["id"] in in_release,
                "live": consignment["id"] in in_release and stages.get(consignment["version"]) in tracks.OFFERED,
            }
            for consignment in self.shelf.all("consignment")
            if consignment["berth"] == berth_id
        ]
        return {"builds": builds}

    def bad_numbers(self) -> frozenset[str]:
        """The builds that are to crash often."""
        return frozenset(map(str, self.setting("bad_numbers", [])))

    def gauges(self, berth_id: str, after: str, most: int) -> Thing:
        """What was counted here by the hour, as the simulated people make it, from a cursor on."""
        self.needed("berth", berth_id)
        rollouts = [rollout for rollout in self.shelf.all("rollout") if rollout["berth"] == berth_id]
        versions = on_offer(rollouts, self.bad_numbers())
        hours, cursor, more = counts_of(self.seed, berth_id, versions, self.clock.now(), after, most)
        return {"hours": hours, "next": cursor, "more": more}

    def _tell_of_counts(self) -> None:
        """Tell of every berth with people on it, once an hour, that hours were counted."""
        now = self.clock.now()
        hour = now.replace(minute=0, second=0, microsecond=0)
        if hour == self._counted_until or self.setting("uncounted", False):
            return
        self._counted_until = hour
        berths = {rollout["berth"]: None for rollout in self.shelf.all("rollout") if rollout.get("offers")}
        for berth in berths:
            self.event("gauges.changed", berth, {"until": hour.isoformat()})

    def account(self) -> Thing:
        """The account's standing: good for months, unless the control has said otherwise."""
        opened = self.setting("opened", None) or self.clock.now().isoformat()
        self.shelf.keep_setting("opened", opened)
        until = datetime.fromisoformat(opened) + timedelta(days=200)
        usual = {
            "name": "Saltgrass Collective",
            "domains": ["saltgrass.example.org", "example.org"],
            "may": list(protocol.RIGHTS),
            "standing": "good",
            "membership_until": until.isoformat(),
            "papers": [{"name": "Contract for paid apps", "state": "valid", "blocks": ["price", "free-or-paid"]}],
        }
        changed: Thing = self.setting("account", {})
        return usual | changed

    def announce(self, document: Thing) -> Thing:
        """Announce the next revision of the rulebook; it comes into force automatically on its date."""
        rules = Rulebook.model_validate(document)
        kept = rules.model_dump(mode="json")
        with self.shelf.transaction():
            self.shelf.keep_setting("announced", kept)
            due = {"id": "announced", "due_at": rules.in_force_since.astimezone(UTC).isoformat()}
            self.shelf.put("rulebook", due)
            self.event("rulebook.announced", rules.revision, {"in_force_since": kept["in_force_since"]})
        return {"revision": rules.revision, "in_force_since": kept["in_force_since"]}

    def _take_announced(self, thing: Thing, at: datetime) -> None:
        self.shelf.put("rulebook", thing | {"due_at": None})
        kept = self.setting("announced", None)
        if kept is not None:
            self.rules = Rulebook.model_validate(kept)
            self.shelf.keep_setting("rulebook", kept)
            self.shelf.keep_setting("announced", None)
            self.event("rulebook.changed", self.rules.revision, {}, at)

    # as the clock runs

    def turn(self) -> None:
        """Let everything happen that is due by now, in the order in which it was due."""
        with self.shelf.transaction():
            while (due := self.shelf.next_due(self.clock.now().isoformat())) is not None:
                kind, thing = due
                at = datetime.fromisoformat(thing.pop("due_at"))
                if kind == "rulebook":
                    self._take_announced(thing, at)
                elif kind == "berth":
                    self.tell("berth", thing | {"state": "expired"}, at)
                elif kind == "consignment":
                    self._process(thing, at)
                elif kind == "trial" and thing["state"] == "open":
                    self.tell("trial", thing | {"state": "expired"}, at)
                elif kind == "trial":
                    self._look_at_trial(thing, at)
                elif thing["state"] == "queued":
                    minutes = self.review_hours(thing) * 51
                    self.due(thing | {"state": "in hand"}, "submission", minutes=minutes, since=at)
                else:
                    held = EMPTY_DOSSIER | (self.shelf.get("dossier", thing["berth"]) or {})
                    verdicts.decide(self, thing, held, at)
            self._tell_of_counts()

    def _process(self, consignment: Thing, at: datetime) -> None:
        berth = self.needed("berth", consignment["berth"])
        facts, trouble = self._read(consignment)
        if trouble is None:
            earlier = [
                other
                for other in self.shelf.all("consignment")
                if other["berth"] == berth["id"] and other["id"] != consignment["id"] and other["state"] != "processing"
            ]
            live = self.live(berth["id"])
            trouble = judgement.objection_to_build(self.rules, berth, facts, earlier, live)
            trouble = trouble or judgement.objection_to_profiles(facts, at)
        if trouble is None and self.whim("failing_rate", consignment["id"]):
            trouble = "The build could not be processed; hand it in again under another number."
        if trouble is not None:
            self.tell("consignment", consignment | {"state": "refused", "reason": trouble}, at)
            return
        questions = judgement.questions_for(self.rules, facts, at, {})
        consignment |= {"signers": sorted({entry.sha256 for package in facts for entry in package.signers})}
        self.tell("consignment", consignment | {"state": "held" if questions else "ready", "questions": questions}, at)

    def whim(self, rate: str, subject: str) -> bool:
        return random.Random(f"{self.seed}/{rate}/{subject}").random() < float(self.setting(rate, 0.0))

    def _read(self, consignment: Thing) -> tuple[list[Facts], str | None]:
        """The facts of every package of a consignment, or why they cannot be read."""
        found = []
        for upload in consignment["uploads"]:
            try:
                with (self.uploads / upload).open("rb") as file:
                    found.append(inspect_package(file))
            except PackageUnreadable as wrong:
                return [], wrong.detail
        return found, None

    def read_packages(self, consignment: Thing) -> list[Facts]:
        """The facts of every package of a consignment; none where one cannot be read."""
        return self._read(consignment)[0]

    def file(self, sha256: str) -> Path:
        """Where a file lies that came to stay: a picture, a document."""
        return self.uploads.with_name("files") / sha256

    def _look_at_trial(self, trial: Thing, at: datetime) -> None:
        reasons = self.setting("reject_trial_next", [])
        self.shelf.keep_setting("reject_trial_next", [])
        if reasons:
            self.tell("trial", trial | {"state": "rejected", "reason": " ".join(reasons), "due_at": None}, at)
        else:
            self.open_for_testers(trial, at)

    # small things

    def setting(self, name: str, otherwise: Any) -> Any:
        kept = self.shelf.setting(name)
        return otherwise if kept is None else kept

    def _risen(self, rollout: Thing, share: float) -> Thing:
        state = "complete" if share == 1.0 else "rising"
        now = self.clock.now().isoformat()
        offers = [*rollout.get("offers", []), [now, share]]
        rollout |= {"state": state, "share": share, "held_seconds": 0.0, "since": now, "offers": offers}
        if state == "complete":
            for other in self._rollouts(rollout["berth"], tracks.of(rollout)):
                if other["id"] != rollout["id"] and other["state"] == "complete":
                    self.tell("rollout", other | {"state": "superseded"})
        return self.tell("rollout", rollout)

    def _offer_previous(self, rollout: Thing) -> None:
        """The release before this one is offered again, where the rulebook has that."""
        earlier = [
            other
            for other in self._rollouts(rollout["berth"], tracks.of(rollout))
            if other["id"] != rollout["id"] and other["state"] == "superseded" and other["share"] == 1.0
        ]
        rules = judgement.rising_rules(self.rules, tracks.of(rollout))
        live = self.live(rollout["berth"], tracks.of(rollout))
        if rules.withdraw_restores_previous and earlier and live is None:
            self.tell("rollout", earlier[-1] | {"state": "complete"})

    def _make_room_for(self, rollout: Thing) -> None:
        """A release comes back: nothing newer may be on offer, and what stood in for it goes."""
        live = self.live(rollout["berth"], tracks.of(rollout))
        if live is not None and judgement.as_tuple(live) > judgement.as_tuple(rollout["version"]):
            raise Refusal("act-impossible", f"{live} is on offer; an earlier version does not come back.")
        for other in self._rollouts(rollout["berth"], tracks.of(rollout)):
            if other["id"] != rollout["id"] and other["state"] in tracks.OFFERED and rollout["share"] == 1.0:
                self.tell("rollout", other | {"state": "superseded"})

    def _rollouts(self, berth_id: str, track: str) -> list[Thing]:
        return [
            entry for entry in self.shelf.all("rollout") if entry["berth"] == berth_id and tracks.of(entry) == track
        ]

    def live(self, berth_id: str, track: str = PRODUCTION) -> str | None:
        offered = [
            rollout["version"] for rollout in self._rollouts(berth_id, track) if rollout["state"] in tracks.OFFERED
        ]
        return max(offered, key=judgement.as_tuple, default=None)

    def due(self, thing: Thing, kind: str, *, minutes: float, since: datetime | None = None) -> Thing:
        """Put a thing on the shelf that will happen after about ``minutes``, and tell of it."""
        count = len(self.shelf.all(kind))
        factor = random.Random(f"{self.seed}/{kind}/{count}/{thing['state']}").uniform(_SHORTEST, _LONGEST)
        begun = since or self.clock.now()
        return self.tell(kind, thing | {"due_at": (begun + timedelta(minutes=minutes * factor)).isoformat()}, begun)

    def tell(self, kind: str, thing: Thing, at: datetime | None = None) -> Thing:
        """Keep a thing and write the event about it."""
        self.shelf.put(kind, thing)
        return shown(thing) | {"sequence": self.event(f"{kind}.changed", thing["id"], shown(thing), at)}

    def event(self, kind: str, subject: str, data: Thing, at: datetime | None = None) -> int:
        """Tell of something; returns its place in the sequence."""
        return self.shelf.add_event(
            {
                "specversion": "1.0",
                "id": fresh("event"),
                "source": f"/stores/{self.rules.store.lower()}",
                "type": kind,
                "subject": subject,
                "time": (at or self.clock.now()).isoformat(),
                "datacontenttype": "application/json",
                **({"key": self._key} if self._key else {}),
                "data": data,
            }
        )

    def needed(self, kind: str, thing_id: str) -> Thing:
        thing = self.shelf.get(kind, thing_id)
        if thing is None:
            raise Refusal(f"{kind}-unknown", f"We know no {kind} {thing_id}.", status=404)
        return thing


def shown(thing: Thing) -> Thing:
    """A thing as the outside sees it: when it will happen, and who tests, are the store's own affair."""
    return {name: value for name, value in thing.items() if name not in _OWN_AFFAIRS} | (
        {"items": thing["verdicts"]} if "verdicts" in thing else {}
    )


def problem(code: str, detail: str) -> Thing:
    return {"type": "about:blank", "title": "Refused", "code": code, "detail": detail}


def fresh(kind: str) -> str:
    return f"{kind}-{secrets.token_hex(6)}"
