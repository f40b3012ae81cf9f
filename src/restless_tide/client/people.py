"""Who is asking, and tokens."""

from __future__ import annotations

from collections.abc import Sequence

from restless_tide.client.noun import Noun
from restless_tide.wire.people import PersonTold, SignInWanted, TokenMade, TokenTold, TokenWanted


class People(Noun):
    """Who is asking, and tokens."""

    def sign_in(self, email: str, password: str) -> PersonTold:
        """Begin a session on this line. Raises Unauthenticated."""
        return self._line.post("/v1/sign-in", PersonTold, SignInWanted(email=email, password=password))

    def me(self) -> PersonTold:
        return self._line.get("/v1/me", PersonTold)

    def every(self) -> list[PersonTold]:
        """Everybody who works at the desk, by name."""
        return self._line.get("/v1/people", list[PersonTold])

    def tokens(self) -> list[TokenTold]:
        return self._line.get("/v1/tokens", list[TokenTold])

    def make_token(self, label: str, *, days: float | None = None, apps: Sequence[str] = ()) -> TokenMade:
        """Make a token; its value is only in this answer. With ``apps`` it is a build server's, for these alone."""
        return self._line.post("/v1/tokens", TokenMade, TokenWanted(label=label, days=days, apps=list(apps)))

    def revoke_token(self, token: str) -> None:
        self._line.delete(f"/v1/tokens/{token}")
