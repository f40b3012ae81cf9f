"""tide standin: driving the simulated stores that ship with the project."""

from __future__ import annotations

import json
import os
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

import httpx

from restless_tide.cli.call import Call, cell, file_argument
from restless_tide.cli.parsing import Nouns, Parser
from restless_tide.core.packages import inspect_package
from restless_tide.core.rulebook import read_rulebook
from restless_tide.wire.errors import DeskUnreachable, Invalid

_PORT_AFTER_DESK = {"northgate": 1, "openfield": 2, "slatehouse": 3, "mail": 4}


def add(nouns: Nouns) -> None:
    nouns.noun("standin")
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
    parser.add_argument("--ask-next", metavar="QUESTION", help="the next reviewer asks this first, and waits")
    parser.add_argument(
        "--reject-item",
        nargs=2,
        metavar=("ITEM", "REASON"),
        help="the next review refuses this item, such as goods/maps",
    )
    parser.add_argument("--asking", type=float, metavar="RATE", help="share of reviews in which one asks back, 0 to 1")
    parser.add_argument(
        "--late", type=float, metavar="RATE", help="share of reviews that take five times as long, 0 to 1"
    )
    parser.add_argument("--take-name", metavar="NAME", help="this name belongs to another account")
    parser.add_argument("--too-many", type=int, metavar="N", help="the next N calls are answered 429")
    parser.add_argument("--retry-after", type=float, metavar="SECONDS", help="what a 429 asks for")
    parser.add_argument("--fail", type=int, metavar="N", help="the next N calls are answered 500")
    parser.add_argument("--nonsense", choices=["redirect", "page", "endless", "off"], help="it answers nonsense")
    parser.add_argument("--clock-off", type=float, metavar="SECONDS", help="its clock differs from real time")
    parser.add_argument("--whims", type=float, metavar="RATE", help="share of reviews rejected by whim, 0 to 1")
    parser.add_argument("--failing", type=float, metavar="RATE", help="share of builds whose processing fails, 0 to 1")
    parser.add_argument("--bad-number", metavar="NUMBER", help="the build with this number crashes often")
    parser.add_argument(
        "--events",
        choices=["off", "late", "doubled", "shuffled", "forged", "well"],
        action="append",
        help="how it pushes its events; repeat it; well: as it should",
    )
    parser = of_store("standin hand-in", _hand_in, "hand a package in on the store's own pages")
    parser.add_argument("file")
    parser = of_store("standin act", _act, "act on the store's own pages: pause, resume, halt, withdraw")
    parser.add_argument("act", choices=["pause", "resume", "halt", "withdraw"])
    parser.add_argument("submission", help="as the record of acts names it")
    parser = of_store("standin answer", _answer, "answer a held build's questions on the store's own pages")
    parser.add_argument("consignment", help="as the store names it")
    parser.add_argument("answers", nargs="+", metavar="QUESTION=ANSWER")
    parser = of_store("standin announce", _announce, "announce the next revision of the rulebook")
    parser.add_argument("file", nargs="?", help="the rulebook (TOML); the one that ships if left out")
    parser.add_argument("--in-days", type=float, default=21.0, metavar="DAYS", help="when it comes into force (21)")
    parser = of_store("standin account", _account, "change the account's standing")
    parser.add_argument("--membership-days", type=float, metavar="DAYS", help="until the membership ends")
    parser.add_argument("--key-days", type=float, metavar="DAYS", help="until the key ends")
    parser.add_argument("--paper", choices=["valid", "missing", "expired"], help="the contract for paid apps")
    parser.add_argument("--without", action="append", metavar="RIGHT", help="the key loses this right; repeat it")
    of_store("standin acts", _acts, "the acts as the store recorded them")
    parser = nouns.command("standin mails", _mails, "the mails that the mail sink kept")
    parser.add_argument("--to", help="only to this address")
    parser.add_argument("--port", type=int)


