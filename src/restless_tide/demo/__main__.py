"""``make demo``: a desk with its stand-ins and the scenario, until Ctrl-C; ``make demo-reset`` starts over."""

from __future__ import annotations

import json
import os
import secrets
import shutil
import signal
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any

import httpx

from restless_tide.client import Tide
from restless_tide.demo import colleagues
from restless_tide.demo.chapter import Chapter, beginning
from restless_tide.demo.processes import HOST, Ports, Processes
from restless_tide.demo.season import Season
from restless_tide.desk.settings import DEFAULT_PORT
from restless_tide.wire.errors import TideError

FOLDER = Path(".demo")
NAME, EMAIL = "Ida Fenwick", "ida@saltgrass.example.org"
_FAST = {"TIDE_STEPPABLE_CLOCK": "yes", "TIDE_POLL_SECONDS": "0.2"}
_REAL = {"TIDE_POLL_SECONDS": "1"}
_LOOK_SECONDS = 0.5


class _Stopped(BaseException):
    """Ctrl-C. CPython ends by the signal, however well a KeyboardInterrupt was handled, where that passed through a text
    that was being executed, as in the making of a dataclass (``unhandled_keyboard_interrupt`` in its pythonrun.c)."""


def _stop(number: int, frame: object) -> None:
    raise _Stopped


def main() -> int:
    if signal.getsignal(signal.SIGINT) is not signal.SIG_IGN:
        signal.signal(signal.SIGINT, _stop)
    if sys.argv[1:] == ["reset"]:
        shutil.rmtree(FOLDER, ignore_errors=True)
        print("The demo's data is gone; make demo plays the scenario in again.")
        return 0
    try:
        ports = Ports(int(os.environ.get("TIDE_PORT") or DEFAULT_PORT))
        ports.demand_free()
        if not (FOLDER / "sign-in.json").exists():
            _play_in(ports)
        return _run(ports)
    except (TideError, TimeoutError) as wrong:
        print(f"{wrong} {getattr(wrong, 'remedy', '')}".strip(), file=sys.stderr)
        return 1
    except (KeyboardInterrupt, _Stopped):
        print("\nStopped before the scenario was played in; the next make demo begins it anew.")
        return 130


def _play_in(ports: Ports) -> None:
    shutil.rmtree(FOLDER, ignore_errors=True)
    print("Playing in three weeks of the Saltgrass Collective (one to three minutes):", flush=True)
    password = "-".join(secrets.token_hex(2) for _ in range(3))
    with Processes(FOLDER, ports, _FAST) as processes:
        processes.start_all()
        environment = processes.desk_environment() | {"TIDE_PASSWORD": password}
        init = [sys.executable, "-m", "restless_tide.cli.main", "desk", "init", "--name", NAME, "--email", EMAIL]
        subprocess.run(init, env=environment, check=True, stdout=subprocess.DEVNULL)
        with Tide(ports.address) as tide:
            tide.people.sign_in(EMAIL, password)
            season = Season(tide, ports, beginning())  # the session, made by today's clock, outlives the season
            Chapter(tide, season, FOLDER, lambda said: print(f"  {said}", flush=True)).play()
            colleagues.invite(tide)
            token = tide.people.make_token("the demo's commands").value
    _keep({"email": EMAIL, "password": password, "token": token, "port": ports.desk})


def _keep(signed_in: dict[str, Any]) -> None:
    _write_private(FOLDER / "sign-in.json", json.dumps(signed_in))


def _follow_ports(ports: Ports, kept: dict[str, Any]) -> None:
    """Connect the stores anew when the demo runs on other ports than before: their addresses stand in the sealed keys."""
    if kept.get("port", ports.desk) == ports.desk:
        return
    with Tide(ports.address, token=kept["token"]) as tide:
        for name, port in ports.stores.items():
            connection = httpx.post(f"http://{HOST}:{port}/control/connections", json={}, timeout=30)
            tide.stores.connect(name, connection.raise_for_status().json())
    _keep(kept | {"port": ports.desk})


def _run(ports: Ports) -> int:
    kept = json.loads((FOLDER / "sign-in.json").read_text(encoding="utf-8"))
    environment = f"export TIDE_URL={ports.address} TIDE_TOKEN={kept['token']} TIDE_PORT={ports.desk}\n"
    _write_private(FOLDER / "env", environment)
    stopped = threading.Event()
    for asked in (signal.SIGINT, signal.SIGTERM):
        signal.signal(asked, lambda *_: stopped.set())
    with Processes(FOLDER, ports, _REAL) as processes:
        processes.start_all()
        _follow_ports(ports, kept)
        print(_GREETING.format(address=ports.address, email=kept["email"], password=kept["password"]), flush=True)
        while not stopped.wait(_LOOK_SECONDS):
            gone = processes.ended()
            if gone:
                print(
                    f"The {gone} process has ended unexpectedly; its log is {FOLDER / f'{gone}.log'}.", file=sys.stderr
                )
                return 1
        print("\nStopping …", flush=True)
    print("All ended. The data is kept; make demo continues with it, make demo-reset starts over.")
    return 0


def _write_private(path: Path, text: str) -> None:
    path.unlink(missing_ok=True)
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "w", encoding="utf-8") as file:
        file.write(text)


_GREETING = """
The desk is open:  {address}
Sign in as         {email}
with the password  {password}

Three commands to try, in another terminal in this folder:

    . .demo/env                                     # address and token of this demo
    .venv/bin/tide overview
    .venv/bin/tide release show 2.4.0 --app marram
    .venv/bin/tide rollout halt 2.4.0 --app marram --reason "trying the button"

Ctrl-C ends everything; the data stays for the next make demo."""


if __name__ == "__main__":
    sys.exit(main())
