"""tide cohort, tester, trial."""

from __future__ import annotations

from collections import Counter

from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Nouns, app_argument, store_argument
from restless_tide.cli.telling import moment
from restless_tide.wire.cohorts import TrialTold


def add(nouns: Nouns) -> None:
    nouns.noun("cohort", "groups of testers")
    parser = nouns.command("cohort add", _make, "make a cohort")
    parser.add_argument("name")
    app_argument(parser)
    parser.add_argument(
        "--kind", choices=["crew", "guest", "walk-in"], default="crew", help="staff, invited, or anyone with the link"
    )
    app_argument(nouns.command("cohort list", _list, "list an app's cohorts"))

    nouns.noun("tester", "people who test")
    parser = nouns.command("tester add", _add_tester, "put somebody into a cohort")
    parser.add_argument("email")
    parser.add_argument("--name", default="")
    app_argument(parser)
    parser.add_argument("--cohort", required=True)
    parser = nouns.command("tester remove", _remove_tester, "take somebody out of a cohort")
    parser.add_argument("email")
    app_argument(parser)
    parser.add_argument("--cohort", required=True)
    nouns.command("tester list", _testers, "everybody who tests, whatever they test")

    nouns.noun("trial", "a build in the hands of a cohort")
    parser = nouns.command("trial open", _open, "hand a build to a cohort; each tester gets a mail")
    app_argument(parser)
    parser.add_argument("--cohort", required=True)
    parser.add_argument("--build", required=True)
    store_argument(parser)
    parser.add_argument("--notes", required=True, help="what to try")
    parser.add_argument("--contact", required=True, help="the address testers answer to")
    parser.add_argument(
        "--wait",
        type=float,
        default=10.0,
        metavar="SECONDS",
        help="how long to wait until it is open and the mails are out",
    )
    app_argument(nouns.command("trial list", _trials, "list an app's trials"))
    nouns.command("trial show", _show, "one trial and its invitations").add_argument("id")
    parser = nouns.command("trial close", _close, "end a trial")
    parser.add_argument("id")
    parser.add_argument("--reason", default="")
    nouns.command("trial mail", _mail_again, "send an invitation's mail again").add_argument("invitation")


def _make(call: Call) -> None:
    cohort = call.tide.testing.make_cohort(call.given.app, call.given.name, kind=call.given.kind)
    call.answer(cohort, lambda: call.say(f"Cohort {cohort.name} ({cohort.kind}) of {cohort.app}."))


def _list(call: Call) -> None:
    found = call.tide.testing.cohorts(call.given.app)

    def shown() -> None:
        table = call.table("COHORT", "KIND", "TESTERS", "SEATS")
        for cohort in found:
            seats = ", ".join(f"{store} {count}" for store, count in cohort.seats.items())
            table.add_row(cell(cohort.name), cohort.kind, str(len(cohort.testers)), seats)
        call.show(table, empty=f"No cohorts yet. Make one with: tide cohort add NAME --app {call.given.app}")

    call.answer(found, shown)


def _add_tester(call: Call) -> None:
    tester = call.tide.testing.add_tester(call.given.app, call.given.cohort, call.given.email, name=call.given.name)
    call.answer(tester, lambda: call.say(f"{tester.name or tester.email} is in {call.given.cohort}."))


def _remove_tester(call: Call) -> None:
    call.tide.testing.remove_tester(call.given.app, call.given.cohort, call.given.email)
    call.answer({"removed": call.given.email}, lambda: call.say(f"{call.given.email} is out of {call.given.cohort}."))


def _testers(call: Call) -> None:
    found = call.tide.testing.testers()

    def shown() -> None:
        table = call.table("TESTER", "NAME", "ADDRESS")
        for tester in found:
            table.add_row(tester.id, cell(tester.name), cell(tester.email))
        call.show(table, empty="Nobody tests yet. Add somebody with: tide tester add ADDRESS --app APP --cohort COHORT")

    call.answer(found, shown)


def _open(call: Call) -> Exit | None:
    given = call.given
    trial = call.tide.testing.open_trial(
        given.app, cohort=given.cohort, build=given.build, store=given.store, notes=given.notes, contact=given.contact
    )
    seen = call.wait_until(lambda: call.tide.testing.trial(trial.id), _settled, given.wait)
    call.answer(seen, lambda: _tell(call, seen))
    return Exit.REFUSED if seen.state == "turned down" else None


def _settled(trial: TrialTold) -> bool:
    waiting = any(invitation.state == "queued" and not invitation.trouble for invitation in trial.invitations)
    return trial.state == "turned down" or (trial.state == "open" and not waiting)


def _counts(trial: TrialTold) -> str:
    return ", ".join(
        f"{count} {state}" for state, count in Counter(str(entry.state) for entry in trial.invitations).items()
    )


def _tell(call: Call, trial: TrialTold) -> None:
    call.say(
        f"Trial {trial.id}: {trial.build_label} for {trial.cohort} at {trial.store} is {trial.state}"
        + (f": {trial.reason}" if trial.reason else ".")
    )
    table = call.table("INVITATION", "TESTER", "STATE", "SINCE", "TROUBLE")
    for entry in trial.invitations:
        table.add_row(
            entry.id,
            cell(entry.tester.name or entry.tester.email),
            entry.state,
            moment(entry.changed_at),
            cell(entry.trouble),
        )
    call.show(table, empty="No invitations.")


def _trials(call: Call) -> None:
    found = call.tide.testing.trials(call.given.app)

    def shown() -> None:
        table = call.table("TRIAL", "COHORT", "BUILD", "STORE", "STATE", "SINCE", "INVITATIONS")
        for trial in found:
            table.add_row(
                trial.id,
                cell(trial.cohort),
                trial.build_label,
                trial.store,
                trial.state,
                moment(trial.changed_at),
                _counts(trial),
            )
        call.show(table, empty="No trials yet. Open one with: tide trial open")

    call.answer(found, shown)


def _show(call: Call) -> None:
    trial = call.tide.testing.trial(call.given.id)
    call.answer(trial, lambda: _tell(call, trial))


def _close(call: Call) -> None:
    trial = call.tide.testing.close_trial(call.given.id, reason=call.given.reason)
    call.answer(trial, lambda: _tell(call, trial))


def _mail_again(call: Call) -> None:
    invitation = call.tide.testing.send_again(call.given.invitation)
    call.answer(invitation, lambda: call.say(f"Invitation {invitation.id} is queued again."))
