"""Which platform levels install a package, held against apksigner level by level; signing blocks made here for what it lacks."""

from __future__ import annotations

import base64
import hashlib
import io
import struct
import subprocess
import zipfile
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from asn1crypto import cms
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from restless_tide.core.errors import PackageUnreadable
from restless_tide.core.packages import Facts, inspect_package
from restless_tide.core.packages.archive import Archive
from restless_tide.core.packages.certificates import certificate_of
from restless_tide.core.packages.cms import read_signed
from restless_tide.core.packages.signing_block import read_layout
from tests.core import aimed
from tests.core.test_signatures import V1, V2, V3, schemes
from tests.toolchain import PASSWORD, QUICK_JAVA, Recipe, make_aab, make_apk, make_key, run

pytestmark = pytest.mark.toolchain
LEVELS = (21, 23, 24, 27, 28, 29, 30)


def read(content: Path | bytes) -> Facts:
    return inspect_package(io.BytesIO(content if isinstance(content, bytes) else content.read_bytes()))


def installs_on(facts: Facts, level: int) -> bool:
    return any(run.first <= level and (run.last is None or level <= run.last) for run in facts.installs)


def accepted(apk: Path, level: int) -> bool:
    """Whether apksigner takes the package for one level."""
    bounds = ("--min-sdk-version", str(level), "--max-sdk-version", str(level))
    told = subprocess.run(["apksigner", "verify", *bounds, str(apk)], capture_output=True, check=False, env=QUICK_JAVA)
    return told.returncode == 0


def without_block(apk: Path) -> Path:
    """The package with its signing block taken out, and everything else as it was."""
    content = apk.read_bytes()
    layout = read_layout(Archive(io.BytesIO(content)))
    assert layout is not None
    end = bytearray(layout.end)
    struct.pack_into("<I", end, 16, layout.block_at)
    stripped = apk.with_suffix(".stripped.apk")
    stripped.write_bytes(content[: layout.block_at] + content[layout.directory_at : layout.end_at] + end)
    return stripped


@pytest.mark.parametrize(
    ("options", "target", "strip", "said"),
    [
        ((V1, "true", V2, "true", V3, "true"), 29, False, "5.0 and later"),
        ((V1, "true", V2, "false", V3, "false"), 29, False, "5.0 and later"),
        ((V1, "true", V2, "false", V3, "false"), 30, False, "5.0 to 10"),
        ((V1, "false", V2, "true", V3, "false"), 29, False, "7.0 and later"),
        ((V1, "false", V2, "false", V3, "true"), 29, False, "9 and later"),
        ((V1, "true", V2, "false", V3, "true"), 29, False, "5.0 and later"),
        ((V1, "true", V2, "true", V3, "true"), 29, True, "5.0 to 6.0"),
        ((V1, "true", V2, "false", V3, "true"), 29, True, "5.0 to 8.1"),
    ],
    ids=["all", "v1", "v1 for 30", "v2", "v3", "v1 and v3", "stripped", "v3 stripped"],
)
def test_a_package_installs_where_apksigner_says(
    tmp_path: Path, options: tuple[str, ...], target: int, strip: bool, said: str
) -> None:
    apk = make_apk(tmp_path / "app", Recipe(lowest=21, target=target), "--min-sdk-version", "21", *options)
    if strip:
        apk = without_block(apk)
    facts = read(apk)
    assert " and ".join(one.said for one in facts.installs) == said
    for level in LEVELS:
        if not (target == 30 and level == 30):  # the tool at hand is older than this rule of the platform
            assert installs_on(facts, level) == accepted(apk, level), level


def test_a_file_in_meta_inf_that_nobody_signed_is_remarked_as_no_device_looks_at_it(tmp_path: Path) -> None:
    apk = make_apk(tmp_path / "app", Recipe(lowest=21), "--min-sdk-version", "21", V1, "true", V2, "false", V3, "false")
    with zipfile.ZipFile(apk, "a") as opened:
        opened.writestr("META-INF/more.txt", "more")
    facts = read(apk)
    assert accepted(apk, 23)
    assert schemes(facts) == {"v1": True}
    assert facts.remarks == ("META-INF/more.txt is covered by no signature of its kind; devices do not look at it.",)
    with zipfile.ZipFile(apk, "a") as opened:
        opened.writestr("assets/more.txt", "more")
    assert not accepted(apk, 23)
    assert schemes(read(apk)) == {"v1": False}


