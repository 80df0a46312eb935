"""Asking for consent again: whom, the ready campaign that asks once, what the button does, and the silent let go."""

from __future__ import annotations

import json
import secrets
from collections.abc import Mapping
from typing import Any

import numpy as np

from openmeadow.core.columns import Kind
from openmeadow.core.consent.gate import GIVEN, WITHDRAWN
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message.body import twin
from openmeadow.core.rules.tree import quoted
from openmeadow.desk import acts, consent
from openmeadow.desk.answers import happened
from openmeadow.desk.desk import Desk
from openmeadow.desk.marked import Choice
from openmeadow.store import campaigns, deeds, ledger, segments, senders, workspace
from openmeadow.store import consent as table
from openmeadow.store.facts import StoreFacts

DAY = 86_400
UNRELATED = "no prior relation stated"


def clauses(purpose: str, none: bool, older_days: int, sources: list[str]) -> dict[str, list[str]]:
    """Whom to ask about a purpose, by the reason in words: consent none, older, or from a source in doubt."""
    p = quoted(purpose)
    return {
        "Consent none": [f"consent to {p} by email is none"] if none else [],
        f"Consent older than {older_days:,} days": [f"consent to {p} given more than {older_days} days ago"]
        if older_days
        else [],
        "From a source in doubt": [f"consent to {p} came from {quoted(s)}" for s in sources],
    }


def look(desk: Desk, purposes: list[str], none: bool, older_days: int, sources: list[str]) -> dict[str, Any]:
    """How many there are, of each kind, and whom the gate lets us ask: {"rule", "groups", "people", "sieve",
    "permitted", "unrelated"}.

    ``unrelated`` are those without a booking, any consent given or a stated relation: stating it lets them be asked.
    """
    db = desk.store.read()
    ids = {p["name"]: p["id"] for p in table.purposes(db)}
    if not purposes:
        raise Refused("Choose at least one purpose to ask about.")
    if unknown := [p for p in purposes if p not in ids]:
        raise Missing(f"There is no purpose “{unknown[0]}”.")
    by_words: dict[str, list[str]] = {}
    for p in purposes:
        known = set(table.sources(db, ids[p]))
        for words, texts in clauses(p, none, older_days, [s for s in sources if s in known]).items():
            by_words.setdefault(words, []).extend(texts)
    by_words = {words: texts for words, texts in by_words.items() if texts}
    if not by_words:
        raise Refused("Say whom to ask: consent none, older than some days, or from a source in doubt.")
    view = desk.view()
    assert isinstance(view.facts, StoreFacts)
    masks = {
        words: np.logical_or.reduce([view.mask(desk.checked_rule(text, view)) for text in texts])
        for words, texts in by_words.items()
    }
    mask = np.logical_or.reduce(list(masks.values()))
    answer = view.facts.may_ask(purposes, limits=False)
    only_unrelated = answer.reasons[UNRELATED] & mask
    for reason, against in answer.reasons.items():
        if reason != UNRELATED:
            only_unrelated &= ~against
    return {
        "rule": " or ".join(text for texts in by_words.values() for text in texts),
        "groups": [{"words": words, "count": int(m.sum())} for words, m in masks.items()],
        "people": int(mask.sum()),
        "sieve": [{"words": r.capitalize(), "count": n} for r, n in answer.sieve(mask)],
        "permitted": int((mask & answer.permitted).sum()),
        "unrelated": int(only_unrelated.sum()),
    }


READY = """<html><body style="background:#FAF8F2;margin:0"><div style="max-width:560px;margin:0 auto;padding:28px;
font:16px/1.5 sans-serif;color:#1E2B33">
<p>Dear {{{{ first_name or "friend" }}}},</p>
<p>we would like to keep writing to you, and we want to do it only if you say so. Each line below opens a page with one
button; press it for what you would like to get.</p>
{asks}
<p>{silence}</p>
</div></body></html>"""


