"""Documents: files that answer a question of a store, such as a contract or a form for one country."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Any, TypeGuard

from restless_tide.core.errors import Invalid, TooLarge
from restless_tide.core.limits import LARGEST_DOCUMENT_BYTES, LONGEST_FILE_NAME
from restless_tide.core.sizes import size


class DocumentFormat(StrEnum):
    """How a document is written."""

    PDF = "pdf"
    PNG = "png"
    JPEG = "jpeg"
    TEXT = "text"


DOCUMENT_TYPES = {
    DocumentFormat.PDF: "application/pdf",
    DocumentFormat.PNG: "image/png",
    DocumentFormat.JPEG: "image/jpeg",
    DocumentFormat.TEXT: "text/plain; charset=utf-8",
}
DRAWN = frozenset({DocumentFormat.PNG, DocumentFormat.JPEG})
"""Documents that are pictures."""
_STARTS = {b"%PDF-": DocumentFormat.PDF, b"\x89PNG\r\n\x1a\n": DocumentFormat.PNG, b"\xff\xd8\xff": DocumentFormat.JPEG}
_PDF_END, _PDF_TAIL_BYTES = b"%%EOF", 1024
_SHOWN_CONTROLS = "\n\r\t\f"
_HIDDEN = re.compile(rf"[\x00-\x1f](?<![{_SHOWN_CONTROLS}])")


@dataclass(frozen=True, slots=True)
class FileAnswer:
    """A document as an answer names it: by its digest, and by what people know of it. The file lies on disk."""

    sha256: str
    name: str
    format: DocumentFormat
    size_bytes: int

    def told(self) -> str:
        """Such as ``contract.pdf (212.4 kB)``."""
        return f"{self.name} ({size(self.size_bytes)})"


def is_document(answer: Any) -> TypeGuard[Mapping[str, Any]]:
    """Whether an answer as JSON has it names a document."""
    return isinstance(answer, Mapping) and "sha256" in answer


def document_name(name: str) -> str:
    """The name under which a document is kept. Raises Invalid for one that no folder could hold."""
    fine = 0 < len(name) <= LONGEST_FILE_NAME and not name.startswith(".") and name.isprintable()
    if not fine or "/" in name or "\\" in name or name != name.strip():
        raise Invalid(
            f"{name[:80]!r} is no name of a document.",
            remedy=f"Give it one of 1 to {LONGEST_FILE_NAME} characters without slashes.",
            code="document-unfit",
        )
    return name


def read_document(file: Path, name: str) -> FileAnswer:
    """What a document is, by its content. Raises Invalid for what no store takes as one, TooLarge for too many bytes."""
    size_bytes = file.stat().st_size
    if size_bytes > LARGEST_DOCUMENT_BYTES:
        raise TooLarge(
            f"{name} has {size_bytes:,} bytes; a document has {LARGEST_DOCUMENT_BYTES:,} at most.",
            code="document-unfit",
        )
    with file.open("rb") as source:
        sha256 = hashlib.file_digest(source, "sha256").hexdigest()
        return FileAnswer(sha256, document_name(name), _format(file, name, size_bytes), size_bytes)


def _format(file: Path, name: str, size_bytes: int) -> DocumentFormat:
    with file.open("rb") as source:
        start = source.read(16)
        known = next((kind for mark, kind in _STARTS.items() if start.startswith(mark)), None)
        if known is DocumentFormat.PDF:
            source.seek(-min(size_bytes, _PDF_TAIL_BYTES), os.SEEK_END)
            if _PDF_END not in source.read():
                raise Invalid(f"{name} is a PDF that is cut off.", remedy="Take it anew.", code="document-unfit")
        if known is not None:
            return known
        source.seek(0)
        try:
            text = source.read().decode()
        except UnicodeDecodeError:
            text = "\0"
    if not text.strip() or _HIDDEN.search(text):
        raise Invalid(
            f"{name} is no document that stores take.",
            remedy=f"Documents are {', '.join(DocumentFormat)}; text is in UTF-8.",
            code="document-unfit",
        )
    return DocumentFormat.TEXT