def test_a_first_section_that_was_changed_is_noticed_as_jarsigner_notices_it(tmp_path: Path) -> None:
    bundle = make_aab(tmp_path / "app", Recipe())
    changed = tmp_path / "changed.aab"
    with zipfile.ZipFile(bundle) as source, zipfile.ZipFile(changed, "w") as target:
        for name in source.namelist():
            content = source.read(name)
            if name == "META-INF/MANIFEST.MF":
                content = content.replace(b"Created-By: ", b"Created-By: x", 1)
            target.writestr(name, content)
    (found,) = read(changed).signatures
    assert (found.verified, found.trouble) == (False, "the manifest's first section was changed after it was signed")
    told = subprocess.run(["jarsigner", "-verify", "-strict", changed], capture_output=True, text=True, check=False)
    assert told.returncode != 0


@pytest.mark.parametrize(
    ("digest", "algorithm", "verified"),
    [
        ("SHA-224", "SHA224withRSA", True),
        ("SHA-384", "SHA384withRSA", True),
        ("SHA3-256", "SHA3-256withRSA", True),
        ("MD5", "MD5withRSA", None),
    ],
)
def test_digests_of_every_kind_are_verified_and_a_weak_one_is_called_so(
    tmp_path: Path, digest: str, algorithm: str, verified: bool | None
) -> None:
    jar, key = tmp_path / "a.aab", make_key(tmp_path)
    jar.write_bytes(aimed.bundle(aimed.field(1, aimed.field(3, b"manifest") + aimed.field(4, aimed.field(2, b"package") + aimed.field(3, b"a.b")))))  # fmt: skip
    run(
        "jarsigner", "-keystore", key, "-storepass", PASSWORD, "-digestalg", digest, "-sigalg", algorithm, jar, key.stem
    )
    (found,) = read(jar).signatures
    assert found.verified is verified
    assert ("MD5" in found.trouble) == (verified is None)
    said = run("jarsigner", "-verify", jar)
    assert ("jar verified" in said) == (verified is True)


def test_more_signature_files_than_devices_take_hold_nothing() -> None:
    files = {f"META-INF/S{at}.SF": b"Signature-Version: 1.0\r\n\r\n" for at in range(11)}
    (found,) = read(aimed.apk(b"", **files)).signatures
    assert (found.scheme, found.verified) == ("v1", False)
    assert found.trouble == "it has 11 signature files; devices take 10 at most"


# signing blocks made here: the tool at hand knows no v3.1


@dataclass(frozen=True)
class Signer:
    first: int
    last: int = 0x7FFFFFFF
    attributes: tuple[tuple[int, bytes], ...] = ()
    inner_first: int | None = None
    """What the signed part says of the first level, where that differs."""


V3_1, V3_PLAIN = 0x1B93AD61, 0xF05368C0
ROTATED_FROM = 0x559F8B02
_KEY = ec.generate_private_key(ec.SECP256R1())


def _certificate() -> bytes:
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Saltgrass")])
    begins = datetime(2026, 1, 1, tzinfo=UTC)
    made = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(_KEY.public_key()).serial_number(7)
    made = made.not_valid_before(begins).not_valid_after(begins + timedelta(days=9000))
    return made.sign(_KEY, hashes.SHA256()).public_bytes(serialization.Encoding.DER)


def part(content: bytes) -> bytes:
    return struct.pack("<I", len(content)) + content


def _digest(before: bytes, directory: bytes, end: bytes) -> bytes:
    chunks = [hashlib.sha256(b"\xa5" + struct.pack("<I", len(one)) + one).digest() for one in (before, directory, end)]
    return hashlib.sha256(b"\x5a" + struct.pack("<I", 3) + b"".join(chunks)).digest()


