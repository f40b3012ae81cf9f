"""tide store, app, berth."""

from __future__ import annotations

import json

from pydantic import ValidationError

from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell, file_argument
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Nouns, Parser, app_argument, span, store_argument
from restless_tide.cli.ready import MARKS
from restless_tide.cli.retiring import demand_confirmation, reason_arguments
from restless_tide.cli.telling import moment
from restless_tide.core.berth import BerthState
from restless_tide.core.breaker import BreakerState
from restless_tide.wire.apps import AppTold, Availability, BerthDetailTold, OfferSheetTold
from restless_tide.wire.errors import Invalid
from restless_tide.wire.stores import StoreTold

_WAIT_SECONDS = 10.0


_STORES: Listing[StoreTold] = Listing(
    words=lambda store: (store.name, store.title, store.account, *store.platforms),
    sort={
        "store": lambda store: store.name,
        "at": lambda store: store.title,
        "waiting": lambda store: store.pending_orders,
    },
)
_APPS: Listing[AppTold] = Listing(
    words=lambda app: (app.name, app.title, *app.identifiers.values(), *(berth.store for berth in app.berths)),
    sort={"app": lambda app: app.name, "title": lambda app: app.title, "added": lambda app: app.created_at},
    since=lambda app: app.created_at,
)
_PLATFORMS = ("android", "ios", "desktop")


def add(nouns: Nouns) -> None:
    nouns.noun("store")
    parser = nouns.command("store connect", _connect, "connect a store from its connection file, or replace its key")
    parser.add_argument("name", help="a short name for this account")
    parser.add_argument("file", help="the connection file the store handed out")
    parser = nouns.command("store carry", _carry, "keep a store without a gateway: its orders become steps for people")
    parser.add_argument("name", help="a short name for this store")
    parser.add_argument("file", help="its rulebook (TOML; see docs/rulebooks.md)")
    nouns.command("store key-steps", _key_steps, "how a key is made at a store, with the rights it needs")
    nouns.command("store renew-secret", _renew, "a new secret for the events the store pushes").add_argument("name")
    nouns.command(
        "store retry-events",
        _retry_events,
        "try the events again that the desk could not take",
        description="Try the store's events again that the desk could not take, after an update of the desk or of the\n"
        "store's gateway. Events that came after them were taken all the same.",
    ).add_argument("name")
    parser = nouns.command(
        "store disconnect",
        _disconnect,
        "forget a store's key and order nothing more of it",
        description="Forget a store's key and order nothing more of it. What happened stays to be read, and tide store\n"
        "connect takes it into use again under the same name. What must end before, and what stays as it is, is said first.",
    )
    parser.add_argument("name")
    reason_arguments(parser, asks=True)
    _STORES.arguments(nouns.command("store list", _list, "list the stores"))
    nouns.command("store show", _show, "how a store stands, what it allows, and which rules change").add_argument(
        "name"
    )

    nouns.noun("app")
    parser = nouns.command("app add", _add_app, "register an app")
    parser.add_argument("name", help="short name for commands, such as marram")
    parser.add_argument("--title", default="", help="as people know it")
    parser.add_argument("--android", metavar="IDENTIFIER", help="its identifier on Android")
    parser.add_argument("--ios", metavar="IDENTIFIER", help="its identifier on iOS")
    parser.add_argument("--desktop", metavar="IDENTIFIER", help="its identifier on desktops")
    parser = nouns.command("app list", _apps, "list the apps")
    parser.add_argument("--retired", action="store_true", help="those out of use, too")
    _APPS.arguments(parser)
    nouns.command("app show", _app, "an app and its berths").add_argument("name")

    parser = nouns.command("app change", _change_app, "correct an app's title, or an identifier that nothing uses yet")
    parser.add_argument("name")
    parser.add_argument("--title", help="as people know it")
    for platform in _PLATFORMS:
        parser.add_argument(f"--{platform}", metavar="IDENTIFIER", help="its identifier there; empty takes it out")
    parser = nouns.command("app remove", _remove_app, "remove an app that nothing hangs on")
    parser.add_argument("name")
    parser.add_argument("--yes", action="store_true", help="do not ask first")

    parser = nouns.command(
        "app retire",
        _retire,
        "take an app out of use; its history stays",
        description="Take an app out of use: it leaves the overview and nothing new begins with it, and everything that\n"
        "happened stays to be read. What must end before, and what stays as it is, is said first.",
    )
    parser.add_argument("name")
    reason_arguments(parser, asks=True)
    parser = nouns.command("app restore", _restore, "take an app into use again")
    parser.add_argument("name")
    reason_arguments(parser)

    nouns.noun("berth")
    parser = nouns.command("berth open", _open_berth, "open an app's place at a store, or try again after a refusal")
    app_argument(parser)
    store_argument(parser)
    parser.add_argument("--name", default="", help="the name at the store; the app's title if left out")
    parser.add_argument("--language", default="en", help="first language, such as en or de-AT")
    _wait_argument(parser)
    parser = nouns.command("berth rename", _rename_berth, "give an app another name at a store")
    app_argument(parser)
    store_argument(parser)
    parser.add_argument("--to", required=True, metavar="NAME")
    reason_arguments(parser)
    _wait_argument(parser)
    parser = nouns.command("berth show", _berth, "what is offered at a berth, and the way to a launch")
    app_argument(parser)
    store_argument(parser)
    parser = nouns.command(
        "berth offer",
        _offer,
        "set price, countries and who may get the app; close it or reopen it",
        description="Set price, countries and who may get the app at a store, or close it to new people. What is left\n"
        "out stays as it is. What would lock, or cannot be taken back, is said before.",
    )
    app_argument(parser)
    store_argument(parser)
    parser.add_argument("--price", metavar="AMOUNT", help="such as 2.99; 0 or free: it costs nothing")
    parser.add_argument("--currency", metavar="CODE", help="ISO 4217, such as EUR")
    parser.add_argument("--countries", metavar="CODES", help="ISO 3166 with commas, such as DE,AT; all: everywhere")
    parser.add_argument("--only", action="append", metavar="NAME", help="only this organisation; repeat it")
    parser.add_argument("--everyone", action="store_true", help="everyone may get it")
    way = parser.add_mutually_exclusive_group()
    way.add_argument("--close", action="store_true", help="nobody new gets the app there")
    way.add_argument("--reopen", action="store_true", help="new people get it again")
    parser.add_argument("--reason", default="", help="why; it stands in the logbook")
    parser.add_argument("--check", action="store_true", help="only say what it would mean")
    parser.add_argument("--yes", action="store_true", help="do not ask first")
    _wait_argument(parser)


