"""Campaigns, their passes, batches, and the ledger: one row a person and pass."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import Any

from openmeadow.store.database import Many

WAITING, HANDING, HANDED, DEFERRED = "waiting", "handing over", "handed over", "deferred"
FAILED, IN_DOUBT, PASSED_OVER = "failed", "in doubt", "passed over"

_FIELDS = {
    "name",
    "kind",
    "asks",
    "held_why",
    "held_evidence",
    "guard_from",
    "purpose",
    "from_address",
    "from_name",
    "subject",
    "preview",
    "html",
    "plain",
    "plain_by_hand",
    "segments_in",
    "segments_out",
    "plan",
    "state",
    "sieve",
    "message",
    "started_at",
    "lists_in",
    "lists_out",
    "with_sequences",
    "blocks",
    "record_opens",
    "record_clicks",
    "version",
    "asked_at",
    "asked_by",
    "approved_at",
    "approved_by",
    "approved_as",
}


def add(db: sqlite3.Connection, name: str, seed: int, now: int) -> int:
    return int(
        db.execute("INSERT INTO campaigns (name, seed, made_at) VALUES (?, ?, ?)", (name, seed, now)).lastrowid or 0
    )


def update(db: sqlite3.Connection, id: int, values: dict[str, Any]) -> None:
    unknown = values.keys() - _FIELDS
    if unknown:
        raise ValueError(f"no such columns: {unknown}")
    if values:
        sets = ", ".join(f"{name} = ?" for name in values)
        db.execute(f"UPDATE campaigns SET {sets} WHERE id = ?", (*values.values(), id))


def one(db: sqlite3.Connection, id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute(
        "SELECT c.*, p.name AS purpose_name, a.address AS from_text, a.confirmed_at, d.name AS domain_name, "
        "d.id AS domain_id, d.state AS domain_state, d.selector, d.private_key FROM campaigns c "
        "LEFT JOIN purposes p ON p.id = c.purpose LEFT JOIN from_addresses a ON a.id = c.from_address "
        "LEFT JOIN domains d ON d.id = a.domain WHERE c.id = ?",
        (id,),
    ).fetchone()
    return row


def every(db: sqlite3.Connection) -> list[sqlite3.Row]:
    return db.execute(
        "SELECT c.id, c.name, c.kind, c.state, c.held_why, c.subject, c.made_at, c.started_at, p.name AS purpose_name, "
        "(SELECT count(*) FROM deliveries d JOIN passes q ON q.id = d.pass WHERE q.campaign = c.id "
        " AND q.kind = 'first') AS people FROM campaigns c LEFT JOIN purposes p ON p.id = c.purpose "
        "WHERE c.sequence IS NULL ORDER BY coalesce(c.started_at, c.made_at) DESC, c.id DESC"
    ).fetchall()


def people(db: sqlite3.Connection, campaign: int, side: str) -> list[int]:
    """Subscribers chosen one by one: ``side`` is in or out."""
    rows = db.execute("SELECT subscriber FROM campaign_people WHERE campaign = ? AND side = ?", (campaign, side))
    return [int(r["subscriber"]) for r in rows]


def chosen_people(db: sqlite3.Connection, campaign: int, limit: int) -> list[dict[str, Any]]:
    """Those chosen one by one, by address: {"id", "email", "side"}."""
    rows = db.execute(
        "SELECT s.id, s.email, p.side FROM campaign_people p JOIN subscribers s ON s.id = p.subscriber "
        "WHERE p.campaign = ? ORDER BY p.side, s.email LIMIT ?",
        (campaign, limit),
    )
    return [dict(r) for r in rows]


def choose_person(db: sqlite3.Connection, campaign: int, subscriber: int, side: str) -> None:
    """Take somebody in or leave them out; "" forgets them."""
    db.execute("DELETE FROM campaign_people WHERE campaign = ? AND subscriber = ?", (campaign, subscriber))
    if side:
        db.execute("INSERT INTO campaign_people VALUES (?, ?, ?)", (campaign, subscriber, side))


def set_people(db: sqlite3.Connection, campaign: int, side: str, ids: Sequence[int]) -> None:
    db.execute("DELETE FROM campaign_people WHERE campaign = ? AND side = ?", (campaign, side))
    db.executemany("INSERT OR IGNORE INTO campaign_people VALUES (?, ?, ?)", ((campaign, id, side) for id in ids))


def under_way_from(db: sqlite3.Connection, domain: int) -> list[sqlite3.Row]:
    """Plans under way that send from a domain."""
    return db.execute(
        "SELECT c.* FROM campaigns c JOIN from_addresses a ON a.id = c.from_address WHERE a.domain = ? "
        "AND c.state IN ('planned', 'sending')",
        (domain,),
    ).fetchall()


def waiting_plans(db: sqlite3.Connection) -> list[sqlite3.Row]:
    """Plans under way or held that have batches to come."""
    return db.execute(
        "SELECT DISTINCT c.id, c.name, c.state FROM campaigns c JOIN passes q ON q.campaign = c.id "
        "JOIN batches b ON b.pass = q.id WHERE c.state IN ('planned', 'sending', 'held') "
        "AND c.sequence IS NULL AND b.state IN ('waiting', 'going out')"
    ).fetchall()


def requests(db: sqlite3.Connection) -> list[sqlite3.Row]:
    """Consent requests that have been started."""
    return db.execute(
        "SELECT c.*, m.name AS message_name FROM campaigns c JOIN messages m ON m.id = c.message "
        "WHERE c.kind = 'consent request' ORDER BY c.started_at DESC"
    ).fetchall()


def remove(db: sqlite3.Connection, id: int) -> None:
    db.execute("DELETE FROM campaigns WHERE id = ? AND state = 'draft'", (id,))


def named(db: sqlite3.Connection, name: str) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM campaigns WHERE name = ?", (name,)).fetchone()
    return row


def add_message(db: sqlite3.Connection, name: str, purpose: int | None) -> int:
    """The message of a campaign; a name already taken by an earlier mailing gets a number."""
    fresh, n = name, 1
    while db.execute("SELECT 1 FROM messages WHERE name = ?", (fresh,)).fetchone():
        n += 1
        fresh = f"{name} ({n})"
    return int(db.execute("INSERT INTO messages (name, purpose) VALUES (?, ?)", (fresh, purpose)).lastrowid or 0)


def add_link(db: sqlite3.Connection, message: int, url: str, trap: bool = False) -> int:
    db.execute("INSERT OR IGNORE INTO links (message, url, trap) VALUES (?, ?, ?)", (message, url, trap))
    return int(db.execute("SELECT id FROM links WHERE message = ? AND url = ?", (message, url)).fetchone()["id"])


def links(db: sqlite3.Connection, message: int) -> list[sqlite3.Row]:
    return db.execute("SELECT * FROM links WHERE message = ? ORDER BY id", (message,)).fetchall()


def link(db: sqlite3.Connection, id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute("SELECT * FROM links WHERE id = ?", (id,)).fetchone()
    return row


def add_pass(db: sqlite3.Connection, campaign: int, kind: str, arms: str = "[]", held_share: float = 0.0) -> int:
    return int(
        db.execute(
            "INSERT INTO passes (campaign, kind, arms, held_share) VALUES (?, ?, ?, ?)",
            (campaign, kind, arms, held_share),
        ).lastrowid
        or 0
    )


def passes(db: sqlite3.Connection, campaign: int) -> list[sqlite3.Row]:
    return db.execute("SELECT * FROM passes WHERE campaign = ? ORDER BY id", (campaign,)).fetchall()


def add_batch(db: sqlite3.Connection, pass_id: int, n: int, due_at: int, people: int) -> int:
    return int(
        db.execute(
            "INSERT INTO batches (pass, n, due_at, people) VALUES (?, ?, ?, ?)", (pass_id, n, due_at, people)
        ).lastrowid
        or 0
    )


def batches(db: sqlite3.Connection, campaign: int) -> list[sqlite3.Row]:
    """All batches with how many of their deliveries stand in each state."""
    return db.execute(
        "SELECT b.*, q.kind, "
        "sum(d.state = 'handed over') AS handed, sum(d.state = 'waiting') AS waiting, "
        "sum(d.state = 'deferred') AS deferred, sum(d.state = 'failed') AS failed, "
        "sum(d.state = 'in doubt') AS in_doubt, sum(d.state = 'passed over') AS passed_over "
        "FROM batches b JOIN passes q ON q.id = b.pass LEFT JOIN deliveries d ON d.batch = b.id "
        "WHERE q.campaign = ? GROUP BY b.id ORDER BY q.kind, b.n",
        (campaign,),
    ).fetchall()


def batch(db: sqlite3.Connection, id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute(
        "SELECT b.*, q.campaign, q.kind, q.arms, q.held_share FROM batches b "
        "JOIN passes q ON q.id = b.pass WHERE b.id = ?",
        (id,),
    ).fetchone()
    return row


def set_batch(
    db: sqlite3.Connection, id: int, state: str, *, people: int | None = None, gone_at: int | None = None
) -> None:
    db.execute(
        "UPDATE batches SET state = ?, people = coalesce(?, people), gone_at = coalesce(?, gone_at) WHERE id = ?",
        (state, people, gone_at, id),
    )


def set_batches(db: sqlite3.Connection, campaign: int, from_states: Sequence[str], to: str) -> None:
    marks = ",".join("?" * len(from_states))
    db.execute(
        f"UPDATE batches SET state = ? WHERE state IN ({marks}) AND pass IN (SELECT id FROM passes WHERE campaign = ?)",
        (to, *from_states, campaign),
    )


def due_batches(db: sqlite3.Connection, now: int) -> list[sqlite3.Row]:
    return db.execute(
        "SELECT b.id FROM batches b JOIN passes q ON q.id = b.pass JOIN campaigns c ON c.id = q.campaign "
        "WHERE b.state IN ('waiting', 'going out') AND b.due_at <= ? AND c.state IN ('planned', 'sending') "
        "AND (c.sequence IS NULL OR EXISTS (SELECT 1 FROM deliveries d WHERE d.batch = b.id AND d.state = 'waiting')) "
        "ORDER BY c.sequence IS NULL, b.due_at, b.id",
        (now,),
    ).fetchall()


def going_out(db: sqlite3.Connection) -> int:
    """How many batches are on their way; a sequence's only while somebody waits in it."""
    row = db.execute(
        "SELECT count(*) AS n FROM batches b JOIN passes q ON q.id = b.pass JOIN campaigns c ON c.id = q.campaign "
        "WHERE b.state = 'going out' AND (c.sequence IS NULL OR (c.state = 'sending' AND EXISTS "
        "(SELECT 1 FROM deliveries d WHERE d.batch = b.id AND d.state = 'waiting')))"
    ).fetchone()
    return int(row["n"])


