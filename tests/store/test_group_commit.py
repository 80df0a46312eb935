"""Writes of several threads in one transaction: each whole or not at all, and on the disk before its thread goes on."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

from openmeadow.core.errors import Busy, Refused
from openmeadow.store import settings
from openmeadow.store.connection import Store
from openmeadow.store.group_commit import GroupCommit


def number(store: Store, name: str) -> object:
    row = store.read().execute("SELECT value FROM settings WHERE name = ?", (name,)).fetchone()
    return row and row["value"]


def test_one_that_fails_leaves_nothing_and_stops_no_other(tmp_path: Path) -> None:
    store = Store(tmp_path)
    begun: list[int] = []

    def write(n: int) -> int:
        def do(db: sqlite3.Connection) -> int:
            begun.append(n)
            settings.set_setting(db, f"n{n}", n)
            if n % 5 == 0:
                raise Refused("Not this one.")
            return n

        found = store.together(do)
        assert number(store, f"n{n}") == str(n)  # another connection sees it: it is committed
        return found

    with ThreadPoolExecutor(8) as pool:
        asked = [pool.submit(write, n) for n in range(40)]
    for n, future in enumerate(asked):
        if n % 5 == 0:
            assert isinstance(future.exception(), Refused) and number(store, f"n{n}") is None
        else:
            assert future.result() == n
    assert sorted(begun) == list(range(40))
    store.close()


def test_what_keeps_the_transaction_from_the_disk_is_said_to_all(tmp_path: Path) -> None:
    store = Store(tmp_path)

    @contextmanager
    def late_mistake() -> Iterator[sqlite3.Connection]:
        with store.atomic() as db:
            yield db
            raise Busy("Something else writes.")

    group = GroupCommit(late_mistake)
    with ThreadPoolExecutor(4) as pool:
        asked = [pool.submit(group.run, lambda db, n=n: settings.set_setting(db, f"n{n}", n)) for n in range(8)]
    assert all(isinstance(future.exception(), Busy) for future in asked)
    assert store.read().execute("SELECT count(*) FROM settings WHERE name LIKE 'n_'").fetchone()[0] == 0
    store.close()
