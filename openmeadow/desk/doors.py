"""Doors: by which list, form or import people came, and what became of them, beside the others."""

from __future__ import annotations

from typing import Any

import numpy as np

from openmeadow.core.columns import DAY, I64, NEVER, Kind, Mask, Trouble
from openmeadow.core.engagement.score import BANDS, VEILED
from openmeadow.core.engagement.who import BY_OF_REASON, MACHINE, REASONS, UNSURE
from openmeadow.core.statistics import newcombe
from openmeadow.desk.desk import Desk
from openmeadow.store import doors as table
from openmeadow.store.facts import StoreFacts
from openmeadow.store.providers import names as provider_names

SIGNS = {
    "bounced": "bounce for good more often than people from the other doors",
    "complained": "complain more often than people from the other doors",
    "left": "unsubscribe more often than people from the other doors",
    "silent": "never answered anything more often than people from the other doors",
}


def _sign(kind: str, mine: int, base: int, theirs: int, their_base: int) -> str | None:
    """A sentence when the share is higher than elsewhere beyond doubt (95% interval of the difference)."""
    if not base or not their_base or newcombe(mine, base, theirs, their_base).low <= 0:
        return None
    a, b = mine / base, theirs / their_base
    return f"They {SIGNS[kind]}: {a:.1%} of {base:,} against {b:.1%} of {their_base:,}."


def every(desk: Desk) -> list[dict[str, Any]]:
    """Every door and every import with what became of its people; ``mailed`` is the base of what became of them."""
    view = desk.view()
    assert isinstance(view.facts, StoreFacts)
    rows, alive, troubles = view.columns.rows, view.alive, desk.troubles()
    count = len(alive)
    mailed = np.zeros(count, bool)
    mailed[rows.person[rows.first_at <= view.now]] = True

    def had(*what: Trouble) -> Mask:
        out = np.zeros(count, bool)
        out[troubles.person[np.isin(troubles.what, what) & (troubles.at <= view.now)]] = True
        return out

    fates = {
        "answered": view.last_answer > NEVER,
        "bounced": had(Trouble.HARD),
        "complained": had(Trouble.COMPLAINED),
        "left": had(Trouble.UNSUBSCRIBED),
        "silent": (view.last_answer == NEVER) & (view.scores.unanswered >= 5),
    }
    joined = view.columns.people.joined_at
    out = []
    for kind, names, of in _groups(desk, view.facts):
        for number, name in names.items():
            mine = alive & (of == number)
            if not mine.any():
                continue
            base, others = mine & mailed, alive & ~mine & mailed
            told = {fate: int((base & mask).sum()) for fate, mask in fates.items()}
            signs = (_sign(k, told[k], int(base.sum()), int((others & fates[k]).sum()), int(others.sum())) for k in SIGNS)
            out.append(
                {
                    "kind": kind,
                    "name": name,
                    "people": int(mine.sum()),
                    "mailed": int(base.sum()),
                    "first": int(joined[mine].min()),
                    "last": int(joined[mine].max()),
                    **told,
                    "bands": np.bincount(view.scores.band[mine], minlength=len(BANDS)).tolist(),
                    "signs": [s for s in signs if s],
                    "rule": f'came by "{name.replace(chr(34), chr(34) * 2)}"' if kind == "door" else "",
                }
            )
    return sorted(out, key=lambda d: (d["kind"], -d["people"]))


def _groups(desk: Desk, facts: StoreFacts) -> list[tuple[str, dict[int, str], I64]]:
    db = desk.store.read()
    imports, of = table.imports(db), np.zeros(len(facts.ids), np.int64)
    if brought := table.brought_by(db):
        id, deed = np.array(brought, np.int64).T
        of[np.searchsorted(facts.ids, id)] = deed
    return [("door", table.names(db), facts.door.astype(np.int64)), ("import", imports, of)]


def machine_opens(desk: Desk, days: int = 90) -> dict[str, Any]:
    """How much of each provider's opens and clicks are machines', and why they are taken for that."""
    view = desk.view()
    assert isinstance(view.facts, StoreFacts)
    acts, since = view.columns.acts, view.now - days * DAY
    recent = (acts.at > since) & (acts.at <= view.now) & ((acts.kind == Kind.OPENED) | (acts.kind == Kind.CLICKED))
    provider = view.facts.provider[acts.person[recent]].astype(np.int64)
    names = provider_names(desk.store.read())
    tally = np.zeros((len(names), 2, len(REASONS)), np.int64)
    np.add.at(tally, (provider, (acts.kind[recent] == Kind.CLICKED).astype(np.int64), acts.why[recent]), 1)
    veiled = np.bincount(view.facts.provider[view.alive & (view.scores.band == VEILED)], minlength=len(names))

    def shares(counts: I64) -> dict[str, int]:
        by = BY_OF_REASON
        return {
            "all": int(counts.sum()),
            "machines": int(counts[by == MACHINE].sum()),
            "unsure": int(counts[by == UNSURE].sum()),
        }

    return {
        "days": days,
        "as_of": view.now,
        "listed": len(desk.machines().agents) + len(desk.machines().networks),
        "providers": [
            {
                "name": name,
                "opens": shares(tally[n, 0]),
                "clicks": shares(tally[n, 1]),
                "veiled": int(veiled[n]),
                "people": int((view.alive & (view.facts.provider == n)).sum()),
            }
            for n, name in enumerate(names)
            if name
        ],
        "reasons": [
            {
                "words": words,
                "opens": int(tally[:, 0, n].sum()),
                "clicks": int(tally[:, 1, n].sum()),
                "machine": bool(BY_OF_REASON[n] == MACHINE),
            }
            for n, words in enumerate(REASONS)
        ],
    }
