"""Templates and the workspace's frame: what worked kept for the next time, and what stands around every message."""

from __future__ import annotations

import json
from typing import Any

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message import blocks
from openmeadow.core.message.body import twin
from openmeadow.desk import settings
from openmeadow.desk.desk import Desk
from openmeadow.store import campaigns, workspace, writing

TEXTS = ("subject", "preview", "html", "plain", "plain_by_hand", "blocks")


def save(desk: Desk, row: Any, name: str, who: str) -> int:
    """A campaign's message as a template."""
    name = name.strip()
    if not name:
        raise Refused("A template needs a name.")
    with desk.store.atomic() as db:
        if writing.template_named(db, name):
            raise Refused(f"There is already a template “{name}”.")
        workspace.log(db, desk.now(), who, "saved template", name)
        return writing.add_template(db, name, {t: row[t] for t in TEXTS}, who, desk.now())


def remove(desk: Desk, id: int, who: str) -> None:
    row = writing.template(desk.store.read(), id)
    if row is None:
        raise Missing("There is no such template.")
    with desk.store.atomic() as db:
        writing.remove_template(db, id)
        workspace.log(db, desk.now(), who, "removed template", row["name"])


def begin_from(desk: Desk, campaign: int, *, template: int = 0, other: int = 0) -> None:
    """Give a draft the message of a template, or of any other campaign with its from-address and purpose."""
    source = writing.template(desk.store.read(), template) if template else campaigns.one(desk.store.read(), other)
    if source is None:
        raise Missing("There is no such template or campaign to begin from.")
    values = {t: source[t] for t in TEXTS}
    if not template:
        values |= {t: source[t] for t in ("purpose", "from_address", "from_name")}
    if values["blocks"]:
        values |= rendered(desk, json.loads(values["blocks"]), bool(values["plain_by_hand"]))
    with desk.store.atomic() as db:
        campaigns.update(db, campaign, values)


def rendered(desk: Desk, written: list[dict[str, Any]], plain_by_hand: bool) -> dict[str, Any]:
    """What blocks become in the workspace's frame: {"blocks", "html"} and the twin that follows."""
    html = blocks.render(written, dict(desk.setting("frame")))
    out: dict[str, Any] = {"blocks": json.dumps(written), "html": html}
    return out if plain_by_hand else out | {"plain": twin(html)}


def frame(desk: Desk) -> dict[str, Any]:
    """The frame, every part there, and the postal address below it."""
    return {**blocks.frame_of(dict(desk.setting("frame"))), "postal_address": str(desk.setting("postal_address"))}


def set_frame(desk: Desk, values: dict[str, Any], who: str) -> int:
    """Another frame; every draft that is written by blocks gets it at once. How many did."""
    given = dict(values)
    postal = str(given.pop("postal_address", "")).strip()
    good, n = blocks.frame_of(given), 0
    with desk.store.atomic() as db:
        settings.change(desk, {"frame": good, "postal_address": postal}, who)
        workspace.log(db, desk.now(), who, "changed the frame", "campaigns")
    for row in campaigns.every(desk.store.read()):
        draft = campaigns.one(desk.store.read(), row["id"]) if row["state"] == "draft" else None
        if draft is not None and draft["blocks"]:
            with desk.store.atomic() as db:
                campaigns.update(
                    db, draft["id"], rendered(desk, json.loads(draft["blocks"]), bool(draft["plain_by_hand"]))
                )
            n += 1
    return n
