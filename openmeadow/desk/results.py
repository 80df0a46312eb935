"""What a campaign did: per batch, people and machines apart; the resend against those held back; why not."""

from __future__ import annotations

import csv
import io
import json
from typing import Any

import numpy as np

from openmeadow.core.columns import FAR, Kind, Mask
from openmeadow.core.engagement.score import BANDS
from openmeadow.core.resend.lift import ArmCount, in_words, lift
from openmeadow.core.rules.tree import View
from openmeadow.desk import timing
from openmeadow.desk.campaigns import row_of
from openmeadow.desk.desk import Desk
from openmeadow.desk.planning import plan_of
from openmeadow.desk.resending import TOO_OFTEN, arms_in
from openmeadow.store import ledger
from openmeadow.store.database import Many

HOURS = 48


class _Message:
    """One message's rows, looked up by subscriber, with who complained, unsubscribed or bounced."""

    def __init__(self, desk: Desk, view: View, message: int) -> None:
        rows = view.columns.rows
        self.at = np.flatnonzero(rows.message == message)
        self.rows, self.now = rows, view.now
        ids = view.columns.people.id[rows.person[self.at]]
        order = np.argsort(ids)
        self.at, self.ids = self.at[order], ids[order]
        self.happened: dict[int, dict[int, int]] = {}
        for r in desk.store.read().execute(
            "SELECT kind, subscriber, min(at) AS at FROM events WHERE message = ? AND (kind = 4 OR kind >= 9) "
            "AND at <= ? GROUP BY kind, subscriber",
            (message, view.now),
        ):
            self.happened.setdefault(r["kind"], {})[r["subscriber"]] = r["at"]
        acts = view.columns.acts
        mine = np.flatnonzero((acts.message == message) & (acts.at <= view.now))
        self.act_at, self.act_by, self.act_kind = acts.at[mine], acts.by[mine], acts.kind[mine]
        self.act_person = view.columns.people.id[acts.person[mine]]

    def rows_of(self, subscribers: Many[int]) -> Any:
        wanted = np.array(sorted(set(subscribers)), np.int64)
        if not len(self.ids) or not len(wanted):
            return self.at[:0]
        place = np.minimum(np.searchsorted(self.ids, wanted), len(self.ids) - 1)
        return self.at[place[self.ids[place] == wanted]]

    def count(self, kind: Kind, subscribers: set[int], since: int = 0) -> int:
        return sum(1 for s, at in self.happened.get(kind, {}).items() if s in subscribers and at >= since)

    def figures(self, subscribers: set[int]) -> dict[str, int]:
        """Delivered, opened and clicked by people, machine only; counted in people."""
        at = self.rows_of(subscribers)
        r, now = self.rows, self.now
        delivered: Mask = r.failed_at[at] > now
        opened = delivered & ((r.opened_at[at] <= now) | (r.reacted_at[at] <= now))
        clicked_people = set(self.act_person[(self.act_kind == Kind.CLICKED) & (self.act_by != 1)].tolist())
        unsure_people = set(self.act_person[self.act_by == 2].tolist())
        sure_people = set(self.act_person[self.act_by == 0].tolist())
        return {
            "delivered": int(delivered.sum()),
            "opened": int(opened.sum()),
            "unsure": len((unsure_people - sure_people) & subscribers),
            "clicked": len(clicked_people & subscribers),
            "machine_only": int((delivered & ~opened & (r.machine_at[at] <= now)).sum()),
            "unsubscribed": self.count(Kind.UNSUBSCRIBED, subscribers),
            "complained": self.count(Kind.COMPLAINED, subscribers),
        }

    def answered_after(self, subscribers: set[int], since: int) -> int:
        """People who opened, clicked, replied or booked in or after ``since``."""
        hit = (self.act_by != 1) & (self.act_at >= since)
        return len(set(self.act_person[hit].tolist()) & subscribers)


