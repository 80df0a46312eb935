"""Asking for consent again: whom, the ready campaign that asks once, what the button does, who is suppressed after it."""

from __future__ import annotations

import json
import secrets
import sqlite3
from collections.abc import Mapping

import numpy as np

from openmeadow.core.consent.eligibility import GIVEN, Reason
from openmeadow.core.consent.sunset import SPARED
from openmeadow.core.delivery.plan import Plan
from openmeadow.core.errors import Missing, Refused
from openmeadow.core.events import Kind
from openmeadow.core.ids import CampaignId, DeliveryId, MessageId, PurposeId
from openmeadow.core.message.personalisation import plain_text_of
from openmeadow.core.moments import DAY
from openmeadow.core.names import free_name
from openmeadow.core.rules.conditions import quoted
from openmeadow.services import models
from openmeadow.services.campaigns.tracking import happened
from openmeadow.services.subscribers import bulk_actions, consent
from openmeadow.services.subscribers.selection import Choice
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.campaigns import batches as batch_table
from openmeadow.store.campaigns import campaigns, deliveries
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.segments import segments
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.senders import senders
from openmeadow.store.subscribers import consent as table


def clauses(purpose: str, none: bool, older_days: int, sources: list[str]) -> dict[str, list[str]]:
    """Whom to ask about a purpose, by the reason in words: consent none, older, or from a source unconfirmed."""
    p = quoted(purpose)
    return {
        "No consent": [f"consent to {p} by email is none"] if none else [],
        f"Consent older than {older_days:,} days": [f"consent to {p} given more than {older_days} days ago"]
        if older_days
        else [],
        "From a doubtful source": [f"consent to {p} from source {quoted(s)}" for s in sources],
    }


def look(
    workspace: Workspace, purposes: list[str], none: bool, older_days: int, sources: list[str]
) -> models.ConsentRequest:
    """How many there are, of each kind, and whom the eligibility check lets us ask: {"rule", "groups", "people", "exclusions",
    "permitted", "unrelated"}.

    ``unrelated`` are those without a booking, any consent given or a stated relation: stating it lets them be asked.
    """
    db = workspace.store.read()
    ids = {p.name: p.id for p in table.purposes(db)}
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
        raise Refused("Choose who to ask: no consent, consent older than some days, or consent from a doubtful source.")
    view = workspace.view()
    assert isinstance(view.facts, StoreFacts)
    masks = {
        words: np.logical_or.reduce([view.mask(workspace.checked_rule(text, view)) for text in texts])
        for words, texts in by_words.items()
    }
    mask = np.logical_or.reduce(list(masks.values()))
    answer = view.facts.may_ask(purposes, limits=False)
    only_unrelated = answer.reasons[Reason.NO_RELATIONSHIP] & mask
    for reason, against in answer.reasons.items():
        if reason != Reason.NO_RELATIONSHIP:
            only_unrelated &= ~against
    return models.ConsentRequest(
        rule=" or ".join(text for texts in by_words.values() for text in texts),
        groups=[models.Exclusion(words=words, count=int(m.sum())) for words, m in masks.items()],
        people=int(mask.sum()),
        exclusions=[models.Exclusion(words=r.capitalize(), count=n) for r, n in answer.exclusions(mask)],
        permitted=int((mask & answer.permitted).sum()),
        unrelated=int(only_unrelated.sum()),
    )


READY = """<html><body style="background:#FAF8F2;margin:0"><div style="max-width:560px;margin:0 auto;padding:28px;
font:16px/1.5 sans-serif;color:#1E2B33">
<p>Dear {{{{ first_name or "friend" }}}},</p>
<p>we'd like to keep emailing you, but only with your consent. Choose what you would like to receive; each link opens
a page where you confirm with one click.</p>
{asks}
<p>{silence}</p>
</div></body></html>"""


def silence(suppress_after_days: int) -> str:
    """What a request says, truly, about those who do nothing."""
    if suppress_after_days:
        return f"If you do nothing, we will stop emailing you after {suppress_after_days} days. We will not ask again."
    return "If you do nothing, nothing changes: your earlier choices stay, and we will not ask again."


ASK = '<p><a href="{{{{ {field} }}}}" style="color:#3A55A4;font-weight:600">Yes, {name}</a>{text}</p>'


def ready(
    workspace: Workspace,
    purposes: list[str],
    none: bool,
    older_days: int,
    sources: list[str],
    relation: str,
    suppress_after_days: int,
    who: str,
) -> int:
    """The ready campaign: a draft that asks about each purpose by one click each. ``relation`` states, on the record,
    what the people without a booking have to do with us; without it they are not asked. The campaign's id."""
    from openmeadow.core.imports.dates import rfc3339

    if suppress_after_days and not 7 <= suppress_after_days <= 365:
        raise Refused("Non-responders are suppressed after 7 to 365 days, or never.")
    found = look(workspace, purposes, none, older_days, sources)
    if not found.people:
        raise Refused("No one matches: every consent is given and newer than that.")
    db, now = workspace.store.read(), workspace.now()
    by_name = {p.name: p for p in table.purposes(db)}
    asks = "\n".join(
        ASK.format(field=f"agree_{by_name[p].id}", name=p, text=f"<br>{by_name[p].text}" if by_name[p].text else "")
        for p in purposes
    )
    html = READY.format(asks=asks, silence=silence(suppress_after_days))
    base = f"Consent request, {rfc3339(now)[:10]}"
    name = free_name(base, lambda n: campaigns.named(db, n) or segments.named(db, f"{n}: asked"))
    address = senders.ready_address(db)
    with workspace.store.atomic() as w:
        action = undo_log.begin(w, now, who, "created consent request", name, found.people, None)
        if relation.strip():
            view = workspace.view()
            assert isinstance(view.facts, StoreFacts)
            mask = view.mask(workspace.checked_rule(found.rule, view)) & ~view.facts.related()
            rows = [(int(s), relation.strip()[:500], now, who, action) for s in view.columns.people.id[mask]]
            stated = table.state_relation(w, rows)
            settings.log(w, now, who, "stated an existing relationship", relation.strip()[:200], stated)
        segment = segments.save(w, f"{name}: asked", found.rule, now)
        row_id = campaigns.add(w, name, secrets.randbits(48), now)
        campaigns.update(
            w,
            row_id,
            {
                "kind": "consent request",
                "asks": json.dumps(purposes),
                "purpose": by_name[purposes[0]].id,
                "from_address": address.id if address else None,
                "from_name": str(workspace.setting("name")),
                "subject": "May we keep emailing you?",
                "preview": "One click to say yes. What happens otherwise is at the end.",
                "html": html,
                "plain": plain_text_of(html),
                "segments_in": json.dumps([segment]),
                "plan": Plan(resend=False, suppress_after_days=suppress_after_days).model_dump_json(),
            },
        )
    return row_id