def _wait_argument(parser: Parser) -> None:
    parser.add_argument(
        "--wait", type=span, default=_WAIT_SECONDS, metavar="SECONDS", help="how long to wait for the store's answer"
    )


def _connect(call: Call) -> None:
    text = file_argument(call.given.file).read_text(encoding="utf-8", errors="replace")
    try:
        connection = json.loads(text)
    except ValueError:
        connection = None
    if not isinstance(connection, dict):
        raise Invalid(
            f"{call.given.file} is no connection file: it is not a JSON object.",
            remedy="Use the file the store handed out unchanged.",
        )
    store = call.tide.stores.connect(call.given.name, connection)

    def shown() -> None:
        call.say(f"{store.title} is connected as {store.name}, and the connection works. The key is sealed.")
        call.say(f"This key may: {', '.join(store.may)}.")
        for rule in store.rules:
            call.say(f"  {rule}")

    call.answer(store, shown)


def _list(call: Call) -> None:
    every = call.tide.stores.every()
    found = _STORES.arranged(call, every)

    def shown() -> None:
        table = call.table("STORE", "AT", "PLATFORMS", "RULEBOOK", "ORDERS WAITING", "STATE")
        for store in found:
            table.add_row(
                store.name,
                cell(store.title),
                ", ".join(store.platforms),
                store.rulebook_revision,
                str(store.pending_orders),
                _state(store),
            )
        call.show(
            table,
            empty="No store is like that."
            if every
            else "No store is connected yet. Connect one with: tide store connect NAME FILE",
        )

    call.answer(found, shown)


def _state(store: StoreTold) -> str:
    if store.disconnected_at:
        return f"disconnected {moment(store.disconnected_at)}"
    if store.hand_carried:
        return "carried by hand" + (f", {store.waiting_steps} step(s) wait" if store.waiting_steps else "")
    if store.untaken and not store.trouble:
        return f"reached; {len(store.untaken)} event(s) could not be taken"
    if store.trouble:
        return f"not reached: {cell(store.trouble)}"
    return (
        "reached"
        if store.breaker.state == BreakerState.CLOSED
        else f"reached; left alone for now (breaker {store.breaker.state})"
    )


