"""Sign-in by the company's identity provider: OpenID Connect, authorization code with PKCE (RFC 7636).

What goes along from the request to the answer (state, nonce, verifier) travels in a sealed cookie, so nothing is kept here.
The provider is asked from this machine with a deadline; whatever it says is held against its keys, its issuer and our client.
"""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import time
from dataclasses import asdict, dataclass
from typing import Any
from urllib.parse import urlencode

import httpx
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet

from restless_tide.core.errors import StoreUnreachable, TideError, Unauthenticated
from restless_tide.desk import find, sessions
from restless_tide.desk.desk import Desk
from restless_tide.tls import verified

CALLBACK = "/v1/sign-in/provider/back"
COOKIE = "tide_provider"
LIFE_SECONDS = 600
DEADLINE_SECONDS = 8.0
_SKEW_SECONDS = 60
_ALGORITHMS = ["RS256", "RS384", "RS512", "PS256", "ES256", "ES384", "EdDSA"]
_MOST_BYTES = 256 * 1024


class ProviderAway(StoreUnreachable):
    """The identity provider does not answer, or not as OpenID Connect says."""

    code = "provider-away"
    title = "The identity provider does not answer"


@dataclass(frozen=True)
class Journey:
    """What has to come back as it went."""

    state: str
    nonce: str
    verifier: str
    next: str
    until: float


class Provider:
    """The identity provider of the settings."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._issuer = desk.settings.oidc_issuer.rstrip("/")
        self._http = httpx.Client(
            timeout=DEADLINE_SECONDS, trust_env=False, verify=verified(self._issuer), follow_redirects=False
        )
        self._found: dict[str, Any] | None = None

    @property
    def redirect(self) -> str:
        """Where the provider sends people back."""
        return f"{self._desk.settings.address}{CALLBACK}"

    def begin(self, following: str) -> tuple[str, str]:
        """Where to send someone, and the sealed cookie that goes along. Raises ProviderAway."""
        journey = Journey(
            state=secrets.token_urlsafe(24),
            nonce=secrets.token_urlsafe(24),
            verifier=secrets.token_urlsafe(48),
            next=following,
            until=time.time() + LIFE_SECONDS,
        )
        asked = {
            "response_type": "code",
            "client_id": self._desk.settings.oidc_client,
            "redirect_uri": self.redirect,
            "scope": "openid email profile",
            "state": journey.state,
            "nonce": journey.nonce,
            "code_challenge": _challenge(journey.verifier),
            "code_challenge_method": "S256",
        }
        sealed = self._desk.seal.close(json.dumps(asdict(journey)).encode(), COOKIE)
        place = f"{self._configuration()['authorization_endpoint']}?{urlencode(asked)}"
        return place, base64.urlsafe_b64encode(sealed).decode()

    def finish(self, cookie: str, state: str, code: str, *, agent: str, place: str) -> tuple[str, str]:
        """Who came back; returns the secret of their new session and where they wanted to go. Raises Unauthenticated,
        ProviderAway."""
        journey = self._journey(cookie)
        if not secrets.compare_digest(journey.state.encode(), state.encode()):
            raise _refused("it belongs to another attempt")
        claims = self._claims(code, journey)
        email = str(claims.get("email") or "")
        if not email.strip() or claims.get("email_verified") is not True:
            raise _refused("the provider tells no verified mail address")
        with self._desk.look() as session:
            person = find.person_with(session, email)
        if person is None:
            raise Unauthenticated(
                "No one at this desk has your mail address.", remedy="Ask an owner of the desk to invite you.",
                code="person-unknown",
            )  # fmt: skip
        return sessions.begin(self._desk, person, proven=True, agent=agent, place=place), journey.next

    def _journey(self, cookie: str) -> Journey:
        try:
            opened = self._desk.seal.open(base64.urlsafe_b64decode(cookie), COOKIE)
            journey = Journey(**json.loads(opened))
        except (TideError, ValueError, TypeError):
            raise _refused("it did not begin here") from None
        if journey.until < time.time():
            raise _refused("it took too long")
        return journey

    def _claims(self, code: str, journey: Journey) -> dict[str, Any]:
        configuration = self._configuration()
        settings = self._desk.settings
        told = self._ask(
            "POST",
            configuration["token_endpoint"],
            data={
                "grant_type": "authorization_code",
                "code": code,
                "redirect_uri": self.redirect,
                "code_verifier": journey.verifier,
                "client_id": settings.oidc_client,
            },
            auth=httpx.BasicAuth(settings.oidc_client, settings.oidc_secret) if settings.oidc_secret else None,
        )
        keys = self._ask("GET", configuration["jwks_uri"])
        try:
            token = jwt.decode(str(told["id_token"]), KeySet.import_key_set(keys), algorithms=_ALGORITHMS)  # type: ignore[arg-type]
            jwt.JWTClaimsRegistry(
                leeway=_SKEW_SECONDS,
                iss={"essential": True, "value": configuration["issuer"]},
                aud={"essential": True, "value": settings.oidc_client},
                exp={"essential": True},
                iat={"essential": True},
                nonce={"essential": True, "value": journey.nonce},
            ).validate(token.claims)
        except (JoseError, KeyError, ValueError, TypeError) as wrong:
            raise _refused(f"what it says does not hold ({type(wrong).__name__})") from None
        audience = token.claims["aud"]
        if isinstance(audience, list) and len(audience) > 1 and token.claims.get("azp") != settings.oidc_client:
            raise _refused("it speaks to another client")
        return dict(token.claims)

    def _configuration(self) -> dict[str, Any]:
        """The provider's own description (OpenID Connect Discovery), asked for once."""
        if self._found is None:
            found = self._ask("GET", f"{self._issuer}/.well-known/openid-configuration")
            needed = ("issuer", "authorization_endpoint", "token_endpoint", "jwks_uri")
            if (
                any(not isinstance(found.get(name), str) for name in needed)
                or found["issuer"].rstrip("/") != self._issuer
            ):
                raise ProviderAway("The identity provider describes itself as another one.", code="provider-unfit")
            self._found = found
        return self._found

    def _ask(self, method: str, url: str, **sent: Any) -> dict[str, Any]:
        try:
            with self._http.stream(method, url, **sent) as answer:
                content = bytearray()
                begun = time.monotonic()
                for block in answer.iter_bytes():
                    content += block
                    if len(content) > _MOST_BYTES or time.monotonic() - begun > DEADLINE_SECONDS:
                        raise ValueError("too much, or too slow")
            if not answer.is_success:
                raise _refused(f"it answers {answer.status_code}") if answer.status_code < 500 else ValueError("failed")
            found = json.loads(content)
            if not isinstance(found, dict):
                raise ValueError("no document")
        except (httpx.HTTPError, httpx.InvalidURL, ValueError) as wrong:
            raise ProviderAway(
                f"The identity provider does not answer as it should ({type(wrong).__name__}).",
                remedy="Try again, or sign in by password.",
            ) from None
        return found


def _challenge(verifier: str) -> str:
    """The S256 challenge of a verifier (RFC 7636, section 4.2)."""
    return base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()


def _refused(why: str) -> Unauthenticated:
    return Unauthenticated(
        f"The sign-in by the identity provider was not accepted: {why}.", remedy="Begin again on the sign-in page.",
        code="provider-refused",
    )  # fmt: skip
