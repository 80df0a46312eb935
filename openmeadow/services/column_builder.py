"""The process that makes the columns of a large workspace and writes them beside its database:
``python -m openmeadow.services.column_builder FOLDER``."""

from __future__ import annotations

import fcntl
import sys
from pathlib import Path

from openmeadow.services.kept_columns import Sizes
from openmeadow.services.workspace import Workspace


def main() -> None:
    """One at a time for each workspace; what another has just made is not made again."""
    folder = Path(sys.argv[1])
    with (folder / "columns.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        workspace = Workspace(folder, sizes=Sizes(most_late=0, apart_from=sys.maxsize, worth_mirroring=0))
        workspace.columns.current()
        workspace.close()


if __name__ == "__main__":
    main()
