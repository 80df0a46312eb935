"""One SQLite file in WAL: migrations, one path for writes, read-only connections for reads."""

from __future__ import annotations

import contextlib
import sqlite3
import threading
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from functools import wraps
from importlib import resources
from itertools import islice
from pathlib import Path
from typing import Concatenate, ParamSpec, TypeVar

from openmeadow.core.errors import Busy, Missing, NoSpace

FILE = "meadow.db"
CACHE_READING, CACHE_WRITING, CACHE_BRINGING_IN = -8_192, -24_576, -131_072  # KiB; one connection a thread reads
T = TypeVar("T")
P = ParamSpec("P")
NO_SPACE = (sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR_WRITE, sqlite3.SQLITE_IOERR_SHMSIZE, sqlite3.SQLITE_IOERR_FSYNC)
LONGEST_WAL = 64 * 1024 * 1024  # octets that a log is cut back to
BUSY_SECONDS = 30
Many = Iterator[T] | Collection[T]  # whatever can be gone through once


def _open(path: Path, *, read_only: bool) -> sqlite3.Connection:
    uri = f"{path.resolve().as_uri()}?mode={'ro' if read_only else 'rwc'}"
    try:
        db = sqlite3.connect(uri, uri=True, isolation_level=None, timeout=BUSY_SECONDS, check_same_thread=False)
        db.row_factory = sqlite3.Row
        db.execute("PRAGMA foreign_keys = ON")
        db.execute(f"PRAGMA cache_size = {CACHE_READING if read_only else CACHE_WRITING}")
        if not read_only:
            db.execute("PRAGMA journal_mode = WAL")
            # FULL: what is committed before DATA is on the disk before DATA, also where the power fails
            db.execute("PRAGMA synchronous = FULL")
            db.execute("PRAGMA wal_autocheckpoint = 20000")
            db.execute(f"PRAGMA journal_size_limit = {LONGEST_WAL}")
    except sqlite3.Error as e:
        raise Missing(f"The workspace at {path.parent} cannot be opened: {e}.") from e
    return db