def silence(let_go_days: int) -> str:
    """What a request says, truly, about those who do nothing."""
    if let_go_days:
        return f"If you do nothing, we stop writing to you after {let_go_days} days. This is the only time we ask."
    return "If you do nothing, nothing changes: what you agreed to before stays, and this is the only time we ask."


ASK = '<p><a href="{{{{ {field} }}}}" style="color:#3A55A4;font-weight:600">Yes, {name}</a>{text}</p>'


def ready(
    desk: Desk,
    purposes: list[str],
    none: bool,
    older_days: int,
    sources: list[str],
    relation: str,
    let_go_days: int,
    who: str,
) -> int:
    """The ready campaign: a draft that asks about each purpose by one click each. ``relation`` states, on the record,
    what the people without a booking have to do with us; without it they are not asked. The campaign's id."""
    from openmeadow.core.intake.moments import rfc3339

    if let_go_days and not 7 <= let_go_days <= 365:
        raise Refused("The silent are let go after 7 to 365 days, or not at all.")
    found = look(desk, purposes, none, older_days, sources)
    if not found["people"]:
        raise Refused("Nobody has to be asked: everybody's consent is given, and none is that old.")
    db, now = desk.store.read(), desk.now()
    by_name = {p["name"]: p for p in table.purposes(db)}
    asks = "\n".join(
        ASK.format(
            field=f"agree_{by_name[p]['id']}", name=p, text=f"<br>{by_name[p]['text']}" if by_name[p]["text"] else ""
        )
        for p in purposes
    )
    html = READY.format(asks=asks, silence=silence(let_go_days))
    name = _free_name(db, f"Asking again, {rfc3339(now)[:10]}")
    address = senders.ready_address(db)
    with desk.store.atomic() as w:
        deed = deeds.begin(w, now, who, "prepared consent request", name, found["people"], None)
        if relation.strip():
            view = desk.view()
            assert isinstance(view.facts, StoreFacts)
            mask = view.mask(desk.checked_rule(found["rule"], view)) & ~view.facts.related()
            rows = [(int(s), relation.strip()[:500], now, who, deed) for s in view.columns.people.id[mask]]
            stated = table.state_relation(w, rows)
            workspace.log(w, now, who, "stated a prior relation", relation.strip()[:200], stated)
        segment = segments.save(w, f"{name}: asked", found["rule"], now)
        id = campaigns.add(w, name, secrets.randbits(48), now)
        campaigns.update(
            w,
            id,
            {
                "kind": "consent request",
                "asks": json.dumps(purposes),
                "purpose": by_name[purposes[0]]["id"],
                "from_address": address["id"] if address else None,
                "from_name": str(desk.setting("name")),
                "subject": "May we keep writing to you?",
                "preview": "One click says yes. What happens without it stands at the end.",
                "html": html,
                "plain": twin(html),
                "segments_in": json.dumps([segment]),
                "plan": json.dumps({"resend": False, "let_go_days": let_go_days}),
            },
        )
    return id


def _free_name(db: Any, name: str) -> str:
    fresh, n = name, 1
    while campaigns.named(db, fresh) or segments.named(db, f"{fresh}: asked"):
        n += 1
        fresh = f"{name} ({n})"
    return fresh


def _outcome_rules(message: str, asks: list[str]) -> dict[str, str]:
    got, said = f"got at least 1 of {quoted(message)}", f"clicked at least 1 of {quoted(message)}"
    given = " or ".join(f"consent to {quoted(p)} by email is given" for p in asks)
    no = " or ".join(f"consent to {quoted(p)} by email is withdrawn" for p in asks)
    return {"agreed": f"{said} and ({given})", "silent": f"{got} and not ({said}) and not ({no}) and not (suppressed)"}


def keep_segments(desk: Desk, db: Any, row: Any, message: int, who: str) -> None:
    """Two segments that keep themselves current: who agreed, and who stayed silent."""
    name = db.execute("SELECT name FROM messages WHERE id = ?", (message,)).fetchone()["name"]
    from openmeadow.core.rules.sentence import parse

    for word, rule in _outcome_rules(name, json.loads(row["asks"])).items():
        segments.save(db, f"{row['name']}: {word}", parse(rule).text(), desk.now())
    workspace.log(db, desk.now(), who, "kept segments of consent request", row["name"])


