"""The control of a stand-in: what only tests and demos may do. The stand-in listens on loopback."""

import hashlib
import threading
from datetime import datetime, timedelta
from typing import Any, Literal

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field

from restless_tide.gateways import protocol
from restless_tide.standins import offering, reviewers, testing, tracks
from restless_tide.standins.entrance import Entrance
from restless_tide.standins.moods import Mischief
from restless_tide.standins.shelf import Thing
from restless_tide.standins.store import BY_HAND, SimulatedStore, fresh


class ClockWish(BaseModel):
    step_hours: float = 0.0
    speed: float | None = None
    set_to: datetime | None = None


class ActByHand(BaseModel):
    submission: str


class TesterAct(BaseModel):
    address: str
    act: Literal["install", "leave", "accept"]
    device: str = ""
    system: str = ""


class Choosing(BaseModel):
    share: float = Field(ge=0, le=1)


class Shelved(BaseModel):
    things: list[dict[str, Any]]


class Announcement(BaseModel):
    rulebook: dict[str, Any]
    in_hours: float | None = None


def control(store: SimulatedStore, entrance: Entrance, busy: list[str]) -> APIRouter:
    """The routes under /control. ``busy`` holds the keys of the calls in hand."""
    router = APIRouter(prefix="/control", include_in_schema=False)
    lock = threading.Lock()

    @router.get("/state")
    def state() -> Thing:
        waiting = [
            thing["due_at"]
            for kind in ("consignment", "trial", "submission", "rulebook")
            for thing in store.shelf.all(kind)
            if thing.get("due_at") and not (kind == "trial" and thing["state"] == "open")
        ]
        moods = {name: store.setting(name, None) for name in Mischief.model_fields}
        return {
            "store": store.rules.store,
            "revision": store.rules.revision,
            "now": store.clock.now().isoformat(),
            "speed": store.clock.speed,
            **moods,
            "outage": moods["outage"] or False,
            "lose_answers": moods["lose_answers"] or 0,
            "reject_next": moods["reject_next"] or [],
            "slow_seconds": moods["slow_seconds"] or 0.0,
            "busy": len(busy),
            "waiting": len(waiting),
            "next_due": min(waiting, default=None),
        }

    @router.post("/clock")
    def clock(wish: ClockWish) -> Thing:
        with lock:
            if wish.set_to is not None:
                store.clock.set(wish.set_to)
            if wish.speed is not None:
                store.clock.run_at(wish.speed)
            store.clock.step(timedelta(hours=wish.step_hours))
        store.turn()
        return state()

    @router.post("/mischief")
    def mischief(wish: Mischief) -> Thing:
        for name, value in wish.model_dump(mode="json", exclude_none=True).items():
            kept = [entry.casefold() for entry in value] if name == "taken_names" else value
            store.shelf.keep_setting(name, kept)
        return state()

    @router.post("/connections")
    def connection() -> Thing:
        return entrance.new_connection()

    @router.delete("/connections/{client}")
    def revoke(client: str) -> Thing:
        entrance.revoke(client)
        return {"revoked": client}

    @router.post("/account")
    def account(wish: Thing) -> Thing:
        """Change the account's standing, as time or an office would."""
        with store.shelf.transaction():
            store.shelf.keep_setting("account", store.setting("account", {}) | wish)
            store.event("account.changed", "account", {})
        return store.account()

    @router.post("/rulebook")
    def announce(wish: Announcement) -> Thing:
        """Announce the next revision of the rulebook; ``in_hours`` sets its date by the store's clock."""
        dated = {}
        if wish.in_hours is not None:
            dated = {"in_force_since": (store.clock.now() + timedelta(hours=wish.in_hours)).isoformat()}
        return store.announce(wish.rulebook | dated)

    @router.get("/acts")
    def acts() -> list[Thing]:
        return store.shelf.acts()

    @router.post("/hand-in")
    async def hand_in(identifier: str, request: Request) -> JSONResponse:
        """Someone hands a package in on the store's own pages; the body is the file."""
        content = await request.body()
        work = lambda: store.hand_in(identifier, content)  # noqa: E731
        status, answer = store.perform(fresh(BY_HAND), "hand in", identifier, {}, work)
        return JSONResponse(answer, status)

    @router.post("/signing-key")
    def take_key(identifier: str, sha256: str) -> Thing:
        """Someone has the store take another sender's key, on its own pages."""
        return store.take_key(identifier, sha256)

    @router.post("/testers/{trial}")
    def tester(trial: str, wish: TesterAct) -> JSONResponse:
        """Someone installs or leaves on the store's own pages."""
        work = lambda: testing.tester_acts(store, trial, wish.address, wish.act, wish.device, wish.system)  # noqa: E731
        status, told = store.perform(fresh(BY_HAND), wish.act, trial, wish.model_dump(mode="json"), work)
        return JSONResponse(told, status)

    @router.post("/trial-told")
    def tell_trial(thing: Thing) -> Thing:
        """Someone at the store decides something about a trial; it is told as it stands."""
        with store.shelf.transaction():
            return store.tell("trial", thing)

    @router.post("/reports")
    def report(wish: testing.ReportWish) -> JSONResponse:
        """Someone reports something in the store's own app; pictures as base64."""
        work = lambda: testing.report(store, wish)  # noqa: E731
        status, told = store.perform(fresh(BY_HAND), "report", wish.trial, {}, work)
        return JSONResponse(told, status)

    @router.post("/answers/{consignment}")
    def answer(consignment: str, answers: dict[str, str]) -> JSONResponse:
        """Someone answers the store's question on its own pages."""
        work = lambda: store.answer(consignment, answers)  # noqa: E731
        status, told = store.perform(fresh(BY_HAND), "answer", consignment, answers, work)
        return JSONResponse(told, status)

    @router.post("/acts/{act}")
    def act_on_the_stores_own_pages(act: str, by_hand: ActByHand) -> JSONResponse:
        """Pause, resume, halt or withdraw, as someone would on the store's own pages."""
        work = lambda: store.steer(by_hand.submission, act)  # noqa: E731
        status, told = store.perform(fresh(BY_HAND), act, by_hand.submission, {}, work)
        return JSONResponse(told, status)

    @router.post("/texts/{berth}")
    def write_texts(berth: str, wish: protocol.TextsRequest) -> JSONResponse:
        """Someone writes texts on the store's own pages."""
        work = lambda: offering.write_texts(store, berth, wish)  # noqa: E731
        status, told = store.perform(fresh(BY_HAND), "write texts", berth, {}, work)
        return JSONResponse(told, status)

    @router.post("/pictures/{berth}/{locale}/{picture_class}")
    async def put_picture(berth: str, locale: str, picture_class: str, request: Request) -> JSONResponse:
        """Someone puts a picture in on the store's own pages, instead of what is there."""
        content = await request.body()

        def work() -> Thing:
            upload = store.begin_upload(berth, len(content))["id"]
            (store.uploads / upload).write_bytes(content)
            sha256, size = hashlib.sha256(content).hexdigest(), len(content)
            one = protocol.PictureSent(sha256=sha256, media_type="", size_bytes=size, upload=upload)
            wish = protocol.PicturesRequest(pictures={locale: {picture_class: (one,)}})
            return offering.write_pictures(store, berth, wish)

        status, told = await run_in_threadpool(
            store.perform, fresh(BY_HAND), "write pictures", berth, {"locale": locale, "class": picture_class}, work
        )
        return JSONResponse(told, status)

    @router.post("/dossier-answers/{berth}")
    def write_answers(berth: str, wish: protocol.DossierAnswersRequest) -> JSONResponse:
        """Someone answers questions on the store's own pages."""
        work = lambda: offering.write_answers(store, berth, wish)  # noqa: E731
        status, told = store.perform(fresh(BY_HAND), "write answers", berth, {}, work)
        return JSONResponse(told, status)

    @router.post("/goods/{berth}")
    def write_goods(berth: str, wish: protocol.GoodsRequest) -> JSONResponse:
        """Someone enters goods on the store's own pages."""
        work = lambda: offering.write_goods(store, berth, wish)  # noqa: E731
        status, told = store.perform(fresh(BY_HAND), "write goods", berth, {}, work)
        return JSONResponse(told, status)

    @router.post("/reviewers")
    def reviewer_writes(wish: reviewers.ReviewerWrites) -> Thing:
        """A reviewer writes about a submission."""
        with store.shelf.transaction():
            return reviewers.reviewer_writes(store, wish)

    @router.post("/devices/{berth}")
    def devices(berth: str) -> list[Thing]:
        """The devices of the sample look for updates; what each has now."""
        store.turn()
        with store.shelf.transaction():
            return tracks.look_for_updates(store, berth)

    @router.post("/tracks/{berth}/{track}/close")
    def close_track(berth: str, track: str) -> JSONResponse:
        """Someone closes a track of the team's own on the store's own pages."""
        work = lambda: tracks.close_own(store, berth, track)  # noqa: E731
        status, told = store.perform(fresh(BY_HAND), "close track", f"{berth} {track}", {}, work)
        return JSONResponse(told, status)

    @router.post("/choosers/{berth}/{track}")
    def choosers(berth: str, track: str, wish: Choosing) -> Thing:
        """So large a share of the devices has chosen a track by now."""
        with store.shelf.transaction():
            return tracks.people_choose(store, berth, track, wish.share)

    @router.post("/things/{kind}")
    def shelve(kind: str, wish: Shelved) -> Thing:
        """Put things on the shelf as they are: for measuring with many of them."""
        with store.shelf.transaction():
            for thing in wish.things:
                store.shelf.put(kind, thing)
        return {"shelved": len(wish.things)}

    @router.get("/things/{kind}")
    def things(kind: str) -> list[Thing]:
        return store.shelf.all(kind)

    return router