def _show(call: Call) -> None:
    store = call.tide.stores.one(call.given.name)

    def shown() -> None:
        where = "carried by hand" if store.hand_carried else f"at {store.address}"
        call.say(f"{store.title} as {store.name}, {where}: {_state(store)}")
        if not store.hand_carried and store.disconnected_at is None:
            _tell_connection(call, store)
        call.say(f"\nRulebook {store.rulebook_revision}:")
        for rule in store.rules:
            call.say(f"  {rule}")
        _tell_revisions(call, store)

    call.answer(store, shown)


def _tell_connection(call: Call, store: StoreTold) -> None:
    call.say(f"Connected {moment(store.connected_at)}. This key may: {', '.join(store.may)}.")
    for right, consequence in store.missing_rights.items():
        call.say(f"  without {right}: {consequence}")
    call.say(f"Account {store.account or '–'}, standing {store.standing or 'not told yet'}.")
    for told in store.blocked:
        call.say(f"  {told}")
    for expiry in store.expiries:
        call.say(f"  {expiry.what} ends {moment(expiry.until)}. {expiry.blocks}")
    pushed = f"pushed, last {moment(store.pushed_at)}" if store.pushed_at else "pushed" if store.pushes else "asked for"
    call.say(f"Events are {pushed}; the last by the store's clock: {moment(store.last_event_at) or 'none yet'}.")
    if store.forged_events:
        call.say(f"  {store.forged_events} pushed event(s) did not prove where they came from and were refused.")
    if abs(store.skew_seconds) >= 1:
        call.say(f"  Its clock differs from ours by {store.skew_seconds:.0f} s; the desk allows for it.")
    for event in store.untaken:
        call.say(f"  Event {event.sequence} ({event.type}) could not be taken {moment(event.at)}: {event.why}")
    if store.untaken:
        call.say(f"  After an update, try them again: tide store retry-events {store.name}")
    breaker = store.breaker
    rests = f", left alone until {moment(breaker.rests_until)}" if breaker.state == BreakerState.OPEN else ""
    call.say(f"Breaker {breaker.state}, {breaker.failures} failure(s) in a row{rests}.")


def _tell_revisions(call: Call, store: StoreTold) -> None:
    if store.rulebook_trouble:
        call.say(f"A newer rulebook was not taken: {store.rulebook_trouble}")
    if store.announced:
        call.say(f"\nAnnounced: revision {store.announced.revision}, in force {moment(store.announced.in_force_since)}")
        for change in store.announced.changes:
            call.say(f"  {change.name}: {change.before} → {change.after}")
        for hit in store.announced.hits:
            call.say(f"  affects {hit.app} {hit.version or ''}".rstrip() + f": {' '.join(hit.said)}")
        if not store.announced.hits:
            call.say("  It affects no app or release of yours.")
    for revision in store.revisions:
        if revision.changes:
            call.say(f"\nRevision {revision.revision}, received {moment(revision.taken_at)}:")
            for change in revision.changes:
                call.say(f"  {change.name}: {change.before} → {change.after}")


def _carry(call: Call) -> None:
    text = file_argument(call.given.file).read_text(encoding="utf-8", errors="replace")
    store = call.tide.stores.carry(call.given.name, text)
    told = f"{store.title} is kept as {store.name}. Its orders become steps for people: tide step list"
    call.answer(store, lambda: call.say(told))


def _key_steps(call: Call) -> None:
    steps = call.tide.stores.key_steps()

    def shown() -> None:
        for number, step in enumerate(steps, 1):
            call.say(f"{number}. {step}")

    call.answer({"steps": steps}, shown)


def _retry_events(call: Call) -> Exit:
    done = call.tide.stores.try_untaken(call.given.name)

    def shown() -> None:
        if not done.taken and not done.left:
            call.say("Every event of this store was taken; there is nothing to try again.")
        else:
            call.say(f"{done.taken} taken now, {done.left} left.")

    call.answer(done, shown)
    return Exit.REFUSED if done.left else Exit.DONE


def _renew(call: Call) -> None:
    store = call.tide.stores.renew_push_secret(call.given.name)
    call.answer(
        store, lambda: call.say(f"{store.title} signs its events with a new secret; the old one counts a day more.")
    )


