"""The signing register and the locker."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from restless_tide.client.noun import Noun
from restless_tide.wire.signing import (
    DeclareWanted,
    DeviceTold,
    DeviceWanted,
    ExpectWanted,
    HoldWanted,
    LockerFileTold,
    RegisterTold,
    ReplaceWanted,
    ReplacingTold,
    SigningTold,
)


class Signing(Noun):
    """The signing register and the locker."""

    def register(self, app: str) -> RegisterTold:
        return self._line.get(f"/v1/apps/{app}/signing", RegisterTold)

    def expect(
        self, app: str, platform: str, *, reason: str, build: str | None = None, sha256: str | None = None
    ) -> SigningTold:
        """Expect another certificate from now on."""
        wanted = ExpectWanted(platform=platform, build=build, sha256=sha256, reason=reason)
        return self._line.put(f"/v1/apps/{app}/signing/expected", SigningTold, wanted)

    def declare(self, app: str, platform: str, names: Sequence[str], *, reason: str) -> SigningTold:
        """Declare which permissions and rights the app is meant to ask for."""
        wanted = DeclareWanted(platform=platform, names=list(names), reason=reason)
        return self._line.put(f"/v1/apps/{app}/signing/declared", SigningTold, wanted)

    def hold(self, app: str, platform: str, holder: str, *, reason: str) -> SigningTold:
        """Say who holds the key: team or store."""
        wanted = HoldWanted.model_validate({"platform": platform, "holder": holder, "reason": reason})
        return self._line.put(f"/v1/apps/{app}/signing/holder", SigningTold, wanted)

    def replace(self, app: str, platform: str, sha256: str, *, reason: str) -> ReplacingTold:
        """Replace a lost sender's key."""
        wanted = ReplaceWanted(platform=platform, sha256=sha256, reason=reason)
        return self._line.post(f"/v1/apps/{app}/signing/replacements", ReplacingTold, wanted)

    def add_device(
        self, app: str, platform: str, identifier: str, *, name: str = "", expires_at: datetime | None = None
    ) -> DeviceTold:
        wanted = DeviceWanted(platform=platform, identifier=identifier, name=name, expires_at=expires_at)
        return self._line.post(f"/v1/apps/{app}/devices", DeviceTold, wanted)

    def remove_device(self, app: str, device: str) -> None:
        self._line.delete(f"/v1/apps/{app}/devices/{device}")

    def put(self, app: str, file: str | Path, *, platform: str, kind: str = "other", name: str = "") -> LockerFileTold:
        """Put a file into the locker."""
        path = Path(file)
        answer = self._line.send(
            "PUT",
            f"/v1/apps/{app}/locker/{name or path.name}",
            params={"platform": platform, "kind": kind},
            content=path.read_bytes(),
            headers={"Content-Type": "application/octet-stream"},
        )
        return LockerFileTold.model_validate_json(answer.content)

    def fetch(self, app: str, name: str) -> bytes:
        """A file out of the locker; that stands in the logbook."""
        return self._line.send("GET", f"/v1/apps/{app}/locker/{name}/content").content

    def take_out(self, app: str, name: str, *, reason: str = "") -> None:
        self._line.send("DELETE", f"/v1/apps/{app}/locker/{name}", params={"reason": reason})
