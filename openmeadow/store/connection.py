"""One SQLite file in WAL: migrations, one path for writes, read-only connections for reads."""

from __future__ import annotations

import contextlib
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import wraps
from importlib import resources
from importlib.resources.abc import Traversable
from pathlib import Path
from typing import Concatenate, ParamSpec, TypeVar

from openmeadow.core.errors import Busy, CannotOpen, Damaged, Missing, Newer, NoSpace, Passing
from openmeadow.store import upgrade, upgrade_copy
from openmeadow.store.group_commit import GroupCommit
from openmeadow.store.write_queue import POLL, WriteQueue

FILE = "meadow.db"
CACHE_READING, CACHE_WRITING, CACHE_BRINGING_IN = -8_192, -24_576, -131_072  # KiB; one connection a thread reads
T = TypeVar("T")
P = ParamSpec("P")
NO_SPACE = (sqlite3.SQLITE_FULL, sqlite3.SQLITE_IOERR_WRITE, sqlite3.SQLITE_IOERR_SHMSIZE, sqlite3.SQLITE_IOERR_FSYNC)
LONGEST_WAL = 64 * 1024 * 1024  # octets that a log is cut back to
BUSY_SECONDS = 30
CHECKPOINT_WAITS = 500  # milliseconds for readers to finish


def _is_busy(e: sqlite3.Error) -> bool:
    return getattr(e, "sqlite_errorcode", 0) & 0xFF in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED)


def _begins(writer: sqlite3.Connection) -> bool:
    """Begin to write, where nobody else writes just now."""
    try:
        writer.execute("BEGIN IMMEDIATE")
    except sqlite3.OperationalError as e:
        if _is_busy(e):
            return False
        raise
    return True


def _busy(seconds: float = BUSY_SECONDS) -> Busy:
    return Busy(f"Something else has been writing for {seconds:g} s; try again in a moment.")


def _open(path: Path, *, read_only: bool) -> sqlite3.Connection:
    uri = f"{path.resolve().as_uri()}?mode={'ro' if read_only else 'rwc'}"
    try:
        db = sqlite3.connect(uri, uri=True, isolation_level=None, timeout=BUSY_SECONDS, check_same_thread=False)
        db.row_factory = sqlite3.Row
        db.execute("PRAGMA foreign_keys = ON")
        db.execute(f"PRAGMA cache_size = {CACHE_READING if read_only else CACHE_WRITING}")
        if not read_only:
            db.execute("PRAGMA journal_mode = WAL")
            db.execute("PRAGMA secure_delete = ON")  # what is erased is overwritten, not only unlinked
            # FULL: what is committed before DATA is on the disk before DATA, also where the power fails
            db.execute("PRAGMA synchronous = FULL")
            db.execute("PRAGMA wal_autocheckpoint = 20000")
            db.execute(f"PRAGMA journal_size_limit = {LONGEST_WAL}")
            db.execute("PRAGMA busy_timeout = 0")  # ``Store`` waits by itself, so that others see that somebody waits
    except sqlite3.Error as e:
        if _is_busy(e):
            raise _busy() from e
        raise CannotOpen(f"The workspace at {path.parent} cannot be opened: {e}.") from e
    return db


def _scripts() -> list[Traversable]:
    """The migrations, in their order."""
    folder = resources.files("openmeadow.store") / "migrations"
    return sorted((f for f in folder.iterdir() if f.name.endswith(".sql")), key=lambda f: f.name)


def _statements(script: str) -> Iterator[str]:
    """The statements of a script, one by one: executescript would commit first."""
    waiting = ""
    for line in script.splitlines(keepends=True):
        waiting += line
        if sqlite3.complete_statement(waiting):
            yield waiting
            waiting = ""


