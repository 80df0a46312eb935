"""Campaigns as they are written, their links, and who is chosen for them."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from openmeadow.core.ids import CampaignId, MessageId, PurposeId, SequenceId, SubscriberId
from openmeadow.core.names import free_name
from openmeadow.core.states import BatchState, CampaignKind, CampaignState, DeliveryState, SendKind
from openmeadow.store.campaigns.delivery_records import ChosenPerson
from openmeadow.store.campaigns.records import (
    ApprovalWanted,
    CalledMessage,
    Campaign,
    CampaignLine,
    CampaignText,
    ConsentRequest,
    ExternalPlan,
    Link,
    LinkOfMessage,
    StartedCampaign,
    WaitingPlan,
)
from openmeadow.store.rows import Values

_FIELDS = frozenset(
    (
        "name kind asks paused_why paused_evidence guard_from purpose from_address from_name subject preview html plain "
        "plain_edited segments_in segments_out plan state exclusions message started_at lists_in lists_out with_sequences "
        "blocks track_opens track_clicks version asked_at asked_by approved_at approved_by approved_as "
        "external seed reply_to archived_at"
    ).split()
)

_WHOLE = (
    "SELECT c.*, p.name AS purpose_name, a.address AS from_text, "
    "CASE WHEN a.removed_at IS NULL AND d.removed_at IS NULL THEN a.confirmed_at END AS confirmed_at, d.name AS domain_name, "
    "d.id AS domain_id, d.state AS domain_state, d.selector, d.private_key FROM campaigns c "
    "LEFT JOIN purposes p ON p.id = c.purpose LEFT JOIN from_addresses a ON a.id = c.from_address "
    "LEFT JOIN domains d ON d.id = a.domain"
)


def add(db: sqlite3.Connection, name: str, seed: int, now: int) -> CampaignId:
    """Begin a draft; its id. ``seed`` decides every draw of it."""
    return CampaignId(
        db.execute("INSERT INTO campaigns (name, seed, made_at) VALUES (?, ?, ?)", (name, seed, now)).lastrowid or 0
    )


def update(db: sqlite3.Connection, row_id: int, values: Values) -> None:
    """Write columns of a campaign; ValueError for a column that does not exist."""
    unknown = values.keys() - _FIELDS
    if unknown:
        raise ValueError(f"no such columns: {unknown}")
    if values:
        sets = ", ".join(f"{name} = ?" for name in values)
        db.execute(f"UPDATE campaigns SET {sets} WHERE id = ?", (*values.values(), row_id))


def update_in(db: sqlite3.Connection, row_id: int, states: Sequence[str], values: Values) -> bool:
    """The same, where the campaign is in one of some states: what somebody has decided meanwhile stands. Whether it was."""
    marks = ", ".join("?" * len(states))
    found = db.execute(f"SELECT 1 FROM campaigns WHERE id = ? AND state IN ({marks})", (row_id, *states)).fetchone()
    if found is not None:
        update(db, row_id, values)
    return found is not None


def one(db: sqlite3.Connection, row_id: int) -> Campaign | None:
    """A campaign, or None."""
    return Campaign.read(db.execute(f"{_WHOLE} WHERE c.id = ?", (row_id,)))


def of_sequence(db: sqlite3.Connection, sequence: SequenceId) -> list[Campaign]:
    """The campaigns behind a sequence's message steps."""
    return Campaign.read_all(db.execute(f"{_WHOLE} WHERE c.sequence = ? ORDER BY c.step", (sequence,)))


def every(db: sqlite3.Connection) -> list[CampaignLine]:
    """All campaigns for the list, the latest first."""
    return CampaignLine.read_all(
        db.execute(
            "SELECT c.id, c.name, c.kind, c.state, c.paused_why, c.subject, c.made_at, c.started_at, "
            "c.archived_at, c.message, "
            "p.name AS purpose_name, (SELECT count(*) FROM deliveries d JOIN sends q ON q.id = d.send WHERE q.campaign = c.id "
            " AND q.kind = ?) AS people FROM campaigns c LEFT JOIN purposes p ON p.id = c.purpose "
            "WHERE c.sequence IS NULL ORDER BY coalesce(c.started_at, c.made_at) DESC, c.id DESC",
            (SendKind.FIRST,),
        )
    )


