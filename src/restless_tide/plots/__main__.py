"""Draw one picture: its values come in as JSON, the PNG leaves. Started by plots/child.py."""

from __future__ import annotations

import sys

from pydantic import TypeAdapter

from restless_tide.plots import course, strip
from restless_tide.plots.pictures import CoursePicture, Picture


def main() -> None:
    picture: Picture = TypeAdapter[Picture](Picture).validate_json(sys.stdin.buffer.read())
    content = course.draw(picture) if isinstance(picture, CoursePicture) else strip.draw(picture)
    sys.stdout.buffer.write(content)


if __name__ == "__main__":
    main()