def asked_for_eyes(db: sqlite3.Connection) -> list[sqlite3.Row]:
    """Drafts that somebody asked another to look at and that nobody has approved."""
    return db.execute(
        "SELECT id, name, asked_by, sequence FROM campaigns WHERE state = 'draft' AND asked_by IS NOT NULL AND asked_by <> '' "
        "AND approved_at IS NULL ORDER BY asked_at"
    ).fetchall()


def next_due(db: sqlite3.Connection) -> int | None:
    """The moment of the next batch or second try, over campaigns that are not held."""
    row = db.execute(
        "SELECT min(at) AS at FROM (SELECT min(b.due_at) AS at FROM batches b JOIN passes q ON q.id = b.pass "
        "JOIN campaigns c ON c.id = q.campaign WHERE b.state IN ('waiting', 'going out') AND c.state IN "
        "('planned', 'sending') AND c.sequence IS NULL UNION ALL SELECT min(next_at) FROM deliveries WHERE state = 'deferred')"
    ).fetchone()
    return None if row["at"] is None else int(row["at"])


def coming(db: sqlite3.Connection, since: int, until: int) -> list[sqlite3.Row]:
    return db.execute(
        "SELECT b.*, q.kind, c.id AS campaign, c.name, c.state AS campaign_state, "
        "(SELECT count(*) FROM deliveries d WHERE d.batch = b.id AND d.state = 'handed over') AS handed "
        "FROM batches b JOIN passes q ON q.id = b.pass JOIN campaigns c ON c.id = q.campaign "
        "WHERE c.sequence IS NULL AND (b.due_at BETWEEN ? AND ? OR b.state = 'going out') AND b.state <> 'stopped' "
        "ORDER BY b.due_at",
        (since, until),
    ).fetchall()