def begun_since(db: sqlite3.Connection, at: int) -> list[CampaignId]:
    """Campaigns under way, and those started since a moment."""
    rows = db.execute(
        "SELECT id FROM campaigns WHERE message IS NOT NULL AND sequence IS NULL AND (state IN (?, ?) OR started_at >= ?)",
        (CampaignState.SCHEDULED, CampaignState.SENDING, at),
    )
    return [CampaignId(r["id"]) for r in rows]


def people(db: sqlite3.Connection, campaign: CampaignId, side: str) -> list[int]:
    """Subscribers chosen one by one: ``side`` is in or out."""
    rows = db.execute("SELECT subscriber FROM campaign_people WHERE campaign = ? AND side = ?", (campaign, side))
    return [int(r["subscriber"]) for r in rows]


def chosen_people(db: sqlite3.Connection, campaign: CampaignId, limit: int) -> list[ChosenPerson]:
    """Those chosen one by one, by address."""
    rows = db.execute(
        "SELECT s.id, s.email, p.side FROM campaign_people p JOIN subscribers s ON s.id = p.subscriber "
        "WHERE p.campaign = ? ORDER BY p.side, s.email LIMIT ?",
        (campaign, limit),
    )
    return ChosenPerson.read_all(rows)


def choose_person(db: sqlite3.Connection, campaign: CampaignId, subscriber: SubscriberId, side: str) -> None:
    """Take somebody in or leave them out; "" forgets them."""
    db.execute("DELETE FROM campaign_people WHERE campaign = ? AND subscriber = ?", (campaign, subscriber))
    if side:
        db.execute("INSERT INTO campaign_people VALUES (?, ?, ?)", (campaign, subscriber, side))


def set_people(db: sqlite3.Connection, campaign: CampaignId, side: str, ids: Sequence[int]) -> None:
    """Choose single people, in or out, instead of those chosen before."""
    db.execute("DELETE FROM campaign_people WHERE campaign = ? AND side = ?", (campaign, side))
    db.executemany("INSERT OR IGNORE INTO campaign_people VALUES (?, ?, ?)", ((campaign, row_id, side) for row_id in ids))


def under_way_from(db: sqlite3.Connection, domain: int) -> list[Campaign]:
    """Plans under way that send from a domain."""
    return Campaign.read_all(
        db.execute(
            f"{_WHOLE} WHERE a.domain = ? AND c.state IN (?, ?)", (domain, CampaignState.SCHEDULED, CampaignState.SENDING)
        )
    )


def waiting_plans(db: sqlite3.Connection) -> list[WaitingPlan]:
    """Plans under way or held that have batches to come."""
    return WaitingPlan.read_all(
        db.execute(
            "SELECT DISTINCT c.id, c.name, c.state FROM campaigns c JOIN sends q ON q.campaign = c.id "
            "JOIN batches b ON b.send = q.id WHERE c.state IN (?, ?, ?) "
            "AND c.sequence IS NULL AND b.state IN (?, ?)",
            (
                CampaignState.SCHEDULED,
                CampaignState.SENDING,
                CampaignState.PAUSED,
                BatchState.SCHEDULED,
                BatchState.SENDING,
            ),
        )
    )


def name_of(db: sqlite3.Connection, row_id: int) -> str:
    """The name of a campaign; "" where there is none."""
    row = db.execute("SELECT name FROM campaigns WHERE id = ?", (row_id,)).fetchone()
    return str(row["name"]) if row else ""


