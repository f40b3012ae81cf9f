"""Files made to be read wrongly or at great cost: each is refused or read in one line, within the bounds that are promised."""

from __future__ import annotations

import io
import os
import resource
from collections.abc import Callable
from pathlib import Path

import pytest

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages import aab, apk, inspect_package, ipa, msix
from restless_tide.core.packages.bounds import MEMBERS_LIMIT, STEPS_LIMIT, Effort
from restless_tide.core.packages.facts import MOST_LISTED, printable
from tests.core import aimed

MEMORY_BYTES = 200 * 1024**2
"""What reading any file may take beyond what the reader has before."""
PROCESSOR_SECONDS = 20
"""Far more than is promised: a machine may be slow, and a reader without bounds takes minutes."""
FORMATS = (aab, apk, ipa, msix)
"""Loaded before a fork, so that only the reading is measured."""


def outcome(content: bytes) -> tuple[str, str]:
    """What comes of reading it: the refusal's code and detail, or "read" and its remarks."""
    try:
        facts = inspect_package(io.BytesIO(content))
    except PackageUnreadable as refused:
        return refused.code, refused.detail
    return "read", " ".join(facts.remarks)


def apart(content: bytes, folder: Path) -> tuple[int, int]:
    """Read in a fork with bounds: its exit code, and the bytes by which its memory grew."""
    path, told = folder / "file", folder / "told"
    path.write_bytes(content)
    child = os.fork()
    if child == 0:
        code = 3
        try:
            resource.setrlimit(resource.RLIMIT_CPU, (PROCESSOR_SECONDS, PROCESSOR_SECONDS))
            before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
            with path.open("rb") as source:
                try:
                    inspect_package(source)
                    code = 0
                except PackageUnreadable as refused:
                    code = 0 if refused.detail.isprintable() else 4
            told.write_text(str((resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1024))
        finally:
            os._exit(code)
    _, status = os.waitpid(child, 0)
    return os.waitstatus_to_exitcode(status), int(told.read_text()) if told.exists() else 0


@pytest.mark.parametrize("content", aimed.ambiguous().values(), ids=aimed.ambiguous().keys())
def test_an_archive_that_two_readers_see_differently_is_refused(content: bytes) -> None:
    assert outcome(content)[0] == "archive-ambiguous"


def test_the_archives_that_are_aimed_are_read_before_they_are_changed() -> None:
    plain = aimed.archive({"AndroidManifest.xml": aimed.manifest(b""), "assets/a.bin": b"A" * 50})
    assert outcome(plain)[0] == outcome(aimed.large_end(plain))[0] == "read"


@pytest.mark.parametrize("name", aimed.COSTLY)
def test_no_file_costs_more_than_is_promised(tmp_path: Path, name: str) -> None:
    code, grown = apart(aimed.COSTLY[name](), tmp_path)
    assert code == 0
    assert grown <= MEMORY_BYTES


@pytest.mark.parametrize(
    ("name", "told"),
    [
        ("a number of 20 digits", "is no build number"),
        ("a number of 5,000 digits", "is no build number"),
        ("a raised number", "is no build number"),
        ("a doubly negative number", "is no build number"),
        ("a hexadecimal integer of 5,000 digits", ""),
        ("UTF-16 with entities", "damaged"),
        ("a text that steers a terminal", ""),
    ],
)
def test_odd_numbers_and_texts_are_told_in_one_line_that_steers_no_terminal(name: str, told: str) -> None:
    code, detail = outcome(aimed.odd()[name])
    assert told in detail
    assert (code == "read") == (told == "")
    assert detail.isprintable()


def test_every_text_among_the_facts_is_printable_and_bounded() -> None:
    facts = inspect_package(io.BytesIO(aimed.odd()["a text that steers a terminal"]))
    assert any("red" in share.name for share in facts.contents)
    assert all(share.name.isprintable() for share in facts.contents)
    assert printable("a\tb\x1b[2J" + "c" * 9_000).startswith("a b\N{REPLACEMENT CHARACTER}[2Jc")
    assert len(printable("c" * 9_000)) == 4_000


def test_a_list_that_is_too_long_is_cut_and_that_is_remarked() -> None:
    words = [*aimed.WORDS, *(b"p%d" % at for at in range(MOST_LISTED + 10))]
    known = (0, 0, 0, 0, 0x01010003)
    asked = b"".join(
        aimed.element(3, [(4, 0x03, len(aimed.WORDS) + at)]) + aimed.end(3) for at in range(MOST_LISTED + 10)
    )
    content = aimed.archive({"AndroidManifest.xml": aimed.manifest(asked, words, known)})
    facts = inspect_package(io.BytesIO(content))
    assert len(facts.permissions) == MOST_LISTED
    assert facts.remarks == (f"It lists {MOST_LISTED + 10} permissions; {MOST_LISTED} of them are shown.",)


@pytest.mark.parametrize(
    ("make", "code"),
    [
        (lambda: aimed.archive_of_many(MEMBERS_LIMIT + 1), "directory-too-large"),
        (lambda: aimed.archive({"AndroidManifest.xml": b"a", "a/../../b": b""}), "path-unfit"),
        (lambda: aimed.archive({"AppxManifest.xml": b"a", "appxmanifest.XML": b""}), "archive-ambiguous"),
        (lambda: aimed.archive({"AndroidManifest.xml": b"a"}, 12), "method-unfit"),
    ],
    ids=["members", "path", "capitals", "method"],
)
def test_what_stands_in_the_directory_is_bounded(make: Callable[[], bytes], code: str) -> None:
    assert outcome(make())[0] == code


def test_effort_ends() -> None:
    effort = Effort()
    effort.spend(STEPS_LIMIT)
    with pytest.raises(PackageUnreadable, match="far more work"):
        effort.spend()