def add_deliveries(db: sqlite3.Connection, rows: Many[tuple[int, int, int, int, int, str, str | None]]) -> None:
    """(pass, batch, subscriber, arm, band, state, reason); a person already in the pass stays as they are."""
    db.executemany(
        "INSERT OR IGNORE INTO deliveries (pass, batch, subscriber, arm, band, state, reason) "
        "VALUES (?, ?, ?, ?, ?, ?, ?)",
        rows,
    )


def state_of(db: sqlite3.Connection, id: int) -> str:
    row = db.execute("SELECT state FROM campaigns WHERE id = ?", (id,)).fetchone()
    return str(row["state"]) if row else "stopped"


def waiting_of(db: sqlite3.Connection, batch_id: int, limit: int, after: int = 0) -> list[sqlite3.Row]:
    """Who waits in a batch, by subscriber, from behind one of them on."""
    return db.execute(
        "SELECT d.*, s.email, s.name, s.fields FROM deliveries d JOIN subscribers s "
        "ON s.id = d.subscriber WHERE d.batch = ? AND d.state = 'waiting' AND d.subscriber > ? "
        "ORDER BY d.subscriber LIMIT ?",
        (batch_id, after, limit),
    ).fetchall()


def people_of_batch(db: sqlite3.Connection, batch_id: int) -> list[sqlite3.Row]:
    """(subscriber, state) of everybody in a batch."""
    return db.execute(
        "SELECT subscriber, state FROM deliveries WHERE batch = ? ORDER BY subscriber", (batch_id,)
    ).fetchall()