class Store:
    """The workspace's database. It is opened to read; the writing connection is opened by the first write, so that
    looking writes nothing. ``tracer`` is called with every statement, so that tests can count them."""

    def __init__(self, folder: Path, tracer: Callable[[str], None] | None = None) -> None:
        self.folder = folder
        self.path = folder / FILE
        self._local = threading.local()
        self._writing = threading.RLock()
        self._group = GroupCommit(self.atomic)
        self.queue = WriteQueue(folder)
        self.patience: float = BUSY_SECONDS  # with another process that writes
        self._tracer = tracer
        self._written: sqlite3.Connection | None = None
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        except OSError as e:
            raise Missing(f"The data folder {folder} cannot be made: {e.strerror}.") from e
        is_new = not self.path.exists()
        if is_new or self._lacks():
            if not is_new:
                self._copy_first()
            self._migrate()

    def _lacks(self) -> set[str]:
        """Migrations that this database has not had yet. One made by a newer version is refused."""
        try:
            done = {row["name"] for row in self.read().execute("SELECT name FROM migrations")}
        except sqlite3.OperationalError:
            done = set()  # a file without tables yet
        except sqlite3.DatabaseError as e:
            raise CannotOpen(f"The workspace at {self.folder} cannot be opened: {e}.") from e
        known = {script.name for script in _scripts()}
        if newer := sorted(done - known):
            raise Newer(
                f"The workspace at {self.folder} was used by a newer version of Open Meadow ({newer[-1]}) and cannot be "
                "opened by this one; install that version, or restore a backup from before."
            )
        return known - done

    def _copy_first(self) -> None:
        """What the upgrade is going to change is kept as it was; a file without tables is not."""
        with contextlib.suppress(sqlite3.OperationalError):
            last = self.read().execute("SELECT max(name) AS name FROM migrations").fetchone()["name"]
            if last is not None:
                upgrade_copy.make(self.read(), self.folder, last, self.path.stat().st_size)

    def _migrate(self) -> None:
        db = self.writer
        # one transaction for all scripts and their record; a table made anew is referred to all the while
        db.execute("PRAGMA foreign_keys = OFF")
        try:
            with self.atomic():
                db.execute("CREATE TABLE IF NOT EXISTS migrations (name TEXT PRIMARY KEY) WITHOUT ROWID")
                done = {row["name"] for row in db.execute("SELECT name FROM migrations")}
                for script in (s for s in _scripts() if s.name not in done):
                    for statement in _statements(script.read_text()):
                        db.execute(statement)
                    if (after := upgrade.AFTER.get(script.name)) is not None:
                        after(db, self.folder)
                    db.execute("INSERT INTO migrations VALUES (?)", (script.name,))
                if (wrong := db.execute("PRAGMA foreign_key_check").fetchone()) is not None:
                    raise Damaged(
                        f"The workspace at {self.folder} cannot be upgraded: a row of {wrong[0]} refers to nothing."
                    )
        finally:
            db.execute("PRAGMA foreign_keys = ON")

        from openmeadow.store.subscribers.consent import seal_the_unsealed  # heavy, and for what is upgraded alone

        with self.atomic() as inner:
            seal_the_unsealed(inner)
        self.analyse()

    def _mend(self) -> None:
        """A large import leaves an index out while it runs; one that was cut off leaves it missing."""
        found = self.writer.execute("SELECT 1 FROM sqlite_master WHERE name = 'events_of_subscriber'").fetchone()
        if found is None and self.writer.execute("SELECT 1 FROM sqlite_master WHERE name = 'events'").fetchone():
            with contextlib.suppress(sqlite3.OperationalError):  # somebody else writes: the next one to open does it
                self.writer.execute("CREATE INDEX IF NOT EXISTS events_of_subscriber ON events (subscriber)")

    def analyse(self) -> None:
        """Let the planner see how tables are filled (SQLite's ANALYZE, bounded); where somebody else writes, later."""
        with self._writing, contextlib.suppress(sqlite3.OperationalError):
            if not self.writer.in_transaction:
                self.writer.execute("PRAGMA analysis_limit = 1000")
                self.writer.execute("ANALYZE")

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
        """The writing connection, opened at the first use; statements on it belong inside ``atomic``."""
        with self._writing:
            if self._written is None:
                self._written = _open(self.path, read_only=False)
                with contextlib.suppress(OSError):  # another's folder stays as they made it
                    self.folder.chmod(0o700)
                    self.path.chmod(0o600)
                if self._tracer:
                    self._written.set_trace_callback(self._tracer)
                self._mend()
            return self._written

    def hurry(self) -> None:
        """For a workspace that is being made and can be made again: commits do not wait for the disk."""
        self.writer.execute("PRAGMA synchronous = OFF")
        self.writer.execute("PRAGMA secure_delete = OFF")

    @contextmanager
    def atomic(self) -> Iterator[sqlite3.Connection]:
        """One transaction on the one writing connection: all of it or nothing. Nests into the outer one."""
        self._take_turn()
        try:
            with self._transaction(self.patience) as db:
                yield db
        finally:
            self._writing.release()

    def together(self, do: Callable[[sqlite3.Connection], T]) -> T:
        """A small write in one transaction with those that other threads ask for meanwhile; what it gives, once that is
        on the disk. Not within ``atomic``."""
        return self._group.run(do)

    def _take_turn(self) -> None:
        if not self._writing.acquire(blocking=False):
            with self.queue.waiting():
                self._writing.acquire()

    @contextmanager
    def _transaction(self, patience: float) -> Iterator[sqlite3.Connection]:
        """Within the turn of this thread; others are waited for so many seconds."""
        writer = self.writer
        if writer.in_transaction:
            yield writer
            return
        self._begin(writer, patience)
        try:
            yield writer
            writer.execute("COMMIT")
        except BaseException as e:
            if writer.in_transaction:
                writer.execute("ROLLBACK")
            if isinstance(e, sqlite3.OperationalError):
                if e.sqlite_errorcode in NO_SPACE:
                    raise NoSpace("The disk is full. Nothing was changed. Free some space; work then resumes.") from e
                if _is_busy(e):
                    raise _busy() from e
            raise

    def _begin(self, writer: sqlite3.Connection, patience: float) -> None:
        """Begin to write; where another process writes, as soon as it has ended."""
        if _begins(writer):
            return
        if not patience:
            raise _busy(0)
        end = time.monotonic() + patience
        with self.queue.waiting():
            while not _begins(writer):
                if time.monotonic() > end:
                    raise _busy(patience)
                time.sleep(POLL)

    def if_free(self, do: Callable[[sqlite3.Connection], object]) -> bool:
        """A small note that may be left out: written where nobody else writes just now; whether it was."""
        if not self._writing.acquire(blocking=False):
            return False
        try:
            with self._transaction(0) as db:
                do(db)
        except Passing:
            return False
        finally:
            self._writing.release()
        return True

    @contextmanager
    def roomy(self) -> Iterator[None]:
        """More memory for writing while a lot is imported; others see that it is."""
        self.writer.execute(f"PRAGMA cache_size = {CACHE_BRINGING_IN}")
        try:
            with self.queue.importing():
                yield
        finally:
            self.writer.execute(f"PRAGMA cache_size = {CACHE_WRITING}")
            self.writer.execute("PRAGMA shrink_memory")

    def checkpoint(self) -> None:
        """Bring what stands in the log into the database and empty the log, where nobody reads it just now."""
        with self._writing, contextlib.suppress(sqlite3.Error):
            if self._written is not None and not self._written.in_transaction:
                self._written.execute(f"PRAGMA busy_timeout = {CHECKPOINT_WAITS}")
                self._written.execute("PRAGMA wal_checkpoint(TRUNCATE)")
                self._written.execute("PRAGMA busy_timeout = 0")

    def damage(self) -> str:
        """What is wrong with the database file, "" for nothing (SQLite's own check of its pages and indexes)."""
        try:
            found = [str(r[0]) for r in self.read().execute("PRAGMA quick_check(3)")]
        except sqlite3.DatabaseError as e:
            found = [str(e)]
        return "" if found == ["ok"] else "; ".join(found)

    def close(self) -> None:
        """Empty the log and close this thread's connections."""
        self.checkpoint()
        if self._written is not None:
            self._written.close()
            self._written = None
        db = getattr(self._local, "db", None)
        if db is not None:
            db.close()
            self._local.db = None


def roomily(f: Callable[Concatenate[Store, P], T]) -> Callable[Concatenate[Store, P], T]:
    """A function that brings a lot in, with more memory for writing."""

    @wraps(f)
    def within(store: Store, /, *arguments: P.args, **named: P.kwargs) -> T:
        with store.roomy():
            return f(store, *arguments, **named)

    return within
