"""tide trial: a build in the hands of cohorts."""

from __future__ import annotations

from restless_tide.cli.arranging import Listing, version_key
from restless_tide.cli.call import Call, cell
from restless_tide.cli.cohorts import brief_argument, brief_of
from restless_tide.cli.exits import Exit
from restless_tide.cli.naming import BUILD_HELP, build_of, trial_of, where_arguments
from restless_tide.cli.parsing import Nouns, Parser, app_argument, count, span, stores_argument
from restless_tide.cli.sign_ins import sign_in_arguments, sign_in_of
from restless_tide.cli.telling import moment, unconfirmed
from restless_tide.core.invitation import InvitationState
from restless_tide.core.trial import BEFORE_PEOPLE, TrialState
from restless_tide.wire.cohorts import (
    PlanTold,
    TrialAgainWanted,
    TrialSheetTold,
    TrialTold,
    TrialWanted,
)
from restless_tide.wire.errors import Invalid

_TRIALS: Listing[TrialTold] = Listing(
    words=lambda trial: (trial.id, trial.cohort, trial.build_label, trial.store),
    sort={
        "cohort": lambda trial: trial.cohort,
        "build": lambda trial: version_key(trial.build_label.split(" ")[0]),
        "store": lambda trial: trial.store,
        "since": lambda trial: trial.changed_at,
        "sessions": lambda trial: trial.sessions,
    },
    states=TrialState,
    state=lambda trial: [trial.state],
    since=lambda trial: trial.changed_at,
)
_MARKS = {"blocker": "✕", "caution": "!", "note": "·"}


def add(nouns: Nouns) -> None:
    nouns.noun("trial")
    parser = nouns.command("trial check", _check, "what handing a build to cohorts would mean at each store")
    _wanted(parser)
    parser = nouns.command("trial open", _open, "hand a build to cohorts; each tester gets a mail")
    _wanted(parser)
    _wait(parser)
    parser = nouns.command("trial list", _list, "list an app's trials")
    app_argument(parser)
    parser.add_argument("--cohort")
    _TRIALS.arguments(parser)
    parser = nouns.command("trial show", _show, "one trial and its invitations")
    _named(parser)
    parser.add_argument("--state", help="only invitations in this state")
    parser.add_argument("--find", default="", metavar="TEXT")
    parser.add_argument("--limit", type=count, default=50)
    parser = nouns.command("trial wait", _wait_for, "wait until a trial is open and its mails are out")
    _named(parser)
    _wait(parser, 600.0)
    parser = nouns.command("trial again", _again, "hand in once more what the store rejected")
    _named(parser)
    brief_argument(parser)
    parser.add_argument("--contact", default="")
    parser.add_argument("--remarks-to", default="")
    sign_in_arguments(parser)
    parser.add_argument("--reason", default="")
    _wait(parser)
    parser = nouns.command("trial close", _close, "end a trial")
    _named(parser)
    parser.add_argument("--reason", default="")
    parser = nouns.command(
        "trial reopen", _reopen, "hand the same build to the same people again after the trial was closed"
    )
    _named(parser)
    parser.add_argument("--reason", default="")
    _wait(parser)
    parser = nouns.command("trial mail", _mail, "send mails again: one invitation's, or those of a trial not answered")
    parser.add_argument("id", help="an invitation, or a trial")
    parser.add_argument(
        "--older-than", type=span, default=0.0, metavar="DAYS", help="only what has waited so long; of a trial"
    )
    parser.add_argument("--bounced", action="store_true", help="also to addresses whose mail came back; of a trial")


def _named(parser: Parser) -> None:
    parser.add_argument("trial", help="its id or the beginning; with --app, its cohort")
    where_arguments(parser, platform=False)
    parser.add_argument("--store", metavar="STORE", help="at which store, where the cohort has several trials")


