"""What the nursery has loaded before it forks: every module, and what they would otherwise make ready at their first use."""

from __future__ import annotations

import gc

import uvicorn.lifespan.on
import uvicorn.loops.auto
import uvicorn.protocols.http.auto
import uvicorn.protocols.websockets.auto  # noqa: F401
from sqlalchemy.orm import configure_mappers

import tests.harbour  # noqa: F401
from tests import empty_records

configure_mappers()
empty_records.install()
empty_records.empty()
gc.collect()
gc.freeze()  # a look for garbage in a fork would copy every page of what is shared
