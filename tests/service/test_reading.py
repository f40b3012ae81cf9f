"""Packages are read apart: what is aimed at the reader costs a refusal and nothing else."""

from __future__ import annotations

import os
import signal
import struct
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from restless_tide.core.crashes import Frame
from restless_tide.core.crashes.symbols import FunctionsInMemory, SymbolTable
from restless_tide.core.errors import Invalid, PackageUnreadable
from restless_tide.desk import reading
from restless_tide.desk.reading import PackageReader, SymbolsTold
from restless_tide.records import symbol_index
from restless_tide.standins.packages import PackageRecipe, write_apk

MIB = 1024 * 1024
SHA256 = "0" * 64


@pytest.fixture
def reader() -> Iterator[PackageReader]:
    opened = PackageReader(memory_bytes=96 * MIB, processor_seconds=2)
    yield opened
    opened.close()


def well(folder: Path) -> Path:
    return write_apk(folder / "well.apk", PackageRecipe("org.example.well", "1.0", 1, "Well"))


def swelling(folder: Path, told_bytes: int = 1000) -> Path:
    """A small file whose manifest unpacks to 300 MB, while the directory says otherwise."""
    path, real = folder / "swelling.apk", 300 * 1_000_000
    with zipfile.ZipFile(path, "w", zipfile.ZIP_BZIP2) as archive, archive.open("AndroidManifest.xml", "w") as member:
        for _ in range(300):
            member.write(bytes(1_000_000))
    path.write_bytes(path.read_bytes().replace(struct.pack("<I", real), struct.pack("<I", told_bytes)))
    assert path.stat().st_size < 5_000
    return path


def test_a_package_that_would_swell_is_refused_before_it_does_and_the_next_is_read(
    reader: PackageReader, tmp_path: Path
) -> None:
    with pytest.raises(PackageUnreadable, match="in a way that no device unpacks"):
        reader.read(swelling(tmp_path), SHA256)
    assert reader.read(well(tmp_path), SHA256).identifier == "org.example.well"


def test_a_package_that_takes_too_long_is_refused_and_the_next_is_read(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The reader's own fork, with a reader of packages that never ends."""

    def never(source: object, sha256: str) -> None:
        while True:
            pass

    path = str(well(tmp_path))
    monkeypatch.setattr(reading, "inspect_package", never)
    assert "more than 1 seconds of a processor" in reading._read_apart({"path": path, "sha256": SHA256}, 512 * MIB, 1)
    monkeypatch.undo()
    assert "org.example.well" in reading._read_apart({"path": path, "sha256": SHA256}, 512 * MIB, 20)


def test_memory_beyond_the_bound_is_said(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reading, "inspect_package", lambda source, sha256: bytearray(400 * MIB))
    assert "more than 96 MiB of memory" in reading._read_apart(
        {"path": str(well(tmp_path)), "sha256": SHA256}, 96 * MIB, 20
    )


def test_what_is_no_package_is_told_as_the_formats_tell_it(reader: PackageReader, tmp_path: Path) -> None:
    (tmp_path / "text.apk").write_text("hello")
    with pytest.raises(PackageUnreadable) as refused:
        reader.read(tmp_path / "text.apk", SHA256)
    assert refused.value.code == "not-an-archive"


def test_a_reader_that_was_killed_is_replaced(reader: PackageReader, tmp_path: Path) -> None:
    path = well(tmp_path)
    reader.read(path, SHA256)
    os.kill(reader._idle[0].pid, signal.SIGKILL)
    reader._idle[0].wait()
    assert reader.read(path, SHA256).version == "1.0"


def name_map(classes: int) -> str:
    methods = "".join(
        f"    {line}:{line + 8}:void method{line}(int):{line}:{line + 8} -> m{line}\n" for line in range(1, 20)
    )
    return "".join(f"org.example.Class{number} -> a.b{number}:\n{methods}" for number in range(classes))


def test_a_symbol_file_is_looked_at_apart_and_one_that_takes_too_much_is_refused(
    reader: PackageReader, tmp_path: Path
) -> None:
    path = tmp_path / "names"
    path.write_text(name_map(3))
    index = tmp_path / "index"
    assert reader.index_symbols(path, "names.txt", index) == SymbolsTold("name map", "")
    with symbol_index.opened(index, "names.txt") as names:
        assert names.class_name("a.b1") == "org.example.Class1"
        (frame,) = names.resolve(Frame("a.b2", "m3", line=5))
        assert (frame.module, frame.function, frame.line) == ("org.example.Class2", "method3", 5)
        assert names.resolve(Frame("a.b9", "m3", line=5)) == []
    index.unlink()
    path.write_text(name_map(20_000))
    with pytest.raises(Invalid, match="It takes more than") as refused:
        reader.index_symbols(path, "names.txt", index)
    assert refused.value.code == "symbols-unreadable"
    path.write_text("no names at all")
    with pytest.raises(Invalid, match="names"):
        reader.index_symbols(path, "names.txt", index)
    assert sorted(entry.name for entry in tmp_path.iterdir()) == ["names"]


def test_the_functions_of_a_program_are_found_in_the_index_as_in_the_file(tmp_path: Path) -> None:
    read = SymbolTable("b1d", "libtide.so", FunctionsInMemory({16: "open_tile", 64: "draw"}))
    symbol_index.write(tmp_path / "index", read)
    with symbol_index.opened(tmp_path / "index", "libtide.so") as kept:
        assert (kept.kind, kept.identity) == ("program symbols", "b1d")
        for address in (0, 15, 16, 63, 64, 10**6):
            frame = Frame("libtide.so", address=address)
            assert kept.resolve(frame) == read.resolve(frame)
