"""tide dossier: what stores ask about an app, entered once."""

from __future__ import annotations

from restless_tide.cli import dossier_folders, dossier_goods, dossier_pictures, dossier_questions
from restless_tide.cli.call import Call, begun, cell, text_argument
from restless_tide.cli.exits import Exit
from restless_tide.cli.facts import show_sheet
from restless_tide.cli.parsing import Nouns, app_argument, span, store_argument
from restless_tide.core.answers import AnswerState
from restless_tide.core.errors import Invalid
from restless_tide.core.texts import TextState
from restless_tide.folders.exchange import counted, store_of
from restless_tide.wire.dossier import SendingTold, TextsTold


def add(nouns: Nouns) -> None:
    nouns.noun("dossier")
    parser = nouns.command(
        "dossier show",
        _show,
        "the texts of an app, and where they stand at each store",
        description="The texts of an app, and where they stand at each store. With --store, what that store gets of them:\n"
        "how long each is, how much is left, and what differs from what the store holds.",
    )
    app_argument(parser)
    store_argument(parser, required=False)
    parser.add_argument("--locale", help="this locale alone")
    parser = nouns.command(
        "dossier write",
        _write,
        "write texts once for all stores, or for one alone",
        description="Write texts once for all stores that ask for them, or with --store for that store alone, by its own name\n"
        "of the field. An empty text takes it out. Stores get them with: tide dossier send",
    )
    parser.add_argument("locale", help="such as en or de-AT")
    parser.add_argument(
        "texts",
        nargs="+",
        metavar="FIELD=TEXT",
        help="such as summary=TEXT; @FILE reads a file, - a pipe; empty takes it out; the fields: tide dossier show",
    )
    app_argument(parser)
    store_argument(parser, required=False)
    parser = nouns.command("dossier add-locale", _add_locale, "add a locale, with the texts of another to begin from")
    parser.add_argument("locale", help="such as de-AT")
    parser.add_argument("--copy", required=True, metavar="LOCALE", help="the locale whose texts it begins with")
    app_argument(parser)
    parser = nouns.command("dossier drop-locale", _drop_locale, "take out every text of a locale")
    parser.add_argument("locale")
    app_argument(parser)
    parser.add_argument("--yes", action="store_true", help="do not ask first")
    parser = nouns.command("dossier take", _take, "take over here what a store holds and nobody put in here")
    app_argument(parser)
    store_argument(parser)
    parser = nouns.command(
        "dossier send",
        _send,
        "send what differs to a store, or to all: texts, pictures, answers, goods; first those of a folder to the desk",
        description="Send what a store does not hold as it is here, to that store or to all: texts, pictures, answers, goods. What is fixed\n"
        "while a version is under review is kept and sent automatically as soon as it may change. With a folder, its changes\n"
        "are written at the desk first; what was changed at both stops it before anything is written.",
    )
    parser.add_argument("folder", nargs="?", metavar="FOLDER", help="a dossier folder; it says which app it is about")
    parser.add_argument("--app", metavar="APP", help="the app's short name; needed without a folder")
    store_argument(parser, required=False)
    parser.add_argument(
        "--wait", type=span, default=10.0, metavar="SECONDS", help="how long to wait for the stores' answers (10)"
    )

    dossier_pictures.add(nouns)
    dossier_questions.add(nouns)
    dossier_goods.add(nouns)
    dossier_folders.add(nouns)


def _show(call: Call) -> None:
    told = call.tide.dossier.texts(call.given.app)
    call.answer(told, lambda: _tell_store(call, told) if call.given.store else _tell(call, told))


def _tell(call: Call, told: TextsTold) -> None:
    titles = {field.key: field.title for field in told.fields}
    table = call.table("LOCALE", "FIELD", "FOR", "TEXT", "CHANGED BY")
    for text in told.texts:
        if call.given.locale in (None, text.locale):
            title = titles.get(text.field, text.field)
            table.add_row(
                text.locale,
                cell(f"{title} ({text.field})" if title != text.field else title),
                cell(text.store or "all stores"),
                cell(begun(text.text)),
                cell(text.changed_by),
            )
    call.show(
        table,
        empty=f"Nothing is written yet. Begin with: tide dossier write en description=TEXT --app {told.app}",
    )
    call.say("")
    table = call.table("STORE", "TEXTS", "DIFFER", "FIRST LANGUAGE")
    for store in told.stores:
        table.add_row(cell(store.store), str(len(store.texts)), str(store.differing or ""), store.language)
    call.show(table, empty="No store where the app has a place asks for texts.")
    fields = ", ".join(field.key for field in told.fields)
    call.say(f"Fields that all stores share: {fields}.")


def _tell_store(call: Call, told: TextsTold) -> None:
    store = store_of(told.stores, call.given.store)
    fields = {field.key: field for field in store.fields}
    table = call.table("LOCALE", "FIELD", "STATE", "LENGTH", "LEFT", "TEXT")
    for text in store.texts:
        if call.given.locale in (None, text.locale):
            field = fields[text.field]
            own = " (its own)" if text.origin == "own" else ""
            table.add_row(
                text.locale,
                cell(f"{field.title}{own}"),
                text.state,
                f"{text.length} {field.counted_in}",
                str(text.left),
                cell(begun(text.text or text.held)),
            )
    call.show(table, empty=f"{store.store_title} gets no text yet.")
    for field in store.fields:
        wanted = "required" if field.required else "may be left out"
        lock = f" {field.lock}" if field.lock else " It may change any time."
        call.say(f"{field.key}: {field.title}, up to {field.limit} {field.counted_in}, {wanted}.{lock}")
    if store.refused_because:
        call.say(f"{store.store_title} refused the texts it was sent last: {store.refused_because}")
    if store.findings:
        call.say("")
        show_sheet(call, store.store_title, store.findings)


