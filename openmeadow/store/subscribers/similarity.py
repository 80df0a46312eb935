"""What people share: a time zone, or one mailbox under several addresses."""

from __future__ import annotations

import numpy as np

from openmeadow.core.addresses.aliases import Rules, mailbox
from openmeadow.core.arrays import I32, I64, Array
from openmeadow.store.segments.permission_facts import StoreFacts

SHORT_LOCAL = 5  # characters before the @ that many people share, as info or mail


def zones(facts: StoreFacts) -> tuple[list[str], I32]:
    """The time zones of people: names, and each person's place in them; 0, the name "", where none is known."""

    def known() -> Array:
        rows = facts.db.execute(
            "SELECT DISTINCT time_zone FROM subscribers WHERE time_zone IS NOT NULL AND time_zone <> '' ORDER BY 1"
        )
        return np.array(["", *(r[0] for r in rows)], np.str_)

    names: list[str] = facts.remembered(("zone names",), "", known, each=False).tolist()
    number = {n: i for i, n in enumerate(names)}

    def compute() -> I32:
        out = np.zeros(len(facts.ids), np.int32)
        rows = facts.db.execute(
            f"SELECT id, time_zone FROM subscribers WHERE time_zone IS NOT NULL{facts.among().replace('subscriber', 'id')}"
        ).fetchall()
        if rows:
            place, here = facts.place_of(np.array([r["id"] for r in rows], np.int64))
            out[place[here]] = np.array([number.get(r["time_zone"], 0) for r in rows], np.int32)[here]
        return out

    return names, facts.remembered(("zones", tuple(names)), "", compute)


def one_mailbox(facts: StoreFacts, rules: Rules) -> I64:
    """A number of the mailbox each person's address leads to, for those who share it with another address here;
    0 for everybody else."""

    def compute() -> I64:
        found: dict[str, list[int]] = {}
        for domain, (after, dots) in rules.items():
            if not after and not dots:
                continue
            signs = " OR ".join([f"instr(local, '{after}') > 0"] * bool(after) + ["instr(local, '.') > 0"] * dots)
            bare = (
                f"CASE WHEN instr(local, '{after}') > 1 THEN substr(local, 1, instr(local, '{after}') - 1) ELSE local END"
                if after
                else "local"
            )
            bare = f"replace({bare}, '.', '')" if dots else bare
            rows = facts.db.execute(
                f"WITH here AS (SELECT id, email_key, substr(email_key, 1, length(email_key) - ?1 - 1) AS local "
                f"FROM subscribers WHERE erased_at IS NULL AND email_key LIKE ?2), "
                f"signed AS (SELECT DISTINCT {bare} AS bare FROM here WHERE {signs}) "
                f"SELECT id, email_key FROM here WHERE {bare} IN (SELECT bare FROM signed)",
                (len(domain), f"%@{domain}"),
            )
            for r in rows:
                found.setdefault(mailbox(r["email_key"], rules), []).append(r["id"])
        out = np.zeros(len(facts.ids), np.int64)
        for some in found.values():
            if len(some) > 1:
                place, here = facts.place_of(np.array(sorted(some), np.int64))
                out[place[here]] = min(some)
        return out

    return facts.remembered(("one mailbox", tuple(sorted(rules.items()))), "", compute)


def one_name(facts: StoreFacts) -> I64:
    """A number for those whose full name and the part of the address before the @ are somebody else's too; 0 for all
    others."""

    def compute() -> I64:
        found: dict[str, list[int]] = {}
        rows = facts.db.execute(
            "SELECT id, lower(trim(name)) || '@' || substr(email_key, 1, instr(email_key, '@') - 1) AS k FROM subscribers "
            "WHERE erased_at IS NULL AND trim(name) LIKE '_% _%' AND instr(email_key, '@') > ?1 AND k IN ("
            "SELECT lower(trim(name)) || '@' || substr(email_key, 1, instr(email_key, '@') - 1) FROM subscribers "
            "WHERE erased_at IS NULL AND trim(name) LIKE '_% _%' AND instr(email_key, '@') > ?1 "
            "GROUP BY 1 HAVING count(*) > 1)",
            (SHORT_LOCAL,),
        )
        for r in rows:
            found.setdefault(r["k"], []).append(r["id"])
        out = np.zeros(len(facts.ids), np.int64)
        for some in found.values():
            place, here = facts.place_of(np.array(sorted(some), np.int64))
            out[place[here]] = min(some)
        return out

    return facts.remembered(("one name",), "", compute)
