"""Mutations that know a format's structure: each changes what a reader goes by, and leaves the rest whole.

A mutator takes the bytes of one file of its format and dice, and gives other bytes. What it does not recognise it
gives back unchanged.
"""

from __future__ import annotations

import random
import struct
from collections.abc import Callable

Mutate = Callable[[bytes, random.Random], bytes]

NUMBERS = (0, 1, 2, 7, 0x7F, 0x80, 0xFF, 0x100, 0x7FFF, 0x8000, 0xFFFF, 0x10000, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF)
TEXTS = (
    b"",
    b"-",
    b"--5",
    b"\xc2\xb2",
    b"9" * 40,
    b"0x10",
    b"\x1b[31m",
    b"\xed\xa0\xbc",
    b"../..",
    b"\0",
    b"a" * 5_000,
    b"1.0\r\n",
)


def _number(data: bytearray, at: int, size: int, dice: random.Random, *, little: bool = True) -> None:
    """Another number in place of one of so many bytes: one that readers stumble over, or one near what was there."""
    order = "little" if little else "big"
    before = int.from_bytes(data[at : at + size], order)  # type: ignore[arg-type]
    after = dice.choice((*NUMBERS, before + 1, before - 1, before * 2, len(data), len(data) - at)) & (1 << 8 * size) - 1
    data[at : at + size] = after.to_bytes(size, order)  # type: ignore[arg-type]


def archive(content: bytes, dice: random.Random) -> bytes:
    """A field of the directory, of a member's own header, of its descriptor or of an end record."""
    data = bytearray(content)
    places = {
        b"PK\x01\x02": (6, 8, 10, 16, 20, 24, 28, 30, 32, 34, 42),
        b"PK\x03\x04": (6, 8, 14, 18, 22, 26, 28),
        b"PK\x05\x06": (4, 6, 8, 10, 12, 16, 20),
        b"PK\x06\x06": (4, 16, 24, 32, 40, 48),
        b"PK\x06\x07": (4, 8, 16),
    }
    start = dice.choice([mark for mark in places if mark in content] or [b""])
    if not start:
        return content
    found, at = [], content.find(start)
    while at >= 0 and len(found) < 500:
        found.append(at)
        at = content.find(start, at + 4)
    at = dice.choice(found) + dice.choice(places[start])
    if at + 4 <= len(data):
        _number(data, at, dice.choice((2, 4)), dice)
    return bytes(data)


def chunks(content: bytes, dice: random.Random) -> bytes:
    """A chunk's kind or sizes, a number in its head, or the chunk itself doubled, dropped or moved into another."""
    data = bytearray(content)
    found: list[tuple[int, int]] = []
    waiting = [(0, len(data))]
    while waiting and len(found) < 2_000:
        at, end = waiting.pop()
        while at + 8 <= end:
            kind, head, size = struct.unpack_from("<HHI", data, at)
            if size < 8 or at + size > end or head > size:
                break
            found.append((at, size))
            if kind in (0x0002, 0x0003, 0x0200):
                waiting.append((at + head, at + size))
            at += size
    if not found:
        return content
    at, size = dice.choice(found)
    match dice.randrange(6):
        case 0:
            _number(data, at + dice.choice((0, 2)), 2, dice)
        case 1:
            _number(data, at + 4, 4, dice)
        case 2 | 3:
            place = at + 8 + 4 * dice.randrange(8)
            if place + 4 <= len(data):
                _number(data, place, 4, dice)
        case 4:
            data[at:at] = data[at : at + size] * dice.choice((1, 3, 200))
            _whole(data)
        case _:
            del data[at : at + size]
            _whole(data)
    return bytes(data)


def _whole(data: bytearray) -> None:
    """The outermost chunk says again how long it is."""
    if len(data) >= 8:
        struct.pack_into("<I", data, 4, min(len(data), 0xFFFFFFFF))


