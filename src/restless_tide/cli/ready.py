"""tide release ready: the readiness sheet in a terminal."""

from __future__ import annotations

from pathlib import Path

from restless_tide.cli.call import Call, cell
from restless_tide.cli.exits import Exit
from restless_tide.cli.facts import LEVEL_MARKS
from restless_tide.cli.parsing import Nouns, app_argument, instant_argument, place_argument
from restless_tide.core.dossier_folder import Place
from restless_tide.core.errors import Invalid, Level
from restless_tide.core.known import MendAct, NodeState
from restless_tide.core.picture_sets import pictures_place
from restless_tide.core.sheet import Verdict
from restless_tide.core.texts import text_at
from restless_tide.folders.files import DossierFolder
from restless_tide.wire.problems import FindingTold
from restless_tide.wire.readiness import PlaceSheetTold, ReadinessTold, ThingTold

MARKS = {
    NodeState.DONE: "✓",
    NodeState.DOUBTFUL: "▲",
    NodeState.MISSING: "✖",
    NodeState.WAITING: "◔",
    NodeState.LOCKED: "◌",
    NodeState.NOT_ASKED: "·",
}
EXITS = {Verdict.READY: Exit.DONE, Verdict.CAUTIONS: Exit.CAUTION, Verdict.BLOCKED: Exit.REFUSED}
_VERDICTS = {
    Verdict.READY: "ready",
    Verdict.CAUTIONS: "ready, but something needs a look",
    Verdict.BLOCKED: "not ready",
}


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "release ready",
        _ready,
        "what stops a release at each store, why, and which command helps",
        description="What stops a release at each store, why, and which command helps. It can be asked before a release or a\n"
        "build is there. Exit code 0: ready; 7: ready, but something needs a look; 1: not ready.",
    )
    parser.add_argument("version", nargs="?", help="the release to come, unless you say")
    app_argument(parser)
    place_argument(parser, required=False)
    instant_argument(parser, "--on", "by the rules of this day, when it is to go out")
    parser.add_argument(
        "--folder",
        metavar="FOLDER",
        help="name the file and line of each text and answer, and the folder of each set of pictures, in this dossier folder",
    )
    parser.add_argument("--all", action="store_true", help="also what does not change with this release")


def _ready(call: Call) -> Exit | None:
    given = call.given
    if given.folder and DossierFolder(Path(given.folder)).app() != given.app:
        raise Invalid(f"{given.folder} is the folder of another app.", code="folder-unfit")
    told = call.tide.dossier.ready(given.app, given.version, store=given.store, on=given.on)
    call.answer(told, lambda: _tell(call, told))
    return EXITS[told.verdict]


def _tell(call: Call, told: ReadinessTold) -> None:
    what = f"{told.app_title} {told.version}" if told.version else f"{told.app_title}, the release to come"
    call.say(f"{what}: {_VERDICTS[told.verdict]}" + ("" if told.drafted else " (not drafted yet)"))
    for place in told.places:
        call.say("")
        _tell_place(call, told, place)


def _tell_place(call: Call, told: ReadinessTold, place: PlaceSheetTold) -> None:
    rest = f"; the rest usually takes {place.usual_hours:.3g} h" if place.usual_hours else ""
    call.say(f"{place.place_title}: {_VERDICTS[place.verdict]}. {place.done} of {place.needed} are there{rest}.")
    for said in place.announced:
        call.say(f"  ▲ {said}")
    table = call.table("", "", "", "")
    table.show_header = False
    hidden = 0
    folder = DossierFolder(Path(call.given.folder)) if call.given.folder else None
    for thing in place.things:
        if not call.given.all and (thing.folded or not thing.needed):
            hidden += 1
            continue
        table.add_row(
            f"  {MARKS[thing.state]}",
            cell(thing.title),
            thing.state,
            cell("\n".join(_said(told, place, thing, folder))),
        )
    call.console.print(table)
    if hidden:
        call.say(f"  {hidden} more {'is' if hidden == 1 else 'are'} not needed or not changed by this release (--all).")


