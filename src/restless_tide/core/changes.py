"""What changed: commits read by Conventional Commits 1.0, grouped, and drafted as notes for people.

A commit that was taken back by another in the same range is left out together with it. A merge says
nothing of its own unless its title carries a type. Trailers are read as git writes them.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

_HEADER = re.compile(r"(?P<type>[A-Za-z]+)(?:\((?P<scope>[^()]+)\))?(?P<breaking>!)?: +(?P<summary>\S.*)")
_TRAILER = re.compile(r"(?P<key>[A-Za-z][A-Za-z0-9-]*)(?:: | #)(?P<value>.+)")
_BREAKING = re.compile(r"^BREAKING[ -]CHANGE: (.+(?:\n(?!\n|[A-Z][\w-]*: ).+)*)", re.MULTILINE)
_REVERTS = re.compile(r"[Tt]his reverts commit ([0-9a-f]{7,64})")
_TICKET = re.compile(r"(?<![\w/])(?:#\d+|[A-Z][A-Z0-9]+-\d+)\b")
_REVERT_TITLE = re.compile(r'Revert "(?P<summary>.+)"')

GROUPS = {
    "breaking": "What works differently now",
    "feat": "New",
    "fix": "Fixed",
    "perf": "Faster",
    "revert": "Taken back",
    "other": "Under the surface",
}
FOR_PEOPLE = ("breaking", "feat", "fix", "perf", "revert")
_TICKET_TRAILERS = ("refs", "ref", "closes", "fixes", "resolves", "ticket", "issue")


@dataclass(frozen=True, slots=True)
class Commit:
    """One commit as git tells it; ``message`` is whole, ``parents`` are revisions."""

    revision: str
    parents: tuple[str, ...]
    author: str
    at: datetime
    message: str


@dataclass(frozen=True, slots=True)
class Change:
    """One commit understood. ``group`` is a key of GROUPS; ``new_at`` the stores whose people do not have it yet."""

    revision: str
    group: str
    kind: str
    scope: str
    summary: str
    breaking: str
    authors: tuple[str, ...]
    tickets: tuple[str, ...]
    at: datetime
    new_at: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Draft:
    """Notes for people, cut to a limit, and how many lines did not fit."""

    text: str
    left_out: int


@dataclass
class _Read:
    header: re.Match[str] | None
    summary: str
    breaking: str
    trailers: list[tuple[str, str]]


def understood(commits: Sequence[Commit], new_at: Mapping[str, Collection[str]] | None = None) -> list[Change]:
    """The changes in these commits, newest first as given; what was taken back within them is left out.

    ``new_at`` are, by store, the revisions that people there do not have yet.
    """
    gone = _taken_back(commits)
    changes = []
    for commit in commits:
        if commit.revision in gone:
            continue
        read = _read(commit.message)
        if len(commit.parents) > 1 and read.header is None:
            continue
        stores = tuple(store for store, revisions in (new_at or {}).items() if commit.revision in revisions)
        changes.append(_change(commit, read, stores))
    return changes


def grouped(changes: Sequence[Change]) -> dict[str, list[Change]]:
    """The changes by group, in the order in which people want to read them."""
    return {group: found for group in GROUPS if (found := [change for change in changes if change.group == group])}


def draft_notes(changes: Sequence[Change], limits: Collection[tuple[int, str]] = ()) -> Draft:
    """Notes for people: a line for each change that they may notice, as many as every limit lets in.

    ``limits`` are lengths with how each is measured (see ``measured``).
    """
    found = grouped([change for change in changes if change.group in FOR_PEOPLE])
    lines = [f"• {_told(change)}" for group in found.values() for change in group]
    unique = list(dict.fromkeys(lines))
    kept: list[str] = []
    for line in unique:
        longer = "\n".join([*kept, line])
        if all(measured(longer, measured_in) <= limit for limit, measured_in in limits):
            kept.append(line)
    return Draft("\n".join(kept), len(unique) - len(kept))


def full_list(changes: Sequence[Change]) -> str:
    """The whole list for the team, as Markdown, with scopes, tickets, authors and revisions."""
    blocks = []
    for group, found in grouped(changes).items():
        lines = [f"## {GROUPS[group]}"]
        for change in found:
            scope = f"**{change.scope}**: " if change.scope else ""
            tickets = f" ({', '.join(change.tickets)})" if change.tickets else ""
            lines.append(f"- {scope}{change.summary}{tickets}, {', '.join(change.authors)}, {change.revision[:10]}")
            if change.breaking and change.breaking != change.summary:
                lines.append(f"  {change.breaking}")
        blocks.append("\n".join(lines))
    return "\n\n".join(blocks)


def measured(text: str, measured_in: str) -> int:
    """The length of a text as a store counts it: characters, UTF-16 units or bytes."""
    if measured_in == "bytes":
        return len(text.encode())
    return len(text.encode("utf-16-le")) // 2 if measured_in == "UTF-16 units" else len(text)


def _taken_back(commits: Sequence[Commit]) -> set[str]:
    """Commits that are reverted by a later one here, with the reverts; a revert of a revert brings back."""
    known = [commit.revision for commit in commits]
    gone: set[str] = set()
    for commit in commits:  # newest first: a revert that was itself taken back does nothing
        if commit.revision in gone:
            continue
        for named in _REVERTS.findall(commit.message):
            target = next((revision for revision in known if revision.startswith(named)), None)
            if target is not None:
                gone |= {target, commit.revision}
    return gone


def _read(message: str) -> _Read:
    lines = message.strip().splitlines() or [""]
    body = "\n".join(lines[1:]).strip()
    last = body.rpartition("\n\n")[2].splitlines() if body else []
    trailers = [(found["key"], found["value"].strip()) for line in last if (found := _TRAILER.fullmatch(line))]
    breaking = _BREAKING.search(body)
    return _Read(_HEADER.fullmatch(lines[0]), lines[0], " ".join(breaking[1].split()) if breaking else "", trailers)


def _change(commit: Commit, read: _Read, stores: tuple[str, ...]) -> Change:
    kind = read.header["type"].lower() if read.header else ""
    summary = read.header["summary"] if read.header else read.summary
    breaking = read.breaking or (summary if read.header and read.header["breaking"] else "")
    undone = _REVERT_TITLE.fullmatch(read.summary)
    if undone:
        kind, inner = "revert", _HEADER.fullmatch(undone["summary"])
        summary = inner["summary"] if inner else undone["summary"]
    group = "breaking" if breaking else kind if kind in GROUPS else "other"
    with_them = [value.partition("<")[0].strip() for key, value in read.trailers if key.lower() == "co-authored-by"]
    linked = [value for key, value in read.trailers if key.lower() in _TICKET_TRAILERS]
    tickets = [ticket for text in (*linked, read.summary) for ticket in _TICKET.findall(text)]
    return Change(
        revision=commit.revision,
        group=group,
        kind=kind,
        scope=(read.header["scope"] or "") if read.header else "",
        summary=_TICKET.sub("", summary).replace("()", "").strip(" ,"),
        breaking=breaking,
        authors=tuple(dict.fromkeys([commit.author, *with_them])),
        tickets=tuple(dict.fromkeys(tickets)),
        at=commit.at,
        new_at=stores,
    )


def _told(change: Change) -> str:
    """The change as a sentence; what people had and have no more must not read as if it were new."""
    told = change.breaking or change.summary
    return f"{GROUPS['revert']}: {told}" if change.group == "revert" else _sentence(told)


def _sentence(text: str) -> str:
    text = text.strip()
    return text[:1].upper() + text[1:] + ("" if text.endswith((".", "!", "?", "…")) else ".")