def messages(content: bytes, dice: random.Random) -> bytes:
    """A field of a protocol buffer, at any depth: its number, its length, doubled often, wrapped, or of another type."""
    found: list[tuple[int, int, int]] = []  # begin of the key, begin and end of the value
    waiting = [(0, len(content), 0)]
    while waiting and len(found) < 2_000:
        at, end, depth = waiting.pop()
        while at < end:
            begin = at
            key, at = _varint(content, at)
            if key & 7 == 0:
                _, at = _varint(content, at)
            elif key & 7 == 2:
                size, at = _varint(content, at)
                if at + size > end:
                    break
                found.append((begin, at, at + size))
                if depth < 12:
                    waiting.append((at, at + size, depth + 1))
                at += size
            else:
                at += 4 if key & 7 == 5 else 8 if key & 7 == 1 else end
    if not found:
        return content
    begin, value, end = dice.choice(found)
    key, inside = content[begin : begin + 1], content[value:end]
    match dice.randrange(6):
        case 0:
            other = bytes((dice.randrange(256),)) + content[begin + 1 : end]
        case 1:
            other = key + _packed(dice.choice(NUMBERS)) + inside
        case 2:
            other = content[begin:end] * dice.choice((2, 50, 1000))
        case 3:
            other = key + _packed(len(inside) + 1 + len(_packed(len(inside)))) + key + _packed(len(inside)) + inside
        case 4:
            text = dice.choice(TEXTS)
            other = key + _packed(len(text)) + text
        case _:
            other = key + b"\xff" * dice.choice((3, 9, 12))
    return content[:begin] + other + content[end:]


def _varint(data: bytes, at: int) -> tuple[int, int]:
    value = shift = 0
    while at < len(data) and shift < 63:
        octet = data[at]
        value |= (octet & 0x7F) << shift
        at, shift = at + 1, shift + 7
        if octet < 0x80:
            break
    return value, at


def _packed(number: int) -> bytes:
    out = b""
    while number > 0x7F:
        out, number = out + bytes((number & 0x7F | 0x80,)), number >> 7
    return out + bytes((number,))


def property_list(content: bytes, dice: random.Random) -> bytes:
    """Of a binary list an object's mark or count, an offset, a reference, or a number of the trailer; of others a text."""
    if not content.startswith(b"bplist") or len(content) < 48:
        return text(content, dice)
    data = bytearray(content)
    offset_bytes, _, count, _, table = struct.unpack_from(">6xBBQQQ", data, len(data) - 32)
    match dice.randrange(5):
        case 0:
            _number(data, len(data) - 32 + dice.choice((6, 7)), 1, dice)
        case 1:
            _number(data, len(data) - 32 + dice.choice((8, 16, 24)), 8, dice, little=False)
        case 2 if count and table + count * offset_bytes <= len(data):
            one, other = (table + offset_bytes * dice.randrange(count) for _ in range(2))
            data[one : one + offset_bytes] = data[other : other + offset_bytes]
        case 3:
            at = dice.randrange(8, len(data) - 32)
            data[at] = dice.choice((0x00, 0x13, 0x14, 0x1F, 0x33, 0x4F, 0x5F, 0x6F, 0xA0, 0xAF, 0xD0, 0xDF, 0xFF))
        case _:
            at = dice.randrange(8, len(data) - 32)
            data[at : at + 3] = b"\x13" + dice.choice(NUMBERS).to_bytes(8, "big")[:2]
    return bytes(data)


