"""Crashes: stacks read, names brought back, equal ones known as equal. nm and llvm-nm are the witnesses for symbol tables."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from restless_tide.core.crashes import Crash, Frame, fingerprint, headline, read_stack, read_symbols, symbolise
from restless_tide.core.crashes.symbols import SymbolTable
from restless_tide.core.errors import Invalid
from tests.toolchain import program

NAMES = """\
# a comment
org.example.marram.TileStore -> b.c:
    java.lang.String name -> a
    10:40:org.example.marram.Tile open(int,int):112:142 -> a
    7:7:void org.example.marram.Guard.check(int):20:20 -> b
    7:7:void close():150:150 -> b
    void flush() -> d
org.example.marram.Main -> a.a:
"""
MANAGED = """\
Exception in thread "main" java.lang.RuntimeException: wrapped 17
\tat a.a.run(SourceFile:3)
\t... 4 more
Caused by: java.lang.IllegalStateException: tile 14/99 is empty
\tat b.c.a(SourceFile:31)
\tat b.c.b(Unknown Source:7)
\tat b.c.d(SourceFile:2)
\tat android.os.Handler.handleCallback(Handler.java:958)
"""


def test_of_nested_errors_the_cause_counts() -> None:
    crash = read_stack(MANAGED)
    assert crash is not None
    assert (crash.thrown, crash.message) == ("java.lang.IllegalStateException", "tile 14/99 is empty")
    assert [frame.told for frame in crash.frames] == [
        "b.c.a",
        "b.c.b",
        "b.c.d",
        "android.os.Handler.handleCallback (Handler.java:958)",
    ]
    assert read_stack("nothing here\nat all") is None


@pytest.mark.parametrize(
    ("line", "module", "function", "address"),
    [
        (
            "#00 pc 000000000001a2b4  /data/app/lib/arm64/libmarram.so (drawContour+44)",
            "libmarram.so",
            "drawContour",
            0x1A2B4,
        ),
        ("#01 pc 0x1a2b4 libmarram.so", "libmarram.so", "", 0x1A2B4),
        ("2   Marram   0x0000000102b4c000 0x102b40000 + 49152", "Marram", "", 49152),
    ],
)
def test_native_lines_are_read(line: str, module: str, function: str, address: int) -> None:
    crash = read_stack(f"signal 11\n{line}\n")
    assert crash is not None
    (frame,) = crash.frames
    assert (frame.module, frame.function, frame.address) == (module, function, address)


def test_a_name_map_brings_classes_functions_lines_and_inlined_calls_back() -> None:
    crash = read_stack(MANAGED)
    assert crash is not None
    named = symbolise(crash, [read_symbols(NAMES.encode(), "names.txt")])
    assert [frame.told for frame in named.frames[:4]] == [
        "org.example.marram.TileStore.open (TileStore:133)",
        "org.example.marram.Guard.check (Guard:20)",
        "org.example.marram.TileStore.close (TileStore:150)",
        "org.example.marram.TileStore.flush (TileStore:2)",
    ]
    assert named.symbolised
    assert headline(named) == "IllegalStateException in TileStore.open"
    other = read_symbols(b"x.Y -> q.q:\n", "other.txt")
    assert symbolise(crash, [other]) == crash


def test_a_thrown_class_gets_its_name_back_too() -> None:
    named = symbolise(Crash("b.c", "", (Frame("a.a", "run"),)), [read_symbols(NAMES.encode(), "names.txt")])
    assert named.thrown == "org.example.marram.TileStore"
    assert named.frames[0].module == "org.example.marram.Main"


def same(first: str, second: str) -> bool:
    crashes = [read_stack(text) for text in (first, second)]
    assert all(crashes)
    one, other = (fingerprint(crash) for crash in crashes if crash)
    return one == other


@pytest.mark.parametrize(
    ("changed", "equal"),
    [
        (MANAGED.replace("14/99", "3/7"), True),
        (MANAGED.replace(":31", ":38"), True),
        (MANAGED.replace("Handler.java:958", "Handler.java:1002"), True),
        (MANAGED.replace("\tat b.c.d", "\tat b.c.b(Unknown Source:9)\n\tat b.c.d"), True),
        (MANAGED.replace("b.c.a(", "b.c.x("), False),
        (MANAGED.replace("IllegalState", "IllegalArgument"), False),
    ],
)
def test_what_differs_from_phone_to_phone_leaves_the_fingerprint_alone(changed: str, equal: bool) -> None:
    assert same(MANAGED, changed) == equal


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("x.Y$$ExternalSyntheticLambda4", "x.Y$$ExternalSyntheticLambda11"),
        ("x.Y$1", "x.Y$3"),
        ("x.Z.lambda$open$0", "x.Z.lambda$open$2"),
    ],
)
def test_names_that_compilers_make_up_anew_count_as_one(one: str, other: str) -> None:
    def crash(name: str) -> Crash:
        return Crash("E", "", (Frame(name, "run"), Frame("x.Main", "main")))

    assert fingerprint(crash(one)) == fingerprint(crash(other))


def test_a_crash_in_the_runtime_alone_is_told_by_its_frames() -> None:
    crash = Crash("java.lang.OutOfMemoryError", "", (Frame("java.util.ArrayList", "grow"),))
    assert headline(crash) == "OutOfMemoryError in ArrayList.grow"


@pytest.mark.parametrize(
    "content",
    [b"", b"just text", b"\x7fELF broken", b"\xcf\xfa\xed\xfe\0\0", b"\xca\xfe\xba\xbe\0\0\0\x02", b"\xff\xfe"],
)
def test_a_file_that_brings_no_names_is_refused(content: bytes) -> None:
    with pytest.raises(Invalid, match="brings no names"):
        read_symbols(content, "file")


def listed(tool: str, path: Path) -> dict[str, int]:
    """Functions and where they begin, as an independent reader tells."""
    said = subprocess.run([tool, "--defined-only", path], capture_output=True, text=True, check=True).stdout
    found = {}
    for line in said.splitlines():
        address, kind, name = line.split(maxsplit=2)
        if kind in "tT":
            found[name] = int(address, 16)
    return found


def test_functions_of_an_elf_program_are_found_where_nm_finds_them(tmp_path: Path) -> None:
    source = tmp_path / "marram.c"
    source.write_text(
        "int draw(int a) { return a + 1; }\nint open_tile(int a) { return draw(a) * 2; }\n", encoding="utf-8"
    )
    made = tmp_path / "libmarram.so"
    subprocess.run(["gcc", "-shared", "-fPIC", "-O0", "-Wl,--build-id", "-o", made, source], check=True)
    table = read_symbols(made.read_bytes(), "libmarram.so")
    assert isinstance(table, SymbolTable)
    assert table.identity
    at = listed("nm", made)
    for name in ("draw", "open_tile"):
        (frame,) = table.resolve(Frame("libmarram.so", address=at[name] + 3))
        assert frame.function == name
    assert table.resolve(Frame("other.so", address=at["draw"])) == []


@pytest.mark.toolchain
@pytest.mark.parametrize("target", ["arm64-apple-ios14.0", "x86_64-apple-macos12"])
def test_functions_of_a_mach_o_program_are_found_where_llvm_finds_them(tmp_path: Path, target: str) -> None:
    made = program(tmp_path, target, ".globl _draw\n_draw:\n nop\n nop\n.globl _open_tile\n_open_tile:\n nop\n")
    table = read_symbols(made.read_bytes(), "Marram")
    assert isinstance(table, SymbolTable)
    for name, address in listed("llvm-nm", made).items() - {("ltmp0", 0)}:
        (frame,) = table.resolve(Frame("Marram", address=address))
        assert frame.function == name.removeprefix("_")
