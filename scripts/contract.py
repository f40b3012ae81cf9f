"""Write the service's OpenAPI document to the file named, so that the console's types can be made from it."""

import json
import sys
import tempfile
from pathlib import Path

from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings
from restless_tide.service.app import desk_app

with tempfile.TemporaryDirectory() as folder:
    desk = Desk(Settings(data=Path(folder)), RealClock())
    document = desk_app(desk).openapi()
    desk.close()
Path(sys.argv[1]).write_text(
    json.dumps(document, indent=1, ensure_ascii=False, sort_keys=True) + "\n", encoding="utf-8"
)