class Store:
    """The workspace's database. ``tracer`` is called with every statement, so that tests can count them."""

    def __init__(self, folder: Path, tracer: Callable[[str], None] | None = None) -> None:
        self.folder = folder
        self.path = folder / FILE
        self._local = threading.local()
        self._writing = threading.RLock()
        self._tracer = tracer
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as e:
            raise Missing(f"The data folder {folder} cannot be made: {e.strerror}.") from e
        self._writer = _open(self.path, read_only=False)
        if tracer:
            self._writer.set_trace_callback(tracer)
        self._migrate()

    def _migrate(self) -> None:
        db = self._writer
        db.execute("CREATE TABLE IF NOT EXISTS migrations (name TEXT PRIMARY KEY) WITHOUT ROWID")
        done = {row["name"] for row in db.execute("SELECT name FROM migrations")}
        folder = resources.files("openmeadow.store") / "schema"
        for script in sorted((f for f in folder.iterdir() if f.name.endswith(".sql")), key=lambda f: f.name):
            if script.name not in done:
                # one transaction for the script and its record; a table made anew is referred to all the while
                db.execute("PRAGMA foreign_keys = OFF")
                db.executescript(
                    f"BEGIN IMMEDIATE;\n{script.read_text()}\n"
                    f"INSERT OR IGNORE INTO migrations VALUES ('{script.name}');\nCOMMIT;"
                )
                db.execute("PRAGMA foreign_keys = ON")

        from openmeadow.store.consent import has_unsealed, seal_the_unsealed

        # a large import leaves this index out while it runs; one that was cut off leaves it missing
        missing = db.execute("SELECT 1 FROM sqlite_master WHERE name = 'events_of_subscriber'").fetchone() is None
        if missing or has_unsealed(db):
            with self.atomic() as inner:
                inner.execute("CREATE INDEX IF NOT EXISTS events_of_subscriber ON events (subscriber)")
                seal_the_unsealed(inner)

    def read(self) -> sqlite3.Connection:
        """This thread's read-only connection."""
        db: sqlite3.Connection | None = getattr(self._local, "db", None)
        if db is None:
            db = self._local.db = _open(self.path, read_only=True)
            if self._tracer:
                db.set_trace_callback(self._tracer)
        return db

    @contextmanager
    def one_moment(self) -> Iterator[sqlite3.Connection]:
        """This thread's read-only connection, all of whose reads are of one moment."""
        db = self.read()
        db.execute("BEGIN")
        try:
            db.execute("SELECT 1 FROM settings LIMIT 1").fetchone()
            yield db
        finally:
            db.execute("COMMIT")

    @property
    def writer(self) -> sqlite3.Connection:
        """The writing connection; statements on it belong inside ``atomic``."""
        return self._writer

    @contextmanager
    def atomic(self) -> Iterator[sqlite3.Connection]:
        """One transaction on the one writing connection: all of it or nothing. Nests into the outer one."""
        with self._writing:
            if self._writer.in_transaction:
                yield self._writer
                return
            try:
                self._writer.execute("BEGIN IMMEDIATE")
            except sqlite3.OperationalError as e:
                if e.sqlite_errorcode & 0xFF == sqlite3.SQLITE_BUSY:
                    raise Busy(f"Something else has been writing for {BUSY_SECONDS} s; try again in a moment.") from e
                raise
            try:
                yield self._writer
                self._writer.execute("COMMIT")
            except BaseException as e:
                if self._writer.in_transaction:
                    self._writer.execute("ROLLBACK")
                if isinstance(e, sqlite3.OperationalError) and e.sqlite_errorcode in NO_SPACE:
                    raise NoSpace("The disk is full. Nothing was changed; make room on it, and it goes on.") from e
                raise

    @contextmanager
    def roomy(self) -> Iterator[None]:
        """More memory for writing while a lot is brought in."""
        self._writer.execute(f"PRAGMA cache_size = {CACHE_BRINGING_IN}")
        try:
            yield
        finally:
            self._writer.execute(f"PRAGMA cache_size = {CACHE_WRITING}")
            self._writer.execute("PRAGMA shrink_memory")

    def checkpoint(self) -> None:
        """Bring what stands in the log into the database and empty the log, where nobody reads it just now."""
        with self._writing, contextlib.suppress(sqlite3.Error):
            if not self._writer.in_transaction:
                self._writer.execute("PRAGMA wal_checkpoint(TRUNCATE)")

    def damage(self) -> str:
        """What is wrong with the database file, "" for nothing (SQLite's own check of its pages and indexes)."""
        try:
            found = [str(r[0]) for r in self.read().execute("PRAGMA quick_check(3)")]
        except sqlite3.DatabaseError as e:
            found = [str(e)]
        return "" if found == ["ok"] else "; ".join(found)

    def close(self) -> None:
        self.checkpoint()
        self._writer.close()
        db = getattr(self._local, "db", None)
        if db is not None:
            db.close()
            self._local.db = None


AT_ONCE = 200  # rows of one statement: what a statement costs to begin is paid once for all of them


def insert_many(db: sqlite3.Connection, head: str, rows: Many[Sequence[object]], width: int) -> None:
    """``head`` is INSERT … INTO table (columns); the values of many rows follow, each of ``width`` columns."""
    one = f"({', '.join('?' * width)})"
    whole = f"{head} VALUES {', '.join([one] * AT_ONCE)}"
    waiting = iter(rows)
    while some := list(islice(waiting, AT_ONCE)):
        sql = whole if len(some) == AT_ONCE else f"{head} VALUES {', '.join([one] * len(some))}"
        db.execute(sql, [value for row in some for value in row])


def roomily(f: Callable[Concatenate[Store, P], T]) -> Callable[Concatenate[Store, P], T]:
    """A function that brings a lot in, with more memory for writing."""

    @wraps(f)
    def within(store: Store, /, *arguments: P.args, **named: P.kwargs) -> T:
        with store.roomy():
            return f(store, *arguments, **named)

    return within
