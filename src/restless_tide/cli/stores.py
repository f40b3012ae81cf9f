"""tide store, app, berth."""

from __future__ import annotations

import json

from restless_tide.cli.call import Call, cell, file_argument
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Nouns, app_argument, store_argument
from restless_tide.cli.telling import moment
from restless_tide.wire.errors import Invalid
from restless_tide.wire.stores import StoreTold

_WAIT_SECONDS = 10.0


def add(nouns: Nouns) -> None:
    nouns.noun("store", "stores: connect, list, show")
    parser = nouns.command("store connect", _connect, "connect a store from its connection file, or replace its key")
    parser.add_argument("name", help="a short name for this account")
    parser.add_argument("file", help="the connection file the store handed out")
    nouns.command("store list", _list, "list the stores")
    nouns.command("store show", _show, "what one store allows").add_argument("name")

    nouns.noun("app", "apps: register, list, show")
    parser = nouns.command("app add", _add_app, "register an app")
    parser.add_argument("name", help="short name for commands, such as marram")
    parser.add_argument("--title", default="", help="as people know it")
    parser.add_argument("--android", metavar="IDENTIFIER", help="its identifier on Android")
    parser.add_argument("--ios", metavar="IDENTIFIER", help="its identifier on iOS")
    nouns.command("app list", _apps, "list the apps")
    nouns.command("app show", _app, "an app and its berths").add_argument("name")

    nouns.noun("berth", "an app's place at a store")
    parser = nouns.command("berth open", _open_berth, "open an app's place at a store, or try again after a refusal")
    app_argument(parser)
    store_argument(parser)
    parser.add_argument("--name", default="", help="the name at the store; the app's title if left out")
    parser.add_argument("--language", default="en", help="first language, such as en or de-AT")
    parser.add_argument(
        "--wait", type=float, default=_WAIT_SECONDS, metavar="SECONDS", help="how long to wait for the store's answer"
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
    found = call.tide.stores.every()

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
        call.show(table, empty="No store is connected yet. Connect one with: tide store connect NAME FILE")

    call.answer(found, shown)


def _state(store: StoreTold) -> str:
    return f"not reached: {cell(store.trouble)}" if store.trouble else "reached"


def _show(call: Call) -> None:
    found = next((store for store in call.tide.stores.every() if store.name == call.given.name), None)
    if found is None:
        raise Invalid(f"No store is called {call.given.name!r}.", remedy="See: tide store list", code="store-unknown")
    store = found

    def shown() -> None:
        call.say(f"{store.title} as {store.name}, at {store.address}: {_state(store)}")
        call.say(f"Connected {moment(store.connected_at)}. This key may: {', '.join(store.may)}.")
        call.say(f"Rulebook {store.rulebook_revision}:")
        for rule in store.rules:
            call.say(f"  {rule}")

    call.answer(store, shown)


def _add_app(call: Call) -> None:
    identifiers = {name: value for name, value in (("android", call.given.android), ("ios", call.given.ios)) if value}
    app = call.tide.apps.register(call.given.name, title=call.given.title, identifiers=identifiers)
    told = ", ".join(f"{platform} {identifier}" for platform, identifier in app.identifiers.items())
    call.answer(app, lambda: call.say(f"{app.title} is registered as {app.name} ({told})."))


def _apps(call: Call) -> None:
    found = call.tide.apps.every()

    def shown() -> None:
        table = call.table("APP", "TITLE", "IDENTIFIERS", "BERTHS")
        for app in found:
            berths = ", ".join(f"{berth.store} ({berth.state})" for berth in app.berths)
            table.add_row(
                app.name,
                cell(app.title),
                "\n".join(f"{key}: {value}" for key, value in app.identifiers.items()),
                berths,
            )
        call.show(table, empty="No app is registered yet. Register one with: tide app add NAME --android IDENTIFIER")

    call.answer(found, shown)


def _app(call: Call) -> None:
    app = call.tide.apps.one(call.given.name)

    def shown() -> None:
        call.say(f"{app.title} ({app.name})")
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
        lambda: call.tide.apps.berth(given.app, given.store), lambda seen: seen.state != "ordered", given.wait
    )

    def shown() -> None:
        if berth.state == "open":
            call.say(f"{berth.store_title} has opened the berth: {berth.listed_name} ({berth.identifier}).")
        elif berth.state == "refused":
            call.say(f"{berth.store_title} refused: {berth.refused_because}")
            call.say(f"Try another name: tide berth open --app {given.app} --store {given.store} --name NAME")
        else:
            call.say(f"Ordered, not confirmed yet. {berth.waiting_because or ''}".strip())

    call.answer(berth, shown)
    return {"open": Exit.DONE, "refused": Exit.REFUSED, "ordered": Exit.NOT_CONFIRMED}[berth.state]
