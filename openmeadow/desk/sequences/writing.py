"""Sequences: begin one, write its steps, start it, change it while it runs, pause, go on, end."""

from __future__ import annotations

import json
import secrets
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from openmeadow.core.errors import Refused
from openmeadow.core.message.body import links, one_line
from openmeadow.core.sequences import intake, machine
from openmeadow.core.sequences.ladder import MAILS, Ladder, read
from openmeadow.desk import campaigns as desk_campaigns
from openmeadow.desk import templates
from openmeadow.desk.desk import Desk
from openmeadow.desk.planning import SAME, plan_of
from openmeadow.desk.sequences import lacking, moving, noticing
from openmeadow.desk.sequences.asking import condition
from openmeadow.desk.sequences.reading import PASSES, ladder_of, pass_of, row_of
from openmeadow.store import campaigns, ledger, sequences, stays, subscribers, workspace, writing

PAUSED = moving.PAUSED
OUT = "out"


def add(desk: Desk, name: str, who: str, ladder: Ladder | None = None) -> int:
    """Begin a draft; its id."""
    name = name.strip()
    if not name:
        raise Refused("A sequence needs a name.")
    with desk.store.atomic() as db:
        if sequences.named(db, name):
            raise Refused(f"There is already a sequence “{name}”.")
        id = sequences.add(db, name, secrets.randbits(48), desk.now())
        purposes = subscribers.names(db, "purposes")
        sequences.update(db, id, {"purpose": purposes[0]["id"] if purposes else None})
        workspace.log(db, desk.now(), who, "began sequence", name)
    if ladder is not None:
        write(desk, id, {"ladder": ladder.json()}, who)
    return id


def write(
    desk: Desk, id: int, values: Mapping[str, Any], who: str, *, going: Mapping[int, int | str] | None = None
) -> None:
    """Change a sequence: name, purpose, sender, ladder. While it runs, the ladder is another version for those who have
    not passed what changed. ``going`` says where people at a step that is taken away go: step key -> key, or "out"."""
    row = row_of(desk, id)
    if row["state"] == "ended":
        raise Refused(f"“{row['name']}” has ended; begin another from it.")
    before = ladder_of(row)
    after = read(values["ladder"]) if "ladder" in values else before
    going = going or {}
    stand = {r["step"]: r["people"] for r in sequences.steps(desk.store.read(), id)}
    gone = {s.key for s in before.steps} - {s.key for s in after.steps}
    for key in sorted(gone & stand.keys()):
        to = going.get(key)
        if to != OUT and not (isinstance(to, int) and after.step(to)):
            people = stand[key]
            raise Refused(
                f"{people:,} {'person stands' if people == 1 else 'people stand'} at a step that would go. "
                "Say where they go: to another step, or out."
            )
    if row["state"] != "draft" and (missing := lacking.while_running(desk, id, after)):
        raise Refused(f"It runs, so it has to stay whole. {missing[0].sentence}")
    plain = {k: values[k] for k in ("name", "purpose", "from_address", "from_name") if k in values}
    plain |= {k: one_line(plain[k]) for k in ("name", "from_name") if k in plain}
    with desk.store.atomic() as db:
        other = sequences.named(db, str(plain["name"]).strip()) if "name" in plain else None
        if other is not None and other["id"] != id:
            raise Refused(f"There is already a sequence “{plain['name']}”.")
        if after != before:
            plain["ladder"] = json.dumps(after.json())
            if row["state"] != "draft":
                plain["version"] = row["version"] + 1
                sequences.add_version(db, id, row["version"] + 1, plain["ladder"], who, desk.now())
                workspace.log(db, desk.now(), who, f"changed sequence (version {row['version'] + 1})", row["name"])
        sequences.update(db, id, plain)
        for key in gone & stand.keys():
            _send_elsewhere(desk, db, id, key, after, going[key])
    _tie_mails(desk, id, who)
    noticing.forget(desk, id)


def _send_elsewhere(desk: Desk, db: Any, id: int, key: int, after: Ladder, to: int | str) -> None:
    now = desk.now()
    them = [t for t in stays.all_inside(db, id) if t["step"] == key]
    if to == OUT:
        stays.leave(db, [(t["id"], now, "taken out with their step") for t in them])
        return
    step = after.step(int(to))
    assert step is not None
    stays.drop_waiting(db, [t["id"] for t in them], "their step was taken away", now)
    stays.arrive(db, [(t["id"], step.key, step.lane, now, row_version(db, id), now) for t in them])


def row_version(db: Any, id: int) -> int:
    row = sequences.one(db, id)
    return int(row["version"]) if row is not None else 1


