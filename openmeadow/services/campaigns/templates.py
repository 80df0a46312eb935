"""Templates and the workspace's layout: what worked kept for the next time, and what stands around every message."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict

from pydantic import JsonValue

from openmeadow.core.errors import Missing, Refused
from openmeadow.core.ids import CampaignId
from openmeadow.core.message import blocks
from openmeadow.core.message.personalisation import plain_text_of
from openmeadow.services import settings
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings as settings_table
from openmeadow.store.campaigns import campaigns, content
from openmeadow.store.campaigns.records import Campaign, Texts
from openmeadow.store.rows import SqlValue

Blocks = list[dict[str, JsonValue]]


def save(workspace: Workspace, row: Campaign, name: str, who: str) -> int:
    """A campaign's message as a template."""
    name = name.strip()
    if not name:
        raise Refused("A template needs a name.")
    with workspace.store.atomic() as db:
        if content.template_named(db, name):
            raise Refused(f"There is already a template “{name}”.")
        settings_table.log(db, workspace.now(), who, "saved template", name)
        return content.add_template(db, name, Texts.of(row), row.plain_edited, who, workspace.now())


def remove(workspace: Workspace, row_id: int, who: str) -> None:
    """Remove a template."""
    row = content.template(workspace.store.read(), row_id)
    if row is None:
        raise Missing("This template does not exist.")
    with workspace.store.atomic() as db:
        content.remove_template(db, row_id)
        settings_table.log(db, workspace.now(), who, "deleted template", row.name)


def begin_from(workspace: Workspace, campaign: CampaignId, *, template: int = 0, other: int = 0) -> None:
    """Give a draft the message of a template, or of any other campaign with its from address and purpose."""
    source = (
        content.template(workspace.store.read(), template) if template else campaigns.one(workspace.store.read(), other)
    )
    if source is None:
        raise Missing("The template or campaign to start from does not exist.")
    values: dict[str, SqlValue] = {**asdict(Texts.of(source)), "plain_edited": source.plain_edited}
    if isinstance(source, Campaign):
        values |= {"purpose": source.purpose, "from_address": source.from_address, "from_name": source.from_name}
    if source.blocks:
        values |= rendered(workspace, json.loads(source.blocks), source.plain_edited)
    with workspace.store.atomic() as db:
        campaigns.update(db, campaign, values)


def rendered(workspace: Workspace, written: Blocks, plain_edited: bool) -> dict[str, str]:
    """What blocks become in the workspace's layout: {"blocks", "html"} and the plain text that follows."""
    html = blocks.render(written, dict(workspace.setting("layout")))
    out = {"blocks": json.dumps(written), "html": html}
    return out if plain_edited else out | {"plain": plain_text_of(html)}


def layout(workspace: Workspace) -> dict[str, str]:
    """The layout, every part there, and the postal address below it."""
    return {
        **blocks.layout_of(dict(workspace.setting("layout"))),
        "postal_address": str(workspace.setting("postal_address")),
    }


def set_layout(workspace: Workspace, values: Mapping[str, str], who: str) -> int:
    """Another layout; every draft that is written by blocks gets it at once. How many did."""
    given = dict(values)
    postal = str(given.pop("postal_address", "")).strip()
    good, n = blocks.layout_of(given), 0
    with workspace.store.atomic() as db:
        settings.change(workspace, {"layout": good, "postal_address": postal}, who)
        settings_table.log(db, workspace.now(), who, "changed the layout", "campaigns")
    for row in campaigns.every(workspace.store.read()):
        draft = campaigns.one(workspace.store.read(), row.id) if row.state == "draft" else None
        if draft is not None and draft.blocks:
            with workspace.store.atomic() as db:
                campaigns.update(db, draft.id, rendered(workspace, json.loads(draft.blocks), draft.plain_edited))
            n += 1
    return n