def _reach(
    call: Call, name: str, method: str, path: str, body: dict[str, Any] | None = None, content: bytes | None = None
) -> Any:
    port = call.given.port or int(os.environ.get("TIDE_PORT", "7100")) + _PORT_AFTER_DESK[name]
    try:
        url = f"http://127.0.0.1:{port}{path}"
        answer = httpx.request(method, url, json=body, content=content, timeout=30, trust_env=False, verify=False)  # noqa: S501
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
                ("refusing an item of the next review", state["reject_item_next"]),
                ("asking back in the next review", state["ask_next"]),
                (f"slow by {state['slow_seconds']:g} s", state["slow_seconds"]),
                (f"answering {state['too_many']} calls 429", state["too_many"]),
                (f"failing {state['fail']} calls", state["fail"]),
                (f"answering nonsense ({state['nonsense']})", state["nonsense"]),
                (f"its clock is off by {state['clock_off_seconds']} s", state["clock_off_seconds"]),
                ("pushing no events", state["push_off"]),
                ("pushing events late", state["push_late_seconds"]),
                ("pushing events doubled", state["push_doubled"]),
                ("pushing events shuffled", state["push_shuffled"]),
                ("forged events beside its own", state["push_forged"]),
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
        "ask_next": [given.ask_next] if given.ask_next else None,
        "reject_item_next": {given.reject_item[0]: [given.reject_item[1]]} if given.reject_item else None,
        "asking_rate": given.asking,
        "late_rate": given.late,
        "taken_names": [given.take_name] if given.take_name else None,
        "too_many": given.too_many,
        "retry_after_seconds": given.retry_after,
        "fail": given.fail,
        "nonsense": None if given.nonsense is None else given.nonsense.replace("off", ""),
        "clock_off_seconds": given.clock_off,
        "whim_rate": given.whims,
        "failing_rate": given.failing,
        "bad_numbers": [given.bad_number] if given.bad_number else None,
    }
    if given.events:
        body |= {
            "push_off": "off" in given.events,
            "push_late_seconds": 2.0 if "late" in given.events else 0.0,
            "push_doubled": "doubled" in given.events,
            "push_shuffled": "shuffled" in given.events,
            "push_forged": "forged" in given.events,
        }
    _tell_state(call, _reach(call, given.store, "POST", "/control/mischief", body))


def _hand_in(call: Call) -> None:
    path = file_argument(call.given.file)
    with path.open("rb") as source:
        facts = inspect_package(source)
    asked = f"/control/hand-in?{urlencode({'identifier': facts.identifier})}"
    answer = _reach(call, call.given.store, "POST", asked, content=path.read_bytes())
    call.answer(answer, lambda: call.say(f"Handed in as {answer['id']}; it is {answer['state']}."))


def _act(call: Call) -> None:
    body = {"submission": call.given.submission}
    answer = _reach(call, call.given.store, "POST", f"/control/acts/{call.given.act}", body)
    call.answer(answer, lambda: call.say(f"{call.given.submission} is {answer['state']} at {answer['share']:.0%} now."))


def _answer(call: Call) -> None:
    answers = dict(word.partition("=")[::2] for word in call.given.answers)
    answer = _reach(call, call.given.store, "POST", f"/control/answers/{call.given.consignment}", answers)
    call.answer(answer, lambda: call.say(f"{answer['id']} is {answer['state']} now."))


def _announce(call: Call) -> None:
    shipped = Path(__file__).parents[1] / "standins" / "rulebooks" / "announced" / f"{call.given.store}.toml"
    path = file_argument(call.given.file or str(shipped))
    rules = read_rulebook(path.read_text(encoding="utf-8"), str(path))
    body = {"rulebook": rules.model_dump(mode="json"), "in_hours": call.given.in_days * 24}
    answer = _reach(call, call.given.store, "POST", "/control/rulebook", body)
    told = f"Revision {answer['revision']} is announced for {answer['in_force_since'][:16]} UTC."
    call.answer(answer, lambda: call.say(told))


def _account(call: Call) -> None:
    given, now = call.given, datetime.now(UTC)
    body: dict[str, Any] = {}
    if given.membership_days is not None:
        body["membership_until"] = (now + timedelta(days=given.membership_days)).isoformat()
        body["standing"] = (
            "expired" if given.membership_days <= 0 else "expiring" if given.membership_days < 45 else "good"
        )
    if given.key_days is not None:
        body["key_until"] = (now + timedelta(days=given.key_days)).isoformat()
    if given.paper:
        blocks = ["price", "free-or-paid"]
        body["papers"] = [{"name": "Contract for paid apps", "state": given.paper, "blocks": blocks}]
    if given.without:
        rights = ("read", "builds", "trials", "releases", "rollouts", "availability")
        body["may"] = [right for right in rights if right not in given.without]
    answer = _reach(call, given.store, "POST", "/control/account", body)
    call.answer(answer, lambda: call.say(f"The account's standing is {answer['standing']}."))


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
