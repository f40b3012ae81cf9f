"""tide build next: the version and number that may come next, held and written down where wanted."""

from __future__ import annotations

from pathlib import Path

from restless_tide.cli.call import Call, cell, file_argument
from restless_tide.cli.parsing import Nouns, app_argument, stores_argument
from restless_tide.cli.telling import moment
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.version_files import write_into
from restless_tide.wire.builds import ProposalTold
from restless_tide.wire.errors import Invalid


def add(nouns: Nouns) -> None:
    parser = nouns.command(
        "build next",
        _next,
        "the version and number that may come next at all stores, and why",
        description="Proposes the smallest pair that every store takes, from what each one holds. With --reserve nobody else gets it; "
        "with --write it goes into a project's own file, which stays the same otherwise.",
    )
    app_argument(parser)
    stores_argument(parser)
    parser.add_argument("--step", choices=["patch", "minor", "major"], default="patch")
    parser.add_argument("--reserve", action="store_true", help="hold it, so that no other build gets the same")
    parser.add_argument("--label", default="", help="who holds it, such as 'build server, job 812'")
    parser.add_argument(
        "--write", metavar="FILE", help="a .toml, .json, .yaml, .properties or .plist file of the project"
    )
    parser.add_argument(
        "--version-key", default="version", metavar="KEY", help="where the version stands, with dots (version)"
    )
    parser.add_argument(
        "--number-key", default="number", metavar="KEY", help="where the number stands, with dots (number)"
    )
    parser = nouns.command("build reserved", _reserved, "numbers held for builds that are still being made")
    app_argument(parser)
    parser.add_argument("--give-back", metavar="RESERVATION", help="free a number that will not be used")


def _next(call: Call) -> None:
    given, builds = call.given, call.tide.builds
    path = file_argument(given.write) if given.write else None
    if path is not None:
        # before a number is held for nothing
        _written(path, "0.0.0", BuildNumber(0), given.version_key, given.number_key)
    if given.reserve:
        proposal = builds.reserve(given.app, *given.store, step=given.step, label=given.label)
    else:
        proposal = builds.next_numbers(given.app, *given.store, step=given.step)
    if path is not None:
        content = _written(path, proposal.version, proposal.number, given.version_key, given.number_key)
        path.write_bytes(content.encode())
    call.answer(proposal, lambda: _tell(call, proposal, path))


def _written(path: Path, version: str, number: BuildNumber, version_key: str, number_key: str) -> str:
    try:
        content = path.read_bytes().decode()
    except UnicodeDecodeError:
        raise Invalid(
            f"{path.name} is no text in UTF-8.",
            remedy="Save it as text; a binary property list must be turned into XML first.",
            code="version-file-broken",
        ) from None
    kept = number.parts[0] if len(number.parts) == 1 else number.text
    return write_into(path.name, content, {version_key: version, number_key: kept})


def _tell(call: Call, proposal: ProposalTold, path: Path | None) -> None:
    call.say(f"{proposal.version} ({proposal.number})")
    for reason in proposal.reasons:
        call.say(f"  {reason}")
    for caution in proposal.cautions:
        call.say(f"  ▲ {caution.detail}")
    if proposal.reservation:
        call.say(f"Reserved as {proposal.reservation}; it is held until that build comes or you give it back.")
    if path is not None:
        call.say(f"Written to {path}.")


def _reserved(call: Call) -> None:
    given = call.given
    if given.give_back:
        call.tide.builds.give_back(given.app, given.give_back)
    found = call.tide.builds.reservations(given.app)

    def shown() -> None:
        table = call.table("RESERVATION", "VERSION", "STORES", "SINCE", "FOR")
        for entry in found:
            version = f"{entry.version} ({entry.number})"
            table.add_row(entry.id, version, ", ".join(entry.stores), moment(entry.reserved_at), cell(entry.label))
        call.show(table, empty=f"No number is held. Hold one with: tide build next --app {given.app} --reserve")

    call.answer(found, shown)
