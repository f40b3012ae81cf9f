"""Field reports and the numbers of builds in people's hands, by the client."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from restless_tide.client.noun import Noun
from restless_tide.wire.reports import (
    BuildNumbersTold,
    DecideAllWanted,
    DecidedTold,
    DecideWanted,
    GroupTold,
    ReplyWanted,
    ReportDetailTold,
    ReportTold,
    ReportWanted,
    SymbolFileTold,
    TicketWanted,
)

_BYTES = "application/octet-stream"


class Reports(Noun):
    """What comes back from people who test."""

    def each(self, **wish: Any) -> Iterator[ReportTold]:
        """Reports, newest first; ``wish`` may be app, build, cohort, kind, state (a list), group, text."""
        return self._line.each("/v1/reports", ReportTold, limit=200, **wish)

    def some(self, *, limit: int | None = 100, **wish: Any) -> list[ReportTold]:
        return list(islice(self.each(**wish), limit))

    def counts(self, **wish: Any) -> dict[str, int]:
        """How many there are in each state."""
        return self._line.get("/v1/reports/counts", dict[str, int], **wish)

    def one(self, report: str) -> ReportDetailTold:
        return self._line.get(f"/v1/reports/{report}", ReportDetailTold)

    def file(self, app: str, **told: Any) -> ReportDetailTold:
        """File a remark, or a crash by its stack or frames; the fields are those of ReportWanted."""
        return self._line.post(f"/v1/apps/{app}/reports", ReportDetailTold, ReportWanted.model_validate(told))

    def add_picture(self, report: str, content: bytes) -> ReportDetailTold:
        """Put a picture in; it is drawn anew, so that nothing but the picture is kept."""
        return self._line.send_bytes(f"/v1/reports/{report}/pictures", ReportDetailTold, content, _BYTES)

    def picture(self, report: str, place: int) -> bytes:
        return self._line.send("GET", f"/v1/reports/{report}/pictures/{place}").content

    def decide(self, report: str, act: str, **told: Any) -> ReportDetailTold:
        """``act``: accept, fix (``build``), duplicate (``duplicate_of``), close or reopen. Raises ImpossibleAct."""
        body = DecideWanted.model_validate({"act": act, **told})
        return self._line.post(f"/v1/reports/{report}/decisions", ReportDetailTold, body)

    def decide_all(self, reports: Sequence[str], act: str, **told: Any) -> DecidedTold:
        """The same for several, as one act; those it cannot be made on are told apart, with the reason."""
        body = DecideAllWanted.model_validate({"reports": list(reports), "act": act, **told})
        return self._line.post("/v1/report-decisions", DecidedTold, body)

    def reply(self, report: str, text: str) -> ReportDetailTold:
        """Answer the tester by mail. Raises Conflict where nobody is known."""
        return self._line.post(f"/v1/reports/{report}/replies", ReportDetailTold, ReplyWanted(text=text))

    def set_ticket(self, report: str, ticket: str) -> ReportDetailTold:
        return self._line.put(f"/v1/reports/{report}/ticket", ReportDetailTold, TicketWanted(ticket=ticket))

    def groups(self, app: str, *, build: str | None = None) -> list[GroupTold]:
        """The crashes of an app, equal ones together, the most frequent first."""
        return self._line.get(f"/v1/apps/{app}/crash-groups", list[GroupTold], build=build)

    def numbers(self, app: str) -> list[BuildNumbersTold]:
        """Who has which build, use, crash-free share and reports, the newest build first."""
        return self._line.get(f"/v1/apps/{app}/test-numbers", list[BuildNumbersTold])

    def export(self, to: Path, **wish: Any) -> None:
        """Write the reports as CSV; ``wish`` may be app, build, kind, state, text."""
        given = {name: value for name, value in wish.items() if value}
        self._line.fetch(f"/v1/reports/export?{urlencode(given, doseq=True)}", to)

    def keep_symbols(self, build: str, file: Path) -> SymbolFileTold:
        """Keep a file that brings names back into this build's stacks. Raises Invalid where it brings none."""
        content = file.read_bytes()
        return self._line.send_bytes(f"/v1/builds/{build}/symbols", SymbolFileTold, content, _BYTES, name=file.name)

    def symbols(self, build: str) -> list[SymbolFileTold]:
        return self._line.get(f"/v1/builds/{build}/symbols", list[SymbolFileTold])
