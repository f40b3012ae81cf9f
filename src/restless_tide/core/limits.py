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
LARGEST_DOCUMENT_BYTES = 20_000_000
LONGEST_FILE_NAME = 120
"""Characters of a document's name."""
MOST_GOODS, LONGEST_REFERENCE = 400, 80
"""Goods sold inside one app, and characters of the reference of one."""
LONGEST_GOOD_NAME, LONGEST_GOOD_TEXT = 300, 4_000
"""Characters of a good's name and of its description."""
MOST_PIXELS = 60_000_000
"""Of one picture."""
IDLE_CONNECTION_SECONDS = 30
"""So long a server keeps an idle connection: longer than clients do (httpx: 5 s), so that none is closed just when it is used again."""
