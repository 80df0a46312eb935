"""Who waits to write is seen by others, here and in another process, and only as long as they wait."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from openmeadow.store.connection import Store
from openmeadow.store.write_queue import WriteQueue

WAITS = """
import sys
from pathlib import Path
from openmeadow.store.write_queue import WriteQueue
with WriteQueue(Path(sys.argv[1])).waiting():
    print("waits", flush=True)
    sys.stdin.read()
"""


def test_who_waits_is_seen(tmp_path: Path) -> None:
    queue = WriteQueue(tmp_path)
    assert not queue.is_anybody()
    with queue.waiting(), queue.waiting():
        assert queue.is_anybody() and WriteQueue(tmp_path).is_anybody()
    assert not queue.is_anybody()
    other = subprocess.Popen(
        [sys.executable, "-c", WAITS, str(tmp_path)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert other.stdout is not None and other.stdout.readline() == "waits\n" and queue.is_anybody()
    other.communicate("")
    assert not queue.is_anybody()
    queue.give_way()


def test_an_import_is_seen_from_its_begin_to_its_end(folder: Path) -> None:
    store, other = Store(folder), WriteQueue(folder)
    assert not other.is_importing()
    with store.roomy():
        assert other.is_importing() and not other.is_anybody()
    assert not other.is_importing()
    store.close()