def results(desk: Desk, id: int) -> dict[str, Any]:
    """Everything the Results page shows, as of now."""
    row = row_of(desk, id)
    view = desk.view()
    m = _Message(desk, view, row["message"] or -1)
    db = desk.store.read()
    first = ledger.of_campaign(db, id, "first")
    again = ledger.of_campaign(db, id, "resend")
    by_kind = {"first": first, "resend": again, "second resend": ledger.of_campaign(db, id, "second resend")}
    arm_names = {p["kind"]: [a["name"] for a in arms_in(p, plan_of(row))] for p in ledger.passes(db, id)}
    lines = []
    for b in ledger.batches(db, id):
        source = by_kind[b["kind"]]
        mine = [d for d in source if d["batch"] == b["id"]]
        reached = {d["subscriber"] for d in mine if ledger.was_sent(d)}
        figures = m.figures(reached)
        if b["kind"] != "first":
            since = min((d["changed_at"] for d in mine if d["changed_at"]), default=int(FAR))
            figures["opened"] = m.answered_after(reached, since)
            figures["clicked"] = len(
                set(m.act_person[(m.act_kind == Kind.CLICKED) & (m.act_by != 1) & (m.act_at >= since)].tolist()) & reached
            )
            figures["unsubscribed"] = m.count(Kind.UNSUBSCRIBED, reached, since)
            figures["complained"] = m.count(Kind.COMPLAINED, reached, since)
            figures["machine_only"] = figures["unsure"] = 0
        bands = np.bincount([d["band"] for d in mine], minlength=len(BANDS)).tolist() if mine else [0] * len(BANDS)
        bounced = m.count(Kind.BOUNCED, reached)
        lines.append(
            {
                **{k: (b[k] or 0) for k in ("id", "due_at", "people", "waiting", "deferred", "failed", "in_doubt")},
                "handed": len(reached),
                "n": b["n"],
                "late": b["late"],
                "arm": arm_names[b["kind"]][b["variant"] - 1] if b["variant"] else "",
                "passed_over": b["passed_over"] or 0,
                "kind": b["kind"],
                "state": "held" if row["state"] == "held" and b["state"] in ("waiting", "going out") else b["state"],
                **figures,
                "bounced": bounced,
                "bands": bands,
            }
        )
    everybody = {d["subscriber"] for d in first if ledger.was_sent(d)}
    whole = m.figures(everybody)
    arms, verdict, answered_first = _arms(desk, id, m, again, everybody, "resend")
    second_arms, second_verdict, _ = _arms(desk, id, m, by_kind["second resend"], everybody, "second resend")
    settles_at = _settles_at(view, [*again, *by_kind["second resend"]])
    sieve = [(w, n) for w, n in json.loads(row["sieve"])]
    passed: dict[str, int] = {}
    for d in first:
        if d["state"] != "waiting" and not ledger.was_sent(d):
            words = d["state"].capitalize() if d["state"] != "passed over" else (d["reason"] or "").capitalize()
            if d["state"] == "failed":
                words = f"Failed, {(d['reason'] or 'unknown').partition(':')[0]}"
            passed[words] = passed.get(words, 0) - 1
    why = [*sieve[:-1], ("Planned", sieve[-1][1])] if sieve else []
    why += sorted(passed.items(), key=lambda x: x[1])
    if sieve:
        why.append(("Handed over", len(everybody)))
    hours, half = _hours(m, first)
    return {
        "as_of": view.now,
        "batches": lines,
        "handed": len(everybody),
        "delivered": whole["delivered"],
        "opened": whole["opened"],
        "unsure": whole["unsure"],
        "clicked": whole["clicked"],
        "machine_only": whole["machine_only"],
        "arms": arms,
        "verdict": verdict,
        "second_arms": second_arms,
        "second_verdict": second_verdict,
        "settles_at": settles_at,
        "answered_first": answered_first,
        "answered_all": whole["opened"],
        "why_not": [{"words": w, "count": n} for w, n in why],
        "hours": hours,
        "half_hours": half,
        "in_doubt": sum(x["in_doubt"] for x in lines),
        "failed": sum(x["failed"] for x in lines),
    }


