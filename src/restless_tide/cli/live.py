"""tide live, tide strip: what was live where."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from tzlocal import get_localzone_name

from restless_tide.cli.call import Call, cell
from restless_tide.cli.lists import write_out
from restless_tide.cli.parsing import Nouns, app_argument, instant_argument
from restless_tide.cli.telling import moment
from restless_tide.core.strip import USUAL_SPAN

FORMS = {".csv": "csv", ".png": "png", ".json": "json"}


def add(nouns: Nouns) -> None:
    parser = nouns.command("live", _live, "what every store offers new people, now or at an instant before")
    parser.add_argument("--app", metavar="APP", help="one app; every app unless you say")
    instant_argument(parser, "--at", "now, unless you say")
    parser.add_argument("--country", metavar="CODE", help="only what is offered there, such as DE")
    parser = nouns.command(
        "strip",
        _strip,
        "what new people were offered of an app over months, store by store; as table, CSV, PNG or JSON",
    )
    app_argument(parser)
    instant_argument(
        parser, "--since", f"{USUAL_SPAN.days} days before the end, or where what is known begins, unless you say"
    )
    instant_argument(parser, "--until", "now, unless you say")
    parser.add_argument(
        "--to", metavar="FILE", type=_form, help=f"write a file instead: its ending says which, {', '.join(FORMS)}"
    )


def add_picture(nouns: Nouns) -> None:
    parser = nouns.command("release picture", _picture, "the course of its rollout as a picture (PNG)")
    parser.add_argument("version")
    app_argument(parser)
    parser.add_argument(
        "--to", required=True, metavar="FILE", help="the file to write, such as course.png; - the output"
    )


def _form(text: str) -> str:
    if Path(text).suffix.lower() not in FORMS:
        raise argparse.ArgumentTypeError(f"{text!r} ends in none of {', '.join(FORMS)}")
    return text


def _live(call: Call) -> None:
    given = call.given
    found = call.tide.live.at(app=given.app, at=given.at, country=given.country)

    def shown() -> None:
        if given.at and found:
            call.say(f"On {moment(found[0].at)}:")
        table = call.table("APP", "STORE", "NEW PEOPLE ARE OFFERED", "WHERE")
        for one in found:
            table.add_row(cell(one.app), cell(one.store_title), cell(one.told), cell(one.where))
        call.show(table, empty="No app has a place at a store yet.")

    call.answer(found, shown)


def _strip(call: Call) -> None:
    given = call.given
    since, until = given.since, given.until
    form = FORMS[Path(given.to).suffix.lower()] if given.to else None
    if form in ("csv", "png"):
        zone = get_localzone_name() or "UTC"
        write_out(
            call,
            lambda to: call.tide.live.export_strip(given.app, to, form=str(form), since=since, until=until, zone=zone),
        )
        return
    found = call.tide.live.strip(given.app, since=since, until=until)
    if form == "json":
        write_out(call, lambda to: _write(to, json.dumps(found.model_dump(mode="json"), indent=2)))
        return

    def shown() -> None:
        call.say(f"{found.app_title} from {moment(found.since)} to {moment(found.until)}")
        table = call.table("STORE", "SINCE", "UNTIL", "NEW PEOPLE WERE OFFERED", "WHERE")
        for store in found.stores:
            for at, part in enumerate(store.stretches):
                name = store.store_title if not at else ""
                table.add_row(cell(name), moment(part.since), moment(part.until), cell(part.told), cell(part.where))
        call.show(table, empty="Nothing was seen at any store in that time.")

    call.answer(found, shown)


def _write(to: Path, text: str) -> None:
    to.write_text(f"{text}\n", encoding="utf-8")


def _picture(call: Call) -> None:
    given = call.given
    zone = get_localzone_name() or "UTC"
    write_out(call, lambda to: call.tide.live.picture(given.app, given.version, to, zone=zone))