def program(content: bytes, dice: random.Random) -> bytes:
    """A number of a program's head: kinds, counts, sizes and platforms of its commands, or of a file for several processors."""
    data = bytearray(content)
    if len(data) < 64:
        return content
    if dice.random() < 0.2:
        head = struct.pack(">II", 0xCAFEBABE, dice.choice((0, 1, 2, 31, 1 << 30)))
        return head + struct.pack(">IIIII", 7, 3, dice.choice(NUMBERS), 64, 14) + content
    _number(data, 4 * dice.randrange(min(len(data) // 4, 24)), 4, dice)
    return bytes(data)


def der(content: bytes, dice: random.Random) -> bytes:
    """Something of DER (X.690) at any depth: its tag, its length, doubled, dropped, or of another content."""
    begins = content[:4] == b"PKCX"
    body = content[4:] if begins else content
    found: list[tuple[int, int, int]] = []
    waiting = [(0, len(body))]
    while waiting and len(found) < 3_000:
        at, end = waiting.pop()
        while at + 2 <= end:
            begin, tag, length = at, body[at], body[at + 1]
            at += 2
            if length & 0x80:
                width = length & 0x7F
                length = int.from_bytes(body[at : at + width], "big")
                at += width
            if at + length > end:
                break
            found.append((begin, at, at + length))
            if tag & 0x20:
                waiting.append((at, at + length))
            at += length
    if not found:
        return content
    begin, value, end = dice.choice(found)
    match dice.randrange(5):
        case 0:
            other = bytes((dice.randrange(256),)) + body[begin + 1 : end]
        case 1:
            other = (
                body[begin : begin + 1]
                + dice.choice((b"\x80", b"\x00", b"\x84\xff\xff\xff\xff", b"\xff"))
                + body[value:end]
            )
        case 2:
            other = body[begin:end] * dice.choice((2, 20, 400))
        case 3:
            other = b""
        case _:
            filling = dice.choice((b"", b"\xff", b"00000101000000", b"\x80" * 20))
            other = body[begin:value] + (filling + body[value:end])[: end - value]
    return (content[:4] if begins else b"") + body[:begin] + other + body[end:]


def text(content: bytes, dice: random.Random) -> bytes:
    """A line or a value of a text: doubled, dropped, folded, or another one."""
    if content.lstrip()[:1] == b"<":
        parts = content.split(b">")
        at = dice.randrange(len(parts))
        if dice.random() < 0.4:
            parts[at:at] = [parts[at]] * dice.choice((1, 5, 3_000))
        elif dice.random() < 0.5 and b'"' in parts[at]:
            pieces = parts[at].split(b'"')
            pieces[dice.randrange(len(pieces))] = dice.choice(TEXTS)
            parts[at] = b'"'.join(pieces)
        else:
            parts[at] = dice.choice((b"", b"<a", b"<!ENTITY a 'b'", dice.choice(TEXTS) + b"<" + parts[at][-9:]))
        return b">".join(parts)
    lines = content.split(b"\n")
    at = dice.randrange(len(lines))
    match dice.randrange(5):
        case 0:
            lines[at:at] = [lines[at]] * dice.choice((1, 50, 5_000))
        case 1:
            del lines[at]
        case 2:
            lines[at] = lines[at][: len(lines[at]) // 2] + b"\n " + lines[at][len(lines[at]) // 2 :]
        case 3:
            lines[at : at + 1] = [lines[at], *[b" " + b"x" * 70] * dice.choice((1, 3_000))]
        case _:
            lines[at] = lines[at].partition(b": ")[0] + b": " + dice.choice(TEXTS)
    return b"\n".join(lines)


def of(name: str, content: bytes) -> Mutate | None:
    """The mutator for a member of a package, by what it is."""
    ending = name.rpartition(".")[2].lower()
    if content[:2] in (b"\x03\x00", b"\x02\x00") and ending in ("xml", "arsc"):
        return chunks
    if ending == "pb" or name.endswith("manifest/AndroidManifest.xml"):
        return messages
    if ending in ("plist", "strings"):
        return property_list
    if ending in ("rsa", "dsa", "ec", "mobileprovision", "p7x"):
        return der
    if ending in ("xml", "mf", "sf"):
        return text
    return program if content[:4] in (b"\xcf\xfa\xed\xfe", b"\xca\xfe\xba\xbe") else None
