"""Templates and the workspace's layout: what worked kept for the next time, and what stands around every message."""

from __future__ import annotations

import json
from typing import Any

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.message import blocks
from openmeadow.core.message.personalisation import plain_text_of
from openmeadow.services import settings
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings as settings_table
from openmeadow.store.campaigns import campaigns, content

TEXTS = ("subject", "preview", "html", "plain", "plain_edited", "blocks")


def save(workspace: Workspace, row: Any, name: str, who: str) -> int:
    """A campaign's message as a template."""
    name = name.strip()
    if not name:
        raise Refused("A template needs a name.")
    with workspace.store.atomic() as db:
        if content.template_named(db, name):
            raise Refused(f"There is already a template “{name}”.")
        settings_table.log(db, workspace.now(), who, "saved template", name)
        return content.add_template(db, name, {t: row[t] for t in TEXTS}, who, workspace.now())


def remove(workspace: Workspace, row_id: int, who: str) -> None:
    row = content.template(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This template does not exist.")
    with workspace.store.atomic() as db:
        content.remove_template(db, row_id)
        settings_table.log(db, workspace.now(), who, "deleted template", row["name"])


def begin_from(workspace: Workspace, campaign: int, *, template: int = 0, other: int = 0) -> None:
    """Give a draft the message of a template, or of any other campaign with its from address and purpose."""
    source = (
        content.template(workspace.store.read(), template) if template else campaigns.one(workspace.store.read(), other)
    )
    if source is None:
        raise Missing("The template or campaign to start from does not exist.")
    values = {t: source[t] for t in TEXTS}
    if not template:
        values |= {t: source[t] for t in ("purpose", "from_address", "from_name")}
    if values["blocks"]:
        values |= rendered(workspace, json.loads(values["blocks"]), bool(values["plain_edited"]))
    with workspace.store.atomic() as db:
        campaigns.update(db, campaign, values)


def rendered(workspace: Workspace, written: list[dict[str, Any]], plain_edited: bool) -> dict[str, Any]:
    """What blocks become in the workspace's layout: {"blocks", "html"} and the plain text that follows."""
    html = blocks.render(written, dict(workspace.setting("layout")))
    out: dict[str, Any] = {"blocks": json.dumps(written), "html": html}
    return out if plain_edited else out | {"plain": plain_text_of(html)}


def layout(workspace: Workspace) -> dict[str, Any]:
    """The layout, every part there, and the postal address below it."""
    return {
        **blocks.layout_of(dict(workspace.setting("layout"))),
        "postal_address": str(workspace.setting("postal_address")),
    }


def set_layout(workspace: Workspace, values: dict[str, Any], who: str) -> int:
    """Another layout; every draft that is written by blocks gets it at once. How many did."""
    given = dict(values)
    postal = str(given.pop("postal_address", "")).strip()
    good, n = blocks.layout_of(given), 0
    with workspace.store.atomic() as db:
        settings.change(workspace, {"layout": good, "postal_address": postal}, who)
        settings_table.log(db, workspace.now(), who, "changed the layout", "campaigns")
    for row in campaigns.every(workspace.store.read()):
        draft = campaigns.one(workspace.store.read(), row["id"]) if row["state"] == "draft" else None
        if draft is not None and draft["blocks"]:
            with workspace.store.atomic() as db:
                campaigns.update(
                    db, draft["id"], rendered(workspace, json.loads(draft["blocks"]), bool(draft["plain_edited"]))
                )
            n += 1
    return n
