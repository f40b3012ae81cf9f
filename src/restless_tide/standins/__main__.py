"""Start one stand-in: ``python -m restless_tide.standins store northgate --port 7101 --data DIR``, or ``mail``."""

from __future__ import annotations

import argparse
from pathlib import Path

import uvicorn

from restless_tide.core.limits import IDLE_CONNECTION_SECONDS
from restless_tide.core.rulebook import read_rulebook
from restless_tide.standins.gateway import standin_app
from restless_tide.standins.mail_sink import mail_sink_app
from restless_tide.standins.store import SimulatedStore

RULEBOOKS = Path(__file__).parent / "rulebooks"
HOST = "127.0.0.1"


def main() -> None:
    names = sorted(place.stem for place in RULEBOOKS.glob("*.toml"))
    parser = argparse.ArgumentParser(
        prog="python -m restless_tide.standins", description="Start one simulated outside service."
    )
    kinds = parser.add_subparsers(dest="kind", required=True)
    store = kinds.add_parser("store", help="a simulated store")
    store.add_argument("name", choices=names)
    store.add_argument("--port", type=int, required=True)
    store.add_argument("--data", type=Path, required=True)
    store.add_argument("--seed", type=int, default=1)
    mail = kinds.add_parser("mail", help="a mail server that keeps every mail")
    mail.add_argument("--port", type=int, required=True, help="HTTP, to read the mails")
    mail.add_argument("--smtp-port", type=int, required=True)
    mail.add_argument("--data", type=Path, required=True)
    mail.add_argument("--bounces-to", default="", metavar="HOST:PORT", help="who takes mails that come back")
    given = parser.parse_args()
    if given.kind == "store":
        rules = read_rulebook((RULEBOOKS / f"{given.name}.toml").read_text(encoding="utf-8"), f"{given.name}.toml")
        app = standin_app(SimulatedStore(rules, given.data, given.seed), f"http://{HOST}:{given.port}")
    else:
        app = mail_sink_app(given.data, HOST, given.smtp_port, given.bounces_to)
    uvicorn.run(
        app,
        host=HOST,
        port=given.port,
        log_level="warning",
        access_log=False,
        timeout_graceful_shutdown=2,
        timeout_keep_alive=IDLE_CONNECTION_SECONDS,
        date_header=False,
    )


if __name__ == "__main__":
    main()