def _write(call: Call) -> None:
    given = call.given
    wrong = [word for word in given.texts if "=" not in word]
    if wrong:
        raise Invalid(f"A text needs its field and an equals sign: {', '.join(wrong)}", code="argument-unfit")
    texts = {field: text_argument(text) for field, _, text in (word.partition("=") for word in given.texts)}
    told = call.tide.dossier.write(given.app, given.locale, texts, store=given.store)

    def shown() -> None:
        for field, text in texts.items():
            word = "written" if text else "taken out"
            call.say(f"{field} in {given.locale} is {word} for {given.store or 'all stores'}.")
        at = f" --store {given.store}" if given.store else ""
        call.say(f"Send it with: tide dossier send --app {given.app}{at}")

    call.answer(told, shown)


def _add_locale(call: Call) -> None:
    given = call.given
    told = call.tide.dossier.copy_locale(given.app, given.copy, given.locale)
    call.answer(told, lambda: call.say(f"{given.app} has texts in {', '.join(told.locales)}."))


def _drop_locale(call: Call) -> None:
    given = call.given
    call.demand_confirmation(f"Every text of {given.app} in {given.locale} is taken out, for all stores.")
    told = call.tide.dossier.drop_locale(given.app, given.locale)
    call.answer(told, lambda: call.say(f"{given.app} has texts in {', '.join(told.locales) or 'no locale'}."))


def _take(call: Call) -> None:
    given = call.given
    told = call.tide.dossier.take_over(given.app, given.store)
    said = counted(told.texts, told.pictures, told.answers, told.goods)
    taken = f"Taken over from {given.store}: {said}." if said else f"{given.store} holds nothing that is not here."
    call.answer(told, lambda: call.say(taken))


def _send(call: Call) -> Exit | None:
    given = call.given
    if given.folder is not None:
        given.app = dossier_folders.hand_over(call, given.folder, given.app)
    if given.app is None:
        raise Invalid("Which app?", remedy="Name it with --app, or name a dossier folder.", code="app-missing")
    sent = call.tide.dossier.send(given.app, store=given.store)
    states = call.wait_until(lambda: _states(call, sent), _settled, given.wait) if any(map(_some, sent)) else {}
    call.answer(sent, lambda: _tell_sent(call, sent, states))
    if any(_REFUSED & _all_of(states, store) for store in states):
        return Exit.REFUSED
    return None if _settled(states) else Exit.NOT_CONFIRMED


_UNDER_WAY, _REFUSED = {TextState.ORDERED, AnswerState.SENT}, {TextState.REFUSED, AnswerState.REFUSED}
_States = dict[str, dict[str, set[str]]]
"""By store, then by the command that shows them: the states in which its texts, pictures, answers and goods are."""


def _some(one: SendingTold) -> int:
    return one.sent + one.pictures_sent + one.answers_sent + one.goods_sent


def _states(call: Call, sent: list[SendingTold]) -> _States:
    found: _States = {one.store: {} for one in sent if _some(one)}
    app, dossier = call.given.app, call.tide.dossier
    if any(one.sent for one in sent):
        for texts in dossier.texts(app).stores:
            found.get(texts.store, {})["show"] = {text.state for text in texts.texts}
    if any(one.pictures_sent for one in sent):
        for shown in dossier.pictures(app).stores:
            found.get(shown.store, {})["pictures"] = {one.state for one in shown.sets}
    if any(one.answers_sent for one in sent):
        for asked in dossier.questions(app).stores:
            found.get(asked.store, {})["questions"] = {one.state for one in asked.questions}
    if any(one.goods_sent for one in sent):
        for sold in dossier.goods(app).stores:
            found.get(sold.store, {})["goods"] = {one.state for one in sold.goods}
    return found


def _all_of(states: _States, store: str) -> set[str]:
    return set().union(*states.get(store, {}).values())


def _settled(states: _States) -> bool:
    return not any(_UNDER_WAY & _all_of(states, store) for store in states)


def _tell_sent(call: Call, sent: list[SendingTold], states: _States) -> None:
    for one in sent:
        waiting = one.kept + one.pictures_kept + one.answers_kept + one.goods_kept
        kept = f" {waiting} {'waits' if waiting == 1 else 'wait'} until the review there has ended." if waiting else ""
        found = _all_of(states, one.store)
        what = counted(one.sent, one.pictures_sent, one.answers_sent, one.goods_sent)
        if not what:
            call.say(f"{one.store_title}: nothing to send now.{kept}")
        elif _REFUSED & found:
            pages = [page for page, those in states[one.store].items() if _REFUSED & those]
            each = {
                "show": one.sent,
                "pictures": one.pictures_sent,
                "questions": one.answers_sent,
                "goods": one.goods_sent,
            }
            refused = counted(*(count if page in pages else 0 for page, count in each.items()))
            see = f"See why with: tide dossier {pages[0]} --app {call.given.app} --store {one.store}"
            call.say(f"{one.store_title}: it refused {refused}. {see}{kept}")
        else:
            word = "ordered, not confirmed yet" if _UNDER_WAY & found else "held there now"
            call.say(f"{one.store_title}: {what} {word}.{kept}")
