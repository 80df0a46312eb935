"""What a sequence does: who stands where, what was sent and answered, what repeats add, why people left."""

from __future__ import annotations

import time
from collections import Counter, defaultdict
from dataclasses import asdict, dataclass, field, replace
from typing import Any

import numpy as np

from openmeadow.core.columns import FAR
from openmeadow.core.resend.lift import ArmCount, lift
from openmeadow.core.sequences import intake, machine
from openmeadow.core.sequences.ladder import MAILS, Ladder
from openmeadow.desk.desk import Desk
from openmeadow.desk.sequences import lacking, writing
from openmeadow.desk.sequences.asking import condition
from openmeadow.desk.sequences.reading import ladder_of, pass_of, row_of
from openmeadow.store import campaigns, ledger, sequences, stays

WEEK, CHEAP = 7 * 86_400, 0.25
NOT_YET = int(FAR)
CAME = {
    "joins a list": "nobody has joined the list “{}”",
    "confirms": "nobody has confirmed “{}”",
    "awaits confirmation": "nobody has signed up for “{}” without confirming",
    "gets a label": "nobody has got the label “{}”",
    "enters a segment": "nobody has entered the segment “{}”",
    "a date": "nobody's date in the field “{}” has come",
    "books": "nobody has booked",
}


@dataclass
class Figures:
    """One step's: people who stand there, how many passed it, and of its mail who got, opened and clicked it."""

    here: int = 0
    mailing: int = 0
    next_at: int | None = None
    passed: int = 0
    sent: int = 0
    opened: int = 0
    clicked: int = 0
    deferred: int = 0
    failed: int = 0
    passed_over: int = 0
    left: list[dict[str, Any]] = field(default_factory=list)


def _answers(desk: Desk, message: int) -> dict[int, tuple[int, int]]:
    """Of a message: when each person first opened it and first did more."""
    view = desk.view()
    rows = view.columns.rows
    mine = np.flatnonzero(rows.message == message)
    ids = view.columns.people.id[rows.person[mine]].tolist()
    opened, more = rows.opened_at[mine].tolist(), rows.reacted_at[mine].tolist()
    return {int(s): (int(o), int(r)) for s, o, r in zip(ids, opened, more, strict=True)}


Counted = tuple[dict[int, Figures], list[dict[str, Any]], dict[str, Any] | None]
SHARE = 10  # a page that asks again and again takes at most one part in so many of the time
_counted: dict[tuple[str, int, int], tuple[float, float, Counted]] = {}


def per_step(desk: Desk, id: int, ladder: Ladder, version: int) -> Counted:
    """(figures by step, what repeats add by message, against whom was held back by lot). Counting that takes long is
    done again only after ten times as long."""
    key = str(desk.folder), id, version
    kept = _counted.get(key)
    if kept and time.monotonic() - kept[0] < kept[1] * SHARE:
        return kept[2]
    begun = time.monotonic()
    found = _count_all(desk, id, ladder)
    if len(_counted) > 200:
        _counted.clear()
    _counted[key] = (time.monotonic(), max(0.0, time.monotonic() - begun - CHEAP), found)
    return found


def _count_all(desk: Desk, id: int, ladder: Ladder) -> Counted:
    db = desk.store.read()
    out = {s.key: Figures() for s in ladder.steps}
    for r in sequences.steps(db, id):
        if r["step"] in out:
            f = out[r["step"]]
            f.here, f.mailing, f.next_at = r["people"], r["mailing"], r["next"]
    for key, n in sequences.passages(db, id).items():
        if key in out:
            out[key].passed = n
    for r in sequences.left(db, id):
        if r["step"] in out:
            out[r["step"]].left.append({"why": r["why"], "people": r["people"]})
    by_mail: dict[int, dict[str, list[Any]]] = defaultdict(lambda: defaultdict(list))
    messages: dict[int, int] = {}
    for d in sequences.sent(db, id):
        by_mail[d["step"]][d["kind"]].append(d)
        if d["message"]:
            messages[d["step"]] = d["message"]
    added: list[dict[str, Any]] = []
    kept, again_people = [0, 0], [0, 0]
    step_of = {pass_of(ladder, s): s.key for s in ladder.steps if s.kind in MAILS}
    for key, passes in by_mail.items():
        answers = _answers(desk, messages[key]) if key in messages else {}
        first = {d["subscriber"]: d["at"] for d in passes.get("first", []) if d["state"] == "handed over"}
        again: dict[int, int] = {}
        held: dict[int, int] = {}
        for kind in ("resend", "second resend"):
            for d in passes.get(kind, []):
                if d["state"] == "handed over":
                    again.setdefault(d["subscriber"], d["at"])
                elif d["reason"] == "held back":
                    held.setdefault(d["subscriber"], d["at"])
        for kind, rows in passes.items():
            if (step := step_of.get((key, kind))) is not None:
                _count(out[step], rows, answers, again if kind == "first" else {})
        if not first:
            continue
        when = {s: min(answers.get(s, (NOT_YET, NOT_YET))) for s in first}
        together = sum(t < NOT_YET for t in when.values())
        late = sum(t < NOT_YET and s in again and t >= again[s] for s, t in when.items())
        added.append({"step": key, "sent": len(first), "first": together - late, "again": late, "together": together})
        for group, box in ((again, again_people), (held, kept)):
            box[0] += len(group)
            box[1] += sum(NOT_YET > min(answers.get(s, (NOT_YET, NOT_YET))) >= at for s, at in group.items())
    compared = None
    if kept[0]:
        x = lift(ArmCount("repeated", *again_people), ArmCount("held back", *kept))
        gap = x.difference
        compared = {
            "repeated": again_people[0],
            "repeated_answered": again_people[1],
            "held": kept[0],
            "held_answered": kept[1],
            "points": gap.point,
            "low": gap.low,
            "high": gap.high,
            "verdict": x.verdict,
        }
    return out, added, compared


