"""How much is taken at all, whatever a store allows."""

MOST_LOCALES = 100
"""Locales in which an app has texts."""
MOST_FIELDS = 100
"""Texts of an app in one locale."""
LONGEST_TEXT = 50_000
"""Characters of a text, such as a description or release notes."""
MOST_QUESTIONS, MOST_CHOICES = 200, 60
LARGEST_NUMBER = 1_000_000_000
"""Of an answer that is a number."""
MOST_PICTURES = 40
"""Pictures of one class in one locale."""
MOST_PICTURE_CLASSES = 40
LARGEST_PICTURE_BYTES, LARGEST_FILM_BYTES = 30_000_000, 200_000_000
MOST_PIXELS = 60_000_000
"""Of one picture."""
