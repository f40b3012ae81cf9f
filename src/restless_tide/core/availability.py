"""Where, for how much and to whom an app is offered; what of it can change, and what can change only one way."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from restless_tide.core.errors import Finding, Level
from restless_tide.core.graph import Standing, locked_because, will_lock
from restless_tide.core.rulebook import LocksAt, OfferPart, Rulebook, Thing, Who

_PART_OF = {
    "who": OfferPart.WHO,
    "organisations": OfferPart.WHO,
    "price": OfferPart.PRICE,
    "currency": OfferPart.PRICE,
    "countries": OfferPart.COUNTRIES,
}
_PLACES = 2


MOST_COUNTRIES, MOST_ORGANISATIONS = 300, 300
Country = Annotated[str, Field(max_length=100)]
Organisation = Annotated[str, Field(max_length=300)]


class Availability(BaseModel):
    """How a berth offers its app. No countries: everywhere the store is; no price: free."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    closed: bool = Field(default=False, description="nobody new gets the app there")
    price: Decimal | None = Field(
        default=None, gt=0, max_digits=13, decimal_places=4, description="in the currency; none: free"
    )
    currency: str | None = Field(default=None, max_length=3, description="ISO 4217")
    countries: tuple[Country, ...] = Field(
        default=(), max_length=MOST_COUNTRIES, description="ISO 3166 alpha-2; none: everywhere the store is"
    )
    who: Who = Who.EVERYONE
    organisations: tuple[Organisation, ...] = Field(default=(), max_length=MOST_ORGANISATIONS)

    @field_validator("countries", mode="after")
    @classmethod
    def _sorted(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(sorted({code.upper() for code in value}))

    @model_validator(mode="after")
    def _fits_together(self) -> Availability:
        if (self.price is None) != (self.currency is None):
            raise ValueError("a price needs a currency, and a currency a price")
        if (self.who is Who.ORGANISATIONS) != bool(self.organisations):
            raise ValueError("named organisations need their names, and only they have any")
        return self

    @property
    def paid(self) -> bool:
        return self.price is not None

    def told(self) -> str:
        """In one line, such as ``everyone, 12 countries, EUR 2.99``."""
        who = str(self.who) if not self.organisations else f"only {', '.join(self.organisations)}"
        where = (
            f"{len(self.countries)} countries" if len(self.countries) > 1 else "".join(self.countries) or "everywhere"
        )
        price = f"{self.currency} {self.price:.{_PLACES}f}" if self.price is not None else "free"
        return ", ".join([*(["closed to new people"] if self.closed else []), who, where, price])


def changed(before: Availability, after: Availability) -> list[str]:
    """The fields that differ."""
    return [name for name in Availability.model_fields if getattr(before, name) != getattr(after, name)]


def check_change(rules: Rulebook, before: Availability, after: Availability, standing: Standing) -> list[Finding]:
    """What the store's rules say against the change; locks and one-way changes by the graph."""
    allowed, findings = rules.availability, []

    def no(code: str, detail: str, place: str, remedy: str = "") -> None:
        findings.append(Finding(code, Level.BLOCKER, detail, place, remedy))

    for thing in _decided(rules, before, after):
        if why := locked_because(thing, standing):
            no("locked", why, str(thing.part))
        if thing.part is OfferPart.PRICE and _rises_while_live(thing, before, after, standing):
            no("only-downwards", f"{thing.title} can only go down once the app is live.", "price")
    if after.who not in allowed.who:
        no("who-unknown", f"{rules.store} offers apps to {' or '.join(allowed.who)} only.", "who")
    if after.paid and not allowed.paid:
        no("paid-not-taken", f"{rules.store} carries free apps only.", "price")
    if standing.live and before.paid and not after.paid and not allowed.paid_to_free:
        no("one-way", f"At {rules.store} a paid app stays a paid one.", OfferPart.PAYMENT)
    if standing.live and after.paid and not before.paid and not allowed.free_to_paid:
        remedy = "A paid edition needs an app of its own."
        no("one-way", f"At {rules.store} an app that was offered free stays free.", OfferPart.PAYMENT, remedy)
    if after.currency and allowed.currencies and after.currency not in allowed.currencies:
        no("currency-not-taken", f"{rules.store} takes {', '.join(allowed.currencies)}.", "currency")
    if after.price is not None and allowed.lowest_price is not None and after.price < allowed.lowest_price:
        no("price-too-low", f"The lowest price at {rules.store} is {allowed.lowest_price}.", "price")
    if after.price is not None and allowed.highest_price is not None and after.price > allowed.highest_price:
        no("price-too-high", f"The highest price at {rules.store} is {allowed.highest_price}.", "price")
    beyond = [code for code in after.countries if allowed.countries and code not in allowed.countries]
    if beyond:
        no("country-not-reached", f"{rules.store} does not reach {', '.join(beyond)}.", "countries")
    if after.closed and not before.closed and not allowed.may_close:
        no("cannot-close", f"{rules.store} cannot close an app; withdraw the release instead.", "closed")
    return findings


def concerns(found: Finding, thing: Thing) -> bool:
    """Whether a finding on another offer is about what this thing of the graph decides."""
    part = _PART_OF.get(found.place, found.place)
    if part in (OfferPart.PRICE, OfferPart.PAYMENT):
        return thing.part in (OfferPart.PRICE, OfferPart.PAYMENT)
    return thing.part is part or part not in list(OfferPart)


def consequences(rules: Rulebook, before: Availability, after: Availability, standing: Standing) -> list[str]:
    """What a person should know before the change: what people see, and what cannot be taken back."""
    told = []
    if after.closed and not before.closed:
        told.append("Nobody new gets the app there; those who have it keep it. Reopening undoes it.")
    if before.closed and not after.closed:
        told.append("New people get the app there again.")
    gone = [code for code in before.countries if code not in after.countries] if after.countries else []
    if gone or (after.countries and not before.countries):
        told.append(f"Nobody new gets it {'in ' + ', '.join(gone) if gone else 'outside the countries named'}.")
    if before.paid != after.paid:
        back = rules.availability.paid_to_free if after.paid else rules.availability.free_to_paid
        kind = "a paid app" if after.paid else "free"
        told.append(
            f"It becomes {kind}." + ("" if back else f" {rules.store} does not let this be taken back once live.")
        )
    told.extend(line for thing in _decided(rules, before, after) if (line := will_lock(thing, standing)))
    return told


def _decided(rules: Rulebook, before: Availability, after: Availability) -> list[Thing]:
    """The things of the store's graph that a change is about."""
    parts = dict.fromkeys(_PART_OF[name] for name in changed(before, after) if name in _PART_OF)
    if OfferPart.PRICE in parts and before.paid != after.paid:
        parts = dict.fromkeys(OfferPart.PAYMENT if part is OfferPart.PRICE else part for part in parts)
    return [thing for part in parts if (thing := rules.deciding(part)) is not None]


def _rises_while_live(thing: Thing, before: Availability, after: Availability, standing: Standing) -> bool:
    if thing.locks_at is not LocksAt.ONLY_DOWNWARDS or not standing.live:
        return False
    return before.price is not None and after.price is not None and after.price > before.price