def _tie_mails(desk: Desk, id: int, who: str) -> None:
    """Every step that mails has a campaign of its own behind it, with the sequence's purpose and sender. That of a step
    taken away stays, for when the step is taken back."""
    row = row_of(desk, id)
    ladder, mails = ladder_of(row), sequences.mails(desk.store.read(), id)
    own = [s for s in ladder.steps if s.kind in MAILS and s.kind != "repeat"]
    gate = "confirmation" if ladder.begin.on == "awaits confirmation" else "sequence"
    for step in own:
        asks = list(step.purposes) if step.kind == "consent request" else []
        if gate == "confirmation" and not asks and row["purpose_name"]:
            asks = [row["purpose_name"]]
        kind = "consent request" if step.kind == "consent request" else "campaign"
        campaign = mails[step.key]["id"] if step.key in mails else 0
        if not campaign:
            campaign = desk_campaigns.add(desk, _free_name(desk, f"{row['name']}: {ladder.titles()[step.key]}"), who)
        now = campaigns.one(desk.store.read(), campaign)
        assert now is not None
        with desk.store.atomic() as w:
            sequences.tie(w, campaign, id, step.key, kind, gate, json.dumps(asks))
            if now["state"] == "draft":
                plan = plan_of(now) | {"resend": False, "resend_rule": "not answered"}
                sent = {"purpose": row["purpose"], "from_address": row["from_address"], "from_name": row["from_name"]}
                campaigns.update(w, campaign, sent | {"plan": json.dumps(plan)})
    with desk.store.atomic() as w:
        if row["state"] != "draft":
            for step in own:
                found = sequences.mails(w, id)[step.key]
                if found["state"] == "draft" and not step.off:
                    _open(desk, w, campaigns.one(w, found["id"]), who)
            _set_arms(w, id, ladder)


def _free_name(desk: Desk, name: str) -> str:
    fresh, n = name, 1
    while campaigns.named(desk.store.read(), fresh):
        n += 1
        fresh = f"{name} ({n})"
    return fresh


def _open(desk: Desk, w: Any, mail: Any, who: str) -> None:
    """A step's mail can go out from now on: its message, its links, one pass and one batch for ever."""
    message = campaigns.add_message(w, mail["name"], mail["purpose"])
    for url in links(mail["html"]):
        campaigns.add_link(w, message, url)
    campaigns.add_link(w, message, str(desk.setting("public_url")) + desk_campaigns.TRAP_PATH, trap=True)
    writing.add_version(w, mail["id"], 1, dict(mail), who, desk.now())
    for kind in PASSES:
        batch = ledger.add_batch(w, ledger.add_pass(w, mail["id"], kind), 1, 0, 0)
        ledger.set_batch(w, batch, "going out")
    campaigns.update(w, mail["id"], {"state": "sending", "message": message, "started_at": desk.now()})


def _set_arms(w: Any, id: int, ladder: Ladder) -> None:
    """What repeats say instead: each is the one arm of its pass."""
    mails = sequences.mails(w, id)
    for step in ladder.steps:
        about, kind = pass_of(ladder, step)
        if step.kind != "repeat" or about not in mails:
            continue
        way = sequences.way_out(w, mails[about]["id"], kind)
        if way:
            name = "New subject" if step.subject else "Same subject"
            arm = {**SAME, "name": name, "wait": step.wait, "subject": step.subject, "preview": step.preview}
            sequences.set_arms(w, way[0], json.dumps([arm]))


def start(desk: Desk, id: int, who: str, *, with_those_there: bool = False) -> dict[str, Any]:
    """Let it run. Who fulfils its beginning already stays outside, unless ``with_those_there``."""
    row = row_of(desk, id)
    if row["state"] != "draft":
        raise Refused(f"“{row['name']}” has been started already.")
    found = lacking.missing(desk, id)
    if found:
        rest = f" And {len(found) - 1} more." if len(found) > 1 else ""
        raise Refused(f"It is not complete yet. {found[0].sentence}{rest}")
    ladder, view = ladder_of(row), desk.view()
    there = view.columns.people.id[condition(desk, view, ladder.begin)].tolist()
    top = stays.with_news(desk.store.read(), id, 1 << 62, 1 << 62)
    with desk.store.atomic() as db:
        for key, mail in sequences.mails(db, id).items():
            if mail["state"] == "draft" and ladder.step(key) is not None:
                _open(desk, db, campaigns.one(db, mail["id"]), who)
        _set_arms(db, id, ladder)
        sequences.add_version(db, id, row["version"], row["ladder"], who, desk.now())
        stays.hold_now(db, id, there, [])
        queued = moving.queue(desk, db, row, ladder, there) if with_those_there else 0
        sequences.update(
            db, id, {"state": "running", "started_at": desk.now(), "seen_event": top[1], "seen_consent": top[2]}
        )
        workspace.log(db, desk.now(), who, "started sequence", row["name"], queued)
    noticing.forget(desk, id)
    return {"queued": queued, "there": len(there), "portions": intake.portions(queued, ladder.begin)}


def bring_in(desk: Desk, id: int, people: list[int], who: str) -> dict[str, Any]:
    """Put people in by hand, through the queue and its limits; those inside or there once already stay as they are."""
    row = row_of(desk, id)
    if row["state"] not in ("running", "paused"):
        raise Refused(f"“{row['name']}” is {row['state']}; people are put in while it runs.")
    ladder = ladder_of(row)
    with desk.store.atomic() as db:
        came = moving.queue(desk, db, row, ladder, sorted(set(people)))
        workspace.log(db, desk.now(), who, "put people into sequence", row["name"], came)
    return {"queued": came, "portions": intake.portions(stays.in_queue(desk.store.read(), id), ladder.begin)}


