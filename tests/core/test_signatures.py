"""Signatures of packages, held against apksigner, jarsigner and openssl; every change to the bytes is noticed."""

from __future__ import annotations

import io
import re
import struct
import subprocess
import zipfile
from pathlib import Path

import pytest

from restless_tide.core.packages import Facts, inspect_package
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.signing_block import read_layout
from restless_tide.standins.packages import PackageRecipe, write_apk
from tests.toolchain import PASSWORD, Recipe, make_aab, make_apk, make_key, run, sign_apk, verdict

pytestmark = pytest.mark.toolchain


def read(content: Path | bytes) -> Facts:
    return inspect_package(io.BytesIO(content if isinstance(content, bytes) else content.read_bytes()))


def schemes(facts: Facts) -> dict[str, bool | None]:
    return {entry.scheme: entry.verified for entry in facts.signatures}


V3_BLOCK = 0xF05368C0
V1, V2, V3 = (f"--v{number}-signing-enabled" for number in (1, 2, 3))


@pytest.mark.parametrize(
    ("options", "algorithm"),
    [
        ((V1, "true", V2, "false", V3, "false"), "RSA"),
        ((V1, "false", V2, "true", V3, "false"), "RSA"),
        ((V1, "false", V2, "false", V3, "true"), "RSA"),
        ((V1, "true", V2, "true", V3, "true"), "RSA"),
        ((V1, "true", V2, "true", V3, "true"), "EC"),
        ((V1, "true", V2, "true", V3, "true"), "DSA"),
    ],
    ids=["v1", "v2", "v3", "all", "all by EC", "all by DSA"],
)
def test_each_scheme_and_algorithm_is_judged_as_apksigner_judges_it(
    tmp_path: Path, options: tuple[str, ...], algorithm: str
) -> None:
    key = make_key(tmp_path, algorithm.lower(), algorithm)
    apk = make_apk(tmp_path / "app", Recipe(lowest=21, padding_bytes=2_500_000), "--min-sdk-version", "21", *options, key=key)  # fmt: skip
    ours, theirs = read(apk), verdict(apk)
    assert theirs.verifies
    wanted = {f"v{number}" for number in (1, 2, 3) if options[2 * number - 1] == "true"}
    assert schemes(ours) == dict.fromkeys(wanted, True)
    for entry in ours.signatures:
        assert tuple(certificate.sha256 for certificate in entry.signers) == theirs.digests


def test_several_signers_are_all_named(tmp_path: Path) -> None:
    linked = make_apk(tmp_path / "app", Recipe(lowest=21)).with_suffix(".linked")
    one, other = make_key(tmp_path, "one"), make_key(tmp_path, "other")
    said = f"pass:{PASSWORD}"
    signers = ("--ks", one, "--ks-pass", said, "--next-signer", "--ks", other, "--ks-pass", said)
    apk = sign_apk(linked, None, *signers, V1, "true", V2, "true", V3, "false", "--min-sdk-version", "21")
    ours, theirs = read(apk), verdict(apk)
    assert theirs.verifies
    assert len(theirs.digests) == 2
    assert {certificate.sha256 for certificate in ours.signers} == set(theirs.digests)
    assert schemes(ours) == {"v1": True, "v2": True}


def test_a_rotated_key_is_told_with_the_ones_before_it(tmp_path: Path) -> None:
    linked = make_apk(tmp_path / "app", Recipe()).with_suffix(".linked")
    keys = [make_key(tmp_path, name) for name in ("first", "second")]
    said, line = f"pass:{PASSWORD}", tmp_path / "line"
    run("apksigner", "rotate", "--out", line, "--old-signer", "--ks", keys[0], "--ks-pass", said,
        "--new-signer", "--ks", keys[1], "--ks-pass", said)  # fmt: skip
    signers = ("--ks", keys[0], "--ks-pass", said, "--next-signer", "--ks", keys[1], "--ks-pass", said)
    apk = sign_apk(linked, None, *signers, "--lineage", line, "--min-sdk-version", "28")
    ours = read(apk)
    newest = ours.signatures[-1]
    assert newest.verified
    assert [certificate.subject for certificate in newest.signers] == ["CN=Saltgrass second"]
    assert [certificate.subject for certificate in newest.lineage] == ["CN=Saltgrass first"]
    told = re.findall(r"certificate SHA-256 digest: (\w+)", run("apksigner", "lineage", "--in", apk, "--print-certs"))
    assert [certificate.sha256 for certificate in (*newest.lineage, *newest.signers)] == told


