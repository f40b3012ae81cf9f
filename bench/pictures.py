"""Pictures: all files that four stores want of five originals, against Pillow alone making the same ones."""

from __future__ import annotations

import hashlib
import io
from pathlib import Path

from PIL import Image

from bench.measuring import say, timed
from restless_tide.core.picture_sets import PicturesAt, recipes
from restless_tide.core.pictures import Recipe
from restless_tide.core.rulebook import Rulebook, read_rulebook
from restless_tide.demo.chapter import WRACKLINE
from restless_tide.desk.reading import PackageReader
from restless_tide.standins import pictures
from restless_tide.standins.__main__ import RULEBOOKS

_PILLOW = {"png": "PNG", "jpeg": "JPEG", "webp": "WEBP"}


def _books() -> list[Rulebook]:
    files = [*sorted(RULEBOOKS.glob("*.toml")), WRACKLINE]
    return [read_rulebook(file.read_text(encoding="utf-8"), file.name) for file in files]


def drawing(folder: Path) -> None:
    """Made in the reader's own process and forked for each, as the desk does it, against the same in this process."""
    print("\nPictures made to fit")
    reader, originals = PackageReader(), dict[str, Path]()
    sets: dict[str, list[str]] = {}
    for picture_class, content in (
        ("icon", pictures.icon()),
        *(("phone", pictures.screen(f"phone {at}", 1440, 3060)) for at in range(3)),
        ("desktop", pictures.screen("desktop", 2400, 1500)),
    ):
        sha256 = hashlib.sha256(content).hexdigest()
        originals[sha256] = folder / sha256
        originals[sha256].write_bytes(content)
        sets.setdefault(picture_class, []).append(sha256)
    given = PicturesAt(
        common={"en": {key: tuple(files) for key, files in sets.items()}},
        files={sha256: reader.read_picture(path, sha256) for sha256, path in originals.items()},
    )
    wanted = list(dict.fromkeys(recipe for rules in _books() for recipe in recipes(rules, given)))

    def ours() -> None:
        for at, recipe in enumerate(wanted):
            reader.make_picture(originals[recipe.original], recipe, folder / f"made-{at}")

    def bare() -> None:
        for recipe in wanted:
            _drawn(originals[recipe.original], recipe)

    say(
        f"{len(wanted)} files of {len(originals)} originals, for 4 stores",
        timed(ours, 5),
        "Pillow alone",
        timed(bare, 5),
    )
    reader.close()


def _drawn(path: Path, recipe: Recipe) -> bytes:
    box = (recipe.left, recipe.top, recipe.left + recipe.part_width, recipe.top + recipe.part_height)
    with Image.open(path) as found:
        sized = found.convert("RGB").resize((recipe.width, recipe.height), Image.Resampling.LANCZOS, box=box)
    out = io.BytesIO()
    sized.save(out, _PILLOW[recipe.format], **({} if recipe.format == "png" else {"quality": 90}))
    return out.getvalue()