def external(db: sqlite3.Connection) -> list[ExternalPlan]:
    """(id, message) of plans under way that another program sends."""
    return ExternalPlan.read_all(
        db.execute(
            "SELECT id, message FROM campaigns WHERE external AND state IN (?, ?, ?) ORDER BY id",
            (CampaignState.SCHEDULED, CampaignState.SENDING, CampaignState.PAUSED),
        )
    )


def not_over(db: sqlite3.Connection) -> list[CampaignText]:
    """What campaigns and steps of sequences say that have not come to their end."""
    return CampaignText.read_all(
        db.execute(
            "SELECT id, name, subject, preview, html, plain FROM campaigns WHERE state IN (?, ?, ?, ?)",
            (CampaignState.DRAFT, CampaignState.SCHEDULED, CampaignState.SENDING, CampaignState.PAUSED),
        )
    )


def requests(db: sqlite3.Connection) -> list[ConsentRequest]:
    """Consent requests that have been started."""
    return ConsentRequest.read_all(
        db.execute(
            "SELECT c.*, m.name AS message_name FROM campaigns c JOIN messages m ON m.id = c.message "
            "WHERE c.kind = ? ORDER BY c.started_at DESC",
            (CampaignKind.CONSENT_REQUEST,),
        )
    )


def remove(db: sqlite3.Connection, row_id: int) -> None:
    """A draft, with the tests of its message."""
    db.execute(
        "DELETE FROM placement_copies WHERE test IN (SELECT id FROM placement_tests WHERE campaign = ?)", (row_id,)
    )
    db.execute("DELETE FROM placement_tests WHERE campaign = ?", (row_id,))
    db.execute("DELETE FROM campaigns WHERE id = ? AND state = ?", (row_id, CampaignState.DRAFT))


def named(db: sqlite3.Connection, name: str) -> Campaign | None:
    """The campaign with a name, whatever its case, or None."""
    return Campaign.read(db.execute(f"{_WHOLE} WHERE c.name = ?", (name,)))


def add_message(db: sqlite3.Connection, name: str, purpose: PurposeId | None) -> int:
    """The message of a campaign; a name already taken by an earlier mailing gets a number."""
    fresh = free_name(name, lambda n: db.execute("SELECT 1 FROM messages WHERE name = ?", (n,)).fetchone())
    return int(db.execute("INSERT INTO messages (name, purpose) VALUES (?, ?)", (fresh, purpose)).lastrowid or 0)


def remove_message(db: sqlite3.Connection, message: MessageId) -> None:
    """A message of which nothing was ever sent, with its links."""
    db.execute("DELETE FROM links WHERE message = ?", (message,))
    db.execute("DELETE FROM messages WHERE id = ?", (message,))


def message_called(db: sqlite3.Connection, name: str) -> CalledMessage | None:
    """The message of a name: (id, heard: anything is known of it, campaign: whose it is)."""
    return CalledMessage.read(
        db.execute(
            "SELECT m.id, EXISTS (SELECT 1 FROM events e WHERE e.message = m.id) AS heard, "
            "(SELECT c.name FROM campaigns c WHERE c.message = m.id) AS campaign FROM messages m WHERE m.name = ?",
            (name,),
        )
    )


def call_message(db: sqlite3.Connection, campaign: CampaignId, name: str) -> None:
    """A campaign's message is called so from now on; where a log has made that message already, it is the campaign's, and
    the one before, of which nothing was heard, goes."""
    row = one(db, campaign)
    assert row is not None
    there = message_called(db, name)
    if there is None:
        db.execute("UPDATE messages SET name = ? WHERE id = ?", (name, row.message))
        return
    update(db, campaign, {"message": there.id})
    db.execute("UPDATE messages SET purpose = ? WHERE id = ?", (row.purpose, there.id))
    db.execute("UPDATE OR IGNORE links SET message = ? WHERE message = ?", (there.id, row.message))
    db.execute("DELETE FROM links WHERE message = ?", (row.message,))
    db.execute("DELETE FROM messages WHERE id = ?", (row.message,))


