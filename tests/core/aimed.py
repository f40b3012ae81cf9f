"""Files made to be read wrongly, or at great cost: each small, each by a few lines."""

from __future__ import annotations

import io
import plistlib
import struct
import zipfile
import zlib
from collections.abc import Callable, Mapping

INFO = {"CFBundleIdentifier": "a.b", "CFBundleShortVersionString": "1.0", "CFBundleVersion": "1"}


def archive(members: Mapping[str, bytes], method: int = zipfile.ZIP_DEFLATED) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", method) as made:
        for name, content in members.items():
            made.writestr(name, content)
    return out.getvalue()


def ipa(info: bytes, **more: bytes) -> bytes:
    return archive({"Payload/A.app/Info.plist": info, **more})


def chunk(kind: int, body: bytes, head: bytes = b"") -> bytes:
    return struct.pack("<HHI", kind, 8 + len(head), 8 + len(head) + len(body)) + head + body


def pool(strings: list[bytes], flags: int = 1 << 8) -> bytes:
    """A string pool in UTF-8; lengths of one byte each."""
    offsets, data = [], b""
    for text in strings:
        offsets.append(len(data))
        data += bytes((min(len(text), 127), min(len(text), 127))) + text + b"\0"
    data += bytes(-len(data) % 4)
    head = struct.pack("<IIIII", len(strings), 0, flags, 28 + 4 * len(strings), 0)
    return chunk(0x0001, struct.pack(f"<{len(offsets)}I", *offsets) + data, head)


def element(name: int, attributes: list[tuple[int, int, int]] = []) -> bytes:  # noqa: B006  (never changed)
    """A start of an element: attributes as name, kind and value."""
    body = struct.pack("<IIHHHHHH", 0xFFFFFFFF, name, 20, 20, len(attributes), 0, 0, 0)
    for key, kind, value in attributes:
        body += struct.pack("<IIIHBBI", 0xFFFFFFFF, key, 0xFFFFFFFF, 8, 0, kind, value)
    return chunk(0x0102, body, struct.pack("<II", 1, 0xFFFFFFFF))


def end(name: int) -> bytes:
    return chunk(0x0103, struct.pack("<II", 0xFFFFFFFF, name), struct.pack("<II", 1, 0xFFFFFFFF))


WORDS = [b"manifest", b"package", b"a.b", b"uses-permission", b"name", b"application", b"label"]


def manifest(inside: bytes, words: list[bytes] = WORDS, ids: tuple[int, ...] = ()) -> bytes:
    """A manifest in its binary form, which names the package a.b; ``ids`` are those of the first words."""
    known = chunk(0x0180, struct.pack(f"<{len(ids)}I", *ids)) if ids else b""
    return chunk(0x0003, pool(words) + known + element(0, [(1, 0x03, 2)]) + inside + end(0))


def apk(inside: bytes, **more: bytes) -> bytes:
    return archive({"AndroidManifest.xml": manifest(inside), **more})


def changed(content: bytes, change: Callable[[bytearray], None]) -> bytes:
    made = bytearray(content)
    change(made)
    return bytes(made)


def end_at(content: bytes | bytearray) -> int:
    return content.rindex(b"PK\x05\x06")


def large_end(content: bytes, directory_at: int | None = None) -> bytes:
    """The archive with the larger end record, which may point at another directory."""
    at = end_at(content)
    _, _, _, count, _, size, begin, _ = struct.unpack_from("<4sHHHHLLH", content, at)
    large = struct.pack("<4sQHHLLQQQQ", b"PK\x06\x06", 44, 45, 45, 0, 0, count, count, size, begin if directory_at is None else directory_at)  # fmt: skip
    return content[:at] + large + struct.pack("<4sLQL", b"PK\x06\x07", 0, at, 1) + content[at:]


def two_ends(content: bytes) -> bytes:
    """A comment that holds an end record of its own, which ends where the file does."""
    at = end_at(content)
    inner = struct.pack("<4sHHHHLLH", b"PK\x05\x06", 0, 0, 0, 0, 0, 0, 0)
    return changed(
        content + inner, lambda made: made.__setitem__(slice(at + 20, at + 22), struct.pack("<H", len(inner)))
    )


