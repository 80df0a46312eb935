"""Clean-up: the standing agreement of what happens to people who stop, this week's people, and doing it."""

from __future__ import annotations

import secrets
import sqlite3
from dataclasses import asdict

import numpy as np

from openmeadow.core.arrays import I64
from openmeadow.core.consent import sunset as core
from openmeadow.core.consent.sunset import Agreement, Enrolment
from openmeadow.core.delivery.plan import Plan
from openmeadow.core.engagement.replay import FINE_DAYS, FINE_LEFT
from openmeadow.core.errors import Refused
from openmeadow.core.ids import PurposeId
from openmeadow.core.imports.dates import rfc3339
from openmeadow.core.message.personalisation import plain_text_of
from openmeadow.core.moments import DAY, WEEK
from openmeadow.core.names import free_name
from openmeadow.core.rules.conditions import View
from openmeadow.core.states import CampaignState
from openmeadow.services import models
from openmeadow.services.campaigns import campaigns as plans
from openmeadow.services.campaigns import findings, preflight, recipients
from openmeadow.services.subscribers.bulk_actions import SUPPRESSED_INACTIVE
from openmeadow.services.subscribers.engagement_map import Replays
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings, undo_log
from openmeadow.store.campaigns import campaigns
from openmeadow.store.campaigns.records import Campaign, Texts
from openmeadow.store.segments.permission_facts import StoreFacts
from openmeadow.store.senders import senders
from openmeadow.store.subscribers import subscribers
from openmeadow.store.subscribers import sunset as table

SETTING, RAN, TO_START = "sunset_policy", "sunset_ran_at", "sunset_to_start"
SHOWN = 12
UNANSWERED = 5  # as for Inactive
PATTERNS = {"win_back": "Win-back (template)", "click": "Ask for a click (template)"}
NAMES = {"win_back": "Win-back", "click": "Ask for a click"}

_PAGE = """<html><body style="background:#FAF8F2;margin:0"><div style="max-width:560px;margin:0 auto;padding:28px;
font:16px/1.5 sans-serif;color:#1E2B33">
<p>Dear {{{{ first_name or "friend" }}}},</p>
<p>{text}</p>
<p><a href="{{{{ stay_url }}}}" style="color:#3A55A4;font-weight:600">Keep me subscribed</a></p>
<p><a href="{{{{ preferences_url }}}}" style="color:#3A55A4">Or change your email preferences</a></p>
</div></body></html>"""
_TEXTS = {
    "win_back": (
        "Do you still want our emails?",
        "it's been a while since you opened our emails. Want to keep getting them? If not, do nothing and we'll stop.",
    ),
    "click": (
        "Are you still reading?",
        "your email app hides whether you open our emails, and that's fine. One click lets us know that you want them.",
    ),
}


def agreement(workspace: Workspace) -> Agreement | None:
    """The standing agreement; None while nobody has made one."""
    kept = workspace.setting(SETTING)
    return Agreement(**kept["terms"]) if kept else None


def purpose_of(workspace: Workspace) -> str:
    """The purpose that the sunset policy's messages are about."""
    kept = workspace.setting(SETTING)
    return str(kept["purpose"]) if kept else subscribers.usual_purpose(workspace.store.read())


def agree(workspace: Workspace, made: Agreement, purpose: str, who: str) -> None:
    """Write the agreement down. The two patterns, drafts that its mails are copies of, stand ready from then on."""
    db = workspace.store.read()
    ids = {p.name: p.id for p in subscribers.names(db, "purposes")}
    if purpose not in ids:
        raise Refused("Choose the purpose of the win-back email.")
    with workspace.store.atomic() as w:
        settings.set_setting(w, SETTING, {"terms": asdict(made), "purpose": purpose})
        for kind, name in PATTERNS.items():
            if (pattern := campaigns.named(w, name)) is None:
                _write_pattern(workspace, w, kind, name, PurposeId(ids[purpose]))
            else:
                campaigns.update(w, pattern.id, {"purpose": ids[purpose]})
        settings.log(w, workspace.now(), who, "turned on sunset policy", sentence(made))


