"""What the nursery has loaded before it forks: every module, and what its forks would otherwise make ready each for itself."""

from __future__ import annotations

import gc
import importlib
import pkgutil
from typing import Any

import anyio._backends._asyncio
import anyio._core._fileio  # noqa: F401
import httpcore  # noqa: F401
import uvicorn.lifespan.on
import uvicorn.loops.auto
import uvicorn.loops.uvloop
import uvicorn.protocols.http.auto
import uvicorn.protocols.websockets.auto  # noqa: F401
from pydantic import BaseModel
from sqlalchemy.orm import configure_mappers

import restless_tide
import tests.harbour  # noqa: F401
from restless_tide.core.packages import facts
from restless_tide.desk import reading
from restless_tide.standins import __main__ as standins
from restless_tide.standins.gateway import standin_app
from restless_tide.standins.store import SimulatedStore
from tests import empty_records, quick_hashes
from tests.nursery import ForkedReader

NOT_OF_A_DESK = ("restless_tide.demo", "restless_tide.plots", "restless_tide.records.migrations")
"""What is run by the demo, by a process that draws, and by alembic."""


class _Later:
    """Stands for the store of a fork until there is one: its application is built of this beforehand, which takes a while."""

    def __getattr__(self, name: str) -> Any:
        return getattr(_store, name)

    def __setattr__(self, name: str, value: Any) -> None:
        setattr(_store, name, value)


class _Nothing:
    address = ""


_store: Any = _Nothing()
_later: Any = _Later()
_app = standin_app(_later, "")


def _soon(store: SimulatedStore, address: str) -> Any:
    """The application of the one store of a fork."""
    global _store
    _store = store
    store.address = _app.state.entrance._address = address
    return _app


def build(kind: type[BaseModel]) -> None:
    """Build the models that would be built by each fork that uses them first."""
    for model in kind.__subclasses__():
        if model.__module__.startswith("restless_tide."):
            model.model_rebuild()
        build(model)


for module in pkgutil.walk_packages(restless_tide.__path__, "restless_tide."):
    if not module.name.endswith("__main__") and not module.name.startswith(NOT_OF_A_DESK):
        importlib.import_module(module.name)
configure_mappers()
build(BaseModel)
facts._adapter()
empty_records.install()
quick_hashes.install()
empty_records.empty()
standins.standin_app = _soon  # type: ignore[assignment]
reading._start = ForkedReader  # type: ignore[assignment]
gc.collect()
gc.freeze()  # a look for garbage in a fork would copy every page of what is shared