def _set(at: Callable[[bytearray], int], value: bytes) -> Callable[[bytearray], None]:
    def change(made: bytearray) -> None:
        place = at(made)
        made[place : place + len(value)] = value

    return change


def ambiguous() -> dict[str, bytes]:
    """Archives in which two readers could see two packages."""
    plain = archive({"AndroidManifest.xml": manifest(b""), "assets/a.bin": b"A" * 50}, zipfile.ZIP_STORED)
    packed = archive({"AndroidManifest.xml": manifest(b""), "assets/a.bin": b"A" * 50})
    second = plain.rindex(b"PK\x01\x02")
    directory = plain.index(b"PK\x01\x02")
    local = plain.rindex(b"PK\x03\x04")
    return {
        "a larger end record that points elsewhere": large_end(plain, directory + 4),
        "a larger end record with another count": changed(large_end(plain), _set(lambda made: made.index(b"PK\x06\x06") + 32, struct.pack("<Q", 1))),
        "an end record with another count": changed(plain, _set(lambda made: end_at(made) + 8, struct.pack("<HH", 1, 1))),
        "another name where a stored member begins": changed(plain, _set(lambda _: local + 30, b"assets/b.bin")),
        "another size where a member begins": changed(packed, _set(lambda made: made.rindex(b"PK\x03\x04") + 22, struct.pack("<L", 49))),
        "another checksum in the directory": changed(plain, _set(lambda _: second + 16, b"\0\0\0\0")),
        "program code before the first member": b"dex\n035\0" + bytes(100) + plain,
        "bytes after the end": plain + b"more",
        "two end records": two_ends(plain),
        "one of several files": changed(plain, _set(lambda made: end_at(made) + 4, struct.pack("<H", 1))),
        "a stored member of two sizes": changed(plain, _set(lambda _: second + 24, struct.pack("<L", 51))),
        "a gap before the directory ends": changed(plain, _set(lambda made: end_at(made) + 12, struct.pack("<L", 10))),
    }  # fmt: skip


def _other_method(method: int, content: bytes) -> bytes:
    return archive({"AndroidManifest.xml": content}, method)


def overlapping_list() -> bytes:
    """A binary property list whose many objects are all the same place."""
    count = 2_000
    body = b"\xaf\x11" + struct.pack(">H", count) + b"".join(struct.pack(">H", at % count) for at in range(count))
    table = b"".join(struct.pack(">H", 8) for _ in range(count))
    trailer = struct.pack(">6xBBQQQ", 2, 2, count, 0, 8 + len(body))
    return b"bplist00" + body + table + trailer


def _varint(number: int) -> bytes:
    out = b""
    while number > 0x7F:
        out, number = out + bytes((number & 0x7F | 0x80,)), number >> 7
    return out + bytes((number,))


def field(number: int, content: bytes) -> bytes:
    return _varint(number << 3 | 2) + _varint(len(content)) + content


def bundle(manifest_node: bytes, **more: bytes) -> bytes:
    return archive({"BundleConfig.pb": b"", "base/manifest/AndroidManifest.xml": manifest_node, **more})


def _named_bundle(children: bytes, resources: bytes = b"") -> bytes:
    package = field(4, field(2, b"package") + field(3, b"a.b"))
    node = field(1, field(3, b"manifest") + package + children)
    return bundle(node, **({"base/resources.pb": resources} if resources else {}))


def _table(packages: bytes) -> bytes:
    return chunk(0x0002, pool([b"a"]) + packages, struct.pack("<I", 1))


def _package(inside: bytes) -> bytes:
    return chunk(0x0200, inside, struct.pack("<I", 0x7F) + bytes(276))


def _type(entries: list[tuple[int, int]]) -> bytes:
    """A type 1 whose entries are values of a kind."""
    offsets = struct.pack(f"<{len(entries)}I", *(16 * at for at in range(len(entries))))
    body = b"".join(struct.pack("<HHIHBBI", 8, 0, 0, 8, 0, kind, value) for kind, value in entries)
    head = struct.pack("<BBHII", 1, 0, 0, len(entries), 8 + 12 + 64 + len(offsets)) + struct.pack("<I", 64) + bytes(60)
    return chunk(0x0201, offsets + body, head)


