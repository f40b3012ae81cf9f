"""What changed since the build that is live at each store, read from the source's own history."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from restless_tide.core.changes import Change, Commit, draft_notes, full_list, understood
from restless_tide.core.errors import Invalid
from restless_tide.core.rollout import RolloutState
from restless_tide.core.rulebook import PRODUCTION
from restless_tide.desk import find
from restless_tide.desk.desk import Desk
from restless_tide.desk.stores import rules_of
from restless_tide.records.repository import Repository
from restless_tide.records.tables import Leg, Release

_PEOPLE_HAVE = (RolloutState.COMPLETE, RolloutState.RISING, RolloutState.PAUSED)


@dataclass(frozen=True)
class Span:
    """What is new at one store: from the build that people have there (None: nobody has any) to this release's."""

    store: str
    title: str
    from_version: str | None
    from_revision: str | None
    to_revision: str
    commits: int
    limit: int
    counted_in: str
    missing_locales: tuple[str, ...]


@dataclass(frozen=True)
class Changed:
    """``draft`` fits every store; ``left_out`` are lines that did not; ``whole`` is for the team."""

    spans: tuple[Span, ...]
    changes: tuple[Change, ...]
    draft: str
    left_out: int
    whole: str
    remarks: tuple[str, ...]


def of_release(desk: Desk, app_name: str, version: str) -> Changed:
    """Read the history and draft the notes. Raises Invalid when no build says which source it was made of."""
    with desk.look() as session:
        release = find.release(session, find.app(session, app_name), version)
        spans, commits, remarks = [], {}, []
        order: list[Commit] = []
        in_production_last = sorted(release.legs, key=lambda leg: leg.track == PRODUCTION)
        by_store = {leg.berth.store.name: leg for leg in in_production_last}
        for _, leg in sorted(by_store.items()):
            if leg.build.revision is None or leg.build.repository is None:
                remarks.append(f"Build {leg.build.label} at {leg.berth.store.name} does not say what it was made of.")
                continue
            before = _people_have(session, leg)
            since = before.build.revision if before else None
            if before is not None and since is None:
                remarks.append(f"What is live at {leg.berth.store.name} does not say what it was made of.")
            repository = Repository(desk.settings.repositories, leg.build.repository)
            found = repository.commits(leg.build.revision, since)
            known = {commit.revision for commit in order}
            order.extend(commit for commit in found if commit.revision not in known)
            spans.append(_span(leg, before, leg.build.revision, len(found), release))
            commits[leg.berth.store.name] = {commit.revision for commit in found}
        if not spans:
            raise Invalid(
                f"No build of {release.version} says which source it was made of.",
                remedy="Push builds with --repository NAME --revision REVISION.",
                code="revision-missing",
            )
    order.sort(key=lambda commit: commit.at, reverse=True)
    changes = understood(order, commits)
    remarks.extend(_differing(spans))
    draft = draft_notes(changes, [(span.limit, span.counted_in) for span in spans])
    return Changed(tuple(spans), tuple(changes), draft.text, draft.left_out, full_list(changes), tuple(remarks))


def _people_have(session: Session, leg: Leg) -> Leg | None:
    """The leg whose build people at that store have now."""
    live = select(Leg).where(
        Leg.berth_id == leg.berth_id, Leg.track == leg.track, Leg.id != leg.id, Leg.state.in_(_PEOPLE_HAVE)
    )
    return session.scalar(live.where(Leg.launched_at.is_not(None)).order_by(Leg.launched_at.desc()).limit(1))


def _span(leg: Leg, before: Leg | None, revision: str, commits: int, release: Release) -> Span:
    rules = rules_of(leg.berth.store)
    wanted = dict.fromkeys((leg.berth.language, *rules.review.notes_locales_required))
    return Span(
        store=leg.berth.store.name,
        title=rules.store,
        from_version=before.build.version if before else None,
        from_revision=before.build.revision if before else None,
        to_revision=revision,
        commits=commits,
        limit=rules.review.notes_limit_characters,
        counted_in=rules.review.notes_counted_in,
        missing_locales=tuple(locale for locale in wanted if not release.notes.get(locale, "").strip()),
    )


def _differing(spans: list[Span]) -> list[str]:
    versions = {span.from_version for span in spans}
    if len(versions) < 2:
        return []
    told = "; ".join(f"at {span.title} {span.from_version or 'nothing yet'}" for span in spans)
    return [f"People have different versions now: {told}. Each change says where it is new."]
