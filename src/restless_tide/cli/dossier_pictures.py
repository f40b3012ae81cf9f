"""tide dossier pictures: the pictures and films of an app, put in once, and what each store gets of them."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.facts import show_sheet
from restless_tide.cli.parsing import Nouns, Parser, app_argument, store_argument
from restless_tide.core.dossier_folder import name_order
from restless_tide.core.errors import Invalid, NotFound, TooLarge
from restless_tide.core.locales import locale_of
from restless_tide.core.pictures import megabytes
from restless_tide.folders.exchange import store_of
from restless_tide.wire.pictures import MOST_IMPORTED, PicturesTold, PieceTold, StorePicturesTold, StoreSetTold

_CLASS = "such as phone or icon; with --store that store's own class; all: tide dossier pictures"
_ENDINGS = frozenset({".png", ".jpg", ".jpeg", ".webp", ".gif", ".mp4", ".m4v", ".mov", ".webm"})


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "dossier pictures",
        _show,
        "the pictures and films of an app, and where they stand at each store",
        description="The pictures and films of an app, and where they stand at each store. With --store, what that store gets\n"
        "of them: in which size, what is cut off, and what differs from what it holds.",
    )
    app_argument(parser)
    store_argument(parser, required=False)
    parser.add_argument("--locale", help="this locale alone")
    parser = nouns.command(
        "dossier add-pictures",
        _add,
        "put pictures or films in, in this order, once for all stores or for one alone",
        description="Put pictures or films in, in this order, after those that are there. Each store gets them in the sizes and\n"
        "formats that it wants, made of the originals; nothing is enlarged or distorted. Stores get them with: tide dossier send",
    )
    _place_arguments(parser)
    parser.add_argument("files", nargs="+", metavar="FILE", help="PNG, JPEG, WebP or GIF, or MP4 and WebM for films")
    parser.add_argument("--instead", action="store_true", help="instead of those that are there")
    parser = nouns.command("dossier order-pictures", _order, "put the pictures of a set in another order")
    _place_arguments(parser)
    parser.add_argument(
        "numbers", nargs="+", type=int, metavar="NUMBER", help="as they stand now, in the new order: 3 1 2"
    )
    parser = nouns.command("dossier drop-pictures", _drop, "take pictures out of a set, or the whole set")
    _place_arguments(parser)
    parser.add_argument("numbers", nargs="*", type=int, metavar="NUMBER", help="which ones; without, all of them")
    parser.add_argument("--yes", action="store_true", help="do not ask first")
    parser = nouns.command(
        "dossier import-pictures",
        _import,
        "import a folder of pictures that a script has made",
        description="Import a folder of pictures that a script has made. The name of a folder says the locale\n"
        "(en-GB/01-diary.png) and may say the class (phone/en/01.png); a part of the file's own name says the locale, too,\n"
        "where the app has it already (01.de.png). Otherwise the sides say the class. The order is that of the names.\n"
        "Files of which nobody can tell are named and left out (exit code 7).",
    )
    parser.add_argument("folder", metavar="FOLDER")
    app_argument(parser)
    parser.add_argument("--instead", action="store_true", help="instead of what is there in the same places")
    parser.add_argument("--trial", action="store_true", help="only say where each file belongs")


def _place_arguments(parser: Parser) -> None:
    parser.add_argument("picture_class", metavar="CLASS", help=_CLASS)
    parser.add_argument("locale", help="such as en or de-AT")
    app_argument(parser)
    store_argument(parser, required=False)


def _show(call: Call) -> None:
    told = call.tide.dossier.pictures(call.given.app)
    call.answer(told, lambda: _tell_store(call, told) if call.given.store else _tell(call, told))


def _tell(call: Call, told: PicturesTold) -> None:
    titles = {one.key: one.title for one in told.classes}
    table = call.table("CLASS", "LOCALE", "FOR", "NUMBER", "PICTURE", "CHANGED BY")
    for found in told.sets:
        if call.given.locale in (None, found.locale):
            title = titles.get(found.picture_class, found.picture_class)
            for at, one in enumerate(found.pictures, 1):
                seconds = f", {one.seconds:.3g} s" if one.seconds is not None else ""
                table.add_row(
                    cell(f"{title} ({found.picture_class})" if at == 1 else ""),
                    found.locale if at == 1 else "",
                    cell((found.store or "all stores") if at == 1 else ""),
                    str(at),
                    cell(f"{one.width} × {one.height} {one.format}{seconds}, {megabytes(one.size_bytes)}"),
                    cell(found.changed_by if at == 1 else ""),
                )
    call.show(
        table, empty=f"There are no pictures yet. Begin with: tide dossier add-pictures phone en FILE --app {told.app}"
    )
    if told.icons is not None and told.icons.apart is not None:
        word = "resembles" if told.icons.alike else "does not resemble"
        call.say(f"The icon {word} the one inside the newest package ({told.icons.apart:.0f} apart).")
    call.say("")
    table = call.table("STORE", "SETS", "DIFFER", "FIRST LANGUAGE")
    for store in told.stores:
        table.add_row(cell(store.store), str(len(store.sets)), str(store.differing or ""), store.language)
    call.show(table, empty="No store where the app has a place asks for pictures.")
    call.say(f"Classes that all stores share: {', '.join(one.key for one in told.classes)}.")


def _tell_store(call: Call, told: PicturesTold) -> None:
    store = store_of(told.stores, call.given.store)
    titles = {one.key: one.title for one in store.classes}
    table = call.table("CLASS", "LOCALE", "STATE", "WHAT THE STORE GETS")
    for found in store.sets:
        if call.given.locale in (None, found.locale):
            title = titles.get(found.picture_class, found.picture_class)
            table.add_row(
                cell(f"{title}{_from(found, titles)}"), found.locale, found.state, cell("\n".join(_pieces(found)))
            )
    call.show(table, empty=f"{store.store_title} gets no pictures yet.")
    _tell_classes(call, store)
    if store.refused_because:
        call.say(f"{store.store_title} refused the pictures it was sent last: {store.refused_because}")
    if store.findings:
        call.say("")
        show_sheet(call, store.store_title, store.findings)


def _tell_classes(call: Call, store: StorePicturesTold) -> None:
    for one in store.classes:
        wanted = f"{one.fewest} to {one.most}" if one.fewest < one.most else str(one.most)
        wanted = wanted if one.fewest else f"up to {one.most}, may be left out"
        formats = ", ".join(one.formats)
        lock = f" {one.lock}" if one.lock else " They may change any time."
        call.say(
            f"{one.key}: {one.title}, {wanted}; {one.sides}; {formats} up to {megabytes(one.largest_bytes)}.{lock}"
        )


def _from(found: StoreSetTold, titles: dict[str, str]) -> str:
    if found.serves != found.picture_class:
        return f" (those of {titles.get(found.serves, found.serves)})"
    return " (its own)" if found.origin == "own" else ""


def _pieces(found: StoreSetTold) -> list[str]:
    if not found.pieces:
        return [f"nothing from here; the store holds {len(found.held)}"]
    return [_piece(one) for one in found.pieces]


def _piece(one: PieceTold) -> str:
    if one.why:
        return f"✖ {one.why}"
    what = f"{one.width} × {one.height} {one.format}"
    if one.as_it_is:
        return f"{what}, as it is"
    more = [f"{one.cut:.0%} cut off at the edges"] if round(one.cut, 2) else []
    more += ["on white"] if one.flat else []
    more += [] if one.file else ["still being made"]
    return ", ".join([what, "made of the original", *more])


def _add(call: Call) -> None:
    given = call.given
    kept = [_keep(call, Path(name)) for name in given.files]
    before, revision = _set(call)
    pictures = [*([] if given.instead else before), *kept]
    _put(call, pictures, revision, f"{_counted(len(kept))} put in")


def _keep(call: Call, file: Path) -> str:
    """Send a file to the desk; its digest. Raises Invalid naming the file."""
    if not file.is_file():
        raise Invalid(f"There is no file {file}.", code="file-missing")
    try:
        return call.tide.dossier.keep_picture(file).sha256
    except (Invalid, TooLarge) as wrong:
        raise type(wrong)(f"{file}: {wrong.detail}", remedy=wrong.remedy, code=wrong.code) from None


def _set(call: Call) -> tuple[list[str], int]:
    """The set that the arguments name, as it is now, and its revision; 0: there is none."""
    given = call.given
    locale = locale_of(given.locale)
    for found in call.tide.dossier.pictures(given.app).sets:
        if (found.locale, found.picture_class, found.store) == (locale, given.picture_class, given.store):
            return [one.sha256 for one in found.pictures], found.revision
    return [], 0


def _put(call: Call, pictures: list[str], revision: int, said: str) -> None:
    given = call.given
    told = call.tide.dossier.put_pictures(
        given.app,
        given.locale,
        given.picture_class,
        list(dict.fromkeys(pictures)),
        store=given.store,
        revision=revision,
    )

    def shown() -> None:
        call.say(f"{given.picture_class} in {given.locale} for {given.store or 'all stores'}: {said}.")
        for store in told.stores:
            wrong = [one for one in store.findings if one.level == "blocker" and "missing" not in one.code]
            for one in wrong:
                call.say(f"  ✖ {one.detail}")
        at = f" --store {given.store}" if given.store else ""
        call.say(f"Send them with: tide dossier send --app {given.app}{at}")

    call.answer(told, shown)


def _counted(count: int) -> str:
    return "1 file" if count == 1 else f"{count} files"


def _there(call: Call) -> tuple[list[str], int]:
    before, revision = _set(call)
    if not before:
        given = call.given
        raise NotFound(
            f"There is no set {given.picture_class} in {given.locale} for {given.store or 'all stores'}.",
            remedy=f"See what there is with: tide dossier pictures --app {given.app}",
            code="pictures-unknown",
        )
    return before, revision


def _order(call: Call) -> None:
    before, revision = _there(call)
    wanted = call.given.numbers
    if sorted(wanted) != list(range(1, len(before) + 1)):
        raise Invalid(
            f"The set has {len(before)} pictures; name each of 1 to {len(before)} once.", code="argument-unfit"
        )
    _put(call, [before[at - 1] for at in wanted], revision, "in another order")


def _drop(call: Call) -> None:
    before, revision = _there(call)
    numbers = call.given.numbers or list(range(1, len(before) + 1))
    strange = [str(at) for at in numbers if not 1 <= at <= len(before)]
    if strange:
        raise Invalid(
            f"The set has {len(before)} pictures; there is no number {', '.join(strange)}.", code="argument-unfit"
        )
    if len(set(numbers)) == len(before):
        call.demand_confirmation(f"All {len(before)} pictures of this set are taken out.")
    left = [one for at, one in enumerate(before, 1) if at not in numbers]
    _put(call, left, revision, f"{_counted(len(set(numbers)))} taken out")


def _import(call: Call) -> Exit | None:
    given, folder = call.given, Path(call.given.folder)
    if not folder.is_dir():
        raise Invalid(f"There is no folder {given.folder}.", code="file-missing")
    files = [one for one in folder.rglob("*") if one.is_file() and one.suffix.lower() in _ENDINGS]
    if not files or len(files) > MOST_IMPORTED:
        count = len(files) or "no"
        raise Invalid(
            f"{given.folder} has {count} pictures and films; 1 to {MOST_IMPORTED} are imported at once.",
            code="folder-unfit",
        )
    named, unread = dict[str, str](), dict[str, str]()
    for file in sorted(files, key=lambda one: name_order(one.relative_to(folder).as_posix())):
        name = file.relative_to(folder).as_posix()
        try:
            named[name] = call.tide.dossier.keep_picture(file).sha256
        except (Invalid, TooLarge) as wrong:
            unread[name] = wrong.detail
    told = (
        call.tide.dossier.import_pictures(given.app, named, instead=given.instead, trial=given.trial) if named else None
    )
    left = unread | {one.name: f"{one.why}." for one in told.files if one.why} if told is not None else unread

    def shown() -> None:
        placed = Counter((one.picture_class, one.locale) for one in told.files if not one.why) if told else Counter()
        table = call.table("CLASS", "LOCALE", "FILES")
        for (key, locale), count in placed.items():
            table.add_row(key, locale, str(count))
        call.show(table, empty="")
        for name, why in left.items():
            call.say(f"▲ {name}: {why}")
        word = "would be put in" if given.trial else "put in"
        call.say(f"{_counted(placed.total())} {word}, {len(left)} left out.")
        if placed and not given.trial:
            call.say(f"Send them with: tide dossier send --app {given.app}")

    call.answer({"files": told.files if told else [], "unread": unread}, shown)
    return Exit.CAUTION if left else None