def signed(content: bytes, blocks: dict[int, list[Signer]]) -> bytes:
    """An archive of less than a mebibyte with a signing block that has these."""
    end_at = aimed.end_at(content)
    (directory_at,) = struct.unpack_from("<I", content, end_at + 16)
    before, directory, end = content[:directory_at], content[directory_at:end_at], content[end_at:]
    digest, certificate = _digest(before, directory, end), _certificate()
    key = _KEY.public_key().public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    pairs = b""
    for number, signers in blocks.items():
        made = b""
        for one in signers:
            levels = struct.pack("<II", one.first, one.last)
            inner = struct.pack("<II", one.inner_first or one.first, one.last)
            attributes = b"".join(part(struct.pack("<I", kind) + value) for kind, value in one.attributes)
            data = (
                part(part(struct.pack("<I", 0x0201) + part(digest)))
                + part(part(certificate))
                + inner
                + part(attributes)
            )
            signature = _KEY.sign(data, ec.ECDSA(hashes.SHA256()))
            made += part(part(data) + levels + part(part(struct.pack("<I", 0x0201) + part(signature))) + part(key))
        value = part(made)
        pairs += struct.pack("<QI", 4 + len(value), number) + value
    size = struct.pack("<Q", len(pairs) + 24)
    block = size + pairs + size + b"APK Sig Block 42"
    moved = bytearray(end)
    struct.pack_into("<I", moved, 16, directory_at + len(block))
    return before + block + directory + bytes(moved)


ROTATED = Signer(28, 32, ((ROTATED_FROM, struct.pack("<I", 33)),))


@pytest.mark.parametrize(
    ("blocks", "holds", "said"),
    [
        ({V3_PLAIN: [Signer(28)]}, {"v3": True}, "9 and later"),
        ({V3_PLAIN: [ROTATED], V3_1: [Signer(33)]}, {"v3": True, "v3.1": True}, "9 and later"),
        ({V3_PLAIN: [ROTATED]}, {"v3": False}, "9 to 12L"),
        ({V3_1: [Signer(33)]}, {"v3.1": False}, ""),
        ({V3_PLAIN: [Signer(28, 30), Signer(31)]}, {"v3": True}, "9 and later"),
        ({V3_PLAIN: [Signer(28, 30)]}, {"v3": True}, "9 to 11"),
        ({V3_PLAIN: [Signer(28, inner_first=30)]}, {"v3": False}, ""),
    ],
    ids=["v3", "v3.1", "v3.1 stripped", "v3.1 alone", "two signers", "a gap", "two levels stated"],
)
def test_newer_schemes_hold_on_the_levels_that_they_state(
    blocks: dict[int, list[Signer]], holds: dict[str, bool], said: str
) -> None:
    facts = read(signed(aimed.apk(b""), blocks))
    assert schemes(facts) == holds
    assert " and ".join(one.said for one in facts.installs) == said


def test_a_block_made_here_is_one_that_apksigner_takes(tmp_path: Path) -> None:
    linked = make_apk(tmp_path / "app", Recipe(lowest=28)).with_suffix(".aligned")
    apk = tmp_path / "a.apk"
    apk.write_bytes(signed(linked.read_bytes(), {V3_PLAIN: [Signer(28)]}))
    assert accepted(apk, 29)


# signed data with attributes of every kind


def _data(attributes: list[tuple[str, list[bytes | str]]], content: bytes = b"content") -> bytes:
    certificate = x509.load_der_x509_certificate(_certificate())
    held = cms.CMSAttributes([cms.CMSAttribute({"type": kind, "values": values}) for kind, values in attributes])
    signature = _KEY.sign(held.dump() if attributes else content, ec.ECDSA(hashes.SHA256()))
    info = {
        "version": "v1",
        "sid": {"issuer_and_serial_number": {"issuer": cms.Certificate.load(_certificate()).issuer, "serial_number": certificate.serial_number}},
        "digest_algorithm": {"algorithm": "sha256"},
        "signature_algorithm": {"algorithm": "sha256_ecdsa"},
        "signature": signature,
    }  # fmt: skip
    if attributes:
        info["signed_attrs"] = held
    data = {
        "version": "v1",
        "digest_algorithms": [{"algorithm": "sha256"}],
        "encap_content_info": {"content_type": "data", "content": content},
        "certificates": [cms.Certificate.load(_certificate())],
        "signer_infos": [info],
    }
    return bytes(cms.ContentInfo({"content_type": "signed_data", "content": data}).dump())


