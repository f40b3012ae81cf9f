"""Starting the service: settings from the environment, JSON logs, one process."""

from __future__ import annotations

import ctypes
import gc
import logging
import os
import socket
import sys
from collections.abc import Mapping
from contextlib import suppress

import structlog
import uvicorn

from restless_tide.core.errors import Conflict, TideError
from restless_tide.core.limits import IDLE_CONNECTION_SECONDS
from restless_tide.desk import people
from restless_tide.desk.clock import RealClock, SteppableClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings, settings_from
from restless_tide.service.app import desk_app

PRIVATE = 0o077
"""What the service writes is for its own user alone."""
THREADS_SWITCH_SECONDS = 0.0005
"""A thread that was waiting for an answer continues so soon, whatever others compute; Python's own 5 ms delay a halt."""

_M_ARENA_MAX, ARENAS = -8, 2
"""Of mallopt(3): in how many parts memory is kept. Left alone, the C library keeps one for nearly every thread, and with large
answers each of them grows."""
GARBAGE_THRESHOLDS = (50_000, 20, 50)
"""Objects between two looks for garbage, young, middle and old (Python's own: 700, 10, 10)."""


def open_desk(settings: Settings) -> Desk:
    return Desk(settings, SteppableClock() if settings.steppable_clock else RealClock())


def add_first_person(environment: Mapping[str, str], name: str, email: str, password: str) -> None:
    """Add the person who signs in first; only whoever can read the data may do that. Raises TideError."""
    os.umask(PRIVATE)
    desk = open_desk(settings_from(environment))
    try:
        with desk.act("operator") as act:
            people.add(act, name, email, password)
    finally:
        desk.close()


def serve(environment: Mapping[str, str]) -> None:
    """Run the service until it is told to stop. Raises TideError when it cannot start."""
    settings = settings_from(environment)
    os.umask(PRIVATE)
    _demand_free_port(settings.host, settings.port)
    _write_json_logs()
    _keep_memory_together()
    sys.setswitchinterval(THREADS_SWITCH_SECONDS)
    desk = open_desk(settings)
    with desk.look() as session:
        if not people.anybody(session):
            sys.stderr.write(
                "Nobody can sign in yet. Add the first person with: tide desk init --name NAME --email ADDRESS\n"
            )
    app = desk_app(desk)
    _look_seldom_for_garbage()
    uvicorn.run(
        app,
        host=settings.host,
        port=settings.port,
        log_config=None,
        access_log=False,
        timeout_graceful_shutdown=5,
        timeout_keep_alive=IDLE_CONNECTION_SECONDS,
        server_header=False,
        proxy_headers=bool(settings.trusted_proxies),
        forwarded_allow_ips=list(settings.trusted_proxies),
    )


def _look_seldom_for_garbage() -> None:
    """What is there by now stays for good, and is not looked through again; a request leaves little that is in a circle."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(*GARBAGE_THRESHOLDS)


def _keep_memory_together() -> None:
    """Before any other thread begins. A C library without this call has no such parts."""
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(_M_ARENA_MAX, ARENAS)


def _demand_free_port(host: str, port: int) -> None:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as wrong:
            raise Conflict(
                f"Port {port} on {host} cannot be used ({wrong.strerror}).",
                remedy="Choose another: TIDE_PORT=7200 …",
                code="port-taken",
            ) from None


def _write_json_logs() -> None:
    """One JSON document a line: the desk's own, and what the libraries have to say."""
    shared: list[structlog.typing.Processor] = [
        structlog.contextvars.merge_contextvars,
        structlog.processors.add_log_level,
        structlog.processors.TimeStamper(fmt="iso", utc=True),
        structlog.processors.format_exc_info,
    ]
    structlog.configure(
        processors=[*shared, structlog.processors.JSONRenderer()],
        logger_factory=structlog.WriteLoggerFactory(sys.stderr),
        cache_logger_on_first_use=True,
    )
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(
        structlog.stdlib.ProcessorFormatter(
            foreign_pre_chain=[structlog.stdlib.add_logger_name, *shared],
            processors=[
                structlog.stdlib.ProcessorFormatter.remove_processors_meta,
                structlog.processors.JSONRenderer(),
            ],
        )
    )
    logging.basicConfig(level=logging.WARNING, handlers=[handler], force=True)


def main() -> int:
    try:
        serve(os.environ)
    except TideError as wrong:
        sys.stderr.write(f"{wrong.detail} {wrong.remedy}\n")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