def agree(
    desk: Desk, delivery: int, purpose: int, agent: str = "", ip: str = "", *, shown: Mapping[int, int] | None = None
) -> str:
    """What pressing the button does: a yes to one purpose, and a click; again does no harm. The purpose's name."""
    db = desk.store.read()
    d, p = ledger.delivery(db, delivery), table.purpose(db, purpose)
    if d is None or p is None or p["name"] not in json.loads(d["asks"]):
        raise Missing("This question is not there any more.")
    latest = table.latest_entry(db, d["subscriber"], purpose)
    if latest is None or latest["state"] != GIVEN or latest["at"] < (d["changed_at"] or 0):
        page = f"{desk.setting('public_url')}/k"
        wording = (shown or {}).get(purpose)
        consent.said(desk, d["subscriber"], purpose, GIVEN, "confirmation link", wording=wording, page=page)
        happened(desk, delivery, Kind.CLICKED, agent=agent, ip=ip)
    return str(p["name"])


def stay(desk: Desk, delivery: int, agent: str = "", ip: str = "") -> str:
    """The button of a win-back: somebody is there and wants to stay. Counts as a click; the workspace's name."""
    if ledger.delivery(desk.store.read(), delivery) is None:
        raise Missing("This question is not there any more.")
    happened(desk, delivery, Kind.CLICKED, agent=agent, ip=ip)
    return str(desk.setting("name"))


def refuse(desk: Desk, d: Any) -> None:
    """A no to a consent request is a no to all it asked about."""
    ids = {p["name"]: p["id"] for p in table.purposes(desk.store.read())}
    for name in json.loads(d["asks"]):
        if name in ids and table.latest(desk.store.read(), d["subscriber"], ids[name]) != WITHDRAWN:
            consent.said(desk, d["subscriber"], ids[name], WITHDRAWN, "unsubscribe link")


def requests(desk: Desk) -> list[dict[str, Any]]:
    """Every request that was started, with what came of it."""
    view, out = desk.view(), []
    for row in campaigns.requests(desk.store.read()):
        plan, asks = json.loads(row["plan"]), json.loads(row["asks"])
        counts = {
            word: int(view.mask(desk.checked_rule(rule, view)).sum())
            for word, rule in _outcome_rules(row["message_name"], asks).items()
        }
        mailed = sum(b["handed"] or 0 for b in ledger.batches(desk.store.read(), row["id"]))
        out.append(
            {k: row[k] for k in ("id", "name", "state", "started_at")}
            | {"asks": asks, "mailed": mailed, **counts}
            | {"let_go_days": plan.get("let_go_days") or 0, "let_go_done": plan.get("let_go_done")}
        )
    return out


def let_silent_go(desk: Desk) -> int:
    """Where a request says so: who was silent for its days, and agreed to nothing else, is let go. How many."""
    gone = 0
    for row in campaigns.requests(desk.store.read()):
        plan = json.loads(row["plan"])
        days = int(plan.get("let_go_days") or 0)
        if not days or plan.get("let_go_done") or desk.now() < row["started_at"] + days * DAY:
            continue
        asks = json.loads(row["asks"])
        others = [p["name"] for p in table.purposes(desk.store.read()) if p["name"] not in asks]
        rule = _outcome_rules(row["message_name"], asks)["silent"]
        rule += "".join(f" and not (consent to {quoted(p)} by email is given)" for p in others)
        reason = f"did not answer the consent request “{row['name']}” within {days} days"
        _, people = acts.do(desk, "let go", reason, Choice(rule=rule), "worker")
        gone += people
        with desk.store.atomic() as db:
            campaigns.update(db, row["id"], {"plan": json.dumps({**plan, "let_go_done": desk.now()})})
    return gone
