"""Prints the API's description: ``python -m openmeadow.web.describe``."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

from openmeadow.desk.desk import Desk
from openmeadow.web import api
from openmeadow.web.described import Described


def description() -> dict[str, object]:
    with tempfile.TemporaryDirectory() as folder:
        desk = Desk(Path(folder))
        described = Described(desk)
        api.register(described, desk)
        desk.close()
        return described.openapi()


if __name__ == "__main__":
    print(json.dumps(description()))
