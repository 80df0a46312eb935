"""Whether anything goes out at all. After a restore nothing does, until somebody has seen what may have been sent since."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from openmeadow.core.errors import Refused
from openmeadow.core.events import Kind
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.campaigns import campaigns
from openmeadow.store.campaigns import unconfirmed as unconfirmed_table
from openmeadow.store.engagement import events

SETTING = "outgoing_paused"


@dataclass(frozen=True)
class PausedPlan:
    """A campaign under way at the restored moment: ``waiting`` people who may have been sent it since."""

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
    plans = unconfirmed_table.under_way(db)
    if plans:
        settings.set_setting(db, SETTING, {"since": now, "as_of": as_of, "why": why})
        settings.log(db, now, "restore", f"paused all sending: {why}", "workspace", sum(p.waiting for p in plans))
    return len(plans)


def is_paused(workspace: Workspace) -> bool:
    """Whether all that goes out is paused."""
    return bool(workspace.setting(SETTING))


def paused(workspace: Workspace) -> Paused | None:
    """What is paused and why, None while everything goes out as planned."""
    said = workspace.setting(SETTING)
    if not said:
        return None
    plans = tuple(PausedPlan(r.id, r.name, r.waiting) for r in unconfirmed_table.under_way(workspace.store.read()))
    return Paused(said["since"], said["as_of"], said["why"], plans)


def resume(workspace: Workspace, who: str) -> None:
    """Everything goes out again as planned."""
    if not is_paused(workspace):
        raise Refused("Nothing is paused. Everything is sent as scheduled.")
    with workspace.store.atomic() as db:
        settings.set_setting(db, SETTING, None)
        settings.log(db, workspace.now(), who, "resumed all sending", "workspace")


def read_log(workspace: Workspace, text: str, who: str) -> int:
    """Whatever a relay's log names was sent: it counts as sent and goes to nobody again. How many deliveries."""
    tokens, named = Tokens(workspace.folder), set[int]()
    for line in text.splitlines():
        named |= tokens.deliveries_in(line)
    if not named:
        raise Refused("This log names none of our messages. It needs Message-IDs or return paths.")
    with workspace.store.atomic() as db:
        changed = unconfirmed_table.mark_sent(db, sorted(named), workspace.now())
        for campaign in sorted({r.campaign for r in changed}):
            row = campaigns.one(db, campaign)
            assert row is not None
            sent = [r for r in changed if r.campaign == campaign]
            rows: list[events.Row] = [
                (
                    r.changed_at or workspace.now(),
                    int(Kind.SENT),
                    r.subscriber,
                    row.message or 0,
                    0,
                    0,
                    0.0,
                    None,
                    None,
                    f"delivery {r.id}",
                )
                for r in sent
            ]
            events.add(db, rows)
            settings.log(db, workspace.now(), who, "marked as sent by the relay log", row.name, len(sent))
    return len(changed)
