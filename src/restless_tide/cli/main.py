"""``tide``: the command line of Restless Tide."""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence

from restless_tide import __version__
from restless_tide.cli import (
    builds,
    cohorts,
    desks,
    drills,
    gateways,
    notes,
    notices,
    people,
    releases,
    reports,
    signing,
    standins,
    steps,
    stores,
    testers,
    trials,
    watching,
)
from restless_tide.cli.call import Call
from restless_tide.cli.exits import MEANINGS, Exit, exit_of
from restless_tide.cli.parsing import Nouns, Parser, UsageError
from restless_tide.wire.errors import TideError
from restless_tide.wire.problems import problem_of

_EXITS = "exit codes:\n" + "\n".join(f"  {code.value}  {meaning}" for code, meaning in MEANINGS.items())


def parser() -> Parser:
    root = Parser(prog="tide", description="The desk at which a mobile release manager works.", epilog=_EXITS)
    root.add_argument("--version", action="version", version=f"tide {__version__}")
    nouns = Nouns(root)
    for room in (
        watching,
        stores,
        builds,
        cohorts,
        testers,
        trials,
        reports,
        notes,
        signing,
        releases,
        steps,
        notices,
        drills,
        people,
        desks,
        gateways,
        standins,
    ):
        room.add(nouns)
    return root


def main(words: Sequence[str] | None = None) -> int:
    """Run one command; returns its exit code. No traceback reaches a person."""
    try:
        given, unknown = parser().parse_known_args(words)
        if unknown:
            given.parser.unknown_options(unknown)
    except UsageError as wrong:
        print(wrong, file=sys.stderr)
        return Exit.USAGE
    call = Call(given)
    try:
        return given.run(call) or Exit.DONE
    except TideError as wrong:
        _tell(wrong, as_json=given.json)
        return exit_of(wrong)
    except KeyboardInterrupt:
        print("Stopped.", file=sys.stderr)
        return 130
    except BrokenPipeError:
        sys.stderr.close()
        return Exit.DONE
    except OSError as wrong:
        print(f"{wrong.strerror or wrong}: {wrong.filename or ''}".rstrip(": "), file=sys.stderr)
        return Exit.REFUSED


def _tell(wrong: TideError, *, as_json: bool) -> None:
    if as_json:
        print(json.dumps(problem_of(wrong).model_dump(mode="json"), ensure_ascii=False), file=sys.stderr)
        return
    print(wrong.detail, file=sys.stderr)
    if wrong.remedy:
        print(wrong.remedy, file=sys.stderr)


if __name__ == "__main__":
    sys.exit(main())
