"""Taking something out of use: what that would meet is said first, and asked about."""

from __future__ import annotations

from restless_tide.cli.call import Call
from restless_tide.cli.parsing import Parser
from restless_tide.wire.retiring import OutlookTold


def reason_arguments(parser: Parser, *, asks: bool = False) -> None:
    parser.add_argument("--reason", default="", help="why; it stands in the logbook")
    if asks:
        parser.add_argument("--yes", action="store_true", help="do not ask first")


def demand_confirmation(call: Call, outlook: OutlookTold) -> None:
    """Ask, with what stays as it is; what is under way is refused by the desk, which says what it is."""
    if not outlook.under_way:
        call.demand_confirmation("\n".join(outlook.stays))