def _wanted(parser: Parser) -> None:
    app_argument(parser)
    parser.add_argument("--cohort", action="append", required=True, help="may be given again")
    parser.add_argument("--build", required=True, help=BUILD_HELP)
    parser.add_argument("--platform", help="android, ios or desktop, where the name alone is not enough")
    stores_argument(parser)
    brief_argument(parser)
    parser.add_argument("--notes", default="", help="the same as --task, in English")
    parser.add_argument("--contact", default="", help="the address testers answer to")
    parser.add_argument("--remarks-to", default="", metavar="WHERE", help="where remarks go besides the tester's page")
    sign_in_arguments(parser)
    parser.add_argument(
        "--when-ready", action="store_true", help="hand it in as soon as the store has processed the build"
    )


def _wait(parser: Parser, seconds: float = 10.0) -> None:
    parser.add_argument(
        "--wait",
        type=span,
        default=seconds,
        metavar="SECONDS",
        help="how long to wait until it is open and the mails are out",
    )


def _trial(call: Call) -> TrialWanted:
    given = call.given
    brief = brief_of(given) | ({"en": given.notes} if given.notes else {})
    return TrialWanted(
        cohorts=given.cohort,
        build=build_of(call, given.build).id,
        stores=given.store,
        brief=brief,
        contact=given.contact,
        remarks_to=given.remarks_to,
        sign_in=sign_in_of(call),
        when_ready=given.when_ready,
    )


def _check(call: Call) -> Exit | None:
    sheet = call.tide.testing.sheet(call.given.app, _trial(call))
    call.answer(sheet, lambda: _tell_sheet(call, sheet))
    return {"blocker": Exit.REFUSED, "caution": Exit.CAUTION}.get(str(sheet.level))


def _tell_sheet(call: Call, sheet: TrialSheetTold) -> None:
    for plan in sheet.plans:
        call.say(_head(plan))
        if plan.seats is not None:
            call.say(f"  Seats: {plan.seats}, {plan.seats_left} left afterwards.")
        if plan.carried:
            call.say(f"  {plan.carried} of them have taken part before and are only told of the new build.")
        if plan.because:
            call.say(f"  {plan.because}")
        if plan.replaces:
            call.say(f"  It takes over from trial {plan.replaces}.")
        if plan.left_out:
            call.say(
                f"  Fit: {len(plan.fit)}. No seat: {', '.join(plan.left_out[:10])}{' …' if len(plan.left_out) > 10 else ''}"
            )
        for finding in plan.findings:
            call.say(f"  {_MARKS[finding.level]} {finding.detail} {finding.remedy}".rstrip())


def _head(plan: PlanTold) -> str:
    when = "after the store's review" if plan.waits_for_review else "at once"
    return f"{plan.cohort} at {plan.store_title}: {plan.invited} people, {when}"


def _open(call: Call) -> Exit | None:
    opened = call.tide.testing.open_trials(call.given.app, _trial(call))
    seen = call.wait_until(
        lambda: [call.tide.testing.trial(trial.id) for trial in opened],
        lambda found: all(_settled(trial) for trial in found),
        call.given.wait,
    )

    def shown() -> None:
        for trial in seen:
            _tell(call, trial)

    call.answer(seen, shown)
    return Exit.REFUSED if any(trial.state == TrialState.REJECTED for trial in seen) else None


def _settled(trial: TrialTold) -> bool:
    over = trial.state not in BEFORE_PEOPLE | {TrialState.OPEN}
    return over or (trial.state == TrialState.OPEN and trial.invited.get(InvitationState.QUEUED, 0) <= trial.stuck)


def state_told(trial: TrialTold) -> str:
    """What is wanted, and where the store does not say the same yet."""
    return f"{trial.state}{unconfirmed(trial)}"


def _counts(trial: TrialTold) -> str:
    return ", ".join(f"{count} {state}" for state, count in trial.invited.items()) or "nobody"


def _tell(call: Call, trial: TrialTold) -> None:
    call.say(
        f"Trial {trial.id}: {trial.build_label} for {trial.cohort} at {trial.store_title} is {state_told(trial)} ({_counts(trial)})"
    )
    if trial.reason:
        call.say(f"  ! {trial.reason}")
    if trial.expires_at:
        call.say(f"  It expires {moment(trial.expires_at)}.")
    if trial.store_page:
        call.say(f"  At the store: {trial.store_page}")


