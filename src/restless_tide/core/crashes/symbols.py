"""Symbol files: what brings names back into the stacks of one build.

Three kinds are read. A *name map* is the text that shrinkers of Java and Kotlin code write beside a
build: old name to new name, class by class, with lines. An ELF or a Mach-O file carries a symbol table,
from which the function before an address is found; lines are not read from it.

Sources: the line grammar of the name map as its makers publish it; the ELF format through pyelftools;
for Mach-O the public headers mach-o/loader.h, mach-o/nlist.h and mach-o/fat.h.
"""

from __future__ import annotations

import io
import re
import struct
from bisect import bisect_right
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import ClassVar, NamedTuple, Protocol

from elftools.common.exceptions import ELFError
from elftools.elf.elffile import ELFFile
from elftools.elf.sections import NoteSection, SymbolTableSection

from restless_tide.core.crashes.stack import Crash, Frame
from restless_tide.core.errors import Invalid

LARGEST_BYTES = 256 * 1024 * 1024
MOST_SYMBOLS = 2_000_000
_CLASS = re.compile(r"^(\S+) -> (\S+):\s*$")
_METHOD = re.compile(r"^\s+(?:(\d+):(\d+):)?(\S+) ([\w$.<>-]+)\([^)]*\)(?::(\d+)(?::(\d+))?)? -> (\S+)\s*$")
_THIN = {b"\xcf\xfa\xed\xfe": "<", b"\xfe\xed\xfa\xcf": ">"}
_FAT = {b"\xca\xfe\xba\xbe": 20, b"\xca\xfe\xba\xbf": 32}
_SEGMENT_64, _SYMTAB, _UUID = 0x19, 0x2, 0x1B
_COMMANDS_LIMIT, _SLICES_LIMIT = 1000, 30
_STAB, _TYPE, _IN_SECTION = 0xE0, 0x0E, 0x0E
_TEXT = b"__TEXT"


class Symbols(Protocol):
    """``identity`` is what ties the file to a program: its build id or UUID; empty for a name map."""

    @property
    def kind(self) -> str: ...

    @property
    def identity(self) -> str: ...

    def resolve(self, frame: Frame) -> list[Frame]:
        """The frames that stood there, the innermost first; empty when this file does not know it."""
        ...

    def class_name(self, name: str) -> str: ...


def symbolise(crash: Crash, files: list[Symbols]) -> Crash:
    """Bring the names back; frames that no file knows stay as they are. Unchanged when nothing was found."""
    found: list[Frame] = []
    helped = False
    for frame in crash.frames:
        named = next((named for symbols in files if (named := symbols.resolve(frame))), None)
        helped = helped or named is not None
        found.extend(named or [frame])
    thrown = crash.thrown
    for symbols in files:
        thrown = symbols.class_name(thrown)
    return crash.through(tuple(found), thrown) if helped or thrown != crash.thrown else crash


class Method(NamedTuple):
    """One line of a name map: which method stood there, and the lines of both; None: for every line."""

    owner: str
    name: str
    first: int | None
    last: int | None
    original_first: int | None
    original_last: int | None


class Classes(Protocol):
    """The names of classes by what they were made to be."""

    def get(self, short: str, /) -> str | None: ...


class Methods(Protocol):
    """Methods by class and name as they were made to be, in the sequence of the file."""

    def get(self, called: tuple[str, str], /) -> Sequence[Method] | None: ...


@dataclass(frozen=True)
class NameMap:
    """A shrinker's name map. Inlined calls come back as frames of their own."""

    classes: Classes
    methods: Methods
    identity: str = ""
    kind: ClassVar[str] = "name map"

    def class_name(self, name: str) -> str:
        return self.classes.get(name) or name

    def resolve(self, frame: Frame) -> list[Frame]:
        candidates = self.methods.get((frame.module, frame.function)) or ()
        fitting = [entry for entry in candidates if _holds(entry, frame.line)]
        if not fitting:
            owner = self.classes.get(frame.module)
            names = {entry.name for entry in candidates}
            if owner is None:
                return []
            return [replace(frame, module=owner, function=names.pop() if len(names) == 1 else frame.function)]
        return [
            replace(
                frame, module=entry.owner, function=entry.name, file=_source(entry.owner), line=_line(entry, frame.line)
            )
            for entry in _of_one_place(fitting)
        ]