def _labelled(table: bytes) -> bytes:
    words = [b"label", *WORDS]
    inside = element(6, [(0, 0x01, 0x7F010000)]) + end(6)
    known = chunk(0x0180, struct.pack("<I", 0x01010001))
    body = pool(words) + known + element(1, [(2, 0x03, 3)]) + inside + end(1)
    return archive({"AndroidManifest.xml": chunk(0x0003, body), "resources.arsc": table}, zipfile.ZIP_STORED)


def _nested_bundle() -> bytes:
    nested = field(1, field(3, b"a"))
    for _ in range(500):
        nested = field(1, field(3, b"a") + field(5, nested))
    return bundle(nested)


def _bundle_of_one_often() -> bytes:
    inner = archive({"AppxManifest.xml": b"<Package/>"}, zipfile.ZIP_STORED)
    listed = b"<Package Type='application' FileName='a.msix' Version='1.0.0.0'/>" * 200
    manifest_ = (
        b"<Bundle xmlns='http://schemas.microsoft.com/appx/2013/bundle'><Identity Name='a.b' Version='1.0.0.0'/>"
        b"<Packages>" + listed + b"</Packages></Bundle>"
    )
    members = {"a.msix": inner, "AppxMetadata/AppxBundleManifest.xml": manifest_, "AppxBlockMap.xml": b"<BlockMap/>"}
    return archive(members, zipfile.ZIP_STORED)


def _msix(manifest_: bytes, block_map: bytes = b"<BlockMap/>") -> bytes:
    return archive({"AppxManifest.xml": manifest_, "AppxBlockMap.xml": block_map})


def _block_map_of_one_often() -> bytes:
    manifest_ = (
        b"<Package xmlns='http://schemas.microsoft.com/appx/manifest/foundation/windows10'>"
        b"<Identity Name='a' Version='1.0.0.0'/></Package>"
    )
    files = b"<File Name='AppxManifest.xml'/>" * 900_000
    return _msix(manifest_, b"<BlockMap HashMethod='http://www.w3.org/2001/04/xmlenc#sha256'>" + files + b"</BlockMap>")


def _permissions(count: int) -> bytes:
    return apk(b"".join(element(3, [(4, 0x03, 2)]) + end(3) for _ in range(count)))


def _chain() -> bytes:
    return _labelled(_table(_package(_type([(0x01, 0x7F010000 + at + 1) for at in range(9_999)] + [(0x03, 0)]))))


def _fan() -> bytes:
    return _labelled(_table(_package(_type([(0x01, 0x7F010000 + at % 10_000) for at in range(10_000)]) * 30)))


def _folded() -> bytes:
    head = b"Signature-Version: 1.0\r\n\r\n"
    return apk(b"", **{"META-INF/A.SF": head, "META-INF/MANIFEST.MF": b"Name: a\r\n" + b" b\r\n" * 700_000})


def _far_directory() -> bytes:
    return changed(large_end(archive({"a": b""})), _set(lambda made: made.index(b"PK\x06\x06") + 40, struct.pack("<Q", 1 << 32)))  # fmt: skip


COSTLY: dict[str, Callable[[], bytes]] = {
    "a manifest packed by bzip2": lambda: _other_method(zipfile.ZIP_BZIP2, bytes(60_000_000)),
    "a manifest packed by LZMA": lambda: _other_method(zipfile.ZIP_LZMA, bytes(60_000_000)),
    "a property list of objects that overlap": lambda: ipa(overlapping_list()),
    "a property list of many parts": lambda: ipa(b"<plist><array>" + b"<true/>" * 250_000 + b"</array></plist>"),
    "a manifest of very long text": lambda: _msix(
        b"<?xml version='1.0'?><Package>" + b"a" * 30_000_000 + b"</Package>"
    ),
    "a manifest of very many elements": lambda: _msix(b"<Package>" + b"<a/>" * 1_500_000 + b"</Package>"),
    "a block map of very many elements": _block_map_of_one_often,
    "a directory of very many members": lambda: archive_of_many(150_000),
    "a directory that states four gigabytes": _far_directory,
    "very many members that share one long header": lambda: _one_long_header(60_000),
    "a bundle of a million children": lambda: _named_bundle(field(5, b"") * 1_500_000),
    "a bundle of empty fields": lambda: _named_bundle(b"\x30\x00" * 8_000_000),
    "a bundle nested deeply": _nested_bundle,
    "a bundle that lists one package 200 times": _bundle_of_one_often,
    "a resource table that is a chain": _chain,
    "a resource table that is a fan": _fan,
    "a resource table of very many chunks": lambda: _labelled(_table(_package(chunk(0x0202, b"") * 2_000_000))),
    "two hundred signature files": lambda: apk(b"", **{f"META-INF/S{at}.SF": b"A: b\r\n\r\n" for at in range(200)}),
    "a manifest of a million elements": lambda: apk((element(3) + end(3)) * 300_000),
    "thirty thousand permissions": lambda: _permissions(30_000),
    "a folded list of two megabytes": _folded,
    "an open end of zeros": lambda: bytes(70_000_000),
}
"""Files of which a careless reader takes gigabytes or minutes; each is made when it is asked for."""


