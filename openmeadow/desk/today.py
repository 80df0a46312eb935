"""Today: what needs a decision, what goes out, the engaged base over 12 months, the providers."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from openmeadow.core.columns import DAY
from openmeadow.core.engagement.score import BANDS, SILENT, score
from openmeadow.core.planning.slots import real
from openmeadow.core.rules.tree import View
from openmeadow.desk import clean_up, outgoing, relay
from openmeadow.desk.desk import Desk
from openmeadow.desk.health import unknown_sources
from openmeadow.desk.sequences import measuring
from openmeadow.store import campaigns, ledger, senders, sequences
from openmeadow.store.facts import StoreFacts
from openmeadow.store.providers import by_people
from openmeadow.store.providers import names as provider_names

MONTHS, WEEKS = 12, 12
WEEK = 7 * DAY


def engaged_base(view: View) -> list[dict[str, Any]]:
    """Bands at 12 month ends and now, each scored with what was known by then about who had joined."""
    out = []
    for back in range(MONTHS, -1, -1):
        at = view.now - back * 30 * DAY
        alive = view.alive & (view.columns.people.joined_at <= at)
        s = view.scores if back == 0 else score(view.columns, at)
        out.append({"at": at, "bands": np.bincount(s.band[alive], minlength=len(BANDS)).tolist()})
    return out


def providers(desk: Desk, view: View) -> list[dict[str, Any]]:
    """Per provider over 30 days: people, hand-overs, deferred, bounced, complained; deferred share by week."""
    assert isinstance(view.facts, StoreFacts)
    names = provider_names(desk.store.read())
    n = len(names)
    people = np.bincount(view.facts.provider[view.alive], minlength=n)
    counts = np.zeros((n, 11), np.int64)
    weeks = np.zeros((n, WEEKS, 2), np.int64)
    since = view.now - WEEKS * WEEK
    for r in desk.store.read().execute(
        "SELECT s.provider, e.kind, (? - e.at) / ? AS week, sum(e.at > ?) AS month, count(*) AS n FROM events e "
        "JOIN subscribers s ON s.id = e.subscriber WHERE e.at > ? AND e.at <= ? AND e.kind IN (1, 3, 4, 9) "
        "GROUP BY 1, 2, 3",
        (view.now, WEEK, view.now - 30 * DAY, since, view.now),
    ):
        counts[r["provider"], r["kind"]] += r["month"]
        if r["kind"] in (1, 3) and r["week"] < WEEKS:
            weeks[r["provider"], WEEKS - 1 - r["week"], 0 if r["kind"] == 1 else 1] += r["n"]
    order = by_people(names, people)
    return [
        {
            "name": names[i],
            "people": int(people[i]),
            "handed_over": int(counts[i, 1]),
            "deferred": int(counts[i, 3]),
            "bounced": int(counts[i, 4]),
            "complained": int(counts[i, 9]),
            "weeks": [float(d / max(h + d, 1)) for h, d in weeks[i]],
        }
        for i in order
    ]


def decisions(desk: Desk, view: View) -> list[dict[str, str]]:
    """What somebody must decide, the most urgent first; each leads to where it is decided."""
    db, out = desk.store.read(), []

    def add(kind: str, title: str, detail: str, link: str, act: str) -> None:
        out.append({"kind": kind, "title": title, "detail": detail, "link": link, "act": act})

    restored = outgoing.paused(desk)
    if restored is not None:
        people = sum(p.waiting for p in restored.plans)
        detail = f"{people:,} waited at that time, and some may have been sent since. Nothing goes out until you decide."
        add(
            "Restored",
            f"This workspace is as it was on {_clock(desk, restored.as_of)}.",
            detail,
            "/restored",
            "Look and decide",
        )
    gone = relay.away(desk)
    if gone is not None:
        waits = "1 delivery waits" if gone.waiting == 1 else f"{gone.waiting:,} deliveries wait"
        detail = f"{gone.meaning} Since {_clock(desk, gone.since)}; {waits}."
        add("Relay", "The relay takes nothing.", detail, "/senders/relay", "See the relay")
    elif relay.goes_in_clear(desk):
        detail = "Anybody on the way can read and change it. Set relay_tls to starttls."
        add("Clear", "Mail goes to the relay in clear.", detail, "/senders/relay", "See the relay")
    for c in campaigns.every(db):
        if c["state"] == "held":
            add(
                "Held",
                f"{c['name']} is held.",
                c["held_why"] or "Nothing more of it goes out until somebody goes on or stops it.",
                f"/campaigns/{c['id']}/plan",
                "Look and decide",
            )
    for h in measuring.held(desk):
        add("Held", h["title"], h["why"], f"/sequences/{h['sequence']}", "Look and decide")
    for c in campaigns.asked_for_eyes(db):
        add(
            "Approval",
            f"{c['asked_by']} asks for your eyes on {c['name']}.",
            "It cannot start before somebody else has approved it.",
            f"/campaigns/{c['id']}/checks",
            "Look at it",
        )
    for c in ledger.in_doubt(db):
        add(
            "In doubt",
            f"{c['people']:,} {'person' if c['people'] == 1 else 'people'} of {c['name']} may or may not have got it.",
            "The worker stopped between handing over and the relay's answer.",
            f"/campaigns/{c['id']}/plan",
            "Settle",
        )
    for e in ledger.to_be_sent_elsewhere(db, desk.now()):
        wait = "1 person waits" if e["people"] == 1 else f"{e['people']:,} people wait"
        add(
            "Elsewhere",
            f"{wait} for the other program to send {_pass(e)}.",
            "Save the batches as files and send them; its event log then tells who has it.",
            f"/campaigns/{e['campaign']}/plan",
            "Save the files",
        )
    for d in senders.domains(db):
        if d["state"] == "broken":
            add(
                "Sender",
                f"{d['name']} has a broken record.",
                "No plan that needs it can start until it is mended.",
                f"/senders/{d['id']}",
                "See the record",
            )
    for s in unknown_sources(desk)[:3]:
        add(
            "Reports",
            f"{s['ip']} sends in the name of {s['domain']}.",
            f"{s['messages'] - s['aligned']:,} of its {s['messages']:,} messages failed, by receivers' reports.",
            "/health",
            "Name it",
        )
    before = score(view.columns, view.now - WEEK)
    crossed = int(
        (
            view.alive
            & (view.scores.band == SILENT)
            & (before.band != SILENT)
            & (view.columns.people.joined_at <= view.now - WEEK)
        ).sum()
    )
    if crossed:
        add(
            "Silent",
            f"{crossed:,} people fell Silent this week.",
            "They are on the map, in the upper right.",
            "/subscribers/map",
            "See them",
        )
    if waiting := clean_up.due(desk, view):
        add(
            "Clean-up",
            f"{waiting:,} people are due in this week's clean-up.",
            "Nothing happens to them until you agree.",
            "/subscribers/clean-up",
            "Look and decide",
        )
    aside = int(db.execute("SELECT count(*) AS n FROM events_aside").fetchone()["n"])
    if aside:
        add(
            "Import",
            f"{aside:,} events wait for addresses that nobody has.",
            "They are taken as soon as the subscribers are brought in.",
            "/subscribers/bring-in",
            "Bring in",
        )
    return out


def _clock(desk: Desk, at: int) -> str:
    zone = ZoneInfo(str(desk.setting("time_zone")))
    return datetime.fromtimestamp(at, UTC).astimezone(zone).strftime("%d %b, %H:%M %Z")


def _pass(b: Any) -> str:
    return str(b["name"]) if b["kind"] == "first" else f"{b['name']}, {b['kind']}"


def day(desk: Desk) -> tuple[int, int]:
    """The day that contains now, from midnight to midnight in the workspace's zone."""
    zone = ZoneInfo(str(desk.setting("time_zone")))
    midnight = datetime.fromtimestamp(desk.now(), UTC).astimezone(zone).replace(tzinfo=None)
    midnight = midnight.replace(hour=0, minute=0, second=0, microsecond=0)
    return real(midnight, zone), real(midnight + timedelta(days=1), zone)


def lanes(desk: Desk) -> list[dict[str, Any]]:
    """The day's batches, then who is due in sequences by the hour."""
    (begin, end), db = day(desk), desk.store.read()
    out = [
        {
            "link": f"/campaigns/{b['campaign']}/plan",
            "name": _pass(b),
            "kind": "elsewhere" if b["elsewhere"] else "batch",
            "n": b["n"],
            "due_at": b["due_at"],
            "state": "held" if b["campaign_state"] == "held" and b["state"] != "gone" else b["state"],
            "people": b["people"],
            "handed": b["handed"],
        }
        for b in ledger.coming(db, begin, end - 1)
    ]
    handed = sequences.handed_since(db, begin)
    for r in sequences.day_of(db, begin, end):
        lane = {"link": f"/sequences/{r['sequence']}", "name": r["name"], "kind": "sequence", "n": r["hour"]}
        due = {"due_at": begin + r["hour"] * 3600, "state": "waiting", "people": r["people"]}
        out.append({**lane, **due, "handed": handed.pop(r["sequence"], 0)})  # said once, with the first
    return out
