"""tide signing and tide locker."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from restless_tide.cli.arranging import Listing
from restless_tide.cli.call import Call, cell, file_argument
from restless_tide.cli.parsing import Nouns, Parser, app_argument
from restless_tide.cli.telling import moment
from restless_tide.core.sizes import size
from restless_tide.wire.errors import Invalid
from restless_tide.wire.signing import LockerFileTold, RegisterTold

if TYPE_CHECKING:
    from restless_tide.cli.parsing import Run


_LOCKER: Listing[LockerFileTold] = Listing(
    words=lambda file: (file.name, file.kind, file.platform, file.told),
    sort={
        "name": lambda file: file.name,
        "kind": lambda file: file.kind,
        "stored": lambda file: file.stored_at,
        "expires": lambda file: file.expires_at,
    },
    since=lambda file: file.stored_at,
)


def add(nouns: Nouns) -> None:
    nouns.noun("signing")
    app_argument(
        nouns.command("signing show", _show, "whose signature is expected, who holds the key, what expires when")
    )
    parser = _act(nouns, "signing expect", _expect, "expect another certificate from now on")
    which = parser.add_mutually_exclusive_group(required=True)
    which.add_argument("--build", help="a build that is signed as expected from now on")
    which.add_argument("--sha256", help="the certificate's digest")
    parser = _act(
        nouns, "signing declare", _declare, "declare which permissions and rights the app is meant to ask for"
    )
    parser.add_argument("names", nargs="+", metavar="NAME", help="all of them; the list before is replaced")
    parser = _act(nouns, "signing hold", _hold, "say who holds the key that devices know the app by")
    parser.add_argument("holder", choices=["team", "store"])
    parser = _act(
        nouns,
        "signing replace",
        _replace,
        "replace a lost sender's key: steps for a person where a store holds on to the first",
    )
    parser.add_argument("--sha256", required=True, help="the new certificate's digest")
    parser = nouns.command("signing device", _device, "register a device for tests, or remove one")
    app_argument(parser)
    parser.add_argument("identifier", help="the device's identifier; with --remove, the id that signing show gives it")
    parser.add_argument("--platform", default="ios")
    parser.add_argument("--name", default="")
    parser.add_argument("--until", metavar="DATE", help="when its registration ends (2027-03-01)")
    parser.add_argument("--remove", action="store_true")
    nouns.noun("locker")
    parser = nouns.command("locker put", _put, "put a file into the locker")
    parser.add_argument("file")
    app_argument(parser)
    parser.add_argument("--platform", required=True)
    parser.add_argument("--kind", choices=["certificate", "key", "profile", "other"], default="other")
    parser.add_argument("--name", default="", help="its name in the locker; the file's, unless you say")
    parser = nouns.command("locker fetch", _fetch, "fetch a file; that stands in the logbook")
    parser.add_argument("name")
    app_argument(parser)
    parser.add_argument(
        "--to",
        required=True,
        metavar="FILE",
        help="where to write it, readable by you alone; - for the standard output",
    )
    parser = nouns.command("locker remove", _remove, "take a file out of the locker for good")
    parser.add_argument("name")
    app_argument(parser)
    parser.add_argument("--reason", default="")
    parser.add_argument("--yes", action="store_true", help="do not ask")
    parser = nouns.command("locker list", _list, "what is in the locker")
    app_argument(parser)
    _LOCKER.arguments(parser)


def _act(nouns: Nouns, words: str, run: Run, summary: str) -> Parser:
    parser = nouns.command(words, run, summary)
    app_argument(parser)
    parser.add_argument("--platform", required=True)
    parser.add_argument("--reason", required=True, help="stands in the logbook")
    return parser


def _show(call: Call) -> None:
    found = call.tide.signing.register(call.given.app)
    call.answer(found, lambda: _tell(call, found))


def _tell(call: Call, found: RegisterTold) -> None:
    if not found.pages:
        call.say("Nothing is known yet. The first build sets whose signature is expected.")
    for page in found.pages:
        call.say(f"{page.platform}: the {page.holder} holds the key; changed {moment(page.changed_at)}: {page.reason}")
        for certificate in page.certificates:
            call.say(f"  expected: {certificate.subject or 'certificate'} {certificate.sha256}")
        if page.declared is not None:
            call.say(f"  declared: {', '.join(page.declared) or 'nothing'}")
    if found.devices:
        table = call.table("DEVICE", "NAME", "IDENTIFIER", "UNTIL")
        for device in found.devices:
            table.add_row(device.id, cell(device.name), device.identifier, moment(device.expires_at))
        call.console.print(table)
    _tell_locker(call, found.locker)
    if found.expiries:
        call.say("What expires when:")
        table = call.table("", "", "")
        table.show_header = False
        for expiry in found.expiries:
            table.add_row(moment(expiry.until), cell(expiry.what), cell(expiry.then))
        call.console.print(table)


def _tell_locker(call: Call, files: Sequence[LockerFileTold], *, none_fits: bool = False) -> None:
    table = call.table("IN THE LOCKER", "KIND", "PLATFORM", "SIZE", "STORED", "IT SAYS", "EXPIRES")
    for file in files:
        stored, expires = moment(file.stored_at), moment(file.expires_at)
        table.add_row(
            cell(file.name), file.kind, file.platform, size(file.size_bytes), stored, cell(file.told), expires
        )
    nothing = "The locker is empty. Add a file with: tide locker put FILE --app APP --platform PLATFORM"
    call.show(table, empty="No file is like that." if none_fits else nothing)


def _expect(call: Call) -> None:
    given = call.given
    page = call.tide.signing.expect(
        given.app, given.platform, reason=given.reason, build=given.build, sha256=given.sha256
    )
    call.answer(page, lambda: call.say(f"Expected from now on: {page.certificates[0].sha256}"))


def _declare(call: Call) -> None:
    given = call.given
    page = call.tide.signing.declare(given.app, given.platform, given.names, reason=given.reason)
    call.answer(page, lambda: call.say(f"Declared: {', '.join(page.declared or [])}"))


def _hold(call: Call) -> None:
    given = call.given
    page = call.tide.signing.hold(given.app, given.platform, given.holder, reason=given.reason)
    call.answer(page, lambda: call.say(f"The {page.holder} holds the key for {page.platform}."))


def _replace(call: Call) -> None:
    given = call.given
    found = call.tide.signing.replace(given.app, given.platform, given.sha256, reason=given.reason)

    def shown() -> None:
        call.say(f"Expected from now on: {found.page.certificates[0].sha256}")
        for title in found.steps:
            call.say(f"  to do by hand: {title}")
        call.say(
            "See them with: tide step list"
            if found.steps
            else "No store holds on to the first key; nothing to do there."
        )

    call.answer(found, shown)


def _device(call: Call) -> None:
    given = call.given
    if given.remove:
        call.tide.signing.remove_device(given.app, given.identifier)
        call.answer({"removed": given.identifier}, lambda: call.say("Removed."))
        return
    until = None
    if given.until:
        try:
            until = datetime.fromisoformat(given.until)
        except ValueError:
            raise Invalid(
                f"{given.until!r} is no date.", remedy="Write it like 2027-03-01.", code="date-unfit"
            ) from None
        until = until if until.tzinfo else until.replace(tzinfo=UTC)
    device = call.tide.signing.add_device(
        given.app, given.platform, given.identifier, name=given.name, expires_at=until
    )
    call.answer(device, lambda: call.say(f"Registered {device.name} as {device.id}."))


def _put(call: Call) -> None:
    given = call.given
    path = file_argument(given.file)
    file = call.tide.signing.put(given.app, path, platform=given.platform, kind=given.kind, name=given.name)
    told = f": {file.told}" if file.told else ""
    call.answer(file, lambda: call.say(f"{file.name} is in the locker, sealed{told}."))


def _fetch(call: Call) -> None:
    given = call.given
    content = call.tide.signing.fetch(given.app, given.name)
    if given.to == "-":
        sys.stdout.buffer.write(content)
        return
    path = Path(given.to)
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(content)
    path.chmod(0o600)
    call.answer(
        {"name": given.name, "file": str(path)}, lambda: call.say(f"{given.name} is in {path}, readable by you alone.")
    )


def _remove(call: Call) -> None:
    given = call.given
    if call.confirm(f"{given.name} and every older file of that name are gone for good."):
        call.tide.signing.take_out(given.app, given.name, reason=given.reason)
        call.answer({"removed": given.name}, lambda: call.say("Taken out."))


def _list(call: Call) -> None:
    found = call.tide.signing.register(call.given.app)
    files = _LOCKER.arranged(call, found.locker)
    call.answer(files, lambda: _tell_locker(call, files, none_fits=bool(found.locker)))