def _holds(entry: Method, line: int | None) -> bool:
    return entry.first is None or (line is not None and entry.first <= line <= (entry.last or entry.first))


def _of_one_place(fitting: list[Method]) -> list[Method]:
    """Entries of one range follow each other from the inlined call outwards; another range is another method."""
    first = fitting[0]
    return (
        [entry for entry in fitting if (entry.first, entry.last) == (first.first, first.last)]
        if first.first
        else [first]
    )


def _line(entry: Method, line: int | None) -> int | None:
    if entry.original_first is None:
        return line
    if entry.original_last is None or entry.first is None or line is None:
        return entry.original_first
    return min(entry.original_first + line - entry.first, entry.original_last)


def _source(owner: str) -> str:
    """The class that stands for the file; the map does not say which language it was."""
    return owner.rpartition(".")[2].partition("$")[0]


def _read_map(text: str) -> NameMap | None:
    classes: dict[str, str] = {}
    methods: dict[tuple[str, str], list[Method]] = defaultdict(list)
    obfuscated = original = ""
    for line in text.splitlines():
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        named = _CLASS.match(line)
        if named:
            original, obfuscated = named.groups()
            classes[obfuscated] = original
            continue
        method = _METHOD.match(line)
        if method and obfuscated:
            first, last, _, name, original_first, original_last, short = method.groups()
            owner, _, bare = name.rpartition(".")
            methods[(obfuscated, short)].append(
                Method(owner or original, bare, _int(first), _int(last), _int(original_first), _int(original_last))
            )
    return NameMap(classes, methods) if classes else None


def _int(text: str | None) -> int | None:
    return int(text) if text else None


class Functions(Protocol):
    """Functions by the address at which they begin."""

    def before(self, address: int, /) -> str | None:
        """The name of the last function that begins at ``address`` or before it."""
        ...


class FunctionsInMemory(dict[int, str]):
    """Functions by the address at which they begin, of a file that was just read."""

    @cached_property
    def _begins(self) -> list[int]:
        return sorted(self)

    def before(self, address: int) -> str | None:
        place = bisect_right(self._begins, address) - 1
        return self[self._begins[place]] if place >= 0 else None


@dataclass(frozen=True)
class SymbolTable:
    """Functions of a program by the address at which they begin, as offsets into its image."""

    identity: str
    image: str
    functions: Functions
    kind: ClassVar[str] = "program symbols"

    def class_name(self, name: str) -> str:
        return name

    def resolve(self, frame: Frame) -> list[Frame]:
        if frame.address is None or frame.function or not _same_image(frame.module, self.image):
            return []
        name = self.functions.before(frame.address)
        return [replace(frame, function=name)] if name is not None else []


def _same_image(seen: str, image: str) -> bool:
    """Whether a frame's image is this file's: by name, without what debug files are called beside their programs."""
    plain = [re.sub(r"(\.debug|\.sym|\.dSYM|\.dwarf)$", "", name) for name in (seen, image)]
    return plain[0] == plain[1] or not image


