"""Write the published contracts from the code: the service's and the gateway's OpenAPI documents, the schemas of a rulebook and
of a dossier folder.

contract.py FOLDER
"""

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

from restless_tide.core.dossier_folder import DossierFiles
from restless_tide.core.rulebook import Rulebook
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings
from restless_tide.service.app import desk_app
from restless_tide.standins.__main__ import RULEBOOKS, read_rulebook
from restless_tide.standins.gateway import standin_app
from restless_tide.standins.store import SimulatedStore

TARGET = Path(sys.argv[1])
TARGET.mkdir(parents=True, exist_ok=True)


def write(name: str, document: dict[str, Any]) -> None:
    text = json.dumps(document, indent=1, ensure_ascii=False, sort_keys=True)
    (TARGET / name).write_text(text + "\n", encoding="utf-8")


with tempfile.TemporaryDirectory() as folder:
    desk = Desk(Settings(data=Path(folder) / "desk"), RealClock())
    write("openapi.json", desk_app(desk).openapi())
    desk.close()
    store = SimulatedStore(read_rulebook((RULEBOOKS / "openfield.toml").read_text(encoding="utf-8")), Path(folder))
    write("gateway-openapi.json", standin_app(store, "http://gateway.example.org").openapi())
    store.shelf.close()
write("rulebook.schema.json", Rulebook.model_json_schema())
write("dossier.schema.json", DossierFiles.model_json_schema())
