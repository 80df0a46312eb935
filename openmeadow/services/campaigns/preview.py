"""A message as one person would get it, before anything is sent."""

from __future__ import annotations

from dataclasses import dataclass

from openmeadow.core.addresses.syntax import address_key
from openmeadow.core.errors import MeadowError, Missing
from openmeadow.core.ids import NOBODY, SubscriberId
from openmeadow.core.message.html_scan import tags
from openmeadow.core.message.personalisation import Said
from openmeadow.net.signed_tokens import Tokens
from openmeadow.services.campaigns import message_conditions, preflight, recipients
from openmeadow.services.campaigns.renderer import Writer
from openmeadow.services.workspace import Workspace
from openmeadow.store.campaigns.records import Campaign
from openmeadow.store.subscribers import subscribers


@dataclass(frozen=True)
class Shown:
    """``preview`` is what a mailbox list shows after the subject; ``values`` the person's fields, as they stand;
    ``problems`` conditions that cannot be read; ``hosted`` hosts of images that the preview does not fetch."""

    said: Said
    subscriber: SubscriberId
    preview: str
    email: str
    values: dict[str, str]
    problems: tuple[str, ...]
    hosted: tuple[str, ...]


def of(
    workspace: Workspace, row: Campaign, subscriber: SubscriberId = NOBODY, email: str = "", version: int = 0
) -> Shown:
    """Of somebody by id or address, else of the first recipient."""
    db = workspace.store.read()
    if email.strip():
        key = address_key(email.strip())
        subscriber = SubscriberId(subscribers.ids_of(db, [key]).get(key, 0))
        if not subscriber:
            raise Missing(f"There is no subscriber with the address {email.strip()[:80]}.")
    if not subscriber:
        try:
            chosen = recipients.work_out(workspace, row)
            subscriber = SubscriberId(int(chosen.subscriber[0]) if len(chosen.index) else 0)
        except MeadowError:
            subscriber = NOBODY
    writer = Writer(workspace, row, Tokens(workspace.folder))
    wrong = message_conditions.problems(workspace, writer.stored(version or row.version))
    # a part whose condition cannot be read is left out, and said; the rest is shown
    to = writer.sample(subscriber, "", version, without={p.condition for p in wrong})
    said, fields = writer.composer.said(to), to.fields
    shown = writer.composer.body(to.version).say_preview(fields) if writer.texts(to.version).preview else ""
    values = {f: str(fields.get(f) or "") for f in sorted(preflight.known_fields(workspace, row) - preflight.PAGES)}
    text = shown or " ".join(said.plain.split())[:140]
    return Shown(
        said,
        subscriber,
        text,
        str(fields["email"]),
        values,
        tuple(p.finding for p in wrong),
        _hosted(said.html, writer.base),
    )


def _hosted(html: str, base: str) -> tuple[str, ...]:
    """Hosts of images that are not kept here, which the preview does not fetch."""
    srcs = [a.value for t in tags(html) if t.name == "img" and (a := t.get("src")) is not None]
    away = [s for s in srcs if s.startswith(("http://", "https://")) and not s.startswith(f"{base}/")]
    return tuple(dict.fromkeys(s.split("/")[2] for s in away))