def _one_long_header(count: int) -> bytes:
    """Members that all point at the same header, whose sizes have to be looked for in 64 KB of other fields."""
    extra = struct.pack("<HH", 2, 0) * 16_000 + struct.pack("<HHQQ", 1, 16, 0, 0)
    local = (
        struct.pack("<4s5H3L2H", b"PK\x03\x04", 20, 0, 0, 0, 0, 0, 0xFFFFFFFF, 0xFFFFFFFF, 1, len(extra)) + b"a" + extra
    )
    entry = struct.pack("<4s6H3L5H2L", b"PK\x01\x02", 20, 20, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0) + b"a"
    end = struct.pack("<4s4H2LH", b"PK\x05\x06", 0, 0, count, count, len(entry) * count, len(local), 0)
    return local + entry * count + end


def archive_of_many(count: int) -> bytes:
    """An archive of empty members, with the larger end record that so many need."""
    local, directory = bytearray(), bytearray()
    for at in range(count):
        name = b"%06d" % at
        directory += struct.pack("<4sHHHHHHLLLHHHHHLL", b"PK\x01\x02", 20, 20, 0, 0, 0, 0, 0, 0, 0, 6, 0, 0, 0, 0, 0, len(local)) + name  # fmt: skip
        local += struct.pack("<4sHHHHHLLLHH", b"PK\x03\x04", 20, 0, 0, 0, 0, 0, 0, 0, 6, 0) + name
    at = len(local) + len(directory)
    large = struct.pack("<4sQHHLLQQQQ", b"PK\x06\x06", 44, 45, 45, 0, 0, count, count, len(directory), len(local))
    place = struct.pack("<4sLQL", b"PK\x06\x07", 0, at, 1)
    last = struct.pack("<4sHHHHLLH", b"PK\x05\x06", 0, 0, 0xFFFF, 0xFFFF, len(directory), len(local), 0)
    return bytes(local + directory) + large + place + last


def odd() -> dict[str, bytes]:
    """Files whose numbers and dates no careless reader expects."""

    def info(**changed_: object) -> bytes:
        return plistlib.dumps({**INFO, **changed_})

    return {
        "a number of 20 digits": ipa(info(CFBundleVersion="9" * 20)),
        "a number of 5,000 digits": ipa(info(CFBundleVersion="9" * 5_000)),
        "a raised number": ipa(info(CFBundleVersion="\u00b2")),
        "a doubly negative number": ipa(info(CFBundleVersion="--5")),
        "a hexadecimal integer of 5,000 digits": ipa(
            plistlib.dumps(INFO).replace(b"<string>1</string>", b"<integer>0x" + b"f" * 5_000 + b"</integer>")
        ),
        "UTF-16 with entities": ipa(
            "<?xml version='1.0' encoding='UTF-16'?><!DOCTYPE p [<!ENTITY a 'b'>]><plist><dict/></plist>".encode(
                "utf-16"
            )
        ),
        "a text that steers a terminal": ipa(
            plistlib.dumps(INFO, fmt=plistlib.FMT_BINARY), **{"Payload/A.app/\x1b[31mred\x07.bin": zlib.compress(b"x")}
        ),
    }
