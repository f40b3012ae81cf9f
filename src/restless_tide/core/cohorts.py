"""Seats and review: who fits into a store's test by its rules, and whether the store looks at the build first.

Seats are counted as the stores count them: over all trials of a kind that run at a berth, each person
once, or anew for each build where the rulebook says so. Nothing is ever half done: either all fit, or
the sheet says who does and who does not.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass

from restless_tide.core.errors import Conflict, Finding, Level
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.rulebook import CohortKind, CohortRules, Rulebook


def seat_rules(rules: Rulebook, kind: CohortKind) -> CohortRules:
    """The rules for cohorts of this kind. Raises Conflict where the store knows none."""
    if kind not in rules.cohorts:
        known = ", ".join(rules.cohorts) or "none"
        raise Conflict(
            f"{rules.store} knows no {kind} testers.", remedy=f"Kinds it knows: {known}.", code="cohort-kind-unknown"
        )
    return rules.cohorts[kind]


@dataclass(frozen=True)
class Seating:
    """Who would sit at a store; ``taken`` counts the seats that are held when all who fit have sat down.

    People are told by their ids, in the order in which they were named: ``fitting`` are those who find a
    seat, ``left_out`` those for whom none is left, ``outsiders`` those whom the store does not let into this kind.
    """

    store: str
    kind: CohortKind
    seats: int
    taken: int
    fitting: tuple[str, ...]
    left_out: tuple[str, ...] = ()
    outsiders: tuple[str, ...] = ()

    @property
    def left(self) -> int:
        return max(self.seats - self.taken, 0)

    @property
    def all_fit(self) -> bool:
        return not self.left_out and not self.outsiders


def seating(
    rules: Rulebook,
    kind: CohortKind,
    seated: Collection[str],
    wanted: Mapping[str, str],
    domains: Collection[str] = (),
) -> Seating:
    """Seat ``wanted`` (address by id) beside ``seated`` (ids) by a store's rules.

    ``domains`` are the account's own, for kinds that are closed to everybody else. Raises Conflict
    where the store knows no testers of this kind.
    """
    allowed = seat_rules(rules, kind)
    own = {domain.lower() for domain in domains} if allowed.own_domains_only else set()
    sitting = set(seated)
    free = max(allowed.seats - len(sitting), 0)
    fitting, left_out, outsiders = [], [], []
    for who, address in wanted.items():
        if own and address.rpartition("@")[2].lower() not in own:
            outsiders.append(who)
        elif who in sitting:
            fitting.append(who)
        elif free:
            fitting.append(who)
            free -= 1
        else:
            left_out.append(who)
    taken = len(sitting | set(fitting))
    return Seating(rules.store, kind, allowed.seats, taken, tuple(fitting), tuple(left_out), tuple(outsiders))


def seat_findings(found: Seating, names: Mapping[str, str]) -> list[Finding]:
    """What blocks seating everybody; ``names`` are what the people are called, by id."""
    findings = []
    if found.left_out:
        short, all_of_them = len(found.left_out), found.taken + len(found.left_out)
        findings.append(
            Finding(
                "seats-exhausted",
                Level.BLOCKER,
                f"{found.store} has {found.seats} {found.kind} seats; {all_of_them} testers would need one. "
                f"No seat for {told(found.left_out, names)}.",
                "cohort",
                f"Take {short} tester(s) out of the cohort, or hand the build to a cohort of another kind.",
            )
        )
    if found.outsiders:
        findings.append(
            Finding(
                "outside-the-account",
                Level.BLOCKER,
                f"{found.store} takes only addresses of the account's own domains as {found.kind}; "
                f"not {told(found.outsiders, names)}.",
                "cohort",
                "Put them into a cohort of another kind, or use their address at your own domain.",
            )
        )
    return findings


def told(people: Sequence[str], names: Mapping[str, str], most: int = 5) -> str:
    """The first few by name, and how many more there are."""
    named = ", ".join(names.get(who, who) for who in people[:most])
    return named + (f" and {len(people) - most} more" if len(people) > most else "")


@dataclass(frozen=True)
class SeenTrial:
    """A trial that a store has opened before: which build, for which kind."""

    version: str
    number: BuildNumber
    kind: CohortKind


@dataclass(frozen=True)
class Foresight:
    """Whether the store will look at the build before people get it, and why."""

    waits: bool
    because: str
    usual_hours: float = 0.0


def foresee_review(
    rules: Rulebook, kind: CohortKind, version: str, number: BuildNumber, opened: Iterable[SeenTrial]
) -> Foresight:
    """Say beforehand whether a trial waits for the store's review; ``opened`` are the trials it has opened there."""
    allowed = seat_rules(rules, kind)
    if not allowed.review_first:
        return Foresight(False, f"{rules.store} opens it for {kind} testers at once.")
    per_version = allowed.reviewed_once_per == "version"
    for trial in opened:
        same = trial.version == version and (per_version or trial.number == number)
        if same and trial.kind == kind:
            seen = f"version {version}" if per_version else f"build {version} ({number})"
            return Foresight(False, f"{rules.store} has looked at {seen} for {kind} testers already.")
    first = f"the first build of version {version}" if per_version else f"build {version} ({number})"
    return Foresight(
        True, f"{rules.store} reviews {first} before {kind} testers get it.", rules.trial_review_hours(kind)
    )


def may_install(platforms: Collection[str], platform: str) -> bool:
    """Whether someone with devices of these platforms may get such a build; who told of none may."""
    return not platforms or platform in platforms


def brief_findings(
    rules: Rulebook, kind: CohortKind, brief: Mapping[str, str], *, sign_in: bool, reviewed: bool
) -> list[Finding]:
    """What of a trial brief does not fit: texts by locale, and how the reviewer signs in where one looks."""
    allowed = seat_rules(rules, kind)
    findings = []
    if not any(text.strip() for text in brief.values()):
        findings.append(
            Finding("notes-missing", Level.BLOCKER, "A trial needs notes on what to look at.", "brief", "Write them.")
        )
    for locale, text in brief.items():
        if len(text) > allowed.brief_limit_characters:
            findings.append(
                Finding(
                    "brief-too-long",
                    Level.BLOCKER,
                    f"The brief has {len(text)} characters in {locale}; "
                    f"{rules.store} takes {allowed.brief_limit_characters}.",
                    f"brief {locale}",
                    f"Cut {len(text) - allowed.brief_limit_characters} characters.",
                )
            )
    for locale in allowed.brief_locales_required:
        if not brief.get(locale, "").strip():
            findings.append(
                Finding(
                    "brief-locale-missing",
                    Level.BLOCKER,
                    f"{rules.store} wants what to look at in {locale}.",
                    f"brief {locale}",
                    "Write it in that language, too.",
                )
            )
    if allowed.sign_in_required and reviewed and not sign_in:
        findings.append(
            Finding(
                "sign-in-missing",
                Level.BLOCKER,
                f"{rules.store}'s reviewer wants to know how to sign in.",
                "brief sign-in",
                "Say it, or say that no sign-in is needed; it is kept sealed.",
            )
        )
    return findings
