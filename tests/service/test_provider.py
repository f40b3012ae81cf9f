"""Sign-in by an identity provider: a small one of our own, that can also be away, slow, or lie."""

from __future__ import annotations

import base64
import hashlib
import json
import threading
import time
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx
import pytest
from joserfc import jwt
from joserfc.jwk import ECKey, KeySet
from playwright.sync_api import expect, sync_playwright

from restless_tide.core.rights import Grant, Role
from restless_tide.service import provider
from restless_tide.service.routes.account import own_place
from tests.browser import launched
from tests.harbour import EMAIL, Harbour
from tests.patience import OPENLY

CLIENT, SECRET = "tide-desk", "between-us"


@dataclass
class StandInProvider:
    """What a provider does, and how it may misbehave."""

    key: ECKey = field(default_factory=lambda: ECKey.generate_key("P-256", {"kid": "one", "alg": "ES256"}))
    email: str = EMAIL
    verified: bool = True
    claims: dict[str, Any] = field(default_factory=dict)
    status: int = 200
    slow_seconds: float = 0.0
    strange_key: bool = False
    address: str = ""
    asked: dict[str, list[str]] = field(default_factory=dict)
    nonce: str = ""
    challenge: str = ""

    def document(self) -> dict[str, Any]:
        return {
            "issuer": self.address,
            "authorization_endpoint": f"{self.address}/authorize",
            "token_endpoint": f"{self.address}/token",
            "jwks_uri": f"{self.address}/keys",
        }

    def token(self, given: dict[str, list[str]]) -> dict[str, Any]:
        self.asked = given
        verifier = given["code_verifier"][0].encode()
        assert base64.urlsafe_b64encode(hashlib.sha256(verifier).digest()).rstrip(b"=").decode() == self.challenge
        now = int(time.time())
        claims = {
            "iss": self.address, "aud": CLIENT, "sub": "7", "iat": now, "exp": now + 300, "nonce": self.nonce,
            "email": self.email, "email_verified": self.verified,
        } | self.claims  # fmt: skip
        key = ECKey.generate_key("P-256", {"kid": "one"}) if self.strange_key else self.key
        return {"id_token": jwt.encode({"alg": "ES256", "kid": "one"}, claims, key), "token_type": "Bearer"}


@pytest.fixture(scope="module")
def standin() -> Iterator[StandInProvider]:
    made = StandInProvider()

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            if self.path.startswith("/authorize"):
                self._ask_the_person(parse_qs(urlsplit(self.path).query))
            elif self.path == "/keys":
                self._answer(KeySet([made.key]).as_dict(private=False))
            else:
                self._answer(made.document())

        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["content-length"])).decode()
            self._answer(made.token(parse_qs(body)))

        def _ask_the_person(self, asked: dict[str, list[str]]) -> None:
            made.nonce, made.challenge = asked["nonce"][0], asked["code_challenge"][0]
            to = f"{asked['redirect_uri'][0]}?{urlencode({'state': asked['state'][0], 'code': 'a-code'})}"
            self.send_response(200)
            self.send_header("Content-Type", "text/html")
            self.end_headers()
            self.wfile.write(f'<a href="{to.replace("&", "&amp;")}">Continue</a>'.encode())

        def _answer(self, document: dict[str, Any]) -> None:
            content = json.dumps(document).encode()
            self.send_response(made.status)
            self.send_header("Content-Length", str(len(content)))
            self.end_headers()
            half = len(content) // 2
            self.wfile.write(content[:half])
            time.sleep(made.slow_seconds)
            self.wfile.write(content[half:])

        def log_message(self, *_: Any) -> None:
            pass

    with ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        made.address = f"http://127.0.0.1:{server.server_address[1]}"
        yield made
        server.shutdown()


@pytest.fixture(scope="module")
def desk(standin: StandInProvider, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Harbour]:
    told = {"TIDE_OIDC_ISSUER": standin.address, "TIDE_OIDC_CLIENT": CLIENT, "TIDE_OIDC_SECRET": SECRET}
    opened = Harbour.open(tmp_path_factory.mktemp("provider"), told | {"TIDE_OIDC_NAME": "Saltgrass"}, stores=())
    yield opened
    opened.close()


@pytest.fixture
def well(standin: StandInProvider) -> StandInProvider:
    """The provider without any mischief."""
    standin.email, standin.verified, standin.claims = EMAIL, True, {}
    standin.status, standin.slow_seconds, standin.strange_key = 200, 0.0, False
    return standin


def gone(line: httpx.Client, well: StandInProvider, following: str = "/apps") -> str:
    """To the provider: what the person is sent along with; returns the state."""
    sent = line.get("/v1/sign-in/provider", params={"next": following})
    assert sent.status_code == 303
    asked = parse_qs(urlsplit(sent.headers["location"]).query)
    assert asked["code_challenge_method"] == ["S256"]
    well.nonce, well.challenge = asked["nonce"][0], asked["code_challenge"][0]
    return asked["state"][0]


def back(line: httpx.Client, state: str) -> httpx.Response:
    return line.get(f"{provider.CALLBACK}?{urlencode({'state': state, 'code': 'a-code'})}")