def add_link(db: sqlite3.Connection, message: MessageId, url: str, trap: bool = False) -> int:
    """Keep a link of a message; its id. ``trap`` is the hidden one."""
    db.execute("INSERT OR IGNORE INTO links (message, url, trap) VALUES (?, ?, ?)", (message, url, trap))
    return int(db.execute("SELECT id FROM links WHERE message = ? AND url = ?", (message, url)).fetchone()["id"])


def links(db: sqlite3.Connection, message: MessageId) -> list[Link]:
    """The links of a message, in the order in which they were kept."""
    return Link.read_all(db.execute("SELECT * FROM links WHERE message = ? ORDER BY id", (message,)))


def link(db: sqlite3.Connection, row_id: int) -> LinkOfMessage | None:
    """A link, or None."""
    return LinkOfMessage.read(
        db.execute(
            "SELECT l.message, l.url, m.name AS message_name, p.name AS purpose_name FROM links l "
            "JOIN messages m ON m.id = l.message LEFT JOIN purposes p ON p.id = m.purpose WHERE l.id = ?",
            (row_id,),
        )
    )


def asked_for_eyes(db: sqlite3.Connection) -> list[ApprovalWanted]:
    """Drafts that somebody asked another to look at and that nobody has approved."""
    return ApprovalWanted.read_all(
        db.execute(
            "SELECT id, name, asked_by, sequence FROM campaigns WHERE state = ? AND asked_by IS NOT NULL AND asked_by <> '' "
            "AND approved_at IS NULL ORDER BY asked_at",
            (CampaignState.DRAFT,),
        )
    )


def state_of(db: sqlite3.Connection, row_id: int) -> str:
    """The state of a campaign."""
    row = db.execute("SELECT state FROM campaigns WHERE id = ?", (row_id,)).fetchone()
    return str(row["state"]) if row else "stopped"


def clicked_link(db: sqlite3.Connection, link: int, until: int) -> list[int]:
    """Who clicked a link, people or machines."""
    rows = db.execute("SELECT DISTINCT subscriber FROM events WHERE link = ? AND kind = 6 AND at <= ?", (link, until))
    return [int(r["subscriber"]) for r in rows]


def happened(db: sqlite3.Connection, message: MessageId, until: int) -> dict[int, int]:
    """How many people complained, unsubscribed or bounced after a message, by kind of event."""
    rows = db.execute(
        "SELECT kind, count(DISTINCT subscriber) AS n FROM events WHERE message = ? AND (kind = 4 OR kind >= 9) "
        "AND at <= ? GROUP BY kind",
        (message, until),
    )
    return {r["kind"]: r["n"] for r in rows}


def message_name(db: sqlite3.Connection, message: MessageId) -> str:
    """What a message is called in the event log."""
    return str(db.execute("SELECT name FROM messages WHERE id = ?", (message,)).fetchone()["name"])


def message_names(db: sqlite3.Connection) -> dict[int, tuple[str, int | None]]:
    """Every message's name and purpose."""
    return {r["id"]: (r["name"], r["purpose"]) for r in db.execute("SELECT id, name, purpose FROM messages")}


def started(db: sqlite3.Connection) -> list[StartedCampaign]:
    """Campaigns that have started, with whether their resend has gone out to anybody; the latest first."""
    return StartedCampaign.read_all(
        db.execute(
            "SELECT c.id, c.name, c.subject, c.message, EXISTS (SELECT 1 FROM sends q CROSS JOIN batches b ON b.send = q.id "
            "CROSS JOIN deliveries d ON d.batch = b.id "
            "WHERE q.campaign = c.id AND q.kind = ? AND d.state = ?) AS resent "
            "FROM campaigns c WHERE c.message IS NOT NULL ORDER BY c.started_at DESC LIMIT 200",
            (SendKind.RESEND, DeliveryState.SENT),
        )
    )