def pause(desk: Desk, id: int, who: str) -> None:
    """Everybody stays at their step; nothing goes out."""
    row = _in_state(desk, id, "running")
    with desk.store.atomic() as db:
        sequences.pause(db, id, PAUSED)
        workspace.log(db, desk.now(), who, "paused sequence", row["name"])


def go_on(desk: Desk, id: int, who: str) -> dict[str, Any]:
    """Go on; who was due meanwhile goes on by the daily limit, in the order they were due."""
    row, now = _in_state(desk, id, "paused"), desk.now()
    if missing := lacking.while_running(desk, id, ladder_of(row)):
        raise Refused(f"It has to be whole before it goes on. {missing[0].sentence}")
    a_day = ladder_of(row).begin.a_day
    with desk.store.atomic() as db:
        them = [t for t in stays.all_inside(db, id) if t["due_at"] is not None]
        due = machine.spread([t["due_at"] for t in them], now, a_day)
        late = sum(t["due_at"] <= now for t in them)
        stays.move_due(db, [(at, t["id"]) for at, t in zip(due, them, strict=True) if at != t["due_at"]])
        sequences.update(db, id, {"state": "running", "paused_why": ""})
        for mail in sequences.mails(db, id).values():
            if mail["state"] == "held" and mail["held_why"] == PAUSED:
                campaigns.update(db, mail["id"], {"state": "sending", "held_why": ""})
        workspace.log(db, desk.now(), who, "went on with sequence", row["name"], late)
    return {"late": late, "days": -(-late // a_day) if a_day else int(late > 0)}


def end(desk: Desk, id: int, who: str) -> int:
    """For good: everybody inside leaves, nobody enters. How many left."""
    row = row_of(desk, id)
    if row["state"] not in ("running", "paused"):
        raise Refused(f"“{row['name']}” is {row['state']}, so this cannot be done.")
    with desk.store.atomic() as db:
        gone = stays.leave(db, [(t["id"], desk.now(), "the sequence was ended") for t in stays.all_inside(db, id)])
        stays.unqueue(db, id)
        sequences.update(db, id, {"state": "ended", "paused_why": ""})
        for mail in sequences.mails(db, id).values():
            if mail["state"] in ("sending", "held"):
                ledger.set_batches(db, mail["id"], ("waiting", "going out", "held"), "gone")
                campaigns.update(db, mail["id"], {"state": "finished"})
        workspace.log(db, desk.now(), who, "ended sequence", row["name"], gone)
    return gone


def remove(desk: Desk, id: int, who: str) -> None:
    row = _in_state(desk, id, "draft")
    with desk.store.atomic() as db:
        sequences.remove(db, id)
        workspace.log(db, desk.now(), who, "removed the draft of a sequence", row["name"])


def take_out(desk: Desk, id: int, stay: int, who: str) -> None:
    """One person leaves by hand."""
    _stay(desk, id, stay)
    with desk.store.atomic() as db:
        stays.leave(db, [(stay, desk.now(), f"taken out by {who}")])
        workspace.log(db, desk.now(), who, "took a person out of", row_of(desk, id)["name"], 1)


def move_on(desk: Desk, id: int, stay: int, who: str) -> None:
    """One person's wait is over now."""
    t = _stay(desk, id, stay)
    if t["due_at"] is None:
        raise Refused("Their message is on its way; it goes as soon as it may.")
    with desk.store.atomic() as db:
        stays.move_due(db, [(desk.now(), stay)])
        workspace.log(db, desk.now(), who, "moved a person on in", row_of(desk, id)["name"], 1)


def _stay(desk: Desk, id: int, stay: int) -> Any:
    t = sequences.stay(desk.store.read(), stay)
    if t is None or t["sequence"] != id or t["left_at"] is not None:
        raise Refused("They have left the sequence already.")
    return t


def _in_state(desk: Desk, id: int, state: str) -> Any:
    row = row_of(desk, id)
    if row["state"] != state:
        raise Refused(f"“{row['name']}” is {row['state']}, so this cannot be done.")
    return row


def copy(desk: Desk, id: int, name: str, who: str) -> int:
    """A draft with the same steps and messages."""
    row = row_of(desk, id)
    ladder = ladder_of(row)
    fresh = add(desk, name, who, replace(ladder))
    with desk.store.atomic() as db:
        sequences.update(db, fresh, {k: row[k] for k in ("purpose", "from_address", "from_name")})
    _tie_mails(desk, fresh, who)
    old = sequences.mails(desk.store.read(), id)
    for key, mail in sequences.mails(desk.store.read(), fresh).items():
        if key in old:
            templates.begin_from(desk, mail["id"], other=old[key]["id"])
    return fresh
