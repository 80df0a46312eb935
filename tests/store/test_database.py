"""The database: all or nothing, read-only reads, migrations once; what the map selects its rule selects."""

from __future__ import annotations

import contextlib
import re
import sqlite3
import threading
from collections.abc import Callable
from importlib import resources
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from openmeadow.core.engagement.map import rule_of
from openmeadow.core.engagement.replay import FINE_DAYS, FINE_LEFT, SHAPE
from openmeadow.core.errors import Busy, Missing, Newer
from openmeadow.core.events import Kind
from openmeadow.core.moments import DAY
from openmeadow.services.subscribers.engagement_map import people_map, where
from openmeadow.services.today import engaged_base, overview
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings as settings_table
from openmeadow.store import undo_log
from openmeadow.store.bulk import AT_ONCE, insert_many, read_columns
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, deliveries
from openmeadow.store.campaigns import external as external_table
from openmeadow.store.connection import Store
from openmeadow.store.engagement import events
from openmeadow.store.sequences import sequences
from openmeadow.store.subscribers import signups, subscribers
from openmeadow.worker.loop import Worker
from tests.conftest import NOW


def test_all_or_nothing(folder: Path) -> None:
    store = Store(folder)
    with pytest.raises(ZeroDivisionError), store.atomic() as db:
        settings_table.set_setting(db, "name", "half")
        with store.atomic() as inner:
            settings_table.set_setting(inner, "time_zone", "Europe/Lisbon")
        raise ZeroDivisionError
    assert settings_table.setting(store.read(), "name") == "Workspace"
    assert settings_table.setting(store.read(), "time_zone") == "UTC", "the inner act belongs to the outer one"
    with pytest.raises(sqlite3.OperationalError, match="readonly"):
        store.read().execute("DELETE FROM settings")
    with pytest.raises(sqlite3.IntegrityError), store.atomic() as db:
        batch_table.add_batch(db, 99, 1, 0, 0)
    store.close()
    again = Store(folder)
    scripts = list((resources.files("openmeadow.store") / "migrations").iterdir())
    assert len(again.read().execute("SELECT * FROM migrations").fetchall()) == len(scripts)


