"""The colleagues at the demo's desk: each with a role of their own, one of them invited and not there yet."""

from __future__ import annotations

import secrets

from restless_tide.client import Tide
from restless_tide.core.rights import Grant, Role

_COLLEAGUES = (
    ("Tam Okoro", "tam@saltgrass.example.org", (Grant(Role.READER), Grant(Role.RELEASE_MANAGER, ("ferryglass",)))),
    ("Wren Adeyemi", "wren@saltgrass.example.org", (Grant(Role.TESTERS_KEEPER),)),
    ("Noor Haddad", "noor@saltgrass.example.org", (Grant(Role.READER),)),
)
_STILL_INVITED = ("Jonne Virtanen", "jonne@saltgrass.example.org", (Grant(Role.RELEASE_MANAGER, ("loam", "marram")),))


def invite(tide: Tide) -> None:
    """Invite them. Their passwords are made up here and kept nowhere: who wants to be one of them asks for a new one,
    and reads the mail at the demo's mail sink."""
    for name, email, grants in _COLLEAGUES:
        made = tide.people.invite(name, email, grants, by_mail=False)
        assert made.link.address is not None
        tide.people.choose_password(made.link.address.partition("#")[2], secrets.token_urlsafe(24))
    name, email, grants = _STILL_INVITED
    tide.people.invite(name, email, grants)
    tide.people.make_token("build server", apps=("marram", "ferryglass"))