def _read_elf(content: bytes, image: str) -> SymbolTable | None:
    try:
        program = ELFFile(io.BytesIO(content))
        loads = [segment["p_vaddr"] for segment in program.iter_segments() if segment["p_type"] == "PT_LOAD"]
        base = min(loads, default=0)
        identity, symbols = "", {}
        for section in program.iter_sections():
            if isinstance(section, NoteSection):
                for note in section.iter_notes():
                    if note["n_type"] == "NT_GNU_BUILD_ID":
                        identity = str(note["n_desc"])
            if isinstance(section, SymbolTableSection):
                if section.num_symbols() > MOST_SYMBOLS:
                    raise Invalid(
                        f"The file has {section.num_symbols()} symbols; {MOST_SYMBOLS} are read.",
                        code="symbols-unreadable",
                    )
                for symbol in section.iter_symbols():
                    if symbol["st_info"]["type"] == "STT_FUNC" and symbol["st_value"] and symbol.name:
                        symbols[symbol["st_value"] - base] = symbol.name
    except (
        ELFError,
        struct.error,
        KeyError,
        ValueError,
        AssertionError,
        IndexError,
        UnicodeDecodeError,
        AttributeError,
        TypeError,
    ):
        return None
    return _table(identity, image, symbols)


def _read_mach_o(content: bytes, image: str) -> SymbolTable | None:
    at = 0
    stride = _FAT.get(content[:4])
    if stride is not None:
        (count,) = struct.unpack_from(">I", content, 4)
        if not 0 < count <= _SLICES_LIMIT:
            return None
        (at,) = struct.unpack_from(">Q" if stride == 32 else ">I", content, 16)
    order = _THIN.get(content[at : at + 4])
    if order is None:
        return None
    (commands,) = struct.unpack_from(f"{order}I", content, at + 16)
    cursor, base, identity, table = at + 32, 0, "", None
    for _ in range(min(commands, _COMMANDS_LIMIT)):
        command, size = struct.unpack_from(f"{order}II", content, cursor)
        if command == _UUID:
            identity = content[cursor + 8 : cursor + 24].hex()
        elif command == _SEGMENT_64 and content[cursor + 8 : cursor + 24].rstrip(b"\0") == _TEXT:
            (base,) = struct.unpack_from(f"{order}Q", content, cursor + 24)
        elif command == _SYMTAB:
            table = struct.unpack_from(f"{order}IIII", content, cursor + 8)
        if size < 8:
            return None
        cursor += size
    symbols = _mach_o_functions(content, at, order, table, base) if table else {}
    return _table(identity, image, symbols)


def _mach_o_functions(content: bytes, at: int, order: str, table: tuple[int, ...], base: int) -> dict[int, str]:
    offset, count, strings, _ = table
    if count > MOST_SYMBOLS:
        raise Invalid(f"The file has {count} symbols; {MOST_SYMBOLS} are read.", code="symbols-unreadable")
    found = {}
    for place in range(count):
        name_at, kind, section, _, value = struct.unpack_from(f"{order}IBBHQ", content, at + offset + 16 * place)
        if kind & _STAB or kind & _TYPE != _IN_SECTION or not section:
            continue
        begin = at + strings + name_at
        end = content.find(b"\0", begin, begin + 4096)
        name = content[begin:end].decode("utf-8", "replace").removeprefix("_")
        if name:
            found[value - base] = name
    return found


def _table(identity: str, image: str, symbols: dict[int, str]) -> SymbolTable | None:
    return SymbolTable(identity, image, FunctionsInMemory(symbols)) if symbols else None


def read_symbols(content: bytes, name: str) -> Symbols:
    """Read a symbol file; ``name`` is the file's own. Raises Invalid where it brings no names."""
    if len(content) > LARGEST_BYTES:
        raise Invalid(
            f"The symbol file has {len(content)} bytes; {LARGEST_BYTES} are taken.", code="symbols-unreadable"
        )
    found: Symbols | None = None
    try:
        if content.startswith(b"\x7fELF"):
            found = _read_elf(content, name)
        elif content[:4] in _THIN or content[:4] in _FAT:
            found = _read_mach_o(content, name)
        else:
            found = _read_map(content.decode("utf-8"))
    except (struct.error, UnicodeDecodeError):
        found = None
    if found is None:
        raise Invalid(
            f"{name} brings no names: it is no name map, and no ELF or Mach-O file with a symbol table.",
            remedy="Keep the symbol file of the very build: the name map of the shrinker, or the unstripped program.",
            code="symbols-unreadable",
        )
    return found