def test_a_folder_that_cannot_be_opened(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("x")
    with pytest.raises(Missing, match="data folder"):
        Store(tmp_path / "file" / "data")
    (tmp_path / "meadow.db").mkdir()
    with pytest.raises(Missing, match="cannot be opened"):
        Store(tmp_path)


def fill(workspace: Workspace, people: int = 300) -> None:
    """People with every mixture of silence and answers."""
    r = np.random.default_rng(8)
    with workspace.store.atomic() as db:
        for i in range(1, people + 1):
            db.execute(
                "INSERT INTO subscribers (email, email_key, joined_at) VALUES (?, ?, ?)",
                (f"p{i}@x.example", f"p{i}@x.example", NOW - 800 * DAY),
            )
        for m in range(60):
            events.Names(db).messages([f"News {m}"])
            at = NOW - (m * 9 + 1) * DAY
            for i in r.permutation(people)[: people // 2] + 1:
                events.add(db, [(at, int(Kind.SENT), int(i), m + 1, 0, 0, 0.0, None, None, None)])
                if i % 5 and r.random() < (i % 7) / 9 and m * 9 > (i % 11) * 40:
                    events.add(db, [(at + 3600, int(Kind.OPENED), int(i), m + 1, 0, 0, 0.0, None, None, None)])


def test_what_the_map_selects_its_rule_selects(workspace: Workspace) -> None:
    fill(workspace)
    column, row = np.divmod(where(workspace.view()), SHAPE[1])

    @settings(suppress_health_check=list(HealthCheck))
    @given(*(st.integers(0, n - 1) for n in (SHAPE[0], SHAPE[0], SHAPE[1], SHAPE[1])))
    def check(c1: int, c2: int, r1: int, r2: int) -> None:
        columns, rows = (min(c1, c2), max(c1, c2)), (min(r1, r2), max(r1, r2))
        chosen = (column >= columns[0]) & (column <= columns[1]) & (row >= rows[0]) & (row <= rows[1])
        rule = rule_of(FINE_DAYS, FINE_LEFT, columns, rows)
        assert workspace.count(rule)[0] == int(chosen.sum()), rule

    check()
    seen = people_map(workspace).groups.band.cells
    assert sum(seen[2::3]) == 300 and seen[:1] == [int(where(workspace.view()).min())]


def test_today_counts_what_needs_somebody(workspace: Workspace) -> None:
    fill(workspace, 60)
    with workspace.store.atomic() as db:
        id = campaigns.add(db, "Held one", 1, NOW)
        campaigns.update(db, id, {"state": "paused"})
        batch = batch_table.add_batch(db, batch_table.add_pass(db, id, "first"), 1, NOW + 60, 2)
        deliveries.add_deliveries(
            db, [(1, batch, 1, 0, 0, "unconfirmed", None, None), (1, batch, 2, 0, 0, "queued", None, None)]
        )
        events.put_aside(db, [("x@x.example", "[1]", None)])
        with pytest.raises(ValueError, match="no such columns"):
            campaigns.update(db, id, {"shoe": 1})
    view = workspace.view()
    kinds = [d.kind for d in overview.decisions(workspace, view)]
    assert kinds[:2] == ["Paused", "Unconfirmed"] and kinds[-1] == "Import"
    day_rows = overview.day_rows(workspace)
    assert [(x.name, x.state, x.people) for x in day_rows] == [("Held one", "paused", 2)]
    base, lacking = engaged_base.see(workspace, view)
    assert (len(base), lacking) == (13, 0) and all(sum(p.bands) == 60 for p in base)
    assert base[-1].bands == list(workspace.band_counts(view).values())
    own = next(p for p in overview.providers(workspace, view) if p.name == "Other domains")
    assert (
        own.people == 60
        and own.sent
        == workspace.store.read()
        .execute("SELECT count(*) FROM events WHERE kind = 1 AND at / 3600 > ?", ((NOW - 30 * DAY) // 3600,))
        .fetchone()[0]
    )


@pytest.mark.parametrize("n", [0, 1, AT_ONCE - 1, AT_ONCE, AT_ONCE + 1, 3 * AT_ONCE + 7])
def test_many_rows_are_written_as_one_by_one(workspace: Workspace, n: int) -> None:
    """Any number of rows, from whatever can be gone through once; what is there already is skipped."""
    rows = [(i % max(1, n - 3), f"a{i}") for i in range(n)]
    with workspace.store.atomic() as db:
        for name in ("one", "many"):
            db.execute(f"CREATE TABLE {name} (k INTEGER PRIMARY KEY, v TEXT NOT NULL)")
        db.executemany("INSERT OR IGNORE INTO one VALUES (?, ?)", rows)
        insert_many(db, "INSERT OR IGNORE INTO many (k, v)", (r for r in rows), 2)
        one, many = (db.execute(f"SELECT * FROM {t} ORDER BY k").fetchall() for t in ("one", "many"))
        assert [tuple(r) for r in one] == [tuple(r) for r in many]


HOT: tuple[Callable[[sqlite3.Connection], object], ...] = (
    lambda db: batch_table.due_batches(db, NOW),
    lambda db: deliveries.waiting_of(db, 1, 50),
    lambda db: deliveries.again_due(db, NOW),
    lambda db: deliveries.requeue(db, NOW, 100),
    deliveries.sending_now,
    deliveries.next_due,
    lambda db: external_table.external_pending(db, NOW),
    lambda db: external_table.report_external(db, 1, 1, [1, 2, 3]),
    lambda db: external_table.told_since(db, 1, 5),
    lambda db: external_table.waiting_for_word(db, 1),
    lambda db: deliveries.resent_often(db, NOW, 3),
    lambda db: deliveries.mark(db, 1, "failed", NOW),
    lambda db: deliveries.of_person(db, 1, 1),
    lambda db: deliveries.handing_over(db, 1),
    lambda db: events.came_since(db, 1, 5),
    lambda db: events.replied(db, 1, 50),
    lambda db: events.sent_to(db, 1, NOW),
    events.highest,
    lambda db: campaigns.clicked_link(db, 1, NOW),
    lambda db: campaigns.happened(db, 1, NOW),
    lambda db: signups.due(db, NOW),
    lambda db: signups.changes_due(db, NOW),
    sequences.next_step,
    undo_log.events_version,
    subscribers.facts_version,
    settings_table.last_activity,
    settings_table.next_job,
    lambda db: db.execute("DELETE FROM subscribers WHERE id = 399"),
    lambda db: db.execute(
        "SELECT 1 FROM enrolments WHERE sequence = 1 AND left_at IS NULL AND due_at IS NOT NULL AND due_at <= 5 "
        "ORDER BY due_at"
    ),
    lambda db: db.execute("SELECT subscriber FROM sequence_queue WHERE sequence = 1 ORDER BY id LIMIT 5"),
    lambda db: db.execute("UPDATE deliveries SET reason = 'x' WHERE state = 'sending'"),
)
LARGE = re.compile(r"SCAN (?:deliveries|events|d|e|subscribers|s|consent_entries|enrolments|sequence_queue)\b")


@pytest.mark.parametrize("analysed", [False, True])
def test_hot_statements_go_through_no_large_table(workspace: Workspace, analysed: bool) -> None:
    """What every tick, message, poll and page asks, by the very functions that ask it, whatever the planner knows."""
    fill(workspace, 400)
    with workspace.store.atomic() as db:
        for kind in ("first", "resend"):
            id = campaigns.add(db, f"One {kind}", 1, NOW)
            of = batch_table.add_pass(db, id, kind)
            batch = batch_table.add_batch(db, of, 1, NOW + 60, 389)
            deliveries.add_deliveries(db, [(of, batch, i, 0, 0, "waiting", None, None) for i in range(1, 390)])
    if analysed:
        workspace.store.analyse()
    wrong = []
    for ask in HOT:
        said: list[str] = []
        with contextlib.suppress(ZeroDivisionError), workspace.store.atomic() as db:
            db.set_trace_callback(said.append)
            try:
                ask(db)
            finally:
                db.set_trace_callback(None)
            raise ZeroDivisionError  # nothing of it stays
        for statement in {s for s in said if s.split()[0] in ("SELECT", "UPDATE", "DELETE", "WITH")}:
            plan = [r["detail"] for r in workspace.store.writer.execute(f"EXPLAIN QUERY PLAN {statement}")]
            wrong += [(statement[:90], step) for step in plan if LARGE.match(step)]
    assert not wrong, chr(10).join(map(str, wrong))


def test_every_column_that_refers_has_an_index(workspace: Workspace) -> None:
    """So that taking a row out, or following it back, never goes through a table."""
    db, without = workspace.store.read(), []
    for (table,) in db.execute(
        "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'"
    ).fetchall():
        keys = [r["name"] for r in db.execute(f"PRAGMA table_info({table})") if r["pk"] == 1]
        first = {
            db.execute(f"PRAGMA index_info({i['name']})").fetchone()["name"]
            for i in db.execute(f"PRAGMA index_list({table})")
        }
        refers = {r["from"] for r in db.execute(f"PRAGMA foreign_key_list({table})")}
        without += [(table, c) for c in refers - first - set(keys)]
    assert not without


def test_reading_writes_nothing(workspace: Workspace, folder: Path) -> None:
    """Opening a workspace to look leaves its database byte for byte; the writing connection is not even opened."""
    fill(workspace, 30)
    workspace.close()
    before = (folder / "meadow.db").read_bytes()
    again = Workspace(folder)
    again.view()
    settings_table.settings(again.store.read())
    assert again.store._written is None and (folder / "meadow.db").read_bytes() == before
    again.close()


@given(st.lists(st.tuples(st.integers(-(2**63), 2**63 - 1), st.integers(-128, 127), st.booleans()), max_size=30))
def test_columns_are_the_rows_in_their_order(rows: list[tuple[int, int, bool]]) -> None:
    with contextlib.closing(sqlite3.connect(":memory:")) as db:
        db.execute("CREATE TABLE t (a INTEGER, b INTEGER, c INTEGER)")
        db.executemany("INSERT INTO t VALUES (?, ?, ?)", rows)
        for order in ("rowid DESC", "b, rowid"):
            statement = f"SELECT a, b, c FROM t WHERE b < ? ORDER BY {order}"
            found = read_columns(db, statement, (100,), "qb?")
            assert [c.dtype.char for c in found] == ["l", "b", "?"]
            assert list(zip(*(c.tolist() for c in found), strict=True)) == db.execute(statement, (100,)).fetchall()
        db.execute("INSERT INTO t VALUES (NULL, 1, 1)")
        with pytest.raises(ValueError, match="NULL"):
            read_columns(db, "SELECT a, b, c FROM t", (), "qqq")


def test_a_newer_database_is_refused_and_not_touched(workspace: Workspace, folder: Path) -> None:
    with workspace.store.atomic() as db:
        db.execute("INSERT INTO migrations VALUES ('9999_later.sql')")
    workspace.close()
    before = (folder / "meadow.db").read_bytes()
    with pytest.raises(Newer, match="newer version"):
        Store(folder)
    assert (folder / "meadow.db").read_bytes() == before


def test_a_busy_database_is_waited_for(workspace: Workspace, folder: Path) -> None:
    """A lock that lasts: the sentence says so, a worker begins when it is over, and nothing crashes."""
    other = sqlite3.connect(folder / "meadow.db", isolation_level=None, check_same_thread=False)
    other.execute("BEGIN IMMEDIATE")
    waiting = Workspace(folder)
    waiting.store.patience = 0.2
    with pytest.raises(Busy, match="try again"), waiting.store.atomic():
        pass
    assert waiting.store.if_free(lambda db: None) is False and waiting.setting("name") == "Workspace"
    threading.Timer(1.0, other.execute, ("COMMIT",)).start()
    worker = Worker(waiting)
    assert worker.tick() in (True, False)
    worker.close()
    other.close()
    waiting.close()


def test_what_is_made_is_for_its_owner_alone(tmp_path: Path) -> None:
    folder = tmp_path / "new"
    made = Workspace(folder)
    made.close()
    assert folder.stat().st_mode & 0o077 == 0 and (folder / "meadow.db").stat().st_mode & 0o077 == 0