def _list(call: Call) -> None:
    every = call.tide.testing.trials(call.given.app, cohort=call.given.cohort)
    found = _TRIALS.arranged(call, every)

    def shown() -> None:
        table = call.table(
            "TRIAL", "COHORT", "BUILD", "STORE", "STATE", "SINCE", "INVITATIONS", "SESSIONS", "CRASH-FREE"
        )
        for trial in found:
            table.add_row(
                trial.id,
                cell(trial.cohort),
                trial.build_label,
                trial.store,
                state_told(trial),
                moment(trial.changed_at),
                _counts(trial),
                str(trial.sessions or ""),
                f"{trial.crash_free:.1%}" if trial.crash_free is not None else "",
            )
        call.show(table, empty="No trial is like that." if every else "No trials yet. Open one with: tide trial open")

    call.answer(found, shown)


def _show(call: Call) -> None:
    given = call.given
    trial = call.tide.testing.trial(trial_of(call))
    found = call.tide.testing.invitations(trial.id, text=given.find, state=given.state, limit=given.limit)

    def shown() -> None:
        _tell(call, trial)
        for locale, text in trial.brief.items():
            call.say(f"  To try ({locale}): {text}")
        call.say(f"  Contact: {trial.contact}" + ("; the reviewer's sign-in is sealed" if trial.sign_in_sealed else ""))
        table = call.table("INVITATION", "NAME", "ADDRESS", "STATE", "SINCE", "MAILS", "DEVICE", "TROUBLE")
        for entry in found:
            table.add_row(
                entry.id,
                cell(entry.tester.name),
                cell(entry.tester.email),
                entry.state,
                moment(entry.changed_at),
                str(entry.mails),
                cell(" ".join(part for part in (entry.device, entry.system) if part)),
                cell(entry.trouble),
            )
        call.show(table, empty="No invitations.")
        if len(found) == given.limit:
            call.say(f"The first {given.limit}; more with --limit, or narrow it down with --find and --state.")

    call.answer(
        {"trial": trial.model_dump(mode="json"), "invitations": [entry.model_dump(mode="json") for entry in found]},
        shown,
    )


def _wait_for(call: Call) -> Exit | None:
    return _followed(call, trial_of(call))


def _followed(call: Call, name: str) -> Exit | None:
    """Tell of a trial as soon as people have it, or it is clear that they will not."""
    trial = call.wait_until(lambda: call.tide.testing.trial(name), _settled, call.given.wait)
    call.answer(trial, lambda: _tell(call, trial))
    if trial.state == TrialState.REJECTED:
        return Exit.REFUSED
    return None if trial.state == TrialState.OPEN else Exit.NOT_CONFIRMED


def _again(call: Call) -> Exit | None:
    given = call.given
    wanted = TrialAgainWanted(
        brief=brief_of(given),
        contact=given.contact,
        remarks_to=given.remarks_to,
        sign_in=sign_in_of(call),
        reason=given.reason,
    )
    call.tide.testing.hand_in_again(trial_of(call), wanted)
    return _wait_for(call)


def _close(call: Call) -> None:
    trial = call.tide.testing.close_trial(trial_of(call), reason=call.given.reason)
    call.answer(trial, lambda: _tell(call, trial))


def _reopen(call: Call) -> Exit | None:
    trial = call.tide.testing.reopen_trial(trial_of(call), reason=call.given.reason)
    return _followed(call, trial.id)


def _mail(call: Call) -> None:
    given = call.given
    if given.id.startswith("tr-"):
        done = call.tide.testing.send_again_all(given.id, older_than_days=given.older_than, bounced=given.bounced)
        held = f"; {done.held_back} are held back, so that nobody is flooded" if done.held_back else ""
        call.answer(done, lambda: call.say(f"{done.queued} mails are queued again{held}."))
        return
    if given.older_than or given.bounced:
        raise Invalid(
            "--older-than and --bounced are for a trial.", remedy="Name a trial, or leave them out.", code="usage"
        )
    invitation = call.tide.testing.send_again(given.id)
    call.answer(invitation, lambda: call.say(f"Invitation {invitation.id} is queued again."))
