"""A message as one person would get it, before anything is sent."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.errors import MeadowError, Missing
from openmeadow.core.message.body import Body, Said, rules_in
from openmeadow.desk import checking, recipients
from openmeadow.desk.desk import Desk
from openmeadow.desk.writer import TEXTS, person_fields
from openmeadow.store import subscribers, workspace, writing

NOBODY = {"name": "", "first_name": "", "email": "you@x.example"}


@dataclass(frozen=True)
class Shown:
    """``preview`` is what a mailbox list shows after the subject; ``values`` the person's fields, as they stand."""

    said: Said
    preview: str
    email: str
    values: dict[str, str]


def of(desk: Desk, row: Any, subscriber: int = 0, email: str = "", version: int = 0) -> Shown:
    """Of somebody by id or address, else of the first recipient."""
    db = desk.store.read()
    if email.strip():
        key = address_key(email.strip())
        subscriber = subscribers.ids_of(db, [key]).get(key, 0)
        if not subscriber:
            raise Missing(f"Nobody here has the address {email.strip()[:80]}.")
    if not subscriber:
        try:
            chosen = recipients.work_out(desk, row)
            subscriber = int(chosen.subscriber[0]) if len(chosen.index) else 0
        except MeadowError:
            subscriber = 0
    stored = subscribers.subscriber(db, subscriber) if subscriber else None
    fields = person_fields(stored) if stored else dict(NOBODY)
    texts = writing.version(db, row["id"], version) if version else None
    t = row if texts is None else texts
    postal = str(workspace.setting(db, "postal_address"))
    body = Body(t["subject"], t["preview"], t["html"], t["plain"], postal, {})
    pages = dict.fromkeys((*checking.PAGES, *checking.asked_about(desk, row)), "#")
    said = body.say(fields, str, "#", pages=pages, held=_held(desk, t, subscriber))
    shown = body.say_preview(fields) if t["preview"] else " ".join(said.plain.split())[:140]
    values = {f: str(fields.get(f) or "") for f in sorted(checking.known_fields(desk, row) - checking.PAGES)}
    return Shown(said, shown, str(fields["email"]), values)


def _held(desk: Desk, texts: Any, subscriber: int) -> set[str]:
    """The rules of parts of the message that hold for the person."""
    rules = list(dict.fromkeys(r for t in TEXTS for r in rules_in(texts[t])))
    if not rules or not subscriber:
        return set()
    view = desk.view()
    i = int(np.searchsorted(view.columns.people.id, subscriber))
    return {r for r in rules if view.mask(desk.checked_rule(r, view))[i]}
