"""tide desk: running a desk on this machine."""

from __future__ import annotations

import getpass
import os

from restless_tide.cli.call import Call
from restless_tide.cli.parsing import Nouns
from restless_tide.cli.telling import on_the_day

_ENVIRONMENT = """The desk is set up by the environment:
  TIDE_DATA            folder of its data (desk-data)
  TIDE_HOST, TIDE_PORT where it listens (127.0.0.1, 7100)
  TIDE_PUBLIC_ADDRESS  how people reach it; stands in mails
  TIDE_MASTER_KEY      base64 of 32 bytes; without it, a file beside the data (0600)
  TIDE_SMTP_HOST, TIDE_SMTP_PORT, TIDE_MAIL_FROM   how it sends mail
  TIDE_LARGEST_PACKAGE bytes of the largest package taken (4 GiB)
  TIDE_POLL_SECONDS    how often stores are asked what is new (2)
  TIDE_PUSH            off: stores are asked, and push nothing (on)
  TIDE_FORBID_INWARD   yes: no gateway or webhook on this machine or in a private network"""


def add(nouns: Nouns) -> None:
    nouns.noun("desk")
    parser = nouns.command(
        "desk init",
        _init,
        "add the first person who may sign in",
        description=f"Add a person who may sign in; asks for the password (or reads TIDE_PASSWORD).\n\n{_ENVIRONMENT}",
    )
    parser.add_argument("--name", required=True)
    parser.add_argument("--email", required=True)
    nouns.command(
        "desk serve",
        _serve,
        "run the service until it is stopped",
        description=f"Run the service and its console until it is stopped.\n\n{_ENVIRONMENT}",
    )
    parser = nouns.command("desk clock", _clock, "show the desk's clock; step it, on a throw-away desk")
    parser.add_argument("--step", type=float, default=0.0, metavar="HOURS")


def _init(call: Call) -> None:
    from restless_tide.service.serve import add_first_person

    password = os.environ.get("TIDE_PASSWORD") or getpass.getpass("Password: ")
    add_first_person(os.environ, call.given.name, call.given.email, password)
    call.answer({"added": call.given.email}, lambda: call.say(f"{call.given.name} may sign in."))


def _serve(call: Call) -> None:
    from restless_tide.service.serve import serve

    serve(os.environ)


def _clock(call: Call) -> None:
    watching = call.tide.watching
    told = watching.move_clock(step_hours=call.given.step) if call.given.step else watching.clock()
    call.answer(told, lambda: call.say(f"The desk's clock shows {on_the_day(told.now)}."))
