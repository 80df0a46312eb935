"""Whether anything goes out at all. After a restore nothing does, until somebody has seen what may have been sent since."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from openmeadow.core.columns import Kind
from openmeadow.core.errors import Refused
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, events, ledger, workspace
from openmeadow.wire.tokens import Tokens

SETTING = "outgoing_paused"


@dataclass(frozen=True)
class PausedPlan:
    """A plan under way at the restored moment: ``waiting`` people who may have been sent it since."""

    id: int
    name: str
    waiting: int


@dataclass(frozen=True)
class Paused:
    """``since`` is when it was restored, ``as_of`` the moment that the restored state is of (UTC seconds)."""

    since: int
    as_of: int
    why: str
    plans: tuple[PausedPlan, ...]


def pause_all(db: sqlite3.Connection, now: int, as_of: int, why: str) -> int:
    """Nothing goes out from now on, where anybody waits for something; how many plans and sequences do."""
    plans = ledger.under_way(db)
    if plans:
        workspace.set_setting(db, SETTING, {"since": now, "as_of": as_of, "why": why})
        workspace.log(
            db, now, "restore", f"paused everything outgoing: {why}", "workspace", sum(p["waiting"] for p in plans)
        )
    return len(plans)


def is_paused(desk: Desk) -> bool:
    return bool(desk.setting(SETTING))


def paused(desk: Desk) -> Paused | None:
    """What is paused and why, None while everything goes out as planned."""
    said = desk.setting(SETTING)
    if not said:
        return None
    plans = tuple(PausedPlan(r["id"], r["name"], r["waiting"]) for r in ledger.under_way(desk.store.read()))
    return Paused(said["since"], said["as_of"], said["why"], plans)


def resume(desk: Desk, who: str) -> None:
    """Everything goes out again as planned."""
    if not is_paused(desk):
        raise Refused("Nothing is paused: everything goes out as planned.")
    with desk.store.atomic() as db:
        workspace.set_setting(db, SETTING, None)
        workspace.log(db, desk.now(), who, "resumed everything outgoing", "workspace")


def read_log(desk: Desk, text: str, who: str) -> int:
    """Whatever a relay's log names was sent: it counts as sent and goes to nobody again. How many deliveries."""
    tokens, named = Tokens(desk.folder), set[int]()
    for line in text.splitlines():
        named |= tokens.deliveries_in(line)
    if not named:
        raise Refused("This log names none of our messages: it must hold Message-IDs or return paths.")
    with desk.store.atomic() as db:
        changed = ledger.mark_sent(db, sorted(named), desk.now())
        for campaign in sorted({r["campaign"] for r in changed}):
            row = campaigns.one(db, campaign)
            assert row is not None
            sent = [r for r in changed if r["campaign"] == campaign]
            rows = [
                (
                    r["changed_at"],
                    int(Kind.SENT),
                    r["subscriber"],
                    row["message"],
                    0,
                    0,
                    0.0,
                    None,
                    None,
                    f"delivery {r['id']}",
                )
                for r in sent
            ]
            events.add(db, rows)
            workspace.log(db, desk.now(), who, "settled as sent by the relay's log", row["name"], len(sent))
    return len(changed)
