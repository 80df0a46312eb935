"""Address checks: what domains and mail servers answered, and the verdicts."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence

from openmeadow.core.addresses.verdicts import VERDICTS, DomainAnswer
from openmeadow.core.ids import SubscriberId
from openmeadow.store.subscribers.records import Slip, SuggestedAddress

_PART = 20_000


def fresh_domains(db: sqlite3.Connection, since: int) -> dict[str, DomainAnswer]:
    """Answers of domains younger than a moment; those that said nothing are asked again."""
    rows = db.execute("SELECT * FROM domain_lookups WHERE at > ? AND takes_mail IS NOT NULL", (since,))
    return {
        r["domain"]: DomainAnswer(
            bool(r["takes_mail"]),
            tuple(json.loads(r["hosts"])),
            "" if r["takes_mail"] else f"{r['domain']} takes no mail",
        )
        for r in rows
    }


def domains_to_ask(db: sqlite3.Connection, since: int, most: int) -> list[str]:
    """Domains of people that were not asked about since a moment, those with the most people first."""
    rows = db.execute(
        "SELECT substr(email_key, instr(email_key, '@') + 1) AS domain, count(*) AS n FROM subscribers "
        "WHERE erased_at IS NULL GROUP BY 1 "
        "HAVING domain NOT IN (SELECT domain FROM domain_lookups WHERE at > ?) ORDER BY n DESC LIMIT ?",
        (since, most),
    )
    return [r["domain"] for r in rows]


def save_domains(db: sqlite3.Connection, answers: dict[str, DomainAnswer], now: int) -> None:
    """Keep what DNS said of domains."""
    db.executemany(
        "INSERT OR REPLACE INTO domain_lookups (domain, takes_mail, hosts, at) VALUES (?, ?, ?, ?)",
        ((n, a.takes_mail, json.dumps(a.hosts), now) for n, a in answers.items()),
    )


def mailboxes(db: sqlite3.Connection, keys: Sequence[str], since: int, now: int) -> dict[str, str]:
    """Answers about mailboxes younger than a moment, unless it is time to ask again."""
    out: dict[str, str] = {}
    for i in range(0, len(keys), _PART):
        part = keys[i : i + _PART]
        rows = db.execute(
            f"SELECT email_key, answer FROM mailbox_checks WHERE email_key IN ({','.join('?' * len(part))}) "
            "AND at > ? AND coalesce(again_at, 1 << 62) > ?",
            (*part, since, now),
        )
        out.update((r["email_key"], r["answer"]) for r in rows)
    return out


def fresh_mailboxes(db: sqlite3.Connection, keys: Sequence[str], since: int) -> int:
    """What mail servers said of some addresses since a moment."""
    return len(mailboxes(db, keys, since, 0))


def save_mailbox(db: sqlite3.Connection, key: str, answer: str, said: str, now: int, again_at: int | None) -> None:
    """Keep what a mail server said of an address, and when it may be asked again."""
    db.execute("INSERT OR REPLACE INTO mailbox_checks VALUES (?, ?, ?, ?, ?)", (key, answer, said, now, again_at))


def verdict_counts(db: sqlite3.Connection) -> dict[str, int]:
    """How many addresses have each verdict."""
    rows = db.execute("SELECT verdict, count(*) AS n FROM address_verdicts GROUP BY verdict")
    found = {VERDICTS[r["verdict"]]: int(r["n"]) for r in rows}
    return {v: found.get(v, 0) for v in VERDICTS}


def unchecked(db: sqlite3.Connection) -> int:
    """How many addresses were never checked."""
    row = db.execute(
        "SELECT count(*) AS n FROM subscribers s WHERE s.erased_at IS NULL AND NOT EXISTS "
        "(SELECT 1 FROM address_verdicts v WHERE v.subscriber = s.id)"
    ).fetchone()
    return int(row["n"])


def reason_counts(db: sqlite3.Connection, limit: int = 30) -> list[tuple[str, int, int]]:
    """(reason, verdict, people), the most frequent first."""
    rows = db.execute(
        "SELECT j.value AS words, v.verdict, count(*) AS n FROM address_verdicts v, json_each(v.reasons) j "
        "WHERE v.verdict > 0 GROUP BY 1, 2 ORDER BY 3 DESC LIMIT ?",
        (limit,),
    )
    return [(r["words"], r["verdict"], r["n"]) for r in rows]


def suggested(db: sqlite3.Connection) -> list[SuggestedAddress]:
    """Everyone whose address has a better writing."""
    return SuggestedAddress.read_all(
        db.execute(
            "SELECT v.subscriber, v.suggestion, s.email, s.email_key, s.provider FROM address_verdicts v "
            "JOIN subscribers s ON s.id = v.subscriber WHERE v.suggestion IS NOT NULL AND s.erased_at IS NULL "
            "AND s.email <> v.suggestion ORDER BY v.subscriber"
        )
    )


def slips(db: sqlite3.Connection, limit: int = 50) -> list[Slip]:
    """Slips by domain: how many, what was probably meant, one address for example."""
    return Slip.read_all(
        db.execute(
            "SELECT substr(s.email_key, instr(s.email_key, '@') + 1) AS typed, "
            "substr(v.suggestion, instr(v.suggestion, '@') + 1) AS meant, count(*) AS count, min(s.email) AS example "
            "FROM address_verdicts v JOIN subscribers s ON s.id = v.subscriber "
            "WHERE v.suggestion IS NOT NULL AND s.erased_at IS NULL AND s.email <> v.suggestion "
            "GROUP BY 1, 2 ORDER BY 3 DESC LIMIT ?",
            (limit,),
        )
    )


def change_address(db: sqlite3.Connection, subscriber: SubscriberId, email: str, key: str, provider: int) -> None:
    """Another address for a person; its verdict belonged to the old one."""
    db.execute(
        "UPDATE subscribers SET email = ?, email_key = ?, provider = ? WHERE id = ?", (email, key, provider, subscriber)
    )
    db.execute("DELETE FROM address_verdicts WHERE subscriber = ?", (subscriber,))


def to_ask_again(db: sqlite3.Connection, now: int, limit: int) -> list[int]:
    """People whose mail host put the question off, and its time has come."""
    rows = db.execute(
        "SELECT s.id FROM mailbox_checks a JOIN subscribers s ON s.email_key = a.email_key "
        "WHERE a.again_at <= ? ORDER BY a.again_at LIMIT ?",
        (now, limit),
    )
    return [int(r["id"]) for r in rows]


def asked_since(db: sqlite3.Connection, since: int) -> int:
    """How many domains were asked about since a moment."""
    return int(db.execute("SELECT count(*) AS n FROM domain_lookups WHERE at > ?", (since,)).fetchone()["n"])
