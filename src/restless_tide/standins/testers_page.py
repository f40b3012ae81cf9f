"""What a tester sees on the store's own side: a page for a phone, with the build to install."""

from typing import Annotated
from urllib.parse import urlencode

from fastapi import APIRouter, Form, Query
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from jinja2 import Environment, StrictUndefined

from restless_tide.standins import testing
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.store import BY_HAND, SimulatedStore, fresh

_PAGE = Environment(autoescape=True, undefined=StrictUndefined).from_string(
    """<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{ store }}: test builds</title><style>
:root { color-scheme: light dark } body { font: 1.05rem/1.5 system-ui, sans-serif; margin: 0; padding: 1.5rem 1.1rem; background: Canvas; color: CanvasText }
main { max-width: 30rem; margin: 0 auto; display: grid; gap: 1rem } form { display: grid; gap: .7rem } label { display: grid; gap: .2rem }
input, button { font: inherit; padding: .65rem .8rem; border-radius: .4rem; border: 1px solid GrayText; min-height: 44px; box-sizing: border-box; width: 100% }
p.note { border-left: 4px solid; padding-left: .7rem }</style></head><body><main>
<p><strong>{{ store }}</strong> (simulated) · test builds</p>
{% if not trial %}<h1>No such test</h1>{% else %}
<h1>{{ name }} {{ trial.version }}</h1>
{% if said %}<p class="note" role="status">{{ said }}</p>{% endif %}
<form method="post"><label>Your mail address <input name="address" type="email" value="{{ address }}" required></label>
<label>Device <input name="device" value="{{ device }}"></label><label>System <input name="system" value="{{ system }}"></label>
<button name="act" value="install">Install build {{ trial.number }}</button><button name="act" value="leave">Leave this test</button></form>
{% endif %}</main></body></html>"""
)


def pages(store: SimulatedStore) -> APIRouter:
    router = APIRouter(prefix="/testing", include_in_schema=False)

    @router.get("/{trial}")
    def page(
        trial: str,
        address: str = "",
        device: str = "",
        system: str = "",
        said: Annotated[str, Query(max_length=300)] = "",
    ) -> HTMLResponse:
        store.turn()
        found = store.shelf.get("trial", trial)
        berth = store.shelf.get("berth", found["berth"]) if found else None
        name = berth["name"] if berth else ""
        content = {"store": store.rules.store, "trial": found, "name": name, "said": said}
        content |= {"address": address, "device": device, "system": system}
        return HTMLResponse(_PAGE.render(content), 200 if found else 404)

    @router.post("/{trial}")
    def act(
        trial: str,
        address: Annotated[str, Form(max_length=300)],
        act: Annotated[str, Form()],
        device: Annotated[str, Form(max_length=100)] = "",
        system: Annotated[str, Form(max_length=100)] = "",
    ) -> Response:
        if act not in ("install", "leave"):
            raise Refusal("act-unknown", "Nothing like that can be done here.", 404)
        work = lambda: testing.tester_acts(store, trial, address, act, device, system)  # noqa: E731
        status, told = store.perform(fresh(BY_HAND), act, trial, {"address": address}, work)
        said = told["detail"] if status >= 400 else ("Installed." if act == "install" else "You have left this test.")
        query = urlencode({"address": address, "device": device, "system": system, "said": said})
        return RedirectResponse(f"/testing/{trial}?{query}", 303)

    return router
