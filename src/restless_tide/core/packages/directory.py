"""The directory of a zip archive, read so that no second reader can see another package in the same file.

Sources: APPNOTE.TXT 6.3.10. Whatever the format states twice is compared: the end record with its larger form,
the count and the place of the directory, and each member's entry with the header before its data and the
descriptor behind it. What does not agree is refused, and so are gaps at the beginning, data after the end,
ways of packing that no device unpacks, and encryption. All bounds hold before anything is parsed.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Sequence
from operator import le
from typing import NamedTuple

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages.bounds import DIRECTORY_LIMIT_BYTES, MEMBERS_LIMIT
from restless_tide.core.packages.facts import printable

STORED, DEFLATED = 0, 8
MEMBER_START = b"PK\x03\x04"
LOCAL_HEADER_BYTES = 30
END_BYTES = 22
"""Of the end record, without its comment."""
_ENTRY_START, _END_START, _LARGE_END_START, _LARGE_PLACE_START = (
    b"PK\x01\x02",
    b"PK\x05\x06",
    b"PK\x06\x06",
    b"PK\x06\x07",
)
_DESCRIPTOR_START = b"PK\x07\x08"
_ENTRY = struct.Struct("<4s4xHH4xLLLHHHH6xL")
_LOCAL = struct.Struct("<6xHH4xLLLHH")
_REPEATED, _REPEATED_FROM = slice(4, 28), 6
"""Of a member's header, from the version it needs to the length of its name: in an entry the same begins at byte 6."""
_END = struct.Struct("<4sHHHHLLH")
_LARGE_PLACE = struct.Struct("<4sLQL")
_LARGE_END = struct.Struct("<4sQHHLLQQQQ")
_LONGEST_COMMENT = 0xFFFF
_ENCRYPTED = 0x0001 | 0x0040 | 0x2000
_DESCRIBED_BEHIND = 0x0008
_IN_UTF8 = 0x0800
_LARGE = 0x0001
"""The extra field that holds the sizes that do not fit into 32 bits."""
_FULL_16, _FULL_32 = 0xFFFF, 0xFFFFFFFF
_REMEDY = "Build the package again."

ReadAt = Callable[[int, int], bytes]
"""So many bytes, or fewer at the file's end, from a place in it."""


class Member(NamedTuple):
    """One member: its sizes in bytes, and where its header and its data begin in the file."""

    name: str
    method: int
    crc: int
    packed_bytes: int
    size_bytes: int
    header_at: int
    data_at: int


class Directory(NamedTuple):
    """The members in the directory's sequence, and where directory and end record begin, in bytes."""

    members: list[Member]
    directory_at: int
    end_at: int
    end: bytes
    content_end: int
    """Where the last member ends."""


_Odd = list[tuple[int, bytes]]
"""Members whose headers say it in another form than the directory: their places in it, and the headers."""


def read_directory(read_at: ReadAt, size_bytes: int) -> Directory:
    """Raises PackageUnreadable with what does not agree."""
    end_at, end = _end_record(read_at, size_bytes)
    count, directory_bytes, directory_at = _stated(read_at, end_at, end)
    if count and read_at(4, 0) != MEMBER_START:
        raise _refused("The file begins with something else than its first member.", "archive-ambiguous")
    members, ends, odd = _members(read_at, read_at(directory_bytes, directory_at), count, directory_at)
    content_end = _demand_apart(read_at, members, ends)
    if odd:  # only now: of members that share bytes each could have the same long header read again
        for place, header in odd:
            ends[place] += _compared(read_at, members[place], header, directory_at)
        content_end = _demand_apart(read_at, members, ends)
    return Directory(members, directory_at, end_at, end, content_end)


