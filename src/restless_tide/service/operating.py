"""What an operator does with a desk's data from the command line: back it up, restore it, check it."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from pathlib import Path

from sqlalchemy.exc import SQLAlchemyError

from restless_tide.core.errors import Invalid
from restless_tide.desk import backup, checking
from restless_tide.desk.backup import Backup as Backup
from restless_tide.desk.checking import Checked as Checked
from restless_tide.desk.checking import Weight as Weight
from restless_tide.desk.checking import is_broken as is_broken
from restless_tide.desk.settings import settings_from
from restless_tide.service.serve import PRIVATE, open_desk

Told = Callable[[int, int], None]


def back_up(environment: Mapping[str, str], target: Path, *, with_key: bool, told: Told) -> Backup:
    """Take a backup, while the desk runs or not. Raises TideError."""
    os.umask(PRIVATE)
    return backup.back_up(settings_from(environment), target, with_key=with_key, told=told)


def verify(folder: Path, told: Told) -> Backup:
    """Hold a backup against its digests. Raises TideError."""
    return backup.verify(folder, told)


def restore(environment: Mapping[str, str], folder: Path, told: Told) -> Backup:
    """Put a backup into the empty data folder of the settings. Raises TideError."""
    os.umask(PRIVATE)
    return backup.restore(settings_from(environment), folder, told)


def check(environment: Mapping[str, str], *, quick: bool, told: Told) -> list[Checked]:
    """Check a desk's data, while it runs or not. Raises TideError where there is none."""
    settings = settings_from(environment)
    if not (settings.data / backup.RECORDS).is_file():
        raise Invalid(f"{settings.data} holds no desk.", remedy="Name its data by TIDE_DATA.", code="data-unknown")
    if not backup.is_of_this_release(settings.data / backup.RECORDS):
        raise Invalid(
            f"The tables in {settings.data} are of another release; opening them would change them.",
            remedy="Check them with the release that wrote them, or start this one's desk first, which upgrades them.",
            code="tables-differ",
        )
    desk = open_desk(settings)
    try:
        return checking.check(desk, quick=quick, told=told)
    except SQLAlchemyError as wrong:
        raise Invalid(
            f"The records cannot be read ({type(wrong).__name__}).",
            remedy="Restore a backup: tide desk restore FOLDER",
            code="records-damaged",
        ) from None
    finally:
        desk.close()