def again_due(db: sqlite3.Connection, now: int) -> list[sqlite3.Row]:
    """Batches with deferred deliveries whose next try has come."""
    return db.execute(
        "SELECT DISTINCT batch FROM deliveries WHERE state = 'deferred' AND next_at <= ?", (now,)
    ).fetchall()


def requeue(db: sqlite3.Connection, batch_id: int, now: int) -> None:
    db.execute(
        "UPDATE deliveries SET state = 'waiting' WHERE batch = ? AND state = 'deferred' AND next_at <= ?", (batch_id, now)
    )


def mark(
    db: sqlite3.Connection, id: int, state: str, now: int, reason: str | None = None, next_at: int | None = None
) -> None:
    db.execute(
        "UPDATE deliveries SET state = ?, changed_at = ?, reason = ?, next_at = ?, "
        "attempts = attempts + (?1 = 'handing over') WHERE id = ?",
        (state, now, reason, next_at, id),
    )


def begin_hand_over(db: sqlite3.Connection, id: int, version: int, now: int) -> None:
    """Written before DATA, with what is said."""
    mark(db, id, HANDING, now)
    db.execute("UPDATE deliveries SET version = ? WHERE id = ?", (version, id))


def set_versions(db: sqlite3.Connection, rows: Many[tuple[int, int, int]]) -> None:
    """(version, pass, subscriber): what was drawn by lot before anything goes out."""
    db.executemany("UPDATE deliveries SET version = ? WHERE pass = ? AND subscriber = ?", rows)


