"""Clean-up: the standing agreement of what happens to people who stop, this week's people, and doing it."""

from __future__ import annotations

import json
import secrets
from dataclasses import asdict
from typing import Any

import numpy as np

from openmeadow.core.columns import DAY, I64
from openmeadow.core.consent import clean_up as core
from openmeadow.core.consent.clean_up import Agreement, Stay
from openmeadow.core.engagement.replay import FINE_DAYS, FINE_LEFT
from openmeadow.core.errors import Refused
from openmeadow.core.intake.moments import rfc3339
from openmeadow.core.message.body import twin
from openmeadow.core.rules.tree import View
from openmeadow.desk import campaigns as plans
from openmeadow.desk import checking, recipients
from openmeadow.desk.acts import LET_GO
from openmeadow.desk.cutoff import Replays
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, deeds, senders, subscribers, workspace
from openmeadow.store import clean_up as table
from openmeadow.store.facts import StoreFacts

SETTING, RAN, TO_START = "clean_up", "clean_up_ran_at", "clean_up_to_start"
WEEK = 7 * DAY
SHOWN = 12
UNANSWERED = 5  # as for Silent
PATTERNS = {"win_back": "Win-back (pattern)", "click": "Ask for a click (pattern)"}
NAMES = {"win_back": "Win-back", "click": "Ask for a click"}

_PAGE = """<html><body style="background:#FAF8F2;margin:0"><div style="max-width:560px;margin:0 auto;padding:28px;
font:16px/1.5 sans-serif;color:#1E2B33">
<p>Dear {{{{ first_name or "friend" }}}},</p>
<p>{text}</p>
<p><a href="{{{{ stay_url }}}}" style="color:#3A55A4;font-weight:600">Yes, keep writing to me</a></p>
<p><a href="{{{{ preferences_url }}}}" style="color:#3A55A4">Or choose what we write, and how often</a></p>
</div></body></html>"""
_TEXTS = {
    "win_back": (
        "Shall we keep writing to you?",
        "our last messages found no answer, and we do not want to fill your mailbox. If you would like to stay, press "
        "the line below; if not, do nothing, and we will stop by ourselves.",
    ),
    "click": (
        "Do our messages reach you?",
        "your mail program keeps to itself what you read, so we cannot see whether our messages are welcome. One click "
        "on the line below tells us.",
    ),
}


def agreement(desk: Desk) -> Agreement | None:
    """The standing agreement; None while nobody has made one."""
    kept = desk.setting(SETTING)
    return Agreement(**kept["terms"]) if kept else None


def purpose_of(desk: Desk) -> str:
    kept = desk.setting(SETTING)
    return str(kept["purpose"]) if kept else subscribers.usual_purpose(desk.store.read())


def agree(desk: Desk, terms: dict[str, Any], purpose: str, who: str) -> None:
    """Write the agreement down. The two patterns, drafts that its mails are copies of, stand ready from then on."""
    made = Agreement(**terms)
    db = desk.store.read()
    ids = {p["name"]: p["id"] for p in subscribers.names(db, "purposes")}
    if purpose not in ids:
        raise Refused("Choose the purpose that the win-back writes about.")
    with desk.store.atomic() as w:
        workspace.set_setting(w, SETTING, {"terms": asdict(made), "purpose": purpose})
        for kind, name in PATTERNS.items():
            if campaigns.named(w, name) is None:
                _write_pattern(desk, w, kind, name, ids[purpose])
            else:
                campaigns.update(w, int(campaigns.named(w, name)["id"]), {"purpose": ids[purpose]})  # type: ignore[index]
        workspace.log(w, desk.now(), who, "agreed on clean-up", sentence(made))


def sentence(a: Agreement) -> str:
    """The agreement in words."""
    tries = "one try" if a.tries == 1 else f"{a.tries} tries, {a.wait_days} days apart"
    return f"after {a.after_days} days without an answer {tries}, then let go after {a.wait_days} days more"


def _write_pattern(desk: Desk, db: Any, kind: str, name: str, purpose: int) -> None:
    subject, text = _TEXTS[kind]
    address = senders.ready_address(db)
    html = _PAGE.format(text=text)
    id = campaigns.add(db, name, secrets.randbits(48), desk.now())
    campaigns.update(
        db,
        id,
        {
            "purpose": purpose,
            "from_address": address["id"] if address else None,
            "from_name": str(desk.setting("name")),
            "subject": subject,
            "html": html,
            "plain": twin(html),
            "plan": json.dumps({"resend": False, "batches": 1, "lead_share": 0.0}),
        },
    )


