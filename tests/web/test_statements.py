"""No page, tick or send reads all events or all deliveries: the plan of every statement they run is looked at."""

from __future__ import annotations

import re
import sqlite3
from pathlib import Path

from openmeadow.core.moments import DAY, HOUR
from openmeadow.services import accounts
from openmeadow.services.campaigns import campaigns, dispatcher
from openmeadow.services.subscribers import import_events, sunset, undo
from openmeadow.store import settings
from openmeadow.web.app import make_app
from openmeadow.web.describe import description
from openmeadow.worker.loop import Worker
from tests.conftest import NOW, set_clock
from tests.services.mailing import mailing

PASSWORD = "harbour nights 41"
LARGE = ("events", "deliveries", "consent_entries")
ROWS_OF_ONE = {  # subscriber, send or batch
    "events_of_subscriber": 20,
    "deliveries_of_subscriber": 20,
    "deliveries_changed": 14_000_000,  # of one large send
    "deliveries_once": 14_000_000,
    "deliveries_of_batch": 500_000,
}
NEARLY_ALL = {"deliveries_changed", "events_by_outside_id"}  # partial indexes that hold most rows of their table
# what reads everything on purpose: how many there are before an import, the columns when a process opens, the chain when
# it is verified, exports
ON_PURPOSE = re.compile(
    r"^SELECT (1 FROM events LIMIT 1$|count\(\*\) AS n FROM subscribers$"
    r"|id, at, kind, subscriber, message, link, agent, value FROM events WHERE 1"
    r"|c\.\*, c\.list AS list_id|\* FROM consent_entries|e\.\*, s\.email)|FROM consent_entries .*ORDER BY (id|c\.id)"
)


def as_if_large(db: sqlite3.Connection) -> None:
    """Let the planner think that a million people have twenty events each."""
    db.execute("ANALYZE")
    for table, rows in {"events": 20_000_000, "deliveries": 14_000_000, "subscribers": 1_000_000}.items():
        for r in db.execute("SELECT rowid AS id, idx, stat FROM sqlite_stat1 WHERE tbl = ?", (table,)).fetchall():
            each = ["1"] * r["stat"].count(" ")
            each[0] = str(ROWS_OF_ONE.get(r["idx"], 1))
            db.execute("UPDATE sqlite_stat1 SET stat = ? WHERE rowid = ?", (" ".join([str(rows), *each]), r["id"]))
    db.execute("ANALYZE sqlite_schema")


def as_if_new(db: sqlite3.Connection) -> None:
    """Let the planner know nothing, as after a first import."""
    db.execute("DELETE FROM sqlite_stat1")
    db.execute("ANALYZE sqlite_schema")


def scans(db: sqlite3.Connection, sql: str, large: tuple[str, ...]) -> list[str]:
    """The large tables that a statement reads from end to end, also by an index."""
    found = []
    alias = {name: table for table in large for name in (table, *re.findall(rf"\b{table} (?:AS )?(\w+)\b", sql))}
    partial = db.execute("SELECT name FROM sqlite_master WHERE type = 'index' AND sql LIKE '% WHERE %'")
    small = {r["name"] for r in partial} - NEARLY_ALL
    for row in db.execute(f"EXPLAIN QUERY PLAN {sql}").fetchall():
        scanned = re.match(r"SCAN (\w+)", row["detail"])
        by_index = re.match(r"SEARCH (\w+) USING (?:COVERING )?INDEX \w+$", row["detail"])  # the least or the largest
        if scanned and scanned[1] in alias and not any(f" INDEX {name}" in row["detail"] for name in small):
            found.append(f"{row['detail']}: {sql}")
        skips = re.match(r"SEARCH (\w+) USING .*\(ANY\(", row["detail"])  # each value of its first column in turn
        if skips and skips[1] in alias:
            found.append(f"{row['detail']}: {sql}")
        if by_index and by_index[1] in alias and "WHERE" in sql[sql.rfind("min(") : sql.rfind("min(") + 60]:
            found.append(f"{row['detail']}: {sql}")
    return found


def test_no_page_tick_or_send_reads_a_large_table_whole(folder: Path) -> None:
    with mailing(folder, 60) as m:
        accounts.add(m.workspace, "ann", "analyst", PASSWORD)
        read: dict[str, None] = {}
        written: dict[str, None] = {}
        campaigns.write(
            m.workspace, m.campaign, {"plan": {"pilot_share": 0.25, "batches": 2, "wait": DAY, "holdout_share": 0.2}}
        )
        connections = {m.workspace.store.read(): read, m.workspace.store.writer: written}
        for db, said in connections.items():
            as_if_large(m.workspace.store.writer)
            db.set_trace_callback(said.setdefault)  # type: ignore[arg-type]
        campaigns.start(m.workspace, m.campaign, "ann")
        worker = Worker(m.workspace)
        for hours in (0, 5, 30, 60):
            set_clock(m.workspace, NOW + hours * HOUR)
            dispatcher.send_due(m.workspace, m.tokens)
            worker.tick()
        with make_app(m.workspace).test_client() as client:
            assert client.post("/api/sign-in", json={"name": "ann", "password": PASSWORD}).status_code == 200
            for path, methods in description()["paths"].items():  # type: ignore[attr-defined]
                if "get" in methods and "export" not in path and "record.csv" not in path:
                    client.get(re.sub("{.*?}", "1", path))
        sunset.due(m.workspace, m.workspace.view())
        log = folder / "log.csv"
        log.write_text("at,event,email,message\n2026-03-01T10:00:00Z,sent,p1@postern.example,Letter\n")
        import_events.run(m.workspace.store, log, m.workspace.now(), "ann")
        undo.undo(m.workspace, settings.activity(m.workspace.store.read(), 1)[0].id, "ann")
        worker.close()
        for db in connections:
            db.set_trace_callback(None)
        db, begins = m.workspace.store.writer, ("SELECT", "WITH", "UPDATE", "DELETE", "INSERT")
        asked = [*((s, LARGE) for s in read), *((s, (*LARGE, "subscribers")) for s in written)]
        asked = [(s, large) for s, large in asked if s.lstrip().upper().startswith(begins)]
        assert len(asked) > 200
        for look in as_if_large, as_if_new:
            look(db)
            wrong = [w for s, large in asked if not ON_PURPOSE.search(s) for w in scans(db, s, large)]
            assert not wrong, "\n".join((look.__name__, *wrong))
