"""``tide``: the command line of Restless Tide."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import Sequence
from importlib import import_module

from restless_tide import __version__
from restless_tide.cli.exits import MEANINGS, Exit, exit_of
from restless_tide.cli.parsing import Noun, Nouns, Parser, UsageError
from restless_tide.core.errors import TideError

NOUNS = {
    "overview": Noun("watching", "every app at every store: what is so, and what needs a person"),
    "find": Noun("watching", "apps, releases, builds, cohorts, testers and stores by a few words"),
    "live": Noun("live", "what every store offers new people, now or at an instant before"),
    "strip": Noun("live", "what new people were offered over months, as table, CSV, PNG or JSON"),
    "watch": Noun("watching", "follow everything that changes, until Ctrl-C"),
    "logbook": Noun("watching", "who did what, when and why"),
    "store": Noun("stores", "stores: connect, list, show"),
    "app": Noun("stores", "apps: register, list, show"),
    "berth": Noun("stores", "an app's place at a store"),
    "build": Noun("builds", "builds: inspect, check, compare, push, list, show, answer, next, keep, clear"),
    "cohort": Noun("cohorts", "groups of testers"),
    "tester": Noun("testers", "people who test"),
    "trial": Noun("trials", "a build in the hands of cohorts"),
    "track": Noun("tracks", "tracks: list, show, place, promote, clear, open, close"),
    "rule": Noun("tracks", "rules by which builds move up from track to track"),
    "report": Noun("reports", "field reports: remarks and crashes from people who test"),
    "notes": Noun("notes", "release notes: drafted from the source's own history"),
    "signing": Noun("signing", "the signing register: keys, expected certificates, declared rights, test devices"),
    "locker": Noun("signing", "certificate, key and profile files, sealed"),
    "dossier": Noun("dossier", "what stores ask about an app, entered once: texts, pictures, answers"),
    "release": Noun("releases", "releases: draft, see what stops it, submit, show, give the go-ahead"),
    "rollout": Noun("releases", "steer: advance, pause, resume, halt, finish, withdraw"),
    "matter": Noun("matters", "what stores have refused, as work: answer, fix, dispute"),
    "reviewer": Noun("reviewers", "what stores' reviewers are told, and the correspondence with them"),
    "check": Noun("matters", "what refusals have taught: looked at before every hand-in of an app"),
    "guard": Noun("guards", "rules that watch rollouts and may pause or halt them"),
    "ladder": Noun("ladders", "ladders that are kept under a name: list, set, drop"),
    "freeze": Noun("freezes", "windows in which nothing launches and no share rises"),
    "gauge": Noun("guards", "what was counted: people, sessions, crashes, hangs, ratings"),
    "step": Noun("steps", "steps that people carry to a store by hand"),
    "notice": Noun("notices", "subscribe by mail or webhook: when waiting ends, or a person is needed"),
    "drill": Noun("drills", "try the button that stops a release, without affecting any release"),
    "open": Noun("helping", "the console's address of a page or a release"),
    "help": Noun("helping", "words of this product, and exit codes"),
    "completion": Noun("helping", "have a shell complete commands, options and names"),
    "sign-in": Noun("account", "sign in to a desk and remember it"),
    "sign-out": Noun("account", "revoke this machine's token, and forget the desk"),
    "account": Noun("account", "your own name, password and second factor"),
    "session": Noun("account", "your sessions at the console"),
    "person": Noun("people", "the people who work at a desk, and what each may do"),
    "token": Noun("tokens", "tokens for scripts and build servers"),
    "desk": Noun("desks", "run a desk: init, serve, clock"),
    "gateway": Noun("gateways", "for those who write an adapter in front of a store"),
    "standin": Noun("standins", "the simulated stores: clock, mischief, own pages, connection files, record"),
}
"""The first word of every command: the module of this folder in which it is, and what it is about."""

ALONE = {("build", "inspect"): "inspecting", ("build", "compare"): "comparing"}
"""Commands in a module that loads nothing of a desk, since they need none."""

# looking for plugins reads what every installed package says of itself
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")

COMPLETING = "_ARGCOMPLETE"
"""Set by a shell that asks for completion (argcomplete)."""

_EXITS = "exit codes:\n" + "\n".join(f"  {code.value}  {meaning}" for code, meaning in MEANINGS.items())


def parser(words: Sequence[str] | None = None) -> Parser:
    """What reads a command line. Of all commands; given one's words, of those in its module, so that nothing else is loaded."""
    root = Parser(prog="tide", description="The desk at which a mobile release manager works.", epilog=_EXITS)
    root.add_argument("--version", action="version", version=f"tide {__version__}")
    nouns = Nouns(root, NOUNS)
    if words is None:
        modules = dict.fromkeys(noun.module for noun in NOUNS.values())
    else:
        first, second, *_ = (*(word for word in words if not word.startswith("-")), "", "")
        module = ALONE.get((first, second)) or (NOUNS[first].module if first in NOUNS else None)
        modules = {module: None} if module else {}
    for module in modules:
        import_module(f"restless_tide.cli.{module}").add(nouns)
    if not modules:
        nouns.name_all()
    return root


def main(words: Sequence[str] | None = None) -> int:
    """Run one command; returns its exit code. No traceback reaches a person."""
    if COMPLETING in os.environ:
        _complete()
        return Exit.DONE
    try:
        given_words = sys.argv[1:] if words is None else list(words)
        given, unknown = parser(given_words).parse_known_args(given_words)
        if unknown:
            given.parser.unknown_options(unknown)
    except UsageError as wrong:
        print(wrong, file=sys.stderr)
        return Exit.USAGE
    from restless_tide.cli.call import Call

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


def _complete() -> None:
    """Answer a shell that asks how a line may go on; only the module of its command is loaded."""
    from restless_tide.cli.helping import complete

    complete(parser(os.environ.get("COMP_LINE", "").split()[1:2]))


def _tell(wrong: TideError, *, as_json: bool) -> None:
    if as_json:
        from restless_tide.wire.problems import problem_of

        print(json.dumps(problem_of(wrong).model_dump(mode="json"), ensure_ascii=False), file=sys.stderr)
        return
    print(wrong.detail, file=sys.stderr)
    if wrong.remedy:
        print(wrong.remedy, file=sys.stderr)


if __name__ == "__main__":
    sys.exit(main())
