"""Who may come in: tokens for assertions signed by a known client (OAuth 2.0, RFC 7523)."""

from __future__ import annotations

import json
import secrets
import threading
import time

import jwt
from cryptography.hazmat.primitives.asymmetric import ec
from jwt.algorithms import ECAlgorithm

from restless_tide.gateways import protocol
from restless_tide.standins.judgement import Refusal
from restless_tide.standins.shelf import Thing
from restless_tide.standins.store import SimulatedStore, fresh

TOKEN_LIFE_SECONDS = 600
LEEWAY_SECONDS = 30
_CLAIMS = ["exp", "iat", "jti", "sub", "iss", "aud"]


class Entrance:
    """Hands out bearer tokens and knows them again. ``address`` is where the gateway is reached."""

    def __init__(self, store: SimulatedStore, address: str) -> None:
        self._store = store
        self._address = address
        self._bearers: dict[str, tuple[str, float]] = {}
        self._used: dict[str, float] = {}
        self._lock = threading.Lock()

    def admit(self, grant_type: str, assertion_type: str, assertion: str) -> protocol.TokenAnswer:
        """A token for a signed assertion. Raises Refusal."""
        if grant_type != "client_credentials":
            raise Refusal("unsupported-grant-type", "Only client_credentials is taken.", status=400)
        if assertion_type != protocol.ASSERTION_TYPE:
            raise Refusal("invalid-request", "Only a signed assertion is taken.", status=400)
        claims = self._proved(assertion)
        with self._lock:
            now = time.time()
            self._used = {jti: until for jti, until in self._used.items() if until > now - LEEWAY_SECONDS}
            if claims["jti"] in self._used:
                raise Refusal("assertion-replayed", "This assertion was used before.", status=401)
            self._used[claims["jti"]] = claims["exp"]
            value = secrets.token_urlsafe(32)
            self._bearers[value] = (claims["sub"], now + TOKEN_LIFE_SECONDS)
        may = " ".join(self._store.account()["may"])
        return protocol.TokenAnswer(access_token=value, expires_in=TOKEN_LIFE_SECONDS, scope=may)

    def known(self, authorization: str) -> str:
        """The client of a bearer token. Raises Refusal."""
        client, until = self._bearers.get(authorization.removeprefix("Bearer "), ("", 0.0))
        if not client or until < time.time() or self._key_of(client) is None:
            raise Refusal("token-unknown", "This token is unknown or has expired.", status=401)
        return client

    def new_connection(self) -> Thing:
        """A connection file with a fresh key; the store keeps only the public half."""
        key = ec.generate_private_key(ec.SECP256R1())
        client = fresh("client")
        self._store.shelf.put("client", {"id": client, "public_key": json.loads(ECAlgorithm.to_jwk(key.public_key()))})
        return {"gateway": self._address, "client_id": client, "private_key": json.loads(ECAlgorithm.to_jwk(key))}

    def revoke(self, client: str) -> None:
        known = self._store.needed("client", client)
        self._store.shelf.put("client", known | {"public_key": None})

    def _key_of(self, client: str) -> Thing | None:
        known = self._store.shelf.get("client", client)
        return known["public_key"] if known else None

    def _proved(self, assertion: str) -> Thing:
        """The claims of an assertion signed by a client we know (RFC 7523, section 3)."""
        try:
            client = str(jwt.decode(assertion, options={"verify_signature": False}).get("sub", ""))
            public = self._key_of(client)
            if public is None:
                raise Refusal("client-unknown", "We do not know this client, or its key was revoked.", status=401)
            claims: Thing = jwt.decode(
                assertion,
                jwt.PyJWK.from_dict(public, algorithm=protocol.ALGORITHM).key,
                algorithms=[protocol.ALGORITHM],
                audience=f"{self._address}/v1/token",
                issuer=client,
                options={"require": _CLAIMS, "verify_exp": False, "verify_iat": False, "verify_nbf": False},
            )
        except (jwt.PyJWTError, UnicodeError) as wrong:
            raise Refusal("assertion-unfit", f"The assertion does not prove who you are ({wrong}).", 401) from None
        now = time.time() + self._store.setting("clock_off_seconds", 0.0)
        if not claims["iat"] - LEEWAY_SECONDS <= now <= claims["exp"] + LEEWAY_SECONDS:
            raise Refusal("assertion-expired", "By our clock the assertion is not valid now.", status=401)
        return claims
