"""What an import would do and what it did: a trial is the run itself, rolled back, so that its figures are true."""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Sequence

import numpy as np

from openmeadow.core.addresses.providers import freemail_domains
from openmeadow.core.addresses.verdicts import is_disposable, slip_of
from openmeadow.core.imports.report import Report
from openmeadow.core.imports.subscribers import Record
from openmeadow.store import settings
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.subscribers import selections
from openmeadow.store.subscribers import subscribers as table

MOST = 2_000_000  # addresses remembered; beyond it the counts are no longer exact
MOST_DOMAINS = 20_000
FEW, SHOWN = 20, 8  # people at a domain that may be mistyped; domains named in a note
AT_ONCE = 5_000  # people whose permission is asked about at once


class Met:
    """The addresses of a file so far: which repeat, what was read of them last, and their domains."""

    def __init__(self) -> None:
        self._known: dict[str, int] = {}
        self.twice = 0
        self.domains: Counter[str] = Counter()

    @property
    def people(self) -> int:
        """Different addresses."""
        return len(self._known)

    def fresh(self, records: Sequence[Record]) -> tuple[list[Record], int]:
        """The records whose address was not met before, and how many of the others say something else than then."""
        new, other, now = [], 0, set[str]()
        for r in records:
            before = self._known.get(r.key)
            if before is None or r.key in now:
                new.append(r)
                now.add(r.key)
            else:
                other += before != hash(repr(r))
        self.add(records)
        return new, other

    def add(self, records: Sequence[Record]) -> None:
        """Remember records."""
        for r in records:
            if r.key in self._known:
                self.twice += 1
            elif len(self._known) >= MOST:
                continue
            else:
                self.domains[r.key.rpartition("@")[2]] += 1
            self._known[r.key] = hash(repr(r))

    @property
    def keys(self) -> list[str]:
        """All addresses met."""
        return list(self._known)


def permitted(db: sqlite3.Connection, everybody: Sequence[int], now: int) -> dict[str, int]:
    """For each purpose how many of these people (ascending ids) may be mailed, limits aside."""
    found: dict[str, int] = {p.name: 0 for p in table.names(db, "purposes")}
    for at in range(0, len(everybody), AT_ONCE):
        ids = np.array(everybody[at : at + AT_ONCE], np.int64)
        nothing = np.zeros(len(ids), np.int32)
        facts = StoreFacts(db, ids, np.zeros(len(ids), bool), nothing, nothing, now, some=True)
        for purpose in found:
            found[purpose] += int(facts.permitted(purpose).sum())
    return found


def judge_addresses(db: sqlite3.Connection, met: Met, report: Report) -> None:
    """Count the addresses that look mistyped, and the disposable ones."""
    public = list(settings.settings(db)["freemail_domains"]) + freemail_domains()
    known, found = selections.frequent_domains(db) + public, []
    for domain, n in met.domains.most_common(MOST_DOMAINS):
        slip = slip_of(domain, known)
        if slip and (n <= FEW or slip in public):  # a domain of many people is hardly a mistake
            report.typos += n
            found.append(f"{n:,} at {domain} (of {slip})")
        if is_disposable(domain):
            report.disposable += n
    if found:
        more = f" and {len(found) - SHOWN:,} more domains" if len(found) > SHOWN else ""
        report.note(f"Possible typos: {', '.join(found[:SHOWN])}{more}.")
