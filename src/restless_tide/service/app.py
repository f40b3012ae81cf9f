"""The service put together: a desk, its engine, the routes and the console."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import FastAPI

from restless_tide import __version__
from restless_tide.desk.desk import Desk
from restless_tide.engine.worker import Engine
from restless_tide.service import console, contract, faults, live
from restless_tide.service.brake import Brake, SignInBrake
from restless_tide.service.conditional import Conditional
from restless_tide.service.edge import Edge
from restless_tide.service.limits import BodyLimit, RequestLog
from restless_tide.service.metrics import Metrics
from restless_tide.service.operations import Operations
from restless_tide.service.provider import Provider
from restless_tide.service.remembered import Remembered
from restless_tide.service.repeating import Repeating
from restless_tide.service.router import serve_routes
from restless_tide.service.routes import (
    account,
    apps,
    builds,
    cohorts,
    documents,
    dossier,
    folders,
    freezes,
    goods,
    guards,
    halts,
    invitation,
    ladders,
    matters,
    notices,
    people,
    pictures,
    push,
    releases,
    reports,
    reviewing,
    reviews,
    second_person,
    signing,
    steps,
    stores,
    strips,
    tracks,
    trials,
    uploads,
    watching,
)
from restless_tide.service.threads import Threads

_PACKED = Path(__file__).parent / "console_built"
CONSOLE_FOLDER = _PACKED if _PACKED.is_dir() else Path(__file__).parents[3] / "console" / "dist"
"""The built console: inside the package where that was installed from a wheel, else where ``make console`` builds it."""


def desk_app(desk: Desk, console_folder: Path = CONSOLE_FOLDER) -> FastAPI:
    """The service over ``desk`` as an ASGI application; its lifespan starts and stops the engine."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        app.state.bell.hang(desk)
        engine = app.state.engine = Engine(desk)
        engine.start()
        yield
        engine.stop()
        desk.close()

    app = FastAPI(
        title="Restless Tide",
        version=__version__,
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        openapi_url=None,
        description="The desk at which a mobile release manager works.",
    )
    app.state.desk = desk
    app.state.bell = live.Bell()
    app.state.metrics = Metrics(desk)
    app.state.threads = Threads()
    app.state.overview = Remembered()
    app.state.brake = Brake(desk.settings.join_attempts)
    app.state.sign_in_brake = SignInBrake()
    app.state.provider = Provider(desk) if desk.settings.oidc_issuer else None
    faults.install(app)
    app.add_exception_handler(invitation.PageTooOften, invitation.too_often)
    app.add_middleware(Conditional)
    app.add_middleware(Repeating)
    app.add_middleware(BodyLimit)
    app.add_middleware(Edge, address=desk.settings.address)
    app.add_middleware(RequestLog)
    operations = Operations()
    app.router.routes.append(operations)
    for room in (  # a route is looked for in this sequence, so what stops a release stands first
        releases,
        halts,
        stores,
        account,
        people,
        apps,
        dossier,
        documents,
        folders,
        pictures,
        goods,
        builds,
        push,
        uploads,
        signing,
        cohorts,
        trials,
        tracks,
        reports,
        reviews,
        steps,
        guards,
        freezes,
        second_person,
        strips,
        ladders,
        matters,
        reviewing,
        notices,
        watching,
        invitation,
        live,
    ):
        serve_routes(operations, room.router)
    console.install(app, console_folder)
    app.openapi = lambda: contract.document(app)  # type: ignore[method-assign]
    return app
