"""What goes to review together: the build and its notes, and what else of the app has changed since the store approved it."""

from __future__ import annotations

from enum import StrEnum


class ReviewItem(StrEnum):
    """A kind of thing that a submission carries."""

    BUILD = "build"
    NOTES = "notes"
    TEXTS = "texts"
    PICTURES = "pictures"
    ANSWERS = "answers"
    GOODS = "goods"


class RefusedItem(StrEnum):
    """What becomes of the rest when one item is refused."""

    HOLDS = "holds the rest"
    PASSES = "lets the rest pass"


ALWAYS = (ReviewItem.BUILD, ReviewItem.NOTES)
"""What every submission carries."""
_OF = "/"
MOST_ITEMS = 300


def good_item(reference: str) -> str:
    """How a submission names one good."""
    return f"{ReviewItem.GOODS}{_OF}{reference}"


def good_of(item: str) -> str | None:
    """The reference of the good that an item names; None for any other item."""
    kind, _, reference = item.partition(_OF)
    return reference if kind == ReviewItem.GOODS and reference else None


def kind_of(item: str) -> ReviewItem | None:
    """The kind of an item; None for what is none."""
    name = item.partition(_OF)[0]
    return ReviewItem(name) if name in {str(one) for one in ReviewItem} else None


_TITLES = {
    ReviewItem.BUILD: "the build",
    ReviewItem.NOTES: "the release notes",
    ReviewItem.TEXTS: "the texts",
    ReviewItem.PICTURES: "the pictures",
    ReviewItem.ANSWERS: "the answers",
    ReviewItem.GOODS: "the goods",
}


def item_told(item: str) -> str:
    """An item in words, such as ``the good summer-pass``."""
    reference, kind = good_of(item), kind_of(item)
    if reference is not None:
        return f"the good {reference}"
    return _TITLES[kind] if kind is not None else item
