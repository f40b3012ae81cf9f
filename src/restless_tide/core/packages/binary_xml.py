"""Android's binary XML, read as elements with typed attributes."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Sequence

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.bounds import Effort
from restless_tide.core.packages.chunks import (
    BINARY_XML,
    END_ELEMENT,
    NO_INDEX,
    RESOURCE_MAP,
    START_ELEMENT,
    STRING,
    STRING_POOL,
    StringPool,
    chunks,
    given,
)
from restless_tide.core.packages.manifest import Element, Given, is_needed

WHAT = "The manifest"
DEPTH_LIMIT = 200


def elements(data: bytes, effort: Effort, needed: Callable[[Sequence[str]], bool] = is_needed) -> Iterator[Element]:
    """The elements that are ``needed``, in document order. Raises PackageUnreadable."""
    try:
        yield from _elements(data, effort, needed)
    except struct.error:
        raise PackageUnreadable(f"{WHAT} is damaged.") from None


def _elements(data: bytes, effort: Effort, needed: Callable[[Sequence[str]], bool]) -> Iterator[Element]:
    document = next(chunks(data, 0, len(data), WHAT), None)
    if document is None or document.kind != BINARY_XML:
        raise PackageUnreadable(
            f"{WHAT} is not in the binary form that a packaged app carries.",
            remedy="Package the app with its build tool; do not zip its sources.",
        )
    pool: StringPool | None = None
    ids: tuple[int, ...] = ()
    path: list[str] = []
    for chunk in chunks(data, document.start + document.header_bytes, document.end, WHAT):
        if chunk.kind == STRING_POOL:
            pool = StringPool(data, chunk)
        elif chunk.kind == RESOURCE_MAP:
            count = (chunk.end - chunk.start - chunk.header_bytes) // 4
            effort.spend(count)
            ids = struct.unpack_from(f"<{count}I", data, chunk.start + chunk.header_bytes)
        elif chunk.kind == START_ELEMENT:
            if pool is None:
                raise PackageUnreadable(f"{WHAT} has elements before its strings.")
            if len(path) >= DEPTH_LIMIT:
                raise PackageUnreadable(f"{WHAT} nests deeper than {DEPTH_LIMIT} elements.")
            body = chunk.start + chunk.header_bytes
            _, name, first, stride, count = struct.unpack_from("<IIHHH", data, body)
            effort.spend(count + 1)
            path.append(pool[name])
            if needed(path):
                yield Element(tuple(path), *_attributes(data, body + first, stride, count, pool, ids))
        elif chunk.kind == END_ELEMENT and path:
            path.pop()
        else:
            effort.spend()


def _attributes(
    data: bytes, begin: int, stride: int, count: int, pool: StringPool, ids: tuple[int, ...]
) -> tuple[dict[int, Given], dict[str, Given]]:
    if count and stride < 20:
        raise PackageUnreadable(f"{WHAT} holds attributes of an impossible size.")
    by_id: dict[int, Given] = {}
    by_name: dict[str, Given] = {}
    for place in range(count):
        at = begin + place * stride
        _, name, raw, _, _, kind, content = struct.unpack_from("<IIIHBBI", data, at)
        value = given(STRING, raw, pool) if kind == STRING and raw != NO_INDEX else given(kind, content, pool)
        if name < len(ids) and ids[name]:
            by_id[ids[name]] = value
        else:
            by_name[pool[name]] = value
    return by_id, by_name