def sentence(a: Agreement) -> str:
    """The agreement in words."""
    tries = "1 win-back email" if a.tries == 1 else f"{a.tries} win-back emails, {a.wait_days} days apart"
    return f"after {a.after_days} days without engagement {tries}; no engagement within {a.wait_days} more days: suppress"


def _write_pattern(workspace: Workspace, db: sqlite3.Connection, kind: str, name: str, purpose: PurposeId) -> None:
    subject, text = _TEXTS[kind]
    address = senders.ready_address(db)
    html = _PAGE.format(text=text)
    row_id = campaigns.add(db, name, secrets.randbits(48), workspace.now())
    campaigns.update(
        db,
        row_id,
        {
            "purpose": purpose,
            "from_address": address.id if address else None,
            "from_name": str(workspace.setting("name")),
            "subject": subject,
            "html": html,
            "plain": plain_text_of(html),
            "plan": Plan(resend=False, batches=1, pilot_share=0.0).model_dump_json(),
        },
    )


def _groups(workspace: Workspace, view: View, a: Agreement) -> dict[str, I64]:
    """Store ids by what happens to them now; ``waiting`` are inside and not due."""
    assert isinstance(view.facts, StoreFacts)
    permitted = view.facts.permitted(purpose_of(workspace))
    ids, protected = view.columns.people.id, core.protected_people(view)
    found: dict[str, list[int]] = {}
    inside = np.zeros(len(ids), bool)
    for r in table.inside(workspace.store.read()):
        at = workspace.index_of(view, r.subscriber)
        inside[at] = True
        enrolment = Enrolment(r.began_at, r.tries, r.next_at)
        step = core.next_step(
            enrolment, int(view.last_engaged[at]), bool(protected[at]), bool(permitted[at]), a, view.now
        )
        found.setdefault(step, []).append(r.subscriber)
    inactive, masked = core.stopped(view, a)
    free = permitted & ~protected & ~inside
    out = {step: np.array(some, np.int64) for step, some in found.items()}
    out[core.BEGIN] = ids[inactive & free]
    out[core.ASK_FOR_CLICK] = ids[masked & free] if a.ask_masked else np.zeros(0, np.int64)
    return out


ORDER = (
    (core.BEGIN, "First win-back email."),
    (core.ASK_FOR_CLICK, "Masked: asked for a click first."),
    (core.AGAIN, "Another win-back email: no engagement since the last one."),
    (core.SUPPRESS, "All win-back emails sent: suppressed (logged)."),
    (core.ENGAGED, "Engaged since: kept, and removed from the sunset policy."),
    (core.NOT_PERMITTED, "Unsubscribed or suppressed since: removed from the sunset policy."),
    (core.WAIT, "In progress, not due yet."),
)