def _groups(desk: Desk, view: View, a: Agreement) -> dict[str, I64]:
    """Store ids by what happens to them now; ``waiting`` are inside and not due."""
    assert isinstance(view.facts, StoreFacts)
    permitted = view.facts.permitted(purpose_of(desk))
    ids, protected = view.columns.people.id, core.never_let_go(view)
    found: dict[str, list[int]] = {}
    inside = np.zeros(len(ids), bool)
    for r in table.inside(desk.store.read()):
        at = desk.index_of(view, r["subscriber"])
        inside[at] = True
        stay = Stay(r["began_at"], r["tries"], r["next_at"])
        step = core.next_step(stay, int(view.last_answer[at]), bool(protected[at]), bool(permitted[at]), a, view.now)
        found.setdefault(step, []).append(r["subscriber"])
    silent, veiled = core.stopped(view, a)
    free = permitted & ~protected & ~inside
    out = {step: np.array(some, np.int64) for step, some in found.items()}
    out[core.BEGIN] = ids[silent & free]
    out[core.ASK_FOR_CLICK] = ids[veiled & free] if a.ask_veiled else np.zeros(0, np.int64)
    return out


ORDER = (
    (core.BEGIN, "A first try: the win-back is mailed to them."),
    (core.ASK_FOR_CLICK, "Veiled: they are asked for a click before anything is concluded."),
    (core.AGAIN, "Another try: still no answer since the last one."),
    (core.LET_GO, "Tried as often as agreed: never mailed again, on the record."),
    (core.ANSWERED, "Answered, booked or replied meanwhile: they stay, and leave the clean-up."),
    (core.NOT_PERMITTED, "Left or were suppressed meanwhile: they leave the clean-up."),
    (core.WAIT, "Inside, not due yet."),
)


