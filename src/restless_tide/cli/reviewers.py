"""tide reviewer: what stores' reviewers are told, and the correspondence with them."""

from __future__ import annotations

from pathlib import Path

from restless_tide.cli.call import Call, cell, file_argument, text_argument
from restless_tide.cli.parsing import Nouns, Parser, app_argument, place_argument
from restless_tide.cli.sign_ins import sign_in_arguments, sign_in_of
from restless_tide.cli.telling import moment
from restless_tide.core.correspondence import MessageKind
from restless_tide.wire.cohorts import SignInWanted
from restless_tide.wire.errors import NotFound
from restless_tide.wire.reviewing import BriefWanted, MessageTold, ThreadTold

_KINDS = {
    MessageKind.OURS: "",
    MessageKind.APPEAL: "appeal",
    MessageKind.STORE: "",
    MessageKind.QUESTION: "asks",
}
_ARRIVED = {None: "refused there", False: "on its way", True: ""}


def add(nouns: Nouns) -> None:
    nouns.noun("reviewer")
    parser = nouns.command("reviewer brief", _brief, "what reviewers are told in every round; with options, change it")
    parser.add_argument("store", nargs="?", help="to change it, the store")
    app_argument(parser)
    parser.add_argument("--note", metavar="TEXT", help="@FILE reads a file, - a pipe; empty takes it out")
    sign_in_arguments(parser)
    parser.add_argument("--no-sign-in", action="store_true", help="take the sign-in out")
    files_argument(parser)
    parser.add_argument("--no-files", action="store_true", help="take all files out")
    parser = nouns.command("reviewer messages", _messages, "the correspondence with the reviewers of a release")
    _of_leg(parser)
    parser = nouns.command("reviewer write", _write, "write to the reviewer of its last round")
    _words(parser)
    parser = nouns.command("reviewer appeal", _appeal, "appeal against the refusal of its last round")
    _words(parser)
    parser = nouns.command(
        "reviewer received", _received, "enter what a reviewer wrote by mail or on the store's pages"
    )
    _words(parser)
    parser.add_argument("--asks", action="store_true", help="the review waits for the answer")
    parser = nouns.command("reviewer file", _file, "save a file that came with a message")
    parser.add_argument("message", help="as tide reviewer messages shows it")
    parser.add_argument("name", help="the name of the file")
    _of_leg(parser)
    parser.add_argument("--out", type=Path, metavar="FILE", help="where to; its own name in this folder unless you say")


def _of_leg(parser: Parser) -> None:
    parser.add_argument("version")
    app_argument(parser)
    place_argument(parser)


def _words(parser: Parser) -> None:
    _of_leg(parser)
    parser.add_argument("--words", required=True, metavar="TEXT", help="@FILE reads a file, - a pipe")
    files_argument(parser)


def files_argument(parser: Parser) -> None:
    """The documents that go along to a reviewer."""
    parser.add_argument(
        "--file", action="append", type=file_argument, metavar="FILE", help="a document that goes along; repeat it"
    )


def sent(call: Call) -> list[str]:
    """The digests of the files that were named, once the desk has them."""
    return [call.tide.dossier.keep_document(file)["sha256"] for file in call.given.file or ()]


def _brief(call: Call) -> None:
    given = call.given
    if given.store is not None:
        wanted = BriefWanted(
            note=text_argument(given.note) if given.note is not None else None,
            sign_in=SignInWanted() if given.no_sign_in else sign_in_of(call),
            files=[] if given.no_files else sent(call) if given.file else None,
        )
        if wanted != BriefWanted():
            call.tide.reviewers.change_brief(given.app, given.store, wanted)
    found = [one for one in call.tide.reviewers.briefs(given.app) if given.store in (None, one.store)]

    def shown() -> None:
        table = call.table("STORE", "NOTE", "SIGN-IN", "FILES", "CHANGED")
        for one in found:
            sign_in = f"{one.sign_in} (sealed)" if one.sign_in else ""
            names = "\n".join(file.name for file in one.files)
            changed = f"{moment(one.changed_at)}\n{one.changed_by}" if one.changed_at else ""
            table.add_row(one.store, cell(one.note), cell(sign_in), cell(names), cell(changed))
        call.show(table, empty="The app has no place at any store yet.")

    call.answer(found, shown)


def _messages(call: Call) -> None:
    given = call.given
    _show(call, call.tide.reviewers.messages(given.app, given.version, given.store))


def _write(call: Call) -> None:
    given = call.given
    words = text_argument(given.words)
    _show(call, call.tide.reviewers.write(given.app, given.version, given.store, words, sent(call)))


def _appeal(call: Call) -> None:
    given = call.given
    words = text_argument(given.words)
    _show(call, call.tide.reviewers.appeal(given.app, given.version, given.store, words, sent(call)))


def _received(call: Call) -> None:
    given = call.given
    words, files = text_argument(given.words), sent(call)
    _show(call, call.tide.reviewers.received(given.app, given.version, given.store, words, files, asks=given.asks))


def _show(call: Call, threads: list[ThreadTold]) -> None:
    def shown() -> None:
        for thread in threads:
            told = "; the reviewer waits for an answer" if thread.waits else ""
            call.say(f"Round {thread.round}, {thread.state}{told}")
            table = call.table("ID", "WHEN", "WHO", "WORDS", "FILES", "")
            for one in thread.messages:
                table.add_row(
                    one.id, moment(one.at), cell(one.who), cell(one.words), cell(_files(one)),
                    cell(" ".join(filter(None, (_KINDS[one.kind], _ARRIVED[one.arrived], one.trouble)))),
                )  # fmt: skip
            call.show(table, empty="  No messages.")
        if not threads:
            call.say("It was never handed in there.")

    call.answer(threads, shown)


def _files(one: MessageTold) -> str:
    return "\n".join(file.name + (f" (not here: {file.trouble})" if file.trouble else "") for file in one.files)


def _file(call: Call) -> None:
    given = call.given
    every = [one for thread in call.tide.reviewers.messages(given.app, given.version, given.store) for one in thread.messages]  # fmt: skip
    message = next((one for one in every if one.id == given.message), None)
    found = next((file for file in message.files if file.name == given.name), None) if message is not None else None
    if message is None or found is None:
        raise NotFound(
            f"There is no file {given.name!r} with message {given.message}.",
            remedy=f"See: tide reviewer messages {given.version} --app {given.app} --store {given.store}",
            code="document-unknown",
        )
    place = call.tide.reviewers.fetch_file(given.app, message.id, found.sha256, given.out or Path(found.name))
    call.answer({"file": str(place)}, lambda: call.say(f"Saved {place}."))
