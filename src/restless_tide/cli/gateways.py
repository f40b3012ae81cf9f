"""tide gateway: for those who write an adapter."""

from __future__ import annotations

import json
from dataclasses import asdict

from rich.markup import escape

from restless_tide.cli.call import Call, file_argument
from restless_tide.cli.exits import Exit
from restless_tide.cli.parsing import Nouns, span
from restless_tide.core.packages import inspect_package
from restless_tide.gateways.clauses import check
from restless_tide.gateways.client import read_connection_file
from restless_tide.gateways.conformance import Finding, Material
from restless_tide.wire.errors import Invalid

_DESCRIPTION = """Hold a gateway to the protocol, clause by clause (docs/gateway-protocol.md).

It opens a berth of its own, sends the package, opens a trial, hands in, launches and halts; use a trial account.
It waits for the store's processing and review; a stand-in's clock can be sped up with: tide standin speed."""


def add(nouns: Nouns) -> None:
    nouns.noun("gateway")
    parser = nouns.command("gateway check", _check, "hold a gateway to the protocol", description=_DESCRIPTION)
    parser.add_argument("connection", help="the connection file of the gateway")
    parser.add_argument("package", help="a package that the store takes, of an app that has no berth there yet")
    parser.add_argument("--gateway", metavar="ADDRESS", help="another address than the one in the connection file")
    parser.add_argument(
        "--patience", type=span, default=60.0, metavar="SECONDS", help="how long to wait for the store's own work (60)"
    )


def _check(call: Call) -> Exit:
    connection = read_connection_file(
        file_argument(call.given.connection).read_text(encoding="utf-8", errors="replace")
    )
    if call.given.gateway:
        connection = connection.model_copy(update={"gateway": call.given.gateway})
    if not connection.gateway.startswith(("http://", "https://")):
        raise Invalid(f"{connection.gateway!r} is no http(s) address.", code="address-unfit")
    path = file_argument(call.given.package)
    with path.open("rb") as source:
        facts = inspect_package(source)
    material = Material(path.read_bytes(), facts, call.given.patience, lambda said: call.aside.print(said))
    found: list[Finding] = []
    for finding in check(connection, material):
        found.append(finding)
        if not call.given.json:
            _tell(call, finding)
    broken = [finding for finding in found if not finding.held]
    skipped = [finding for finding in found if finding.skipped]
    if call.given.json:
        print(json.dumps([asdict(finding) for finding in found], indent=2, ensure_ascii=False))
    else:
        held = len(found) - len(broken) - len(skipped)
        call.say(f"\n{held} clauses hold, {len(broken)} do not, {len(skipped)} could not be tried.")
    return Exit.REFUSED if broken else Exit.DONE


def _tell(call: Call, finding: Finding) -> None:
    mark = "[yellow]–[/]" if finding.skipped else "[green]✓[/]" if finding.held else "[red]✕[/]"
    why = f": {finding.why}" if finding.why else ""
    call.console.print(f"{mark} {finding.clause}  {escape(finding.said)}{escape(why)}", soft_wrap=True)
