"""People who test: known to the desk once, whatever they test."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, TypeVar

from sqlalchemy import ColumnElement, Select, func, select
from sqlalchemy.orm import Session

from restless_tide.core.errors import Conflict, Invalid, NotFound
from restless_tide.core.invitation import InvitationEvent
from restless_tide.core.listing import TesterOrder
from restless_tide.core.order import PENDING
from restless_tide.core.testers import PLATFORMS, lookalike
from restless_tide.desk import find, keyset, pictures, seating
from restless_tide.desk.addresses import mail_address
from restless_tide.desk.desk import Act, Desk
from restless_tide.desk.matching import holds
from restless_tide.records.tables import (
    Attachment,
    Change,
    Cohort,
    FieldReport,
    Invitation,
    Membership,
    Notice,
    Order,
    ReportWord,
    Step,
    Store,
    Tester,
    Trial,
)

Wanted = TypeVar("Wanted", bound=Select[*tuple[Any, ...]])
FORGOTTEN = "(forgotten)"


@dataclass(frozen=True)
class Personal:
    """What a person can say of a tester; None leaves it as it is."""

    name: str | None = None
    platforms: Sequence[str] | None = None
    languages: Sequence[str] | None = None
    devices: Sequence[str] | None = None
    tags: Sequence[str] | None = None
    consented_at: datetime | None = None
    consent_how: str | None = None


def get_or_add(act: Act, email: str, told: Personal) -> tuple[Tester, bool]:
    """The tester with this address, entered if need be; and whether they are new. Raises Invalid."""
    address = mail_address(email)
    tester = find.tester_at(act.session, address)
    new = tester is None
    if tester is None:
        tester = Tester(email=address, name="", created_at=act.now, lookalike=lookalike(address))
        act.session.add(tester)
        act.session.flush()
    tell(tester, told)
    return tester, new


def tell(tester: Tester, told: Personal) -> None:
    """Write down what was said. Raises Invalid."""
    if told.platforms is not None:
        unknown = [entry for entry in told.platforms if entry not in PLATFORMS]
        if unknown:
            raise Invalid(
                f"{unknown[0]!r} is no platform.",
                remedy=f"Platforms are {', '.join(PLATFORMS)}.",
                code="platform-unknown",
            )
    if told.name is not None and told.name.strip():
        tester.name = told.name.strip()[:200]
    for field in ("platforms", "languages", "devices", "tags"):
        said = getattr(told, field)
        if said is not None:
            setattr(tester, field, [entry.strip()[:100] for entry in said if entry.strip()][:50])
    if told.consented_at is not None:
        tester.consented_at, tester.consent_how = told.consented_at, told.consent_how or "told to the desk"


def change(act: Act, who: str, told: Personal, email: str | None = None) -> Tester:
    """Change what is known of someone; another address is taken where mails have not gone yet, too."""
    tester = find.tester(act.session, who)
    if email is not None and (address := mail_address(email)) != tester.email:
        if find.tester_at(act.session, address):
            raise Conflict(
                f"{address} is another tester's address.", remedy="Forget one of the two.", code="tester-known"
            )
        sits = act.session.scalar(seating.sitting_at().where(Invitation.tester_id == tester.id).limit(1))
        if sits is not None:
            raise Conflict(
                f"{tester.email} sits in a trial that is under way.",
                remedy="Take them out of the cohort, change the address, and put them in again.",
                code="tester-seated",
            )
        tester.email, tester.lookalike, tester.bounced_at, tester.bounce_said = address, lookalike(address), None, None
    tell(tester, told)
    act.log("tester changed", f"tester {tester.id}")
    return tester


def matching(text: str) -> ColumnElement[bool]:
    """Testers whose address, name or a tag holds each word of ``text``."""
    tags = func.json_extract(Tester.tags, "$")
    return Tester.forgotten_at.is_(None) & holds(text, Tester.email, Tester.name, tags)


def search(
    session: Session,
    text: str = "",
    *,
    order: TesterOrder = TesterOrder.ADDRESS,
    after: str = "",
    limit: int = 100,
) -> list[Tester]:
    """Testers in an order, beyond the one with the address ``after``."""
    return list(
        session.scalars(in_order(session, select(Tester).where(matching(text)), order, Tester.created_at, after, limit))
    )


def in_order(session: Session, wanted: Wanted, order: TesterOrder, since: Any, after: str, limit: int) -> Wanted:
    """A page of people; ``since`` is the column by which the newest come first, ``after`` the last address seen.

    Raises NotFound where nobody has that address any more and the list is not in the order of addresses.
    """
    keys: Mapping[TesterOrder, tuple[Any, ...]] = {
        TesterOrder.ADDRESS: (Tester.email,),
        TesterOrder.NAME: (func.lower(Tester.name), Tester.email),
        TesterOrder.NEWEST: (since, Tester.email),
    }
    here: Sequence[Any] | None = [after] if after else None
    if after and order is not TesterOrder.ADDRESS:
        here = session.execute(wanted.where(Tester.email == after).with_only_columns(*keys[order])).first()
        if here is None:
            raise NotFound(
                f"{after} is no longer in this list.", remedy="Read it again from the beginning.", code="place-unknown"
            )
    return keyset.page(wanted, keys[order], after=here, falls=order is TesterOrder.NEWEST, limit=limit)


def count(session: Session, text: str = "") -> int:
    return session.scalar(select(func.count()).select_from(Tester).where(matching(text))) or 0


def cohorts_of(session: Session, testers: Collection[str]) -> dict[str, list[tuple[str, str]]]:
    """The cohorts of each tester, as app and cohort."""
    found: dict[str, list[tuple[str, str]]] = {}
    rows = session.execute(
        select(Membership.tester_id, Cohort)
        .join(Cohort, Membership.cohort_id == Cohort.id)
        .where(Membership.tester_id.in_(testers))
        .order_by(Cohort.name)
    )
    for tester_id, cohort in rows:
        found.setdefault(tester_id, []).append((cohort.app.name, cohort.name))
    return found


def forget(desk: Desk, person: str, who: str, reason: str) -> str:
    """Everything personal of a tester goes for good, here and at the stores; returns the id that is left.

    Counts stay: how many were invited, how many reports there are. The logbook keeps its lines, in which
    people stand by id alone, and its chain. The file is written anew, so that no byte of it is left behind.
    """
    with desk.act(person) as act:
        tester = find.tester(act.session, who)
        _leave_everything(act, tester)
        dropped = _empty_reports(act, tester)
        _empty_words_of_others(act, tester)
        tester.email, tester.name, tester.forgotten_at = f"{tester.id}@forgotten.invalid", "", act.now
        tester.platforms, tester.languages, tester.devices, tester.tags, tester.mailed = [], [], [], [], []
        tester.consented_at = tester.bounced_at = tester.bounce_said = None
        tester.consent_how = tester.lookalike = ""
        act.log("tester forgotten", f"tester {tester.id}", reason=reason)
        tester_id = tester.id
    with desk.look() as session:
        pictures.drop_unused(desk, session, dropped)
    desk.scrub()
    return tester_id


def _leave_everything(act: Act, tester: Tester) -> None:
    rows = act.session.execute(
        select(Invitation, Trial).join(Trial, Invitation.trial_id == Trial.id).where(Invitation.tester_id == tester.id)
    ).all()
    for invitation, trial in rows:
        seating.leave(act, trial, [invitation], InvitationEvent.REMOVE)
        invitation.device = invitation.system = ""
        invitation.trouble = None
    for membership in act.session.scalars(select(Membership).where(Membership.tester_id == tester.id)):
        act.session.delete(membership)


def _empty_reports(act: Act, tester: Tester) -> list[str]:
    """What they wrote and pictured goes; that there was a report, its build and its frames stay."""
    dropped = []
    for report in act.session.scalars(select(FieldReport).where(FieldReport.tester_id == tester.id)):
        report.text, report.device, report.system, report.language = FORGOTTEN if report.text else "", "", "", ""
        report.stack = ""
        dropped += [picture.sha256 for picture in report.pictures]
        report.pictures.clear()
        report.pictures_due = 0
        for word in report.words:
            word.text, word.trouble = FORGOTTEN, None
        report.tester_id = None
    return dropped


def _empty_words_of_others(act: Act, tester: Tester) -> None:
    """Where their address or name stands in what stores and people wrote, it is blotted out."""
    act.write_lines()
    marks = [mark for mark in (tester.email, tester.name) if len(mark) > 2]
    places: list[tuple[Any, str]] = [
        (Order, "trouble"), (Trial, "reason"), (Store, "trouble"), (Attachment, "trouble"), (Invitation, "trouble"),
        (Step, "said"), (FieldReport, "text"), (FieldReport, "ticket"), (ReportWord, "text"), (ReportWord, "trouble"),
        (Change, "said"), (Notice, "said"),
    ]  # fmt: skip
    for table, column in places:
        field = getattr(table, column)
        for mark in marks:
            for row in act.session.scalars(select(table).where(field.contains(mark, autoescape=True))):
                setattr(row, column, getattr(row, column).replace(mark, FORGOTTEN))
    for step in act.session.scalars(select(Step)):
        texts = {name: _blotted(text, marks) for name, text in step.texts.items()}
        if texts != step.texts:
            step.texts = texts
    for order in act.session.scalars(
        select(Order).where(Order.subject.in_(_trials_of(tester)), Order.state.not_in(PENDING))
    ):
        order.payload = {key: value for key, value in order.payload.items() if key != seating.SEALED}


def _trials_of(tester: Tester) -> Any:
    return select(Invitation.trial_id).where(Invitation.tester_id == tester.id)


def _blotted(text: Any, marks: Sequence[str]) -> Any:
    if not isinstance(text, str):
        return text
    for mark in marks:
        text = text.replace(mark, FORGOTTEN)
    return text


def export_rows(session: Session, text: str = "") -> list[list[object]]:
    """Everybody who matches, a row each, in the order of ``HEADER``."""
    found = session.scalars(select(Tester).where(matching(text)).order_by(Tester.email)).all()
    return [row_of(tester) for tester in found]


HEADER = ("address", "name", "platforms", "languages", "tags", "devices", "consented")


def row_of(tester: Tester) -> list[object]:
    return [
        tester.email,
        tester.name,
        " ".join(tester.platforms),
        " ".join(tester.languages),
        " ".join(tester.tags),
        " | ".join(tester.devices),
        tester.consented_at.date().isoformat() if tester.consented_at else "",
    ]
