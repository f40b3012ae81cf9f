"""People in the storm: cohorts fill and empty, builds are handed out, replaced and taken back, while everything goes wrong.

When it has settled, who sits at a store is who sits at the desk, trial by trial, and nobody sits twice.
"""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Iterable
from typing import Any

import httpx

from restless_tide.core.invitation import SITS
from restless_tide.core.trial import SEATED
from restless_tide.wire.cohorts import TrialWanted
from restless_tide.wire.errors import DeskUnreachable, TideError
from tests.harbour import Harbour

COHORT = "crew"
POOL = 14
ACTS = ("join", "join", "leave", "hand", "place", "close", "answer")
FOR_COHORTS = {"northgate": "tryout", "openfield": "workbench", "slatehouse": "floor"}


def gather(there: Harbour, apps: Iterable[str], stores: Iterable[str]) -> None:
    """A crew for each app, at every store, with some people in it."""
    for app in apps:
        there.tide.testing.make_cohort(app, COHORT, stores=list(stores))
        for place in range(4):
            there.tide.testing.add_tester(app, COHORT, address(app, place))


def address(app: str, place: int) -> str:
    return f"t{place}.{app}@example.org"


def act(there: Harbour, app: str, builds: dict[str, str], dice: random.Random, accepted: Counter[str]) -> str:
    """One thing that someone does about testing; returns ``done``, ``refused`` or ``unknown``."""
    testing, what = there.tide.testing, dice.choice(ACTS)
    who, store = address(app, dice.randrange(POOL)), dice.choice(sorted(builds))
    try:
        match what:
            case "join":
                testing.add_tester(app, COHORT, who)
            case "leave":
                testing.remove_tester(app, COHORT, who)
            case "hand":
                brief = {"en": "Look."}
                wanted = {"cohorts": [COHORT], "build": builds[store], "stores": [store], "brief": brief}
                testing.open_trials(app, TrialWanted.model_validate(wanted | {"contact": "ida@example.org"}))
            case "place":
                at = f"{store}/{FOR_COHORTS[store]}"
                there.tide.tracks.place(app, builds[store], [at], brief={"en": "Look."}, contact="ida@example.org")
            case "close" | "answer":
                running = [trial for trial in testing.trials(app) if trial.state in SEATED]
                if not running:
                    return "refused"
                trial = dice.choice(running)
                if what == "close":
                    testing.close_trial(trial.id, reason="storm")
                else:
                    act_there = {"address": who, "act": dice.choice(["install", "leave"]), "device": "Wavelet 9"}
                    reference = (trial.store_page or "").rpartition("/")[2]
                    if reference:
                        there.control(trial.store, f"testers/{reference}", act_there)
    except DeskUnreachable:
        return "unknown"
    except TideError:
        return "refused"
    except httpx.HTTPError:  # the store said no
        return "refused"
    accepted[f"testing: {what}"] += 1
    return "done"


def disagreements(there: Harbour, stores: Iterable[str], rows: Any) -> list[str]:
    """Where the seats at the stores are not the seats at the desk."""
    sits: dict[str, set[str]] = {}
    states: dict[str, str] = {}
    question = (
        "SELECT trials.store_ref, trials.state, testers.email, invitations.state FROM trials"
        " LEFT JOIN invitations ON invitations.trial_id = trials.id LEFT JOIN testers ON testers.id = invitations.tester_id"
    )
    for reference, state, email, invitation in rows(there, question):
        states[reference] = state
        if invitation in {str(entry) for entry in SITS}:
            sits.setdefault(reference, set()).add(email)
    found = []
    for store in stores:
        for trial in there.control(store, "things/trial"):
            here, people = states.get(trial["id"]), trial["testers"]
            if here is None:
                found.append(f"{store} has a trial that no trial here stands for: {trial['id']}")
                continue
            runs = trial["state"] in ("open", "with the store")
            if runs != (here in {str(entry) for entry in SEATED}):
                found.append(f"trial {trial['id']} at {store} is {trial['state']} there and {here} here")
            if len(people) != len(set(people)):
                found.append(f"someone sits twice in {trial['id']} at {store}")
            if runs and set(people) != sits.get(trial["id"], set()):
                more, less = set(people) - sits.get(trial["id"], set()), sits.get(trial["id"], set()) - set(people)
                found.append(f"trial {trial['id']} at {store}: {sorted(more)} only there, {sorted(less)} only here")
    return found
