"""How a store's reviewer signs in, as it is given on the command line."""

from __future__ import annotations

import getpass
import os
from pathlib import Path

from restless_tide.cli.call import Call
from restless_tide.cli.parsing import Parser
from restless_tide.wire.cohorts import SignInWanted


def sign_in_arguments(parser: Parser) -> None:
    parser.add_argument("--sign-in", metavar="NAME", help="the account by which the store's reviewer signs in")
    parser.add_argument(
        "--password-file",
        metavar="FILE",
        help="holds its password; without it TIDE_REVIEWER_PASSWORD, or you are asked",
    )
    parser.add_argument("--reviewer", default="", metavar="TEXT", help="what else the reviewer must know")


def sign_in_of(call: Call) -> SignInWanted | None:
    given = call.given
    if given.sign_in is None:
        return SignInWanted(how=given.reviewer) if given.reviewer else None
    if given.password_file:
        password = Path(given.password_file).read_text(encoding="utf-8").strip()
    else:
        password = os.environ.get("TIDE_REVIEWER_PASSWORD") or getpass.getpass("The reviewer's password: ")
    return SignInWanted(name=given.sign_in, password=password, how=given.reviewer)