def state_counts(db: sqlite3.Connection, campaign: int) -> dict[str, int]:
    """How many deliveries of a campaign stand in each state."""
    rows = db.execute(
        "SELECT state, count(*) AS n FROM deliveries WHERE pass IN (SELECT id FROM passes WHERE campaign = ?) GROUP BY state",
        (campaign,),
    )
    return {r["state"]: r["n"] for r in rows}


def handed_by_provider(db: sqlite3.Connection, since: int) -> dict[int, int]:
    """How many each provider was handed since a moment, over all plans."""
    rows = db.execute(
        "SELECT s.provider, count(*) AS n FROM deliveries d JOIN subscribers s ON s.id = d.subscriber "
        "WHERE d.state = 'handed over' AND d.changed_at >= ?1 AND d.pass IN (SELECT DISTINCT b.pass FROM batches b "
        "WHERE b.state IN ('waiting', 'going out') OR coalesce(b.gone_at, ?1) >= ?1) GROUP BY 1",
        (since,),
    )
    return {r["provider"]: r["n"] for r in rows}


def resent_often(db: sqlite3.Connection, since: int, most: int) -> set[int]:
    """Who got that many resends or more since a moment, over all campaigns."""
    rows = db.execute(
        "SELECT d.subscriber FROM deliveries d JOIN passes q ON q.id = d.pass WHERE q.kind <> 'first' "
        "AND d.state = 'handed over' AND d.changed_at > ? GROUP BY 1 HAVING count(*) >= ?",
        (since, most),
    )
    return {int(r["subscriber"]) for r in rows}


def first_moment(db: sqlite3.Connection, campaign: int) -> int:
    """When the first batch of a campaign goes or went out."""
    row = db.execute(
        "SELECT min(b.due_at) AS at FROM batches b JOIN passes q ON q.id = b.pass WHERE q.campaign = ? AND q.kind = 'first'",
        (campaign,),
    ).fetchone()
    return int(row["at"] or 0)


def move_batch(db: sqlite3.Connection, id: int, due_at: int) -> None:
    db.execute("UPDATE batches SET due_at = ? WHERE id = ? AND state = 'waiting'", (due_at, id))


def caught_between(db: sqlite3.Connection, now: int) -> int:
    """Rows a dead worker left between DATA and its result are in doubt: they may or may not have arrived."""
    return db.execute(
        "UPDATE deliveries SET state = 'in doubt', changed_at = ?, reason = 'the worker stopped between "
        "handing over and its answer' WHERE state = 'handing over'",
        (now,),
    ).rowcount


def delivery(db: sqlite3.Connection, id: int) -> sqlite3.Row | None:
    row: sqlite3.Row | None = db.execute(
        "SELECT d.*, q.campaign, q.kind, q.arms, c.message, c.purpose, c.name AS campaign_name, "
        "c.kind AS campaign_kind, c.asks "
        "FROM deliveries d "
        "JOIN passes q ON q.id = d.pass JOIN campaigns c ON c.id = q.campaign WHERE d.id = ?",
        (id,),
    ).fetchone()
    return row


def of_campaign(db: sqlite3.Connection, campaign: int, kind: str) -> list[sqlite3.Row]:
    return db.execute(
        "SELECT d.*, b.n AS batch_n, b.due_at, b.gone_at FROM deliveries d JOIN passes q ON q.id = d.pass "
        "JOIN batches b ON b.id = d.batch WHERE q.campaign = ? AND q.kind = ?",
        (campaign, kind),
    ).fetchall()


def of_person(db: sqlite3.Connection, campaign: int, subscriber: int) -> list[str]:
    """What became of one person's deliveries of a campaign, in words."""
    rows = db.execute(
        "SELECT q.kind, d.state, d.reason FROM deliveries d JOIN passes q ON q.id = d.pass "
        "WHERE q.campaign = ? AND d.subscriber = ? ORDER BY q.id",
        (campaign, subscriber),
    )
    return [f"{r['kind']}: {r['state']}" + (f", {r['reason']}" if r["reason"] else "") for r in rows]


