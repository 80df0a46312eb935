"""The fitted models of the chance to engage."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from openmeadow.core.engagement.chance import Adjustment, ChanceModel
from openmeadow.core.engagement.chance_models import ChanceModels
from openmeadow.core.events import Kind
from openmeadow.core.ids import MessageId, PurposeId
from openmeadow.store.rows import Record


@dataclass(frozen=True, slots=True)
class Fit(Record):
    """When the models were fitted (UTC seconds), how many deliveries there were, and the seconds in which they settle."""

    fitted_at: int
    deliveries: int
    settled: int


def last_fit(db: sqlite3.Connection) -> Fit | None:
    """The fit that stands; None before the first."""
    return Fit.read(db.execute("SELECT fitted_at, deliveries, settled FROM chance_fits"))


def models(db: sqlite3.Connection) -> ChanceModels:
    """The models that stand; the defaults before the first fit."""
    fit = last_fit(db)
    if fit is None:
        return ChanceModels()
    found = {
        (r["kind"], r["source"]): ChanceModel(
            r["alpha"],
            r["beta"],
            r["gamma"],
            r["delta"],
            r["people"],
            r["messages"],
            Adjustment(r["intercept"], r["slope"]),
        )
        for r in db.execute("SELECT * FROM chance_models")
    }
    own = {int(source): model for (kind, source), model in found.items() if kind == "source"}
    return ChanceModels(found["reading", None], found["clicking", None], own, fit.fitted_at, fit.settled)


def keep(db: sqlite3.Connection, models: ChanceModels, deliveries: int) -> None:
    """Replace the models by those of a new fit."""
    db.execute("DELETE FROM chance_models")
    rows: list[tuple[str, int | None, ChanceModel]] = [("reading", None, models.reading)]
    rows += [("clicking", None, models.clicking), *(("source", s, model) for s, model in models.sources.items())]
    db.executemany(
        "INSERT INTO chance_models (kind, source, alpha, beta, gamma, delta, people, messages, intercept, slope) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            (kind, source, *m.parameters, m.people, m.messages, m.adjustment.intercept, m.adjustment.slope)
            for kind, source, m in rows
        ),
    )
    db.execute("INSERT OR REPLACE INTO chance_fits VALUES (1, ?, ?, ?)", (models.fitted_at, deliveries, models.settled))


@dataclass(frozen=True, slots=True)
class KeptCheck(Record):
    """What was found when the score was last held against what came (UTC seconds, JSON)."""

    checked_at: int
    found: str


def last_check(db: sqlite3.Connection) -> KeptCheck | None:
    """The check that is kept; None before the first."""
    return KeptCheck.read(db.execute("SELECT checked_at, found FROM score_checks"))


def keep_check(db: sqlite3.Connection, checked_at: int, found: str) -> None:
    """Keep a check in the place of the one before."""
    db.execute("INSERT OR REPLACE INTO score_checks VALUES (1, ?, ?)", (checked_at, found))


@dataclass(frozen=True, slots=True)
class MailingExpected(Record):
    """A settled mailing: delivered to ``people``; how many engaged, and how many were expected to."""

    message: MessageId
    began_at: int
    people: int
    observed: int
    expected: float
    variance: float
    purpose: PurposeId | None


def mailings(db: sqlite3.Connection) -> list[MailingExpected]:
    """All mailings that were looked at once they were settled, the earliest first."""
    return MailingExpected.read_all(
        db.execute(
            "SELECT e.*, m.purpose FROM mailings_expected e JOIN messages m ON m.id = e.message ORDER BY e.began_at, e.message"
        )
    )


def keep_mailing(db: sqlite3.Connection, one: MailingExpected) -> None:
    """Keep what was expected of a mailing and what came."""
    db.execute(
        "INSERT OR REPLACE INTO mailings_expected VALUES (?, ?, ?, ?, ?, ?)",
        (one.message, one.began_at, one.people, one.observed, one.expected, one.variance),
    )


def forget_taken_back(db: sqlite3.Connection) -> None:
    """What was kept of mailings none of whose events is there any more goes: what was expected, and where they lay."""
    for table in ("mailings_expected", "inbox_placement"):
        db.execute(
            f"DELETE FROM {table} WHERE message NOT IN (SELECT message FROM event_hours WHERE kind IN (?, ?) AND n > 0)",
            (int(Kind.SENT), int(Kind.DELIVERED)),
        )
