"""Prints the API's description: ``python -m openmeadow.web.describe``."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

from openmeadow.services.workspace import Workspace
from openmeadow.web import api
from openmeadow.web.router import Described


def description() -> dict[str, object]:
    """The description of the API as OpenAPI."""
    with tempfile.TemporaryDirectory() as folder:
        workspace = Workspace(Path(folder))
        described = Described(workspace)
        api.register(described, workspace)
        workspace.close()
        return described.openapi()


if __name__ == "__main__":
    print(json.dumps(description()))