RIGHT, KIND = hashlib.sha256(b"content").digest(), "data"


@pytest.mark.parametrize(
    ("attributes", "trouble"),
    [
        ([], ""),
        ([("content_type", [KIND]), ("message_digest", [RIGHT])], ""),
        ([("message_digest", [RIGHT])], "its signature names no kind of content"),
        ([("content_type", [KIND])], "its signature names no content"),
        ([("content_type", ["signed_data"]), ("message_digest", [RIGHT])], "its signature is made for another kind of content"),
        ([("content_type", [KIND]), ("message_digest", [b"\0" * 32])], "its content was changed after it was signed"),
        ([("content_type", [KIND]), ("message_digest", [b"\0" * 32]), ("message_digest", [RIGHT])], "its signature names more than one content"),
        ([("content_type", [KIND]), ("message_digest", [RIGHT, RIGHT])], "its signature names more than one content"),
        ([("content_type", [KIND, KIND]), ("message_digest", [RIGHT])], "its signature names more than one kind of content"),
    ],
    ids=["none", "right", "no kind", "no digest", "another kind", "wrong", "doubled", "two values", "two kinds"],
)  # fmt: skip
def test_signed_data_needs_each_of_its_attributes_once(
    tmp_path: Path, attributes: list[tuple[str, list[bytes | str]]], trouble: str
) -> None:
    data = _data(attributes)
    assert read_signed(data, "It").trouble() == trouble
    if trouble == "":
        (tmp_path / "data").write_bytes(data)
        run(
            "openssl",
            "cms",
            "-verify",
            "-noverify",
            "-inform",
            "DER",
            "-in",
            tmp_path / "data",
            "-out",
            tmp_path / "out",
        )
        assert (tmp_path / "out").read_bytes() == b"content"


# MSIX, signed by osslsigncode


def _signed_msix(folder: Path, content: bytes) -> bytes:
    source, target = folder / "a.msix", folder / "signed.msix"
    source.write_bytes(content)
    target.unlink(missing_ok=True)
    key, certificate = folder / "key.pem", folder / "certificate.pem"
    subject = ("-subj", "/CN=Saltgrass Collective", "-addext", "extendedKeyUsage=codeSigning")
    run("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", key, "-out", certificate, "-days", "900", *subject)  # fmt: skip
    run("osslsigncode", "sign", "-certs", certificate, "-key", key, "-in", source, "-out", target)
    return target.read_bytes()


MSIX = (
    b"<Package xmlns='http://schemas.microsoft.com/appx/manifest/foundation/windows10'>"
    b"<Identity Name='a.b' Version='1.0.0.0' Publisher='CN=Saltgrass'/></Package>"
)

TYPES = (
    b"<Types xmlns='http://schemas.openxmlformats.org/package/2006/content-types'>"
    b"<Default Extension='bin' ContentType='a/b'/></Types>"
)


def _msix(digest: str = "sha256", **more: bytes) -> bytes:
    parts = {"AppxManifest.xml": MSIX, "map.bin": bytes(range(256)) * 600, **more}
    method = "http://www.w3.org/2001/04/xmlenc#" + digest
    files = "".join(
        f'<File Name="{name}" Size="{len(content)}">'
        + "".join(
            f'<Block Hash="{base64.b64encode(hashlib.new(digest, content[at : at + 65_536]).digest()).decode()}"/>'
            for at in range(0, len(content), 65_536)
        )
        + "</File>"
        for name, content in parts.items()
    )
    block_map = (
        f'<BlockMap xmlns="http://schemas.microsoft.com/appx/2010/blockmap" HashMethod="{method}">{files}</BlockMap>'
    )
    return aimed.archive({**parts, "AppxBlockMap.xml": block_map.encode(), "[Content_Types].xml": TYPES})