def saving(found: models.ReplayView, after_days: int) -> dict[str, models.Saved]:
    """What stopping there would have meant for the sends that were replayed."""
    column = FINE_DAYS.index(after_days)
    out: dict[str, models.Saved] = {}
    for name, flat in found.for_good:
        cell, value = np.array(flat[0::2], np.int64), np.array(flat[1::2], np.float64)
        beyond = (cell // len(FINE_LEFT) >= column) & (cell % len(FINE_LEFT) >= UNANSWERED)
        out[name.replace("_", " ")] = models.Saved(beyond=float(value[beyond].sum()), all=float(value.sum()))
    return out


def see(
    workspace: Workspace, replays: Replays, wish: Agreement | None = None, *, rough: bool = False
) -> models.SunsetView:
    """The agreement, this week's people and what happens to them and when, what it saves, what it has done; with a
    ``wish`` all that as it would be with it, nothing being kept. ``rough``: what it saves may be estimated."""
    kept, view, db = agreement(workspace), workspace.view(), workspace.store.read()
    if kept is None and not subscribers.usual_purpose(db):
        raise Refused("A sunset policy is about a purpose. Add one under Consent first.")
    a = wish or kept or Agreement(after_days=_proposed(view))
    groups = _groups(workspace, view, a)
    stays = {r.subscriber: r for r in table.inside(db)}
    out = []
    for step, words in ORDER:
        some = groups.get(step, np.zeros(0, np.int64))
        if not len(some) and step in (core.ENGAGED, core.NOT_PERMITTED, core.WAIT):
            continue
        people = []
        rows = subscribers.by_ids(db, some[:SHOWN].tolist())
        for row_id in some[:SHOWN].tolist():
            at, r = workspace.index_of(view, row_id), stays.get(row_id)
            last = int(view.last_engaged[at])
            enrolment = (
                Enrolment(r.began_at, r.tries, r.next_at) if r else Enrolment(view.now, 1, view.now + a.wait_days * DAY)
            )
            ends = None if step in (core.ENGAGED, core.NOT_PERMITTED) else max(core.due_at(enrolment, a), view.now)
            people.append(
                models.SunsetPerson(
                    id=row_id,
                    email=rows[row_id].email,
                    last_engaged=None if last < 0 else last,
                    tries=r.tries if r else 0,
                    suppress_at=ends,
                )
            )
        out.append(models.SunsetGroup(step=step, words=words, count=len(some), people=people))
    inactive, masked = core.stopped(view, a)
    ran, replayed = workspace.setting(RAN), replays.of(12, rough=rough)
    return models.SunsetView(
        active=kept is not None,
        **asdict(a),
        sentence=sentence(a),
        purpose=purpose_of(workspace),
        purposes=[p.name for p in subscribers.names(db, "purposes")],
        groups=out,
        stopped=int(inactive.sum() + masked.sum()),
        protected=int(((inactive | masked) & core.protected_people(view)).sum()),
        saving=saving(replayed, a.after_days),
        saving_off=replayed.off,
        patterns=_patterns(workspace),
        ran_at=ran,
        next_at=(ran or view.now) + WEEK if kept and kept.automatic and ran else None,
        outcomes=table.outcomes(db, 0),
        as_of=view.now,
    )


def _patterns(workspace: Workspace) -> list[models.Pattern]:
    """The emails that the policy uses, with what stops each."""
    db = workspace.store.read()
    patterns = []
    for kind, name in PATTERNS.items():
        row, stop = campaigns.named(db, name), ""
        try:
            _pattern(workspace, kind)
        except Refused as e:
            stop = str(e)
        patterns.append(models.Pattern(id=row.id if row else None, name=name, stop=stop if row else ""))
    return patterns


def _proposed(view: View) -> int:
    """The workspace's own window, as the agreement takes it."""
    return min(365, max(90, view.scores.cadence.window))


def run(workspace: Workspace, who: str) -> dict[str, int]:
    """Do what is due: mail the tries, suppressed, close. What is decided is written down at once, with the campaigns still
    to be started; who comes next starts them. How many of each; the action of letting go under ``action``."""
    a = agreement(workspace)
    if a is None:
        raise Refused("Turn on a sunset policy first.")
    view = workspace.view()
    groups = _groups(workspace, view, a)
    now, later = view.now, view.now + a.wait_days * DAY
    some = {step: groups.get(step, np.zeros(0, np.int64)).tolist() for step, _ in ORDER}
    mails = {"win_back": some[core.BEGIN] + some[core.AGAIN], "click": some[core.ASK_FOR_CLICK]}
    for kind, people in mails.items():
        if people:
            _pattern(workspace, kind)
    with workspace.store.atomic() as db:
        made = [_draft(workspace, db, kind, people) for kind, people in mails.items() if people]
        table.begin(db, [(s, now, 0, later) for s in some[core.BEGIN]])
        table.begin(db, [(s, now, 1, later) for s in some[core.ASK_FOR_CLICK]])
        table.tried(db, some[core.AGAIN], later)
        for step, outcome in core.OUTCOMES.items():
            table.end(db, some[step], outcome, now)
        action = 0
        if some[core.SUPPRESS]:
            reason = f"sunset policy: {sentence(a)}"
            action = undo_log.begin(db, now, who, "suppressed", reason, len(some[core.SUPPRESS]), "rows")
            subscribers.add_suppressions(db, [(s, SUPPRESSED_INACTIVE, now, reason, action) for s in some[core.SUPPRESS]])
        settings.set_setting(db, RAN, now)
        settings.set_setting(db, TO_START, [*(settings.setting(db, TO_START) or []), *made])
        settings.log(
            db, now, who, "ran sunset policy", sentence(a), sum(len(some[s]) for s, _ in ORDER if s != core.WAIT)
        )
    start_what_waits(workspace, who)
    return {**{step: len(s) for step, s in some.items()}, "action": action}


def start_what_waits(workspace: Workspace, who: str) -> None:
    """Start the campaigns a run has made; one that nobody may get any more is removed."""
    for row_id in workspace.setting(TO_START) or []:
        row = campaigns.one(workspace.store.read(), row_id)
        if row is not None and row.state == CampaignState.DRAFT:
            if len(recipients.work_out(workspace, row).index):
                plans.start(workspace, row_id, who)
            else:
                with workspace.store.atomic() as db:
                    campaigns.remove(db, row_id)
        with workspace.store.atomic() as db:
            settings.set_setting(db, TO_START, [i for i in settings.setting(db, TO_START) or [] if i != row_id])


def _pattern(workspace: Workspace, kind: str) -> Campaign:
    """The draft that mails of a kind are copies of; refused while something stops it."""
    row = campaigns.named(workspace.store.read(), PATTERNS[kind])
    if row is None:
        raise Refused(f"The template “{PATTERNS[kind]}” is missing. Save the policy again to recreate it.")
    stops = [c for c in findings.stops(preflight.checks(workspace, row)) if c.check != "Recipients"]
    if stops:
        raise Refused(f"“{PATTERNS[kind]}” cannot be mailed yet. {stops[0].check}: {stops[0].finding}")
    return row


def _draft(workspace: Workspace, db: sqlite3.Connection, kind: str, people: list[int]) -> int:
    """A campaign of its own, a copy of the pattern, to these people."""
    pattern = _pattern(workspace, kind)
    base = f"{NAMES[kind]}, {rfc3339(workspace.now())[:10]}"
    name = free_name(base, lambda n: campaigns.named(db, n))
    row_id = campaigns.add(db, name, secrets.randbits(48), workspace.now())
    copied = {
        **asdict(Texts.of(pattern)),
        "purpose": pattern.purpose,
        "from_address": pattern.from_address,
        "from_name": pattern.from_name,
        "plain_edited": pattern.plain_edited,
        "plan": pattern.plan.model_dump_json(),
    }
    campaigns.update(db, row_id, copied)
    campaigns.set_people(db, row_id, "in", people)
    return row_id


def due(workspace: Workspace, view: View) -> int:
    """How many people wait for the analyst's word: nothing while there is no agreement, or it runs by itself."""
    a, ran = agreement(workspace), workspace.setting(RAN)
    if a is None or a.automatic or (ran and view.now < ran + WEEK):
        return 0
    acts = (core.BEGIN, core.ASK_FOR_CLICK, core.AGAIN, core.SUPPRESS)
    return sum(len(some) for step, some in _groups(workspace, view, a).items() if step in acts)


def run_automatic(workspace: Workspace) -> bool:
    """Every week, where the agreement is switched to that; True when it ran."""
    a, ran = agreement(workspace), workspace.setting(RAN)
    if a is None or not a.automatic or (ran and workspace.now() < ran + WEEK):
        return False
    run(workspace, "the sunset policy")
    return True
