"""The lease: one working engine per database, also when two services are started on it.

A lease is held for some seconds and renewed; its fencing number rises with every new holder, and
what an engine writes is checked against it (see ``Desk.act``), so that a holder that was held up (a
suspended machine, a long pause) cannot write over its successor. A holder on this machine that is no
longer alive is succeeded at once. The lease runs by real time, whatever the desk's clock shows.
"""

from __future__ import annotations

import os
import socket
from datetime import UTC, datetime, timedelta
from pathlib import Path

from sqlalchemy import update

from restless_tide.desk.desk import ENGINE
from restless_tide.records.database import Database
from restless_tide.records.tables import Lease

LIFE = timedelta(seconds=10)
RENEW_SECONDS = 2.0


class EngineLease:
    def __init__(self, database: Database) -> None:
        self._database = database
        self.holder = f"{socket.gethostname()}/{os.getpid()}/{_began(os.getpid())}"

    def take(self) -> int | None:
        """The fencing number when this process holds the lease now, renewed; None while another one does."""
        now = datetime.now(UTC)
        renewed = self._database.aside(
            update(Lease)
            .where(Lease.name == ENGINE, Lease.holder == self.holder)
            .values(until=now + LIFE)
            .returning(Lease.fence)
        )
        if renewed is not None:
            return int(renewed)
        with self._database.writing() as session:
            row = session.get(Lease, ENGINE)
            if row is None:
                row = Lease(name=ENGINE, holder=self.holder, fence=1, until=now + LIFE)
                session.add(row)
            elif row.holder != self.holder:
                if row.until > now and _may_live(row.holder):
                    return None
                row.holder, row.fence = self.holder, row.fence + 1
            row.until = now + LIFE
            return row.fence

    def release(self) -> None:
        """Let the next engine begin at once."""
        with self._database.writing() as session:
            row = session.get(Lease, ENGINE)
            if row is not None and row.holder == self.holder:
                row.until = datetime.now(UTC)
                row.holder = ""


def _may_live(holder: str) -> bool:
    """False only when the holder was a process of this machine that is gone."""
    host, _, process = holder.partition("/")
    pid, _, began = process.partition("/")
    if not holder:
        return False
    return host != socket.gethostname() or not pid.isdigit() or not began or _began(int(pid)) == began


def _began(pid: int) -> str:
    """When a process of this machine began, in ticks since the machine did (proc(5), stat); empty when it is gone."""
    try:
        text = Path(f"/proc/{pid}/stat").read_text()
    except OSError:
        return ""
    fields = text.rpartition(")")[2].split()
    return "" if fields[0] == "Z" else fields[19]
