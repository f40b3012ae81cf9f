"""tide notes: what changed, and the draft of what people are told."""

from __future__ import annotations

from restless_tide.cli.call import Call, cell
from restless_tide.cli.parsing import Nouns, app_argument
from restless_tide.wire.changes import ChangedTold


def add(nouns: Nouns) -> None:
    nouns.noun("notes")
    parser = nouns.command(
        "notes draft",
        _draft,
        "what changed since the builds that people have, and a draft of the notes",
        description="Reads the git repository that the release's builds name, from the revision that is live at each store. "
        "The draft is for people and fits every store of the release; --whole is the full list for the team.",
    )
    parser.add_argument("version")
    app_argument(parser)
    parser.add_argument("--whole", action="store_true", help="the full list for the team, as Markdown")
    parser.add_argument("--write", metavar="LOCALE", help="write the draft into the release's notes of this locale")


def _draft(call: Call) -> None:
    given = call.given
    found = call.tide.releases.changes(given.app, given.version)
    if given.write:
        call.tide.releases.write_notes(given.app, given.version, given.write, found.draft)
    call.answer(found, lambda: _tell(call, found))


def _tell(call: Call, found: ChangedTold) -> None:
    if call.given.whole:
        call.say(found.whole or "Nothing changed.")
        return
    for span in found.spans:
        since = (
            f"since {span.from_version} ({(span.from_revision or '?')[:10]})"
            if span.from_version
            else "up to the first build there"
        )
        call.say(f"{span.title}: {span.commits} commits {since}")
    for remark in found.remarks:
        call.say(f"▲ {remark}")
    call.console.print()
    table = call.table("", "CHANGE", "BY", "TICKETS", "NEW AT")
    everywhere = {span.store for span in found.spans}
    for group, told in found.groups.items():
        for change in (entry for entry in found.changes if entry.group == group):
            where = "everywhere" if set(change.new_at) == everywhere else ", ".join(change.new_at)
            scope = f"{change.scope}: " if change.scope else ""
            by, tickets = ", ".join(change.authors), ", ".join(change.tickets)
            table.add_row(told, cell(scope + change.summary), cell(by), tickets, where)
    call.show(table, empty="Nothing changed.")
    call.console.print()
    call.say("Draft for people:" if found.draft else "Nothing that people would notice: write the notes yourself.")
    call.say(found.draft)
    if found.left_out:
        call.say(f"({found.left_out} lines did not fit.)")
    missing = {span.title: span.missing_locales for span in found.spans if span.missing_locales}
    for title, locales in missing.items() if not call.given.write else ():
        call.say(f"{title} still lacks notes in {', '.join(locales)}.")
    if call.given.write:
        call.say(f"Written as the notes in {call.given.write}.")