def _said(told: ReadinessTold, place: PlaceSheetTold, thing: ThingTold, folder: DossierFolder | None) -> list[str]:
    lines = [thing.reason] if thing.reason else []
    lines += [
        f"{LEVEL_MARKS[found.level]} {found.detail}{_in_folder(folder, place, found)}"
        for found in thing.findings
        if found.detail not in thing.reason
    ]
    if thing.help and thing.state is not NodeState.DONE:
        lines.append(thing.help)
    command = command_for(thing.mend, told, place, thing)
    return [*lines, f"→ {command}"] if command else lines


def command_for(act: MendAct, told: ReadinessTold, place: PlaceSheetTold, thing: ThingTold) -> str:
    """The command by which an act is done; for what is done at a store, where to go."""
    app, store, version = told.app, place.store, told.version or "VERSION"
    at = _text_meant(thing)
    match act:
        case MendAct.OPEN_BERTH:
            return f"tide berth open --app {app} --store {store}"
        case MendAct.SIGN_PAPERS | MendAct.LOOK_THERE:
            return f"on {place.store_title}'s own pages"
        case MendAct.PUSH_BUILD:
            return f"tide build push FILE --app {app} --store {store}"
        case MendAct.ANSWER_QUESTIONS:
            return f"tide build list --app {app} --state held"
        case MendAct.WRITE_TEXT:
            alone = "" if at.field in place.means else f" --store {store}"
            return f"tide dossier write {at.locale} {place.means.get(at.field, at.field)}=TEXT --app {app}{alone}"
        case MendAct.ANSWER_TOPICS:
            return f"tide dossier questions --app {app} --store {store}"
        case MendAct.PUT_PICTURES:
            locale, key = _set_meant(thing)
            alone = "" if key in place.shows else f" --store {store}"
            return f"tide dossier add-pictures {place.shows.get(key, key)} {locale} FILE --app {app}{alone}"
        case MendAct.WRITE_GOODS:
            return f"tide dossier goods --app {app} --store {store}"
        case MendAct.SEND_TEXTS | MendAct.SEND_PICTURES | MendAct.SEND_ANSWERS | MendAct.SEND_GOODS:
            return f"tide dossier send --app {app} --store {store}"
        case MendAct.SET_OFFER:
            return f"tide berth offer --app {app} --store {store}"
        case MendAct.DRAFT_RELEASE:
            return f"tide release draft {version} --app {app} --leg {store}"
        case MendAct.WRITE_NOTES:
            return f"tide release notes {version} LOCALE TEXT --app {app}"
        case MendAct.DECIDE_MATTERS:
            return f"tide matter list {version} --app {app}"
        case MendAct.TICK_CHECKS:
            return f"tide check list --app {app} --release {version}"
        case MendAct.SUBMIT:
            return f"tide release look {version} --app {app} --store {place.place}"
        case MendAct.GO_AHEAD:
            return f"tide release go-ahead {version} --app {app} --store {place.place}"
        case MendAct.OPEN_TRIAL:
            return f"tide trial open --app {app} --store {store} --build BUILD --cohort COHORT"
    return ""


def _text_meant(thing: ThingTold) -> Place:
    """The first text that something is said about, by the store's own field."""
    places = (text_at(found.place) for found in thing.findings)
    return Place(*next((place for place in places if place is not None), ("LOCALE", "FIELD")))


def _set_meant(thing: ThingTold) -> tuple[str, str]:
    """The first set of pictures that something is said against, by the store's own class."""
    places = (pictures_place(found.place) for found in thing.findings if found.level is not Level.NOTE)
    return next((place for place in places if place is not None), ("LOCALE", "CLASS"))


def _in_folder(folder: DossierFolder | None, place: PlaceSheetTold, found: FindingTold) -> str:
    """The file and line of a text or an answer, or the folder of a set, in a dossier folder, such as ``  (texts/en.toml:3)``; or nothing."""
    if folder is None:
        return ""
    where = folder.meant(found.place, place.store, place.means, place.shows, place.topics)
    return f"  ({where})" if where != found.place else ""
