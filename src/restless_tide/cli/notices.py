"""tide notice: who is subscribed to what, and what became of it."""

from __future__ import annotations

from restless_tide.cli.arranging import Listing, limit_argument
from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Nouns
from restless_tide.cli.telling import moment
from restless_tide.core.notice import DELIVERY, DeliveryState, NoticeKind
from restless_tide.wire.notices import SubscriptionTold

_WAIT_SECONDS = 10.0


_SUBSCRIPTIONS: Listing[SubscriptionTold] = Listing(
    words=lambda entry: (entry.id, entry.channel, entry.address, *entry.apps, *entry.kinds),
    sort={"to": lambda entry: entry.address, "by": lambda entry: entry.channel, "made": lambda entry: entry.created_at},
    since=lambda entry: entry.created_at,
)


def add(nouns: Nouns) -> None:
    nouns.noun("notice")
    kinds = "\n".join(f"  {kind}" for kind in NoticeKind)
    parser = nouns.command(
        "notice subscribe",
        _subscribe,
        "subscribe to notices",
        description=f"Subscribe by mail or by signed webhook (Standard Webhooks, CloudEvents).\n\nkinds:\n{kinds}",
    )
    parser.add_argument("channel", choices=["mail", "webhook"])
    parser.add_argument("address", help="a mail address, or where to post")
    parser.add_argument(
        "--kind", action="append", default=[], choices=[str(kind) for kind in NoticeKind], metavar="KIND"
    )
    parser.add_argument("--app", action="append", default=[], metavar="APP", help="only of this app; repeat it")
    _SUBSCRIPTIONS.arguments(nouns.command("notice list", _list, "who is subscribed to what"))
    nouns.command("notice end", _end, "end a subscription").add_argument("subscription")
    nouns.command("notice try", _try, "send a notice of no consequence").add_argument("subscription")
    parser = nouns.command("notice deliveries", _deliveries, "what was sent to whom, and what waits or failed")
    limit_argument(parser, 100)
    nouns.command("notice again", _again, "send a delivery that was given up once more").add_argument("delivery")


def _subscribe(call: Call) -> None:
    given = call.given
    made = call.tide.notices.subscribe(given.channel, given.address, kinds=given.kind, apps=given.app)

    def shown() -> None:
        call.say(f"{made.address} is subscribed to: {', '.join(made.kinds)}. It is subscription {made.id}.")
        if made.secret:
            call.say(f"Its signing secret, shown this once: {made.secret}")
        call.say(f"Try the way: tide notice try {made.id}")

    call.answer(made, shown)


def _list(call: Call) -> None:
    every = call.tide.notices.subscriptions()
    found = _SUBSCRIPTIONS.arranged(call, every)

    def shown() -> None:
        table = call.table("SUBSCRIPTION", "BY", "TO", "APPS", "KINDS")
        for entry in found:
            kinds = "all" if len(entry.kinds) == len(NoticeKind) else ", ".join(entry.kinds)
            table.add_row(entry.id, entry.channel, cell(entry.address), ", ".join(entry.apps) or "all", cell(kinds))
        none = "Nobody is subscribed yet. Begin with: tide notice subscribe mail ADDRESS"
        call.show(table, empty="No subscription is like that." if every else none)

    call.answer(found, shown)


def _end(call: Call) -> None:
    call.tide.notices.end(call.given.subscription)
    call.answer({"ended": call.given.subscription}, lambda: call.say("Ended; nothing more is sent."))


def _try(call: Call) -> Exit:
    made = call.tide.notices.try_out(call.given.subscription)

    def look() -> str:
        return next((entry.state for entry in call.tide.notices.deliveries() if entry.id == made.id), made.state)

    state = call.wait_until(look, lambda seen: seen != DELIVERY.initial, _WAIT_SECONDS)
    entry = next((entry for entry in call.tide.notices.deliveries() if entry.id == made.id), made)
    told = (
        "It was taken."
        if state == DeliveryState.SENT
        else f"It was not taken yet: {entry.trouble or 'it still waits'}."
    )
    call.answer(entry, lambda: call.say(told))
    return Exit.DONE if state == DeliveryState.SENT else Exit.NOT_CONFIRMED


def _deliveries(call: Call) -> None:
    found = call.tide.notices.deliveries(call.given.limit)

    def shown() -> None:
        table = call.table("DELIVERY", "WHEN", "TO", "KIND", "SAID", "STATE")
        for entry in found:
            state = str(entry.state) + (f" ({entry.attempts} tries: {entry.trouble})" if entry.trouble else "")
            when = moment(entry.at)
            table.add_row(entry.id, when, cell(entry.address), cell(entry.kind), cell(entry.said), cell(state))
        call.show(table, empty="Nothing was sent yet.")

    call.answer(found, shown)


def _again(call: Call) -> None:
    entry = call.tide.notices.send_again(call.given.delivery)
    call.answer(entry, lambda: call.say("It is queued again."))