def _changed(content: bytes, change: dict[str, bytes | None]) -> bytes:
    """Members changed or added, all others as they are in their bytes; the archive is put together anew."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as source, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as target:
        names = source.namelist()
        for name in names if change else names[::-1]:
            target.writestr(source.getinfo(name), change.get(name) or source.read(name))
        for name in change.keys() - set(source.namelist()):
            target.writestr(name, change[name] or b"")
    return out.getvalue()


@pytest.mark.parametrize("digest", ["sha256", "sha512"])
def test_a_package_signed_by_another_tool_holds_with_all_its_digests(tmp_path: Path, digest: str) -> None:
    content = _signed_msix(tmp_path, _msix(digest))
    (found,) = read(content).signatures
    assert (found.verified, found.trouble) == (True, "")
    assert [one.subject for one in found.signers] == ["CN=Saltgrass Collective"]


@pytest.mark.parametrize(
    ("change", "trouble"),
    [
        ({"[Content_Types].xml": b"<Types/>"}, "were changed"),
        ({"AppxMetadata/CodeIntegrity.cat": b"cat"}, "states no digests"),
        ({"map.bin": b"other"}, "is not what the block map states"),
        ({"more.bin": b"more"}, "does not stand in the block map"),
        ({}, "were changed"),
    ],
    ids=["content types", "code integrity", "a member", "added", "put together anew"],
)
def test_a_package_that_was_changed_after_it_was_signed_does_not_hold(
    tmp_path: Path, change: dict[str, bytes | None], trouble: str
) -> None:
    (found,) = read(_changed(_signed_msix(tmp_path, _msix()), change)).signatures
    assert found.verified is False
    assert trouble in found.trouble


def test_a_signed_bundle_with_a_package_that_nobody_signed_does_not_hold(tmp_path: Path) -> None:
    def bundled(inner: bytes) -> Facts:
        manifest = (
            b"<Bundle xmlns='http://schemas.microsoft.com/appx/2013/bundle'><Identity Name='a.b' Version='1.0.0.0'/>"
            b"<Packages><Package Type='application' FileName='a.msix' Version='1.0.0.0'/></Packages></Bundle>"
        )
        name = "AppxMetadata/AppxBundleManifest.xml"
        method = "http://www.w3.org/2001/04/xmlenc#sha256"
        digest = base64.b64encode(hashlib.sha256(manifest).digest()).decode()
        block_map = f'<BlockMap HashMethod="{method}"><File Name="{name}"><Block Hash="{digest}"/></File></BlockMap>'
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as made:
            made.writestr("a.msix", inner)
        with zipfile.ZipFile(out, "a", zipfile.ZIP_DEFLATED) as made:
            made.writestr(name, manifest)
            made.writestr("AppxBlockMap.xml", block_map)
            made.writestr("[Content_Types].xml", TYPES)
        return read(_signed_msix(tmp_path, out.getvalue()))

    (held,) = bundled(_signed_msix(tmp_path, _msix())).signatures
    assert (held.verified, held.trouble) == (True, "")
    (unsigned,) = bundled(_msix()).signatures
    assert (unsigned.verified, unsigned.trouble) == (False, "a.msix: nobody signed it")


@pytest.mark.parametrize(
    ("begins", "told"),
    [
        (b"00000101000000Z", "A certificate inside the package is damaged."),
        (b"20260101000000", ""),
        (b"2026", "damaged"),
    ],
    ids=["the year 0", "without a zone", "a year alone"],
)
def test_a_certificate_of_a_year_that_no_calendar_has_is_damaged_and_one_without_a_zone_is_of_utc(
    begins: bytes, told: str
) -> None:
    der = bytearray(_certificate())
    at = der.index(b"\x17\x0d260101000000Z")
    assert (der[1], der[5], der[at - 2]) == (0x82, 0x81, 0x30)
    der[at : at + 15] = bytes((0x18, len(begins))) + begins
    for place, size in ((2, 2), (6, 1), (at - 1, 1)):  # of the certificate, of what is signed, of the validity
        length = int.from_bytes(der[place : place + size], "big") + len(begins) - 13
        der[place : place + size] = length.to_bytes(size, "big")
    if told:
        with pytest.raises(PackageUnreadable, match=told):
            certificate_of(bytes(der))
    else:
        assert certificate_of(bytes(der)).valid_from == datetime(2026, 1, 1, tzinfo=UTC)