def directory_without(read_at: ReadAt, directory: Directory, name: str) -> bytes:
    """The directory and the end records as they would be if the archive's last member, of that name, were not there."""
    end_at, end = directory.end_at, bytearray(directory.end)
    place_at = end_at - _LARGE_PLACE.size
    place = bytearray(read_at(_LARGE_PLACE.size, place_at)) if place_at >= 0 else bytearray()
    large = bytearray()
    large_at = end_at
    if place.startswith(_LARGE_PLACE_START):
        (large_at,) = struct.unpack_from("<Q", place, 8)
        large = bytearray(read_at(place_at - large_at, large_at))
    data = read_at(large_at - directory.directory_at, directory.directory_at)
    kept, at = bytearray(), 0
    while at < len(data):
        fields = _ENTRY.unpack_from(data, at)
        size = _ENTRY.size + sum(fields[6:9])
        if data[at + _ENTRY.size : at + _ENTRY.size + fields[6]] != name.encode():
            kept += data[at : at + size]
        at += size
    count = len(directory.members) - 1
    begin = next((member.header_at for member in directory.members if member.name == name), directory.directory_at)
    if large:
        struct.pack_into("<QQQQ", large, 24, count, count, len(kept), begin)
        struct.pack_into("<Q", place, 8, begin + len(kept))
    for form, offset, value in (("<H", 8, count), ("<H", 10, count), ("<L", 12, len(kept)), ("<L", 16, begin)):
        full = _FULL_16 if form == "<H" else _FULL_32
        if struct.unpack_from(form, end, offset)[0] != full:
            struct.pack_into(form, end, offset, value)
    return bytes(kept + large + (place if large else b"") + end)


def _refused(detail: str, code: str, remedy: str = _REMEDY) -> PackageUnreadable:
    return PackageUnreadable(detail, remedy=remedy, code=code)


def _ambiguous(detail: str) -> PackageUnreadable:
    return _refused(f"{detail}; two readers would see two packages.", "archive-ambiguous")


def _end_record(read_at: ReadAt, size_bytes: int) -> tuple[int, bytes]:
    """Where the end record lies and what it is: the only one, ending where the file ends."""
    tail_at = max(0, size_bytes - END_BYTES - _LONGEST_COMMENT)
    tail = read_at(size_bytes - tail_at, tail_at)
    found = tail.rfind(_END_START)
    if found < 0 or found + END_BYTES > len(tail):
        if read_at(4, 0) == MEMBER_START:
            raise _refused(
                "The file begins as an archive but its end is missing or damaged: it was cut off.",
                "package-cut-off",
                "Build or fetch the package again.",
            )
        raise _refused(
            "The file is no archive, so it is no app package.",
            "not-an-archive",
            "Hand in an APK, AAB, IPA or MSIX file.",
        )
    (comment_bytes,) = struct.unpack_from("<H", tail, found + END_BYTES - 2)
    if found + END_BYTES + comment_bytes != len(tail):
        raise _ambiguous("The archive's end record does not end where the file ends")
    earlier = tail.rfind(_END_START, 0, found)
    while earlier >= 0:
        (comment_bytes,) = struct.unpack_from("<H", tail, earlier + END_BYTES - 2)
        if earlier + END_BYTES + comment_bytes == len(tail):
            raise _ambiguous("The archive has two end records")
        earlier = tail.rfind(_END_START, 0, earlier)
    return tail_at + found, tail[found:]


def _stated(read_at: ReadAt, end_at: int, end: bytes) -> tuple[int, int, int]:
    """Count of members, bytes and place of the directory, as the end record and its larger form agree on them."""
    _, disk, first_disk, here, count, directory_bytes, directory_at, _ = _END.unpack_from(end)
    place_at = end_at - _LARGE_PLACE.size
    place = read_at(_LARGE_PLACE.size, place_at) if place_at >= 0 else b""
    before_end = end_at
    if place.startswith(_LARGE_PLACE_START):
        _, _, large_at, _ = _LARGE_PLACE.unpack(place)
        large = read_at(_LARGE_END.size, large_at) if large_at + _LARGE_END.size <= place_at else b""
        if not large.startswith(_LARGE_END_START):
            raise _ambiguous("The archive's larger end record is not where it is said to be")
        _, rest, _, _, l_disk, l_first, l_here, l_count, l_bytes, l_at = _LARGE_END.unpack(large)
        if large_at + 12 + rest != place_at or l_disk or l_first or l_here != l_count:
            raise _ambiguous("The archive's larger end record does not fit")
        pairs = ((here, l_here, _FULL_16), (count, l_count, _FULL_16), (directory_bytes, l_bytes, _FULL_32), (directory_at, l_at, _FULL_32))  # fmt: skip
        if any(small not in (large_one, full) for small, large_one, full in pairs):
            raise _ambiguous("The archive's two end records state different directories")
        here, count, directory_bytes, directory_at, before_end = l_here, l_count, l_bytes, l_at, large_at
    if disk not in (0, _FULL_16) or first_disk not in (0, _FULL_16) or here != count:
        raise _refused("The archive is a part of several; a package is one file.", "archive-ambiguous")
    if directory_bytes > DIRECTORY_LIMIT_BYTES:
        raise _refused(
            f"The archive's directory has {directory_bytes} bytes; {DIRECTORY_LIMIT_BYTES} are read at most.",
            "directory-too-large",
        )
    if count > MEMBERS_LIMIT:
        raise _refused(f"The archive lists {count} members; {MEMBERS_LIMIT} are read at most.", "directory-too-large")
    if directory_at + directory_bytes != before_end:
        raise _ambiguous("The archive's directory does not end where its end record begins")
    return count, directory_bytes, directory_at