def _add_app(call: Call) -> None:
    identifiers = {name: value for name in ("android", "ios", "desktop") if (value := getattr(call.given, name))}
    app = call.tide.apps.register(call.given.name, title=call.given.title, identifiers=identifiers)
    told = ", ".join(f"{platform} {identifier}" for platform, identifier in app.identifiers.items())
    call.answer(app, lambda: call.say(f"{app.title} is registered as {app.name} ({told})."))


def _apps(call: Call) -> None:
    every = [app for app in call.tide.apps.every() if call.given.retired or app.retired_at is None]
    found = _APPS.arranged(call, every)

    def shown() -> None:
        table = call.table("APP", "TITLE", "IDENTIFIERS", "BERTHS")
        for app in found:
            berths = ", ".join(f"{berth.store} ({berth.state})" for berth in app.berths)
            table.add_row(
                app.name,
                cell(app.title + (" (retired)" if app.retired_at else "")),
                "\n".join(f"{key}: {value}" for key, value in app.identifiers.items()),
                berths,
            )
        call.show(
            table,
            empty="No app is like that."
            if every
            else "No app is registered yet. Register one with: tide app add NAME --android IDENTIFIER",
        )

    call.answer(found, shown)


def _app(call: Call) -> None:
    app = call.tide.apps.one(call.given.name)

    def shown() -> None:
        call.say(f"{app.title} ({app.name})" + (f", retired {moment(app.retired_at)}" if app.retired_at else ""))
        table = call.table("STORE", "LISTED AS", "IDENTIFIER", "STATE")
        for berth in app.berths:
            state = f"refused: {berth.refused_because}" if berth.refused_because else berth.state
            table.add_row(berth.store, cell(berth.listed_name), berth.identifier, cell(state))
        call.show(table, empty=f"No berth yet. Open one with: tide berth open --app {app.name} --store STORE")

    call.answer(app, shown)


def _open_berth(call: Call) -> Exit | None:
    given = call.given
    call.tide.apps.open_berth(given.app, given.store, listed_name=given.name, language=given.language)
    berth = call.wait_until(
        lambda: call.tide.apps.berth(given.app, given.store), lambda seen: seen.state != BerthState.ORDERED, given.wait
    )

    def shown() -> None:
        if berth.state == BerthState.OPEN:
            call.say(f"{berth.store_title} has opened the berth: {berth.listed_name} ({berth.identifier}).")
        elif berth.state == BerthState.REFUSED:
            call.say(f"{berth.store_title} refused: {berth.refused_because}")
            call.say(f"Try another name: tide berth open --app {given.app} --store {given.store} --name NAME")
        else:
            call.say(f"Ordered, not confirmed yet. {berth.waiting_because or ''}".strip())

    call.answer(berth, shown)
    return {BerthState.OPEN: Exit.DONE, BerthState.REFUSED: Exit.REFUSED, BerthState.ORDERED: Exit.NOT_CONFIRMED}[
        berth.state
    ]


def _berth(call: Call) -> None:
    told = call.tide.apps.berth_detail(call.given.app, call.given.store)
    call.answer(told, lambda: _tell_berth(call, told))


def _tell_berth(call: Call, told: BerthDetailTold) -> None:
    call.say(f"{told.berth.listed_name} at {told.berth.store_title} ({told.berth.identifier})")
    pending = "" if told.confirmed else f" — ordered, not confirmed. {told.berth.waiting_because or ''}".rstrip()
    call.say(f"Offered: {told.offered_told}{pending}\n")
    table = call.table("THING", "STATE", "WHY", "USUALLY", "LOCKS")
    for thing in told.things:
        usual = f"{thing.usual_hours:g} h" if thing.usual_hours else ""
        table.add_row(
            cell(thing.title), f"{MARKS[thing.state]} {thing.state}", cell(thing.reason), usual, cell(thing.lock)
        )
    call.show(table, empty="This store's rulebook names no things to do.")


