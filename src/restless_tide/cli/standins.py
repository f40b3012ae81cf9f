"""tide standin: driving the simulated stores that ship with the project."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import httpx

from restless_tide.cli.call import Call, cell
from restless_tide.cli.parsing import Nouns, Parser
from restless_tide.wire.errors import DeskUnreachable, Invalid

_PORT_AFTER_DESK = {"northgate": 1, "openfield": 2, "mail": 3}


def add(nouns: Nouns) -> None:
    nouns.noun("standin", "the simulated stores: clock, mischief, connection files, record")
    stores = [name for name in _PORT_AFTER_DESK if name != "mail"]

    def of_store(words: str, run: Any, summary: str) -> Parser:
        parser = nouns.command(words, run, summary)
        parser.add_argument("store", choices=stores)
        parser.add_argument("--port", type=int, help="where it listens; counted from TIDE_PORT if left out")
        return parser

    parser = of_store("standin connection", _connection, "make a connection file for a stand-in")
    parser.add_argument("file", help="where to write it (0600)")
    of_store("standin state", _state, "its clock and moods")
    of_store("standin step", _step, "step its clock forwards").add_argument("hours", type=float)
    of_store("standin speed", _speed, "let its clock run fast").add_argument("factor", type=float)
    parser = of_store("standin mischief", _mischief, "make it misbehave, or behave again")
    parser.add_argument("--outage", choices=["on", "off"], help="it answers nothing")
    parser.add_argument("--lose-answers", type=int, metavar="N", help="it acts, but its next N answers are lost")
    parser.add_argument("--slow", type=float, metavar="SECONDS", help="it takes so long before it acts (0: at once)")
    parser.add_argument("--reject-next", metavar="REASON", help="the next review ends in a rejection")
    parser.add_argument("--take-name", metavar="NAME", help="this name belongs to somebody else")
    of_store("standin acts", _acts, "the acts as the store recorded them")
    parser = nouns.command("standin mails", _mails, "the mails that the mail sink kept")
    parser.add_argument("--to", help="only to this address")
    parser.add_argument("--port", type=int)


def _reach(call: Call, name: str, method: str, path: str, body: dict[str, Any] | None = None) -> Any:
    port = call.given.port or int(os.environ.get("TIDE_PORT", "7100")) + _PORT_AFTER_DESK[name]
    try:
        url = f"http://127.0.0.1:{port}{path}"
        answer = httpx.request(method, url, json=body, timeout=30, trust_env=False, verify=False)  # noqa: S501
    except httpx.TransportError:
        raise DeskUnreachable(
            f"No {name} stand-in answers on port {port}.", remedy="Start the demo with: make demo, or say --port."
        ) from None
    if not answer.is_success:
        raise Invalid(f"The {name} stand-in answered {answer.status_code}: {answer.text[:200]}")
    return answer.json()


def _connection(call: Call) -> None:
    made = _reach(call, call.given.store, "POST", "/control/connections")
    path = Path(call.given.file)
    path.unlink(missing_ok=True)
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "w", encoding="utf-8") as file:
        json.dump(made, file, indent=2)
    call.answer(
        {"file": str(path), "client_id": made["client_id"]},
        lambda: call.say(
            f"{path} holds the key of {made['client_id']}. Connect it with: tide store connect {call.given.store} {path}"
        ),
    )


def _tell_state(call: Call, state: dict[str, Any]) -> None:
    def shown() -> None:
        moods = [
            text
            for text, on in (
                ("away", state["outage"]),
                (f"losing {state['lose_answers']} answers", state["lose_answers"]),
                ("rejecting the next review", state["reject_next"]),
                (f"slow by {state['slow_seconds']:g} s", state["slow_seconds"]),
            )
            if on
        ]
        call.say(
            f"{state['store']}: {state['now'][:16]} UTC, clock at {state['speed']:g}x, {state['waiting']} thing(s) under way, {', '.join(moods) or 'behaving'}."
        )

    call.answer(state, shown)


def _state(call: Call) -> None:
    _tell_state(call, _reach(call, call.given.store, "GET", "/control/state"))


def _step(call: Call) -> None:
    _tell_state(call, _reach(call, call.given.store, "POST", "/control/clock", {"step_hours": call.given.hours}))


def _speed(call: Call) -> None:
    _tell_state(call, _reach(call, call.given.store, "POST", "/control/clock", {"speed": call.given.factor}))


def _mischief(call: Call) -> None:
    given = call.given
    body: dict[str, Any] = {
        "outage": None if given.outage is None else given.outage == "on",
        "lose_answers": given.lose_answers,
        "slow_seconds": given.slow,
        "reject_next": [given.reject_next] if given.reject_next else None,
        "taken_names": [given.take_name] if given.take_name else None,
    }
    _tell_state(call, _reach(call, given.store, "POST", "/control/mischief", body))


def _acts(call: Call) -> None:
    acts = _reach(call, call.given.store, "GET", "/control/acts")

    def shown() -> None:
        table = call.table("AT", "ACT", "SUBJECT", "OUTCOME", "KEY")
        for act in acts:
            table.add_row(act["at"][:16], cell(act["act"]), act["subject"], act["outcome"], act["key"])
        call.show(table, empty="Nothing has been asked of this store yet.")

    call.answer(acts, shown)


def _mails(call: Call) -> None:
    mails = _reach(call, "mail", "GET", f"/mails?to={call.given.to}" if call.given.to else "/mails")

    def shown() -> None:
        for mail in mails:
            call.say(f"To: {mail['to']}\nSubject: {mail['subject']}\n\n{mail['text']}\n")
        if not mails:
            call.say("No mails.")

    call.answer(mails, shown)
