"""One subscriber: why this score, everything that happened, why they will or won't receive each purpose."""

from __future__ import annotations

import json
from typing import Any

from openmeadow.core.addresses.providers import provider_names
from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.columns import NEVER, Kind
from openmeadow.core.consent.gate import CONSENT_STATES, SUPPRESSION_REASONS, ask
from openmeadow.core.engagement.score import BANDS, terms
from openmeadow.core.engagement.who import WORDS
from openmeadow.core.errors import Missing
from openmeadow.core.rules.tree import View
from openmeadow.desk.desk import Desk
from openmeadow.store import events, subscribers
from openmeadow.store.facts import StoreFacts

TRACE = 24


def find(desk: Desk, email: str) -> int:
    ids = subscribers.ids_of(desk.store.read(), [address_key(email.strip())])
    if not ids:
        raise Missing(f"There is no subscriber with the address {email}.")
    return next(iter(ids.values()))


def trace(view: View, person: int, length: int = TRACE) -> str:
    """One letter a message, oldest first: c clicked, o opened, m machine only, n nothing, b bounced."""
    rows, a, b = view.columns.rows, int(view.columns.start[person]), int(view.columns.start[person + 1])
    out = []
    for r in range(b - 1, a - 1, -1):
        if rows.first_at[r] > view.now:
            continue
        out.append(
            "b"
            if rows.failed_at[r] <= view.now
            else "c"
            if rows.reacted_at[r] <= view.now
            else "o"
            if rows.opened_at[r] <= view.now
            else "m"
            if rows.machine_at[r] <= view.now
            else "n"
        )
        if len(out) == length:
            break
    return "".join(reversed(out))


def explain(desk: Desk, subscriber: int, as_of: int | None = None) -> dict[str, Any]:
    """Score, band and every term of it."""
    view = desk.view(as_of)
    p, s = desk.index_of(view, subscriber), view.scores
    names = events.message_names(desk.store.read())
    last = int(s.last_answer[p])
    return {
        "score": round(float(s.score[p]), 4),
        "band": BANDS[s.band[p]],
        "E": float(s.E[p]),
        "N": float(s.N[p]),
        "answered": int(s.answered[p]),
        "unanswered": int(s.unanswered[p]),
        "last_answer": None if last == NEVER else last,
        "as_of": view.now,
        "half_life_days": s.cadence.half_life,
        "window_days": s.cadence.window,
        "terms": [
            {
                "message": names.get(t.message, "(a booking)"),
                "at": t.at,
                "age_days": round((view.now - t.at) / 86400, 3),
                "weight": t.weight,
                "value": t.value,
                "adds": t.weight * t.value,
                "what": t.what,
            }
            for t in terms(view.columns, p, view.now, s.cadence)
        ],
    }


def page(desk: Desk, subscriber: int) -> dict[str, Any]:
    """Everything a person's page shows."""
    db = desk.store.read()
    row = subscribers.subscriber(db, subscriber)
    if row is None:
        raise Missing("There is no such subscriber.")
    view = desk.view()
    p = desk.index_of(view, subscriber)
    assert isinstance(view.facts, StoreFacts)
    gates = []
    for purpose in subscribers.names(db, "purposes"):
        answer = ask(view.facts.standing(purpose["name"], limits=True), "campaign")
        gates.append({"purpose": purpose["name"], "permitted": bool(answer.permitted[p]), "reasons": answer.why_not(p)})
    who = _who(view, p)
    happened = [
        {
            "at": e["at"],
            "event": Kind(e["kind"]).name.lower(),
            "message": e["message_name"] or "",
            "link": e["url"] or "",
            "agent": e["agent_text"] or "",
            "ip": e["ip"] or "",
            "code": e["code"] or "",
            "diagnostic": e["diagnostic"] or "",
            "value": e["value"],
            "who": who.get((e["at"], e["kind"], e["message"]), "") if e["kind"] in (Kind.OPENED, Kind.CLICKED) else "",
        }
        for e in events.of_subscriber(db, subscriber)
    ]
    return {
        "id": subscriber,
        "email": row["email"],
        "name": row["name"] or "",
        "joined_at": row["joined_at"],
        "door": row["door_name"] or "",
        "provider": provider_names()[row["provider"]],
        "time_zone": row["time_zone"] or "",
        "language": row["language"] or "",
        "country": row["country"] or "",
        "lists": subscribers.lists_of(db, subscriber),
        "labels": subscribers.labels_of(db, subscriber),
        "fields": json.loads(row["fields"]),
        "trace": trace(view, p, 60),
        "why": explain(desk, subscriber),
        "permission": gates,
        "events": happened,
        "consent": [
            {
                "purpose": c["purpose_name"],
                "state": CONSENT_STATES[c["state"]],
                "at": c["at"],
                "source": c["source"] or "",
                "wording": c["wording"] or "",
            }
            for c in subscribers.consent_history(db, subscriber)
        ],
        "suppressed": [
            {"reason": SUPPRESSION_REASONS[s["reason"] - 1], "at": s["at"], "source": s["source"]}
            for s in subscribers.suppressions_of(db, subscriber)
        ],
    }


def _who(view: View, person: int) -> dict[tuple[int, int, int], str]:
    acts = view.columns.acts
    import numpy as np

    a, b = np.searchsorted(acts.person, (person, person + 1))
    return {(int(acts.at[i]), int(acts.kind[i]), int(acts.message[i])): WORDS[acts.by[i]] for i in range(a, b)}
