"""Two people at one thing: who writes says which revision they read, and gets both when it is no longer so."""

from __future__ import annotations

from collections.abc import Collection
from typing import Literal

from restless_tide.core.errors import Finding, Level, StaleView
from restless_tide.desk.desk import Act
from restless_tide.records.tables import AppAnswer, AppGood, AppPictureSet, AppText, Person

ReadRevision = int | Collection[int] | Literal["*"]
"""What was read: a revision, one of several, or any, as long as there is something."""


def demand(
    act: Act,
    row: AppText | AppPictureSet | AppAnswer | AppGood | None,
    revision: ReadRevision,
    title: str,
    place: str,
    theirs: str,
    mine: str,
) -> None:
    """Raise StaleView with both versions unless ``row`` is still at ``revision``.

    0 is one that is not there: nobody wrote it yet, or it was taken out, and ``theirs`` is empty.
    """
    if revision == "*":
        fits = bool(theirs)
    else:
        among = (revision,) if isinstance(revision, int) else revision
        fits = (row.revision if row is not None else 0) in among or (0 in among and not theirs)
    if fits:
        return
    person = act.session.get(Person, row.changed_by) if row is not None else None
    raise StaleView(
        f"{person.name if person is not None else 'Someone'} has changed {title} meanwhile; nothing was written.",
        remedy="Take over what you want of the other version and save again.",
        findings=[
            Finding("theirs", Level.NOTE, theirs, place),
            Finding("mine", Level.NOTE, mine, place),
        ],
    )