def _count(f: Figures, rows: list[Any], answers: dict[int, tuple[int, int]], until: dict[int, int]) -> None:
    """What came of a pass; of a first one, before it was repeated to them (``until``)."""
    states = Counter(d["state"] for d in rows)
    f.sent, f.deferred, f.failed = states["handed over"], states["deferred"], states["failed"]
    f.passed_over = sum(d["state"] == "passed over" and d["reason"] != "held back" for d in rows)
    for d in rows:
        if d["state"] == "handed over":
            opened, more = answers.get(d["subscriber"], (NOT_YET, NOT_YET))
            end = until.get(d["subscriber"], NOT_YET)
            f.opened += end > min(opened, more) >= d["at"]
            f.clicked += end > more >= d["at"]


def see(desk: Desk, id: int) -> dict[str, Any]:
    """Everything a sequence's page shows."""
    row, db = row_of(desk, id), desk.store.read()
    ladder, mails = ladder_of(row), sequences.mails(db, id)
    figures, added, compared = per_step(desk, id, ladder, row["version"])
    days = machine.days(ladder)
    missing = lacking.missing(desk, id) if row["state"] != "ended" else []
    inside = sum(f.here for f in figures.values())
    entering = next((r["people"] for r in sequences.steps(db, id) if r["step"] == 0), 0)
    queued = stays.in_queue(db, id)
    why: Counter[str] = Counter()
    for r in sequences.left(db, id):
        why[r["why"]] += r["people"]
    finished = next((r["finished"] for r in sequences.every(db) if r["id"] == id), 0)
    return {
        "id": id,
        "name": row["name"],
        "state": row["state"],
        "paused_why": row["paused_why"],
        "version": row["version"],
        "versions": [{"n": v["n"], "at": v["at"], "who": v["who"]} for v in sequences.versions(db, id)],
        "started_at": row["started_at"],
        "purpose": row["purpose"],
        "purpose_name": row["purpose_name"] or "",
        "from_address": row["from_address"],
        "from_name": row["from_name"],
        "ladder": ladder.json(),
        "next_key": sequences.highest_key(db, id) + 1,
        "steps": [
            {
                "key": s.key,
                "title": ladder.titles()[s.key],
                "day": list(days[s.key]) if s.key in days else None,
                "campaign": mails[pass_of(ladder, s)[0]]["id"]
                if pass_of(ladder, s)[0] in mails and s.kind in MAILS
                else None,
                "subject": s.subject or _subject(ladder, s, mails),
                "state": _state(mails, ladder, s),
                "held_why": _held(mails, ladder, s),
                "figures": asdict(figures[s.key]),
            }
            for s in ladder.steps
        ],
        "missing": [asdict(x) for x in missing],
        "inside": inside + entering,
        "queued": queued,
        "there": int(condition(desk, desk.view(), ladder.begin).sum()) if row["state"] == "draft" else 0,
        "finished": finished,
        "left": [{"why": w, "people": n} for w, n in why.most_common()],
        "added": added,
        "compared": compared,
        "portions": intake.portions(queued, replace(ladder.begin, first_day=0) if inside + finished else ladder.begin)[
            :8
        ],
        "beside": beside(desk, id),
        "empty": _empty(row, inside + entering + queued),
    }