@pytest.fixture
def line(desk: Harbour) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=desk.address, **OPENLY) as opened:
        yield opened


def test_a_person_who_was_invited_signs_in_and_lands_where_they_wanted(
    line: httpx.Client, well: StandInProvider
) -> None:
    assert line.get("/v1/sign-in/ways").json()["provider"] == "Saltgrass"
    landed = back(line, gone(line, well))
    assert "url=/apps" in landed.text
    assert line.get("/v1/me").json()["email"] == EMAIL
    assert well.asked["redirect_uri"] == [f"{line.base_url}{provider.CALLBACK}".replace("//v1", "/v1")]


def test_a_person_without_a_password_signs_in_by_the_provider_alone(
    desk: Harbour, line: httpx.Client, well: StandInProvider
) -> None:
    desk.tide.people.demand_second_factor(True)
    try:
        desk.tide.people.invite("Fen Marsh", "fen@example.org", [Grant(Role.READER)], by_mail=False)
        well.email = "fen@example.org"
        back(line, gone(line, well))
        me = line.get("/v1/me").json()
        assert (me["by_password"], me["second_factor_demanded"]) == (False, False)
    finally:
        desk.tide.people.demand_second_factor(False)


@pytest.mark.console
def test_in_a_browser_the_button_leads_there_and_back_signed_in(desk: Harbour, well: StandInProvider) -> None:
    """The session's cookie is strict, and the way back begins at another site."""

    with sync_playwright() as playwright, closing(launched(playwright)) as browser:
        page = browser.new_page(base_url=desk.address)
        page.goto("/apps")
        page.get_by_role("link", name="Sign in by Saltgrass").click()
        page.get_by_role("link", name="Continue").click()
        page.wait_for_url("**/apps")
        expect(page.get_by_role("link", name="Ida Fenwick")).to_be_visible()


@pytest.mark.parametrize(
    ("mischief", "said"),
    [
        ({"email": "stranger@example.org"}, "No one at this desk"),
        ({"verified": False}, "no verified mail address"),
        ({"claims": {"aud": "another-client"}}, "does not hold"),
        ({"claims": {"aud": [CLIENT, "another"]}}, "another client"),
        ({"claims": {"iss": "http://evil.example"}}, "does not hold"),
        ({"claims": {"nonce": "of-before"}}, "does not hold"),
        ({"claims": {"exp": 1}}, "does not hold"),
        ({"strange_key": True}, "does not hold"),
        ({"status": 400}, "it answers 400"),
        ({"status": 503}, "does not answer as it should"),
    ],
)
def test_whatever_the_provider_says_wrongly_lets_nobody_in(
    line: httpx.Client, well: StandInProvider, mischief: dict[str, Any], said: str
) -> None:
    state = gone(line, well)
    for name, value in mischief.items():
        setattr(well, name, value)
    refused = back(line, state)
    assert refused.status_code == 303
    told = parse_qs(urlsplit(refused.headers["location"]).query)["wrong"][0]
    assert said in told
    assert line.get("/v1/me").status_code == 401


def test_another_attempt_and_a_made_up_journey_are_refused(line: httpx.Client, well: StandInProvider) -> None:
    gone(line, well)
    assert "another+attempt" in back(line, "made-up").headers["location"]
    line.cookies.set(provider.COOKIE, "bm90IHNlYWxlZA==", path="/v1/sign-in/provider")
    assert "did+not+begin+here" in back(line, "made-up").headers["location"]


def test_a_provider_that_is_slow_or_away_ends_by_its_deadline(
    well: StandInProvider, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from restless_tide.desk.clock import RealClock
    from restless_tide.desk.desk import Desk
    from restless_tide.desk.settings import Settings

    monkeypatch.setattr(provider, "DEADLINE_SECONDS", 0.2)
    well.slow_seconds = 1.0
    desk = Desk(Settings(data=tmp_path / "desk", oidc_issuer=well.address, oidc_client=CLIENT), RealClock())
    try:
        with pytest.raises(provider.ProviderAway, match="does not answer"):
            provider.Provider(desk).begin("/")
        away = Desk(Settings(data=tmp_path / "away", oidc_issuer="http://127.0.0.1:9", oidc_client=CLIENT), RealClock())
        with pytest.raises(provider.ProviderAway):
            provider.Provider(away).begin("/")
        away.close()
    finally:
        desk.close()


def test_a_desk_without_a_provider_has_no_such_way(harbour: Harbour) -> None:
    with httpx.Client(base_url=harbour.address, **OPENLY) as line:
        assert line.get("/v1/sign-in/ways").json()["provider"] is None
        assert line.get("/v1/sign-in/provider").status_code == 404


@pytest.mark.parametrize(
    ("path", "own"),
    [
        ("/apps", True),
        ("//evil.example", False),
        ("https://evil.example", False),
        ("/\\evil.example", False),
        ("", False),
    ],
)
def test_only_a_place_of_our_own_is_gone_to(path: str, own: bool) -> None:
    assert own_place(path) is own