def stop_waiting(db: sqlite3.Connection, campaign: int, now: int) -> int:
    return db.execute(
        "UPDATE deliveries SET state = 'passed over', reason = 'the plan was stopped', changed_at = ? "
        "WHERE state IN ('waiting', 'deferred') AND pass IN (SELECT id FROM passes WHERE campaign = ?)",
        (now, campaign),
    ).rowcount


def in_doubt(db: sqlite3.Connection) -> list[sqlite3.Row]:
    return db.execute(
        "SELECT c.id, c.name, count(*) AS people FROM deliveries d JOIN passes q ON q.id = d.pass "
        "JOIN campaigns c ON c.id = q.campaign WHERE d.state = 'in doubt' GROUP BY c.id"
    ).fetchall()


def settle_doubt(db: sqlite3.Connection, campaign: int, arrived: bool, now: int) -> list[sqlite3.Row]:
    """What was in doubt is called handed over, or goes back to waiting; the rows that changed."""
    return db.execute(
        "UPDATE deliveries SET state = ?, reason = 'settled by hand', changed_at = ? WHERE state = 'in doubt' AND "
        "pass IN (SELECT id FROM passes WHERE campaign = ?) RETURNING id, subscriber, batch",
        (HANDED if arrived else WAITING, now, campaign),
    ).fetchall()


def unsettled(db: sqlite3.Connection, batch_id: int) -> int:
    return int(
        db.execute(
            "SELECT count(*) AS n FROM deliveries WHERE batch = ? AND state IN ('waiting', 'handing over')", (batch_id,)
        ).fetchone()["n"]
    )


def open_batches(db: sqlite3.Connection, campaign: int) -> int:
    return int(
        db.execute(
            "SELECT count(*) AS n FROM batches b JOIN passes q ON q.id = b.pass WHERE q.campaign = ? "
            "AND b.state IN ('waiting', 'going out', 'held')",
            (campaign,),
        ).fetchone()["n"]
    )


def handing_over(db: sqlite3.Connection, subscriber: int) -> bool:
    """Whether a message to the person is between the two entries of its hand-over."""
    return bool(
        db.execute(
            "SELECT 1 FROM deliveries WHERE subscriber = ? AND state IN ('handing over', 'in doubt') LIMIT 1",
            (subscriber,),
        ).fetchone()
    )


def clicked_link(db: sqlite3.Connection, link: int, until: int) -> list[int]:
    """Who clicked a link, people or machines."""
    rows = db.execute("SELECT DISTINCT subscriber FROM events WHERE link = ? AND kind = 6 AND at <= ?", (link, until))
    return [int(r["subscriber"]) for r in rows]


def happened(db: sqlite3.Connection, message: int, until: int) -> dict[int, int]:
    """How many people complained, unsubscribed or bounced after a message, by kind of event."""
    rows = db.execute(
        "SELECT kind, count(DISTINCT subscriber) AS n FROM events WHERE message = ? AND (kind = 4 OR kind >= 9) "
        "AND at <= ? GROUP BY kind",
        (message, until),
    )
    return {r["kind"]: r["n"] for r in rows}


def message_names(db: sqlite3.Connection) -> dict[int, tuple[str, int | None]]:
    """Every message's name and purpose."""
    return {r["id"]: (r["name"], r["purpose"]) for r in db.execute("SELECT id, name, purpose FROM messages")}


def started(db: sqlite3.Connection) -> list[sqlite3.Row]:
    """Campaigns that have started, with whether their resend has gone out to anybody; the latest first."""
    return db.execute(
        "SELECT c.id, c.name, c.subject, c.message, EXISTS (SELECT 1 FROM passes q JOIN deliveries d ON d.pass = q.id "
        "WHERE q.campaign = c.id AND q.kind = 'resend' AND d.state = 'handed over') AS resent "
        "FROM campaigns c WHERE c.message IS NOT NULL ORDER BY c.started_at DESC LIMIT 200"
    ).fetchall()