def _arms(
    desk: Desk, id: int, m: _Message, again: list[Any], everybody: set[int], kind: str
) -> tuple[list[dict[str, Any]], str, int]:
    """Each arm of the resend and the held back; answers count from their own batch's resend moment."""
    if not again:
        return [], "", m.figures(everybody)["opened"]
    # a batch and those of its arms that wait longer are one draw by lot: all are counted from its first resend on
    group = {d["batch"]: d["batch_n"] for d in again}
    starts = {
        g: min(
            (
                d["changed_at"]
                for d in again
                if group[d["batch"]] == g and d["changed_at"] and d["state"] == "handed over"
            ),
            default=min(d["due_at"] for d in again if group[d["batch"]] == g),
        )
        for g in set(group.values())
    }
    resend = next(p for p in ledger.passes(desk.store.read(), id) if p["kind"] == kind)
    names = [a["name"] for a in arms_in(resend, plan_of(row_of(desk, id)))]
    begun = {group[d["batch"]] for d in again if d["state"] == "handed over"}

    def count(name: str, chosen: list[Any]) -> ArmCount:
        total = [0, 0, 0]
        for g, since in starts.items():
            people = {d["subscriber"] for d in chosen if group[d["batch"]] == g}
            total[0] += m.answered_after(people, since)
            total[1] += m.count(Kind.UNSUBSCRIBED, people, since)
            total[2] += m.count(Kind.COMPLAINED, people, since)
        return ArmCount(name, len(chosen), *total)

    # everybody the lot put into an arm counts there, also who answered or left before it came to them
    drawn = [d for d in again if group[d["batch"]] in begun and d["reason"] != TOO_OFTEN]
    held = count("Held back", [d for d in drawn if d["reason"] == "held back"])
    lifts = [
        lift(count(name, [d for d in drawn if d["arm"] == i and d["reason"] != "held back"]), held)
        for i, name in enumerate(names)
    ]
    out: list[dict[str, Any]] = [
        {
            "arm": x.arm.arm,
            "people": x.arm.people,
            "answered": x.arm.answered,
            "unsubscribed": x.arm.unsubscribed,
            "complained": x.arm.complained,
            "difference": x.difference.point if held.people else None,
            "low": x.difference.low if held.people else None,
            "high": x.difference.high if held.people else None,
            "added": x.added if held.people else None,
            "verdict": x.verdict if held.people else "not shown",
        }
        for x in lifts
    ]
    out.append(
        {
            "arm": held.arm,
            "people": held.people,
            "answered": held.answered,
            "unsubscribed": held.unsubscribed,
            "complained": held.complained,
            "difference": None,
            "low": None,
            "high": None,
            "added": None,
            "verdict": "",
        }
    )
    later: set[int] = set()
    for g, since in starts.items():
        reached = {d["subscriber"] for d in again if group[d["batch"]] == g and d["state"] == "handed over"}
        later |= reached & set(m.act_person[(m.act_by != 1) & (m.act_at >= since)].tolist())
    answered_first = m.figures(everybody)["opened"] - len(later & everybody)
    settled = any(x.arm.people for x in lifts)
    return out, in_words(lifts, held) if settled else "", answered_first


def _settles_at(view: View, again: list[Any]) -> int | None:
    """When what the resends did is settled: 95% of this workspace's engagement is in by then. None where nothing of
    them has gone out."""
    last = max((d["changed_at"] for d in again if d["state"] == "handed over" and d["changed_at"]), default=None)
    return None if last is None else last + timing.usual_wait(view)


def _hours(m: _Message, first: list[Any]) -> tuple[list[int], float | None]:
    """First answers by whole hours since hand-over, and the hours in which half of them came."""
    handed = {d["subscriber"]: d["changed_at"] for d in first if d["state"] == "handed over"}
    soonest: dict[int, int] = {}
    for s, at, by in zip(m.act_person.tolist(), m.act_at.tolist(), m.act_by.tolist(), strict=True):
        if by != 1 and s in handed:
            soonest[s] = min(soonest.get(s, at), at)
    delays = np.array([(at - handed[s]) / 3600 for s, at in soonest.items()])
    if not len(delays):
        return [0] * HOURS, None
    counts = np.bincount(np.clip(delays, 0, HOURS - 1).astype(np.int64)[delays < HOURS], minlength=HOURS)
    return counts.tolist(), float(np.median(delays))


COLUMNS = (
    "pass",
    "batch",
    "people",
    "handed_over",
    "delivered",
    "opened_by_people",
    "of_these_unsure",
    "clicked_by_people",
    "machine_only",
    "unsubscribed",
    "complained",
    "bounced",
    "passed_over",
    "in_doubt",
)


def as_csv(desk: Desk, id: int) -> str:
    """The figures per batch, then the arms of the resend."""
    r = results(desk, id)
    out = io.StringIO()
    w = csv.writer(out)
    w.writerow(COLUMNS)
    for b in r["batches"]:
        w.writerow(
            [
                b["kind"],
                b["n"],
                b["people"],
                b["handed"],
                b["delivered"],
                b["opened"],
                b["unsure"],
                b["clicked"],
                b["machine_only"],
                b["unsubscribed"],
                b["complained"],
                b["bounced"],
                b["passed_over"],
                b["in_doubt"],
            ]
        )
    if r["arms"]:
        w.writerow([])
        w.writerow(["arm", "people", "answered_after", "difference", "low", "high", "added", "verdict"])
        for a in r["arms"]:
            w.writerow(
                [
                    a["arm"],
                    a["people"],
                    a["answered"],
                    *("" if a[k] is None else f"{a[k]:.6f}" for k in ("difference", "low", "high", "added")),
                    a["verdict"],
                ]
            )
    return out.getvalue()
