"""Cohorts, testers, trials and invitations, by the client."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from itertools import islice
from pathlib import Path
from typing import Any

from restless_tide.client.noun import Noun
from restless_tide.wire.cohorts import (
    AgainTold,
    AgainWanted,
    AttachWanted,
    BriefWanted,
    CohortChange,
    CohortDetailTold,
    CohortTold,
    CohortWanted,
    CountTold,
    ForgetWanted,
    ForgottenTold,
    ImportTold,
    InvitationTold,
    JoinWanted,
    MemberTold,
    PickWanted,
    RemovalWanted,
    SignInWanted,
    TesterChangeWanted,
    TesterTold,
    TesterWanted,
    TrialAgainWanted,
    TrialSheetTold,
    TrialTold,
    TrialWanted,
)
from restless_tide.wire.retiring import OutlookTold, ReasonWanted

_CSV = "text/csv"


class Testing(Noun):
    """Who tests, what they get, and whether it reached them."""

    # cohorts

    def cohorts(self, app: str) -> list[CohortTold]:
        return self._line.get(f"/v1/apps/{app}/cohorts", list[CohortTold])

    def cohort(self, app: str, cohort: str) -> CohortDetailTold:
        """Who is in it, seats left, what they have, what they said, what is stuck."""
        return self._line.get(f"/v1/apps/{app}/cohorts/{cohort}", CohortDetailTold)

    def make_cohort(
        self, app: str, name: str, *, kind: str = "crew", stores: Sequence[str] | None = None
    ) -> CohortTold:
        """Make a cohort; without ``stores`` at every store with an open berth that knows the kind."""
        wanted = CohortWanted.model_validate({"name": name, "kind": kind, "stores": stores})
        return self._line.post(f"/v1/apps/{app}/cohorts", CohortTold, wanted)

    def attach(
        self, app: str, cohort: str, store: str, *, by_itself: bool | None = None, track: str | None = None
    ) -> CohortTold:
        """Put a cohort at a store, or set there its track and whether new builds go to it automatically."""
        wanted = AttachWanted(by_itself=by_itself, track=track)
        return self._line.put(f"/v1/apps/{app}/cohorts/{cohort}/berths/{store}", CohortTold, wanted)

    def detach(self, app: str, cohort: str, store: str) -> None:
        self._line.delete(f"/v1/apps/{app}/cohorts/{cohort}/berths/{store}")

    def keep_brief(self, app: str, cohort: str, brief: Mapping[str, str], *, contact: str = "") -> CohortTold:
        """What every trial of the cohort says unless it says otherwise, by locale."""
        body = BriefWanted(brief=dict(brief), contact=contact)
        return self._line.put(f"/v1/apps/{app}/cohorts/{cohort}/brief", CohortTold, body)

    def rename_cohort(self, app: str, cohort: str, name: str) -> CohortTold:
        """Call a cohort otherwise; its people, trials and link stay."""
        return self._line.patch(f"/v1/apps/{app}/cohorts/{cohort}", CohortTold, CohortChange(name=name))

    def remove_cohort(self, app: str, cohort: str) -> None:
        """Remove a cohort that was never handed a build. Raises Conflict with its trials."""
        self._line.delete(f"/v1/apps/{app}/cohorts/{cohort}")

    def cohort_outlook(self, app: str, cohort: str) -> OutlookTold:
        """What retiring a cohort would meet."""
        return self._line.get(f"/v1/apps/{app}/cohorts/{cohort}/retirement", OutlookTold)

    def retire_cohort(self, app: str, cohort: str, *, reason: str = "") -> CohortTold:
        """Take a cohort out of use. Raises ImpossibleAct with the trials that run."""
        body = ReasonWanted(reason=reason)
        return self._line.put(f"/v1/apps/{app}/cohorts/{cohort}/retirement", CohortTold, body)

    def restore_cohort(self, app: str, cohort: str, *, reason: str = "") -> CohortTold:
        return self._line.delete_for(f"/v1/apps/{app}/cohorts/{cohort}/retirement", CohortTold, reason=reason)

    def set_join(
        self,
        app: str,
        cohort: str,
        *,
        is_open: bool,
        limit: int | None = None,
        until: datetime | None = None,
        renew: bool = False,
    ) -> CohortTold:
        """Open or close the link of a walk-in cohort; ``renew`` makes the old link void."""
        body = JoinWanted(open=is_open, limit=limit, until=until, renew=renew)
        return self._line.put(f"/v1/apps/{app}/cohorts/{cohort}/join", CohortTold, body)

    # people

    def members(
        self,
        app: str,
        cohort: str,
        *,
        text: str = "",
        state: str | None = None,
        order: str | None = None,
        limit: int | None = None,
    ) -> list[MemberTold]:
        """The people of a cohort by address, or in another order, with what they have."""
        path = f"/v1/apps/{app}/cohorts/{cohort}/testers"
        return list(islice(self._line.each(path, MemberTold, text=text, state=state, order=order, limit=500), limit))

    def add_tester(self, app: str, cohort: str, email: str, **told: Any) -> TesterTold:
        """Put someone into a cohort; ``told`` may be name, platforms, languages, devices, tags, consented_at."""
        body = TesterWanted.model_validate({"email": email, **told})
        return self._line.post(f"/v1/apps/{app}/cohorts/{cohort}/testers", TesterTold, body)

    def pick_testers(self, app: str, cohort: str, testers: Sequence[str]) -> int:
        """Put known testers into a cohort, all or none; returns how many were new to it."""
        body = PickWanted(testers=list(testers))
        return self._line.post(f"/v1/apps/{app}/cohorts/{cohort}/picks", CountTold, body).count

    def remove_tester(self, app: str, cohort: str, *who: str, reason: str = "") -> int:
        """Take people out of a cohort by id or address; returns how many."""
        body = RemovalWanted(testers=list(who), reason=reason)
        return self._line.post(f"/v1/apps/{app}/cohorts/{cohort}/removals", CountTold, body).count

    def import_testers(
        self,
        content: bytes,
        *,
        app: str | None = None,
        cohort: str | None = None,
        dry_run: bool = True,
        skip_bad: bool = False,
        columns: Mapping[str, str] | None = None,
    ) -> ImportTold:
        """Look at a list (CSV) or import it, all of it or nothing. Raises NotReady with every bad row."""
        path = f"/v1/apps/{app}/cohorts/{cohort}/imports" if app and cohort else "/v1/testers/imports"
        named = [f"{name}={where}" for name, where in (columns or {}).items()] or None
        asked = {"dry_run": dry_run, "skip_bad": skip_bad, "column": named}
        return self._line.send_bytes(path, ImportTold, content, _CSV, **asked)

    def export_cohort(self, app: str, cohort: str, to: Path) -> None:
        self._line.fetch(f"/v1/apps/{app}/cohorts/{cohort}/export", to)

    def export_testers(self, to: Path, *, text: str = "") -> None:
        self._line.fetch(f"/v1/testers/export?text={text}" if text else "/v1/testers/export", to)

    def testers(self, text: str = "", *, order: str | None = None, limit: int | None = None) -> list[TesterTold]:
        """Everybody who tests, by address or in another order; ``text`` searches address, name and tags."""
        return list(islice(self._line.each("/v1/testers", TesterTold, text=text, order=order, limit=500), limit))

    def tester(self, who: str) -> TesterTold:
        """A tester by id or address. Raises NotFound."""
        return self._line.get(f"/v1/testers/{who}", TesterTold)

    def enter_tester(self, email: str, **told: Any) -> TesterTold:
        """Enter a tester without a cohort, or add to what is known of one."""
        return self._line.post("/v1/testers", TesterTold, TesterWanted.model_validate({"email": email, **told}))

    def change_tester(self, who: str, **told: Any) -> TesterTold:
        return self._line.patch(f"/v1/testers/{who}", TesterTold, TesterChangeWanted.model_validate(told))

    def remove_everywhere(self, who: str, *, reason: str = "") -> int:
        """Take someone out of all cohorts; returns out of how many."""
        return self._line.post(f"/v1/testers/{who}/removal", CountTold, ForgetWanted(reason=reason)).count

    def forget(self, who: str, *, reason: str = "") -> str:
        """Everything personal goes for good; returns the pseudonymous id that is left."""
        return self._line.post(f"/v1/testers/{who}/forgetting", ForgottenTold, ForgetWanted(reason=reason)).id

    # trials

    def trials(self, app: str, *, cohort: str | None = None) -> list[TrialTold]:
        """Every trial of an app, or of one cohort, newest first; all pages are read."""
        return list(self._line.each(f"/v1/apps/{app}/trials", TrialTold, cohort=cohort))

    def trial(self, trial: str) -> TrialTold:
        return self._line.get(f"/v1/trials/{trial}", TrialTold)

    def sheet(self, app: str, wanted: TrialWanted) -> TrialSheetTold:
        """What handing a build to cohorts would mean at each store; nothing is done."""
        return self._line.post(f"/v1/apps/{app}/trial-sheets", TrialSheetTold, wanted)

    def open_trials(self, app: str, wanted: TrialWanted) -> list[TrialTold]:
        """Hand a build to cohorts, all or none. Raises NotReady with every finding."""
        return self._line.post(f"/v1/apps/{app}/trials", list[TrialTold], wanted)

    def open_trial(
        self,
        app: str,
        *,
        cohort: str,
        build: str,
        store: str,
        notes: str = "",
        contact: str = "",
        sign_in: Mapping[str, str] | None = None,
        when_ready: bool = False,
    ) -> TrialTold:
        """The same for one cohort at one store, with notes in English."""
        wanted = TrialWanted(
            cohorts=[cohort],
            build=build,
            stores=[store],
            brief={"en": notes} if notes else {},
            contact=contact,
            sign_in=SignInWanted(**sign_in) if sign_in is not None else None,
            when_ready=when_ready,
        )
        return self.open_trials(app, wanted)[0]

    def hand_in_again(self, trial: str, wanted: TrialAgainWanted | None = None) -> TrialTold:
        """Hand in once more what the store rejected, with a corrected brief."""
        return self._line.post(f"/v1/trials/{trial}/hand-ins", TrialTold, wanted or TrialAgainWanted())

    def reopen_trial(self, trial: str, *, reason: str = "") -> TrialTold:
        """Hand the same build to the same people again after the trial was closed; the answer is the new trial."""
        return self._line.post(f"/v1/trials/{trial}/reopenings", TrialTold, ReasonWanted(reason=reason))

    def close_trial(self, trial: str, *, reason: str = "") -> TrialTold:
        return self._line.post(f"/v1/trials/{trial}/close", TrialTold, ReasonWanted(reason=reason))

    def invitations(
        self, trial: str, *, text: str = "", state: str | None = None, limit: int | None = None
    ) -> list[InvitationTold]:
        """A trial's invitations by address."""
        return list(islice(self.each_invitation(trial, text=text, state=state), limit))

    def each_invitation(self, trial: str, **wish: Any) -> Iterator[InvitationTold]:
        return self._line.each(f"/v1/trials/{trial}/invitations", InvitationTold, limit=500, **wish)

    def send_again(self, invitation: str) -> InvitationTold:
        """Queue one mail again. Raises Conflict while the brake holds."""
        return self._line.post(f"/v1/invitations/{invitation}/mails", InvitationTold)

    def send_again_all(self, trial: str, *, older_than_days: float = 0, bounced: bool = False) -> AgainTold:
        """Queue the mails of all who have not answered again; nobody is mailed too soon or too often."""
        body = AgainWanted(older_than_days=older_than_days, bounced=bounced)
        return self._line.post(f"/v1/trials/{trial}/mails", AgainTold, body)