def _members(read_at: ReadAt, data: bytes, count: int, directory_at: int) -> tuple[list[Member], list[int], _Odd]:
    """The members in the directory's sequence, where the data of each end, and those that are still to be compared.

    A header says most in the same bytes as the directory: where these are equal, nothing else is left to compare.
    """
    found: list[Member] = []
    ends: list[int] = []
    odd: _Odd = []
    new = tuple.__new__  # of tuples that are known to fit, which are not counted again
    at, whole, unpack, entry_bytes = 0, len(data), _ENTRY.unpack_from, _ENTRY.size
    while at < whole and len(found) < count:
        if at + entry_bytes > whole:
            raise _refused("The archive's directory is damaged.", "package-cut-off")
        start, flags, method, crc, packed, size, name_bytes, extra_bytes, note_bytes, disk, header_at = unpack(data, at)
        repeated_at, name_at = at + _REPEATED_FROM, at + entry_bytes
        extra_at = name_at + name_bytes
        at = extra_at + extra_bytes + note_bytes
        if start != _ENTRY_START or at > whole:
            raise _refused("The archive's directory is damaged.", "package-cut-off")
        raw = data[name_at:extra_at]
        try:
            name = raw.decode()
        except UnicodeDecodeError:
            name = _of_old(raw, flags)
        differs = flags & _DESCRIBED_BEHIND
        if packed == _FULL_32 or size == _FULL_32 or header_at == _FULL_32:
            size, packed, header_at = _large(data[extra_at : extra_at + extra_bytes], size, packed, header_at, name)
            differs = True
        if method != DEFLATED and method != STORED:
            raise _refused(
                f"{shown(name)} inside the package is packed in a way that no device unpacks.", "method-unfit"
            )
        if flags & _ENCRYPTED:
            raise _refused(f"{shown(name)} inside the package is encrypted.", "method-unfit")
        if (disk and disk != _FULL_16) or (method == STORED and packed != size):
            raise _ambiguous(f"The archive states two sizes for {shown(name)}")
        header_bytes = LOCAL_HEADER_BYTES + name_bytes
        header = read_at(header_bytes, header_at)
        if len(header) < LOCAL_HEADER_BYTES or header_at + LOCAL_HEADER_BYTES > directory_at:
            raise _reaching_past(name)
        if not header.startswith(MEMBER_START) or header[LOCAL_HEADER_BYTES:] != raw:
            inside = next(
                (one.name for one, its_end in zip(found, ends, strict=True) if one.header_at <= header_at < its_end), ""
            )
            raise _overlapping(name, inside) if inside else _named_otherwise(name)
        data_at = header_at + header_bytes + header[28] + (header[29] << 8)  # the bytes of its extra field
        end = data_at + packed
        if end > directory_at:
            raise _reaching_past(name)
        if differs or not data.startswith(header[_REPEATED], repeated_at):
            odd.append((len(found), header))
        found.append(new(Member, (name, method, crc, packed, size, header_at, data_at)))
        ends.append(end)
    if len(found) != count or at != whole:
        raise _ambiguous(f"The archive's end record counts {count} members, its directory has another number")
    return found, ends, odd


def _demand_apart(read_at: ReadAt, members: Sequence[Member], ends: Sequence[int]) -> int:
    """Where the last member ends; no two share bytes, and nothing stands before the first."""
    begins = [member.header_at for member in members]
    if not begins:
        return 0
    first_at = min(begins)
    if first_at and not _only_filler(read_at, first_at):
        raise _ambiguous("Bytes stand before the archive's first member")
    if all(map(le, ends, begins[1:])):  # as they nearly always lie: each behind the one before it
        return ends[-1]
    end, last = 0, ""
    for at, next_end, member in sorted(zip(begins, ends, members, strict=True)):
        if at < end:
            raise _overlapping(member.name, last)
        end, last = next_end, member.name
    return end


def _of_old(raw: bytes, flags: int) -> str:
    """A member's name that is not in UTF-8, which devices read whatever the archive says of it, but as archives were before."""
    if flags & _IN_UTF8:
        raise _refused("The archive names a member in letters that are none.", "path-unfit")
    return raw.decode("cp437")


