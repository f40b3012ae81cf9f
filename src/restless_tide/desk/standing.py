"""An account's standing at a store: what expires when, and what stands still then."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from restless_tide.gateways.protocol import RIGHTS, Account
from restless_tide.records.tables import Store

_NEEDED_FOR = {
    "read": "nothing of the store can be seen",
    "builds": "no build can be sent",
    "trials": "no trial can be opened",
    "releases": "nothing can be handed to review",
    "rollouts": "no rollout can be raised or halted",
    "availability": "price, countries and who may get an app cannot be set",
}


@dataclass(frozen=True)
class Expiry:
    """Something of an account that ends at an instant, and what it will block."""

    what: str
    until: datetime
    blocks: str = ""


def account_of(store: Store) -> Account | None:
    """The account as the store told it last; none of a store that is out of use."""
    return Account.model_validate(store.account) if store.account and store.in_use else None


def expiring(store: Store) -> list[Expiry]:
    """What has an end, soonest first."""
    account = account_of(store)
    if account is None:
        return []
    found = [
        Expiry(f"The paper {paper.name!r}", paper.until, f"Blocks {', '.join(paper.blocks)}." if paper.blocks else "")
        for paper in account.papers
        if paper.until is not None
    ]
    if account.membership_until is not None:
        found.append(Expiry("The membership", account.membership_until, "After it nothing new can be handed in."))
    if account.key_until is not None:
        found.append(
            Expiry("The key", account.key_until, "After it the desk can neither see nor order anything there.")
        )
    return sorted(found, key=lambda expiry: expiry.until)


def blocked_now(store: Store) -> list[str]:
    """What stands still now because of the account, in plain lines."""
    account = account_of(store)
    if account is None:
        return []
    told = [
        f"{paper.name} is {paper.state}: {', '.join(paper.blocks) or 'nothing'} cannot be changed."
        for paper in account.papers
        if paper.state != "valid"
    ]
    if account.standing == "expired":
        told.insert(0, "The membership has expired: nothing new can be handed in.")
    return told


def missing_rights(store: Store) -> dict[str, str]:
    """The rights that the key lacks, each with what cannot be done without it."""
    if not store.reached_by_gateway:
        return {}
    return {right: _NEEDED_FOR[right] for right in RIGHTS if right not in store.may}