def saving(desk: Desk, replays: Replays, after_days: int) -> dict[str, Any]:
    """What stopping there would have meant for the sends of the last 12 months, from the replay."""
    found = replays.of(12)
    column = FINE_DAYS.index(after_days)
    out: dict[str, Any] = {}
    for name, flat in found["sums"].items():
        cell, value = np.array(flat[0::2], np.int64), np.array(flat[1::2], np.float64)
        beyond = (cell // len(FINE_LEFT) >= column) & (cell % len(FINE_LEFT) >= UNANSWERED)
        out[name] = {"beyond": float(value[beyond].sum()), "all": float(value.sum())}
    return out


def see(desk: Desk, replays: Replays) -> dict[str, Any]:
    """The agreement, this week's people and what happens to them and when, what it saves, what it has done."""
    kept, view, db = agreement(desk), desk.view(), desk.store.read()
    a = kept or Agreement(after_days=_proposed(view))
    groups = _groups(desk, view, a)
    stays = {r["subscriber"]: r for r in table.inside(db)}
    out = []
    for step, words in ORDER:
        some = groups.get(step, np.zeros(0, np.int64))
        if not len(some) and step in (core.ANSWERED, core.NOT_PERMITTED, core.WAIT):
            continue
        people = []
        rows = subscribers.by_ids(db, some[:SHOWN].tolist())
        for id in some[:SHOWN].tolist():
            at, r = desk.index_of(view, id), stays.get(id)
            last = int(view.last_answer[at])
            stay = Stay(r["began_at"], r["tries"], r["next_at"]) if r else Stay(view.now, 1, view.now + a.wait_days * DAY)
            ends = None if step in (core.ANSWERED, core.NOT_PERMITTED) else max(core.due_at(stay, a), view.now)
            people.append(
                {
                    "id": id,
                    "email": rows[id]["email"],
                    "last_answer": None if last < 0 else last,
                    "tries": r["tries"] if r else 0,
                    "let_go_at": ends,
                }
            )
        out.append({"step": step, "words": words, "count": len(some), "people": people})
    patterns = []
    for kind, name in PATTERNS.items():
        row, stop = campaigns.named(db, name), ""
        try:
            _pattern(desk, kind)
        except Refused as e:
            stop = str(e)
        patterns.append({"id": row["id"] if row else None, "name": name, "stop": stop if row else ""})
    silent, veiled = core.stopped(view, a)
    ran = desk.setting(RAN)
    return {
        "agreed": kept is not None,
        **asdict(a),
        "sentence": sentence(a),
        "purpose": purpose_of(desk),
        "purposes": [p["name"] for p in subscribers.names(db, "purposes")],
        "groups": out,
        "stopped": int(silent.sum() + veiled.sum()),
        "protected": int(((silent | veiled) & core.never_let_go(view)).sum()),
        "saving": saving(desk, replays, a.after_days),
        "patterns": patterns,
        "ran_at": ran,
        "next_at": (ran or view.now) + WEEK if kept and kept.by_itself and ran else None,
        "outcomes": table.outcomes(db, 0),
        "as_of": view.now,
    }


def _proposed(view: View) -> int:
    """The workspace's own window, as the agreement takes it."""
    return min(365, max(90, view.scores.cadence.window))


def run(desk: Desk, who: str) -> dict[str, int]:
    """Do what is due: mail the tries, let go, close. What is decided is written down at once, with the campaigns still
    to be started; whoever comes next starts them. How many of each; the deed of letting go under ``deed``."""
    a = agreement(desk)
    if a is None:
        raise Refused("There is no agreement yet: say first what is to happen to people who stop.")
    view = desk.view()
    groups = _groups(desk, view, a)
    now, later = view.now, view.now + a.wait_days * DAY
    some = {step: groups.get(step, np.zeros(0, np.int64)).tolist() for step, _ in ORDER}
    mails = {"win_back": some[core.BEGIN] + some[core.AGAIN], "click": some[core.ASK_FOR_CLICK]}
    for kind, people in mails.items():
        if people:
            _pattern(desk, kind)
    with desk.store.atomic() as db:
        made = [_draft(desk, db, kind, people) for kind, people in mails.items() if people]
        table.begin(db, [(s, now, 0, later) for s in some[core.BEGIN]])
        table.begin(db, [(s, now, 1, later) for s in some[core.ASK_FOR_CLICK]])
        table.tried(db, some[core.AGAIN], later)
        for step in (core.LET_GO, core.ANSWERED, core.NOT_PERMITTED):
            table.end(db, some[step], step, now)
        deed = 0
        if some[core.LET_GO]:
            reason = f"clean-up: {sentence(a)}"
            deed = deeds.begin(db, now, who, "let go", reason, len(some[core.LET_GO]), "rows")
            subscribers.add_suppressions(db, [(s, LET_GO, now, reason, deed) for s in some[core.LET_GO]])
        workspace.set_setting(db, RAN, now)
        workspace.set_setting(db, TO_START, [*(workspace.setting(db, TO_START) or []), *made])
        workspace.log(db, now, who, "ran clean-up", sentence(a), sum(len(some[s]) for s, _ in ORDER if s != core.WAIT))
    start_what_waits(desk, who)
    return {**{step: len(s) for step, s in some.items()}, "deed": deed}


def start_what_waits(desk: Desk, who: str) -> None:
    """Start the campaigns a run has made; one that nobody may get any more is removed."""
    for id in desk.setting(TO_START) or []:
        row = campaigns.one(desk.store.read(), id)
        gone = row is None or row["state"] != "draft"
        if not gone and not len(recipients.work_out(desk, row).index):
            with desk.store.atomic() as db:
                campaigns.remove(db, id)
        elif not gone:
            plans.start(desk, id, who)
        with desk.store.atomic() as db:
            workspace.set_setting(db, TO_START, [i for i in workspace.setting(db, TO_START) or [] if i != id])


def _pattern(desk: Desk, kind: str) -> Any:
    """The draft that mails of a kind are copies of; refused while something stops it."""
    named = campaigns.named(desk.store.read(), PATTERNS[kind])
    if named is None:
        raise Refused(f"The draft “{PATTERNS[kind]}” is not there any more; agree anew, and it is written again.")
    row = campaigns.one(desk.store.read(), named["id"])
    stops = [c for c in checking.stops(checking.checks(desk, row)) if c["check"] != "Recipients"]
    if stops:
        raise Refused(f"“{PATTERNS[kind]}” cannot be mailed yet. {stops[0]['check']}: {stops[0]['finding']}")
    return row


def _draft(desk: Desk, db: Any, kind: str, people: list[int]) -> int:
    """A campaign of its own, a copy of the pattern, to these people."""
    pattern = _pattern(desk, kind)
    base = f"{NAMES[kind]}, {rfc3339(desk.now())[:10]}"
    name, n = base, 1
    while campaigns.named(db, name):
        n += 1
        name = f"{base} ({n})"
    id = campaigns.add(db, name, secrets.randbits(48), desk.now())
    copied = ("purpose", "from_address", "from_name", "subject", "preview", "html", "plain", "plain_by_hand", "plan")
    campaigns.update(db, id, {c: pattern[c] for c in copied})
    campaigns.set_people(db, id, "in", people)
    return id


def due(desk: Desk, view: View) -> int:
    """How many people wait for the analyst's word: nothing while there is no agreement, or it runs by itself."""
    a, ran = agreement(desk), desk.setting(RAN)
    if a is None or a.by_itself or (ran and view.now < ran + WEEK):
        return 0
    acts = (core.BEGIN, core.ASK_FOR_CLICK, core.AGAIN, core.LET_GO)
    return sum(len(some) for step, some in _groups(desk, view, a).items() if step in acts)


def run_by_itself(desk: Desk) -> bool:
    """Every week, where the agreement is switched to that; True when it ran."""
    a, ran = agreement(desk), desk.setting(RAN)
    if a is None or not a.by_itself or (ran and desk.now() < ran + WEEK):
        return False
    run(desk, "the clean-up agreement")
    return True