def _large(extra: bytes, size: int, packed: int, header_at: int, name: str) -> tuple[int, int, int]:
    """The three numbers of which some do not fit into 32 bits, those from the extra field for large ones."""
    values = [size, packed, header_at]
    field = _extra(extra)
    at = 0
    for place, value in enumerate(values):
        if value == _FULL_32:
            if at + 8 > len(field):
                raise _refused(f"The archive states no size for {shown(name)}.", "archive-ambiguous")
            (values[place],) = struct.unpack_from("<Q", field, at)
            at += 8
    return values[0], values[1], values[2]


def _extra(extra: bytes) -> bytes:
    """What the extra field for large sizes holds; empty without one."""
    at = 0
    while at + 4 <= len(extra):
        kind, size = struct.unpack_from("<HH", extra, at)
        if kind == _LARGE:
            return extra[at + 4 : at + 4 + size]
        at += 4 + size
    return b""


def _compared(read_at: ReadAt, member: Member, header: bytes, directory_at: int) -> int:
    """How many bytes describe the member behind its data; all that is said of it there and in its header must agree."""
    name, method, crc, packed, size, _, data_at = member
    l_flags, l_method, l_crc, l_packed, l_size, l_name_bytes, extra_bytes = _LOCAL.unpack_from(header)
    if l_name_bytes != len(header) - LOCAL_HEADER_BYTES:
        raise _named_otherwise(name)
    if l_packed == _FULL_32 or l_size == _FULL_32:
        l_packed, l_size = _local_sizes(read_at(extra_bytes, data_at - extra_bytes), l_packed, l_size)
    behind = l_flags & _DESCRIBED_BEHIND
    same = l_crc == crc and l_packed == packed and l_size == size
    left_out = behind and not l_crc and not l_packed and not l_size
    if l_flags & _ENCRYPTED or l_method != method or not (same or left_out):
        raise _ambiguous(f"The archive says two things of {shown(name)}")
    return _descriptor(read_at, data_at + packed, name, (crc, packed, size), directory_at) if behind else 0


def _named_otherwise(name: str) -> PackageUnreadable:
    return _ambiguous(f"{shown(name)} has another name, or nothing, where its data begin")


def _reaching_past(name: str) -> PackageUnreadable:
    return _refused(f"{shown(name)} inside the package reaches past its end.", "members-overlap")


def _overlapping(name: str, last: str) -> PackageUnreadable:
    return _refused(
        f"{shown(name)} and {shown(last)} inside the package share bytes; which of them is meant cannot be known.",
        "members-overlap",
    )


def _only_filler(read_at: ReadAt, first_at: int) -> bool:
    """Whether what stands before the first member is one header without a name, by which some tools fill a gap."""
    header = read_at(LOCAL_HEADER_BYTES, 0)
    if len(header) < LOCAL_HEADER_BYTES:
        return False
    _, _, _, packed, _, name_bytes, extra_bytes = _LOCAL.unpack_from(header)
    return header.startswith(MEMBER_START) and not name_bytes and LOCAL_HEADER_BYTES + extra_bytes + packed == first_at


def _local_sizes(extra: bytes, packed: int, size: int) -> tuple[int, int]:
    """Packed and unpacked size from a member's own extra field, which always has both."""
    field = _extra(extra)
    if len(field) < 16:
        return packed, size
    large_size, large_packed = struct.unpack_from("<QQ", field)
    return large_packed if packed == _FULL_32 else packed, large_size if size == _FULL_32 else size


def _descriptor(read_at: ReadAt, at: int, name: str, stated: tuple[int, int, int], directory_at: int) -> int:
    """The bytes of what stands behind a member's data, which says its sizes once more."""
    found = read_at(min(24, directory_at - at), at)
    named = found.startswith(_DESCRIPTOR_START)
    for form in ("<LLL", "<LQQ"):
        wanted = _packed(form, stated)
        for start in (_DESCRIPTOR_START, b"") if named else (b"",):
            if found.startswith(start + wanted):
                return len(start) + len(wanted)
    raise _ambiguous(f"What stands behind the data of {shown(name)} states other sizes")


def _packed(form: str, stated: tuple[int, int, int]) -> bytes:
    try:
        return struct.pack(form, *stated)
    except struct.error:
        return b"\xff" * 32


def shown(name: str) -> str:
    """A member's name as a person may read it."""
    return printable(name, LONGEST_SHOWN)


LONGEST_SHOWN = 120
