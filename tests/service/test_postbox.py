"""The way out for mail: encrypted and signed in where the settings say so, and never a secret in what is told."""

from __future__ import annotations

import socket
import ssl
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult, LoginPassword
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec

from restless_tide.desk.settings import Settings, settings_from
from restless_tide.engine import postbox
from restless_tide.engine.inlet import unquoted
from restless_tide.wire.errors import Invalid

HOST, PASSWORD = "127.0.0.1", "sea-kale-and-salt"


class Kept:
    def __init__(self) -> None:
        self.mails: list[bytes] = []

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        self.mails.append(envelope.content)
        return "250 kept"


def let_in(server: Any, session: Any, envelope: Any, mechanism: str, given: Any) -> AuthResult:
    right = isinstance(given, LoginPassword) and given.password == PASSWORD.encode()
    return AuthResult(success=right, handled=right)


@pytest.fixture
def certificate(tmp_path: Path) -> Path:
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, HOST)])
    begins = datetime.now(UTC) - timedelta(days=1)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(begins)
        .not_valid_after(begins + timedelta(days=3))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ip_address(HOST))]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    place = tmp_path / "server.pem"
    plain = (serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    place.write_bytes(made.public_bytes(serialization.Encoding.PEM) + key.private_bytes(*plain))
    return place


@pytest.fixture
def server(certificate: Path) -> Iterator[Controller]:
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.load_cert_chain(certificate)
    controller = Controller(
        Kept(),
        hostname=HOST,
        port=0,
        tls_context=context,
        require_starttls=True,
        auth_required=True,
        authenticator=let_in,
    )
    with socket.socket() as probe:
        probe.bind((HOST, 0))
        controller.port = probe.getsockname()[1]
    controller.start()
    yield controller
    controller.stop()


def settings(port: int, **wish: Any) -> Settings:
    return Settings(data=Path("."), smtp_host=HOST, smtp_port=port, smtp_security="starttls", smtp_user="desk", **wish)


def test_mail_goes_out_encrypted_and_signed_in(
    server: Controller, certificate: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("SSL_CERT_FILE", str(certificate))
    with postbox.connected(settings(server.port, smtp_password=PASSWORD)) as out:
        out.sendmail("a@example.org", ["b@example.org"], b"Subject: hello\r\n\r\nhello\r\n")
    assert len(server.handler.mails) == 1


def test_a_server_that_is_not_who_it_says_gets_no_mail(server: Controller) -> None:
    with pytest.raises(ssl.SSLCertVerificationError), postbox.connected(settings(server.port, smtp_password=PASSWORD)):
        pass


def test_a_wrong_password_is_told_without_it(
    server: Controller, certificate: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("SSL_CERT_FILE", str(certificate))
    wrong = settings(server.port, smtp_password="another-secret-word")
    with pytest.raises(Exception, match="5[0-9][0-9]") as refused, postbox.connected(wrong):
        pass
    told = postbox.told(refused.value)
    assert "refuses the credentials" in told
    assert "another-secret-word" not in told + repr(wrong)


@pytest.mark.parametrize(
    ("variable", "complaint"),
    [("TIDE_SMTP_SECURITY", "one of none, starttls, tls"), ("TIDE_INLET_PROTOCOL", "one of smtp, lmtp")],
)
def test_a_setting_that_is_no_choice_is_named(variable: str, complaint: str) -> None:
    with pytest.raises(Invalid, match=complaint):
        settings_from({variable: "sometimes"})


@pytest.mark.parametrize(
    ("text", "kept"),
    [
        ("Yes.\n\nOn Mon, 23 Nov 2026 at 10:00 Ida wrote:\n> Really?\n", "Yes."),
        ("Ja.\n\nAm 23.11.2026 um 10:00 schrieb Ida:\n> Wirklich?\n", "Ja."),
        ("> Really?\nYes.\n> Sure?\nSure.", "Yes.\nSure."),
        ("Yes.\n-- \nWren", "Yes."),
        ("", ""),
    ],
)
def test_of_an_answer_only_what_is_new_is_kept(text: str, kept: str) -> None:
    assert unquoted(text) == kept
