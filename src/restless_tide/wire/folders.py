"""A dossier folder as a browser sends it, held against the desk."""

from __future__ import annotations

from pydantic import Field

from restless_tide.core.dossier_folder import Difference, Side
from restless_tide.wire.base import Told
from restless_tide.wire.dossier import StoreCheckTold


class FolderChangeTold(Told):
    """A text, a set of pictures, an answer or a good that folder and desk hold differently; empty: it is not there."""

    place: str = Field(description="the file, and where in it")
    side: Side
    here: str = Field(description="what the folder holds; pictures by the digests of their files")
    desk: str

    @classmethod
    def told(cls, one: Difference) -> FolderChangeTold:
        return cls(place=one.place.told(), side=one.side, here=one.here, desk=one.desk)


class FolderCheckTold(Told):
    """What a folder would change here, and what each store would say of it. Nothing was written."""

    changes: list[FolderChangeTold]
    stores: list[StoreCheckTold]


class FolderTakenTold(Told):
    """What of a folder is written at the desk now."""

    written: list[str] = Field(description="the file, and where in it")
