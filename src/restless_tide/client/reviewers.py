"""Reviewers: what they are told in every round, and the correspondence with them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from restless_tide.client.noun import Noun
from restless_tide.wire.reviewing import BriefTold, BriefWanted, MessageWanted, ReceivedWanted, ThreadTold


class Reviewers(Noun):
    """Reviewers: what they are told in every round, and the correspondence with them."""

    def briefs(self, app: str) -> list[BriefTold]:
        """What the reviewers of an app are told at each store."""
        return self._line.get(f"/v1/apps/{app}/reviewer-briefs", list[BriefTold])

    def change_brief(self, app: str, store: str, wanted: BriefWanted) -> BriefTold:
        """Change what they are told; what is None stays, what is empty is taken out."""
        return self._line.patch(f"/v1/apps/{app}/reviewer-briefs/{store}", BriefTold, wanted)

    def messages(self, app: str, version: str, place: str) -> list[ThreadTold]:
        """The correspondence of a leg, the newest round first."""
        return self._line.get(_at(app, version, place, "messages"), list[ThreadTold])

    def write(self, app: str, version: str, place: str, words: str, files: Sequence[str] = ()) -> list[ThreadTold]:
        """Write to the reviewer of the last round; ``files`` are digests of documents. Raises ImpossibleAct."""
        body = MessageWanted(words=words, files=list(files))
        return self._line.post(_at(app, version, place, "messages"), list[ThreadTold], body)

    def appeal(self, app: str, version: str, place: str, words: str, files: Sequence[str] = ()) -> list[ThreadTold]:
        """Appeal against the refusal of the last round. Raises ImpossibleAct where the store takes none, or no more."""
        body = MessageWanted(words=words, files=list(files))
        return self._line.post(_at(app, version, place, "appeals"), list[ThreadTold], body)

    def received(
        self, app: str, version: str, place: str, words: str, files: Sequence[str] = (), *, asks: bool = False
    ) -> list[ThreadTold]:
        """Enter what a reviewer wrote on the store's own pages or by mail."""
        body = ReceivedWanted(words=words, files=list(files), asks=asks)
        return self._line.post(_at(app, version, place, "received-messages"), list[ThreadTold], body)

    def fetch_file(self, app: str, message: str, sha256: str, to: Path) -> Path:
        """Fetch a file of a message, whole, into ``to``."""
        self._line.fetch(f"/v1/apps/{app}/review-messages/{message}/files/{sha256}", to)
        return to


def _at(app: str, version: str, place: str, what: str) -> str:
    return f"/v1/apps/{app}/releases/{version}/legs/{place}/{what}"