def _outcome_rules(message: str, asks: list[str]) -> dict[str, str]:
    got, said = f"received at least 1 of {quoted(message)}", f"clicked at least 1 of {quoted(message)}"
    given = " or ".join(f"consent to {quoted(p)} by email is given" for p in asks)
    no = " or ".join(f"consent to {quoted(p)} by email is withdrawn" for p in asks)
    return {"agreed": f"{said} and ({given})", "no reply": f"{got} and not ({said}) and not ({no}) and not (suppressed)"}


def save_segments(workspace: Workspace, db: sqlite3.Connection, row: Campaign, message: MessageId, who: str) -> None:
    """Two segments that keep themselves current: who agreed, and who did not reply."""
    name = campaigns.message_name(db, message)
    from openmeadow.core.rules.parser import parse

    for word, rule in _outcome_rules(name, row.asks).items():
        segments.save(db, f"{row.name}: {word}", parse(rule).text(), workspace.now())
    settings.log(db, workspace.now(), who, "saved segments of consent request", row.name)


def agree(
    workspace: Workspace,
    delivery: DeliveryId,
    purpose: PurposeId,
    agent: str = "",
    ip: str = "",
    *,
    shown: Mapping[int, int] | None = None,
) -> str:
    """What pressing the button does: a yes to one purpose, and a click; again does no harm. The purpose's name."""
    db = workspace.store.read()
    d, p = deliveries.delivery(db, delivery), table.purpose(db, purpose)
    if d is None or p is None or p.name not in d.asks:
        raise Missing("This request has expired.")
    latest = table.latest_entry(db, d.subscriber, purpose)
    if latest is None or latest.state != GIVEN or latest.at < (d.changed_at or 0):
        page = f"{workspace.setting('public_url')}/k"
        wording = (shown or {}).get(purpose)
        consent.said(workspace, d.subscriber, purpose, GIVEN, "confirmation link", wording=wording, page=page)
        happened(workspace, delivery, Kind.CLICKED, agent=agent, ip=ip)
    return str(p.name)


def keep_subscribed(workspace: Workspace, delivery: DeliveryId, agent: str = "", ip: str = "") -> str:
    """The button of a win-back: somebody is there and wants to stay. Counts as a click; the workspace's name."""
    if deliveries.delivery(workspace.store.read(), delivery) is None:
        raise Missing("This request has expired.")
    happened(workspace, delivery, Kind.CLICKED, agent=agent, ip=ip)
    return str(workspace.setting("name"))


def requests(workspace: Workspace) -> list[models.ConsentRequestLine]:
    """Every request that was started, with what came of it."""
    view, out = workspace.view(), []
    for row in campaigns.requests(workspace.store.read()):
        counts = {
            word: int(view.mask(workspace.checked_rule(rule, view)).sum())
            for word, rule in _outcome_rules(row.message_name, row.asks).items()
        }
        mailed = sum(b.sent or 0 for b in batch_table.batches(workspace.store.read(), CampaignId(row.id)))
        out.append(
            models.ConsentRequestLine(
                id=row.id,
                name=row.name,
                state=row.state,
                asks=row.asks,
                started_at=row.started_at,
                suppress_after_days=row.plan.suppress_after_days,
                suppressed_at=row.plan.suppressed_at,
                mailed=mailed,
                agreed=counts["agreed"],
                no_reply=counts["no reply"],
            )
        )
    return out


def suppress_non_responders(workspace: Workspace) -> int:
    """Where a request says so: who did not reply within its days, and agreed to nothing else, is suppressed. How many."""
    gone = 0
    for row in campaigns.requests(workspace.store.read()):
        days = row.plan.suppress_after_days
        if not days or row.plan.suppressed_at or workspace.now() < row.started_at + days * DAY:
            continue
        asks = row.asks
        others = [p.name for p in table.purposes(workspace.store.read()) if p.name not in asks]
        rule = _outcome_rules(row.message_name, asks)["no reply"]
        rule += "".join(f" and not (consent to {quoted(p)} by email is given)" for p in others)
        reason = f"no response to the consent request “{row.name}” within {days} days"
        _, people = bulk_actions.do(workspace, "suppress", reason, Choice(rule=rule, also=SPARED), "worker")
        gone += people
        with workspace.store.atomic() as db:
            campaigns.update(db, row.id, {"plan": row.plan.changed(suppressed_at=workspace.now()).model_dump_json()})
    return gone
