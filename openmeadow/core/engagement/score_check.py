"""The score held against what came: of the last mailings, everybody's score as it stood just before, beside what they did.
No peeking: the parameters too are fitted on what was known before the mailing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from openmeadow.core.arrays import F64, I64, NEVER, Mask
from openmeadow.core.columns import Columns
from openmeadow.core.engagement.score import Basis, score
from openmeadow.core.moments import DAY

MAILINGS, FEWEST = 12, 30  # looked at, and people of one of them
TOGETHER, SHARE = 7 * DAY, 0.9  # a mailing's first sends go out within this time, but for a tenth
TENTHS, TWENTIETHS, QUARTER = 10, 20, 90 * DAY


@dataclass(frozen=True)
class Mailing:
    """A message that went to many at once; ``at`` is the moment of its first send."""

    message: int
    at: int
    people: int


@dataclass(frozen=True)
class Answers:
    """People to whom one mailing was delivered (``rows`` of the columns, ``who`` places among everybody): the chance
    before it, and whether they engaged; ``answered`` is what the chance was of (where reading is hidden: clicked),
    ``seen`` whether that can be told, ``hidden`` whose reading cannot be seen. ``last`` is their last engagement before
    it."""

    mailing: Mailing
    rows: I64
    who: I64
    chance: F64
    engaged: Mask
    answered: Mask
    seen: Mask
    hidden: Mask
    last: I64


@dataclass(frozen=True)
class Part:
    """People with about the same chance: the mean of what was expected, and the share who engaged."""

    expected: float
    observed: float
    people: int


@dataclass(frozen=True)
class Check:
    """``auc`` beside that of recency alone and of "engaged in the last 90 days"; None where all or none engaged."""

    auc: float | None
    auc_recency: float | None
    auc_90_days: float | None
    brier: float | None
    calibration_error: float | None
    tenths: list[Part]
    mailings: int
    people: int


def mailings(columns: Columns, now: int, settled: int, most: int = MAILINGS) -> list[Mailing]:
    """The last messages that went to many people at once and are settled, the earliest first."""
    rows = columns.rows
    sent = np.flatnonzero(rows.first_at <= now)
    message, at = rows.message[sent], rows.first_at[sent]
    count = np.bincount(message) if len(sent) else np.zeros(0, np.int64)
    order = np.lexsort((at, message))
    ends = np.cumsum(count)
    found = []
    for m in np.flatnonzero(count >= FEWEST).tolist():
        mine = at[order[ends[m] - count[m] : ends[m]]]
        begun = int(mine[0])
        if int(mine[-1]) <= now - settled and float((mine <= begun + TOGETHER).mean()) >= SHARE:
            found.append(Mailing(m, begun, int(count[m])))
    return sorted(found, key=lambda x: (x.at, x.message))[-most:]


def answers(columns: Columns, mailing: Mailing, now: int, basis: Basis) -> Answers:
    """What its people did, beside their chances just before. It cannot be seen whether those read whose opens only a
    machine's are known, and who are not masked."""
    rows = columns.rows
    before = score(columns, mailing.at - 1, basis)
    mine = np.flatnonzero((rows.message == mailing.message) & (rows.first_at <= now) & (rows.failed_at > now))
    who = rows.person[mine].astype(np.int64)
    hidden = before.hidden[who]
    reacted = rows.reacted_at[mine] <= now
    engaged = reacted | (rows.opened_at[mine] <= now)
    seen = hidden | engaged | (rows.machine_at[mine] > now)
    answered = np.where(hidden, reacted, engaged)
    return Answers(mailing, mine, who, before.chance[who], engaged, answered, seen, hidden, before.last_engaged[who])


def auc(value: F64 | I64 | Mask, yes: Mask) -> float | None:
    """The chance that one who engages stands above one who does not, ties counting half (Mann and Whitney 1947)."""
    some, others = int(yes.sum()), int(len(yes) - yes.sum())
    if not some or not others:
        return None
    _, group, counts = np.unique(value, return_inverse=True, return_counts=True)
    rank = np.cumsum(counts) - (counts - 1) / 2
    return float((rank[group][yes].sum() - some * (some + 1) / 2) / (some * others))


def parts(chance: F64, yes: Mask, pieces: int) -> list[Part]:
    """People in as many equal parts by their chance, the lowest first."""
    order = np.argsort(chance, kind="stable")
    return [Part(float(chance[p].mean()), float(yes[p].mean()), len(p)) for p in np.array_split(order, pieces) if len(p)]


def check(found: list[Answers]) -> Check:
    """All mailings together."""
    if not found or not sum(len(a.who) for a in found):
        return Check(None, None, None, None, None, [], 0, 0)
    chance, yes = (np.concatenate([getattr(a, k)[a.seen] for a in found]) for k in ("chance", "answered"))
    age = np.concatenate([np.where(a.last > NEVER, a.mailing.at - a.last, 2**40)[a.seen] for a in found])
    return Check(
        auc=auc(chance, yes),
        auc_recency=auc(-age, yes),
        auc_90_days=auc(age < QUARTER, yes),
        brier=float(((chance - yes) ** 2).mean()),
        calibration_error=float(np.mean([abs(p.expected - p.observed) for p in parts(chance, yes, TWENTIETHS)])),
        tenths=parts(chance, yes, TENTHS),
        mailings=len(found),
        people=len(yes),
    )