def _mail(mails: Any, ladder: Ladder, step: Any) -> Any:
    return mails.get(pass_of(ladder, step)[0]) if step.kind in MAILS else None


def _subject(ladder: Ladder, step: Any, mails: Any) -> str:
    mail = _mail(mails, ladder, step)
    return str(mail["subject"]) if mail is not None else ""


def _state(mails: Any, ladder: Ladder, step: Any) -> str:
    mail = _mail(mails, ladder, step)
    return "" if mail is None else str(mail["state"])


def _held(mails: Any, ladder: Ladder, step: Any) -> str:
    mail = _mail(mails, ladder, step)
    return "" if mail is None or mail["state"] != "held" or mail["held_why"] == writing.PAUSED else str(mail["held_why"])


def _empty(row: Any, inside: int) -> str:
    """Why nobody is inside a sequence that runs."""
    if row["state"] != "running" or inside:
        return ""
    begin = ladder_of(row).begin
    if begin.on == "by hand":
        return "Nobody is inside: people are put in by hand, and nobody has been yet or all have left."
    came = CAME[begin.on].format(begin.what)
    return f"Nobody is inside: {came} since it was started, or all have left. Who was there before stays outside."


def beside(desk: Desk, id: int) -> dict[str, int]:
    """Campaigns that go out within a week and leave people inside alone: {"campaigns", "people"}: how many, and of how
    many people inside some campaign would have been about the same purpose."""
    db, now = desk.store.read(), desk.now()
    soon = {b["campaign"] for b in ledger.coming(db, now, now + WEEK) if b["campaign_state"] in ("planned", "sending")}
    alone = [c for c in soon if (r := campaigns.one(db, c)) is not None and not r["with_sequences"]]
    over = sequences.passed_over_inside(db, id, alone) if alone else 0
    return {"campaigns": len(alone), "people": over}


def held(desk: Desk) -> list[dict[str, Any]]:
    """What waits for a decision: steps whose mail has held itself, sequences that paused themselves; and why."""
    db, out = desk.store.read(), []
    for row in sequences.every(db):
        if row["paused_why"]:
            out.append({"sequence": row["id"], "title": f"{row['name']} paused itself.", "why": row["paused_why"]})
        for mail in sequences.mails(db, row["id"]).values():
            if mail["state"] == "held" and mail["held_why"] != writing.PAUSED:
                title = f"A step of {row['name']} is held."
                out.append({"sequence": row["id"], "title": title, "why": mail["held_why"]})
    return out


def every(desk: Desk) -> list[dict[str, Any]]:
    """All sequences, with who is inside."""
    out = []
    for r in sequences.every(desk.store.read()):
        ladder = ladder_of(r)
        out.append(
            {
                **{k: r[k] for k in ("id", "name", "state", "started_at", "inside", "finished", "queued")},
                "purpose": r["purpose_name"] or "",
                "messages": sum(s.kind in MAILS and not s.off for s in ladder.steps),
                "days": max([b for _, b in machine.days(ladder).values()], default=0) // 86_400,
                "begins": begins(ladder),
            }
        )
    return out


def begins(ladder: Ladder) -> str:
    """When it begins, as a sentence."""
    b = ladder.begin
    words = {
        "by hand": "Begins when people are put in by hand",
        "joins a list": f"Begins when somebody joins {b.what or '…'}",
        "confirms": f"Begins when somebody confirms {b.what or '…'}",
        "awaits confirmation": f"Begins when somebody has yet to confirm {b.what or '…'}",
        "gets a label": f"Begins when somebody gets the label {b.what or '…'}",
        "enters a segment": f"Begins when somebody enters the segment {b.what or '…'}",
        "a date": f"Begins on the date in the field {b.what or '…'}{', every year' if b.yearly else ''}",
        "books": "Begins when somebody books",
    }[b.on]
    again = (
        "once per person"
        if b.again_after is None
        else f"again after {b.again_after // 86_400} days"
        if b.again_after
        else "as often as it holds"
    )
    limits = []
    if b.first_day:
        limits.append(f"{b.first_day:,} on the first day")
    if b.a_day:
        limits.append(f"at most {b.a_day:,} {'a day' if not b.first_day else 'a day then'}")
    if b.a_provider:
        limits.append(f"{b.a_provider:,} a provider")
    order = "by lot" if b.by_lot else "in the order they came"
    return f"{words}, {again}." + (f" {', '.join(limits).capitalize()}, {order}." if limits else "")