def test_a_page_digest_alone_is_said_to_be_unverified(tmp_path: Path) -> None:
    apk = make_apk(tmp_path / "app", Recipe(), "--verity-enabled", "true")
    found = {entry.scheme: (entry.verified, entry.trouble) for entry in read(apk).signatures}
    assert verdict(apk).verifies
    assert all(verified in (True, None) for verified, _ in found.values())


@pytest.mark.parametrize("place", ["a member", "the directory", "the end record", "the certificate", "the signature"])
def test_every_change_after_signing_is_noticed_as_apksigner_notices_it(tmp_path: Path, place: str) -> None:
    apk = make_apk(tmp_path / "app", Recipe(padding_bytes=3_000_000), V1, "false")
    content = bytearray(apk.read_bytes())
    layout = read_layout(Archive(io.BytesIO(content)))
    assert layout is not None
    block, newest = bytes(content[layout.block_at : layout.directory_at]), layout.values[V3_BLOCK]
    if place == "the end record":  # a comment lengthens it
        struct.pack_into("<H", content, layout.end_at + 20, 4)
        content += b"more"
    else:
        where = {
            "a member": 2_000_000,
            "the directory": layout.directory_at + 12,
            "the certificate": layout.block_at + block.index(b"Saltgrass upload"),
            "the signature": layout.block_at + block.index(newest) + len(newest) - 400,
        }[place]
        content[where] ^= 0x01
    changed = tmp_path / "changed.apk"
    changed.write_bytes(content)
    assert not verdict(changed).verifies
    assert False in schemes(read(changed)).values()


def test_a_stripped_newer_signature_is_noticed(tmp_path: Path) -> None:
    apk = make_apk(tmp_path / "app", Recipe(lowest=21), "--min-sdk-version", "21")
    stripped = io.BytesIO()
    with zipfile.ZipFile(apk) as source, zipfile.ZipFile(stripped, "w") as made:
        for member in source.infolist():
            made.writestr(member, source.read(member))
    found = read(stripped.getvalue()).signatures
    assert [(entry.scheme, entry.verified) for entry in found] == [("v1", False)]
    assert "is gone" in found[0].trouble


def test_a_newer_signature_cut_out_of_the_block_is_missed_as_apksigner_misses_it(tmp_path: Path) -> None:
    apk = make_apk(tmp_path / "app", Recipe(padding_bytes=500_000), V1, "false")
    content = apk.read_bytes()
    layout = read_layout(Archive(io.BytesIO(content)))
    assert layout is not None
    value = layout.values[0x7109871A]
    pair = struct.pack("<QI", 4 + len(value), 0x7109871A) + value
    size = len(pair) + 24
    block = struct.pack("<Q", size) + pair + struct.pack("<Q", size) + b"APK Sig Block 42"
    end = bytearray(layout.end)
    struct.pack_into("<I", end, 16, layout.block_at + len(block))
    cut = tmp_path / "cut.apk"
    cut.write_bytes(content[: layout.block_at] + block + content[layout.directory_at : layout.end_at] + end)
    assert not verdict(cut).verifies
    found = read(cut).signatures
    assert [(entry.scheme, entry.verified) for entry in found] == [("v2", False)]
    assert "is gone" in found[0].trouble


@pytest.mark.parametrize("change", ["added", "changed", "taken out"])
def test_a_bundle_is_judged_as_jarsigner_judges_it(tmp_path: Path, change: str) -> None:
    bundle = make_aab(tmp_path / "app", Recipe(padding_bytes=40_000))
    said = run("jarsigner", "-verify", "-verbose", "-certs", bundle)
    assert "jar verified" in said
    assert schemes(read(bundle)) == {"jar": True}
    broken = tmp_path / "broken.aab"
    with zipfile.ZipFile(bundle) as source, zipfile.ZipFile(broken, "w") as made:
        for member in source.infolist():
            if member.filename != "maps/assets/tiles.bin":
                made.writestr(member, source.read(member))
        if change != "taken out":
            made.writestr("maps/assets/tiles.bin", bytes(30_000 if change == "added" else 29_999))
        if change == "added":
            made.writestr("base/assets/more.txt", b"more")
    signature = read(broken).signatures[0]
    assert signature.verified is False
    assert change in signature.trouble
    checked = subprocess.run(["jarsigner", "-verify", "-strict", broken], capture_output=True, text=True, check=False)
    assert checked.returncode != 0


def test_the_demo_packages_carry_signatures_that_apksigner_accepts(tmp_path: Path) -> None:
    apk = write_apk(tmp_path / "a.apk", PackageRecipe("a.b", "1.0", 1, "A"))
    ours, theirs = read(apk), verdict(apk)
    assert theirs.verifies
    assert tuple(certificate.sha256 for certificate in ours.signers) == theirs.digests