def _offer(call: Call) -> Exit | None:
    given = call.given
    before = call.tide.apps.berth_detail(given.app, given.store).offered
    wanted = before.model_dump(mode="json")
    if given.price is not None:
        free = given.price.strip().lower() in ("0", "free", "0.00")
        wanted |= {"price": None if free else given.price, "currency": None if free else before.currency}
    if given.currency is not None and wanted["price"] is not None:
        wanted["currency"] = given.currency.upper()
    if given.countries is not None:
        codes = [code.strip().upper() for code in given.countries.split(",") if code.strip()]
        wanted["countries"] = [] if codes == ["ALL"] else codes
    if given.only:
        wanted |= {"who": "named organisations", "organisations": given.only}
    if given.everyone:
        wanted |= {"who": "everyone", "organisations": []}
    if given.close or given.reopen:
        wanted["closed"] = given.close
    try:
        availability = Availability.model_validate(wanted)
    except ValidationError as wrong:
        told = "; ".join(str(error["msg"]).removeprefix("Value error, ") for error in wrong.errors())
        raise Invalid(f"That does not fit together: {told}.", code="availability-unfit") from None
    sheet = call.tide.apps.check_offer(given.app, given.store, availability)
    if given.check:
        call.answer(sheet, lambda: _tell_sheet(call, availability, sheet))
        return Exit.REFUSED if sheet.findings else Exit.DONE
    if sheet.consequences and not sheet.findings:
        call.demand_confirmation("\n".join(sheet.consequences))
    call.tide.apps.offer(given.app, given.store, availability, reason=given.reason)
    detail = call.wait_until(
        lambda: call.tide.apps.berth_detail(given.app, given.store), lambda seen: seen.confirmed, given.wait
    )
    call.answer(detail, lambda: _tell_berth(call, detail))
    if not detail.confirmed:
        return Exit.NOT_CONFIRMED
    return Exit.DONE if detail.offered == availability else Exit.REFUSED


def _tell_sheet(call: Call, wanted: Availability, sheet: OfferSheetTold) -> None:
    call.say(f"To be offered: {wanted.told()}")
    for finding in sheet.findings:
        call.say(f"  {finding.level}: {finding.detail} {finding.remedy}".rstrip())
    for line in sheet.consequences:
        call.say(f"  {line}")
    if not sheet.findings:
        call.say("Nothing stands against it.")


def _change_app(call: Call) -> None:
    given = call.given
    identifiers = {platform: getattr(given, platform) for platform in _PLATFORMS}
    wanted = {platform: value for platform, value in identifiers.items() if value is not None}
    app = call.tide.apps.change(given.name, title=given.title, identifiers=wanted)
    told = ", ".join(f"{identifier} for {platform}" for platform, identifier in app.identifiers.items())
    call.answer(app, lambda: call.say(f"{app.name} is {app.title} ({told})."))


def _remove_app(call: Call) -> None:
    call.demand_confirmation(f"{call.given.name} is no longer registered after this.")
    call.tide.apps.remove(call.given.name)
    call.answer({"removed": call.given.name}, lambda: call.say(f"{call.given.name} is removed."))


def _disconnect(call: Call) -> None:
    demand_confirmation(call, call.tide.stores.outlook(call.given.name))
    store = call.tide.stores.disconnect(call.given.name, reason=call.given.reason)
    told = f"{store.name} is disconnected. Connect it again with: tide store connect {store.name} FILE"
    if store.hand_carried:
        told = f"{store.name} is out of use. Take it into use again with: tide store carry {store.name} FILE"
    call.answer(store, lambda: call.say(told))


def _retire(call: Call) -> None:
    demand_confirmation(call, call.tide.apps.outlook(call.given.name))
    app = call.tide.apps.retire(call.given.name, reason=call.given.reason)
    told = f"{app.title} is retired. Take it into use again with: tide app restore {app.name}"
    call.answer(app, lambda: call.say(told))


def _restore(call: Call) -> None:
    app = call.tide.apps.restore(call.given.name, reason=call.given.reason)
    call.answer(app, lambda: call.say(f"{app.title} is in use again."))


def _rename_berth(call: Call) -> Exit | None:
    given = call.given
    call.tide.apps.rename_berth(given.app, given.store, given.to, reason=given.reason)
    berth = call.wait_until(
        lambda: call.tide.apps.berth(given.app, given.store), lambda seen: seen.confirmed, given.wait
    )
    done = berth.listed_name == given.to.strip()

    def shown() -> None:
        if not berth.confirmed:
            call.say(f"Ordered, not confirmed yet. {berth.waiting_because or ''}".strip())
        elif done:
            call.say(f"{berth.store_title} lists it as {berth.listed_name} now.")
        else:
            call.say(f"{berth.store_title} refused the name; it stays {berth.listed_name}.")
            call.say(f"Why: tide logbook show --app {given.app} --find 'name refused'")

    call.answer(berth, shown)
    if not berth.confirmed:
        return Exit.NOT_CONFIRMED
    return None if done else Exit.REFUSED
